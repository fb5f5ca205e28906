package cli

import (
	"testing"
	"time"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

func TestSettingsAreReadWithUnits(t *testing.T) {
	for _, c := range []struct {
		text, unit string
		want       int64
	}{
		{"4000", "ms", 4000}, {"4s", "ms", 4000}, {"2.5 s", "ms", 2500}, {"500ms", "ms", 500}, {"1min", "ms", 60_000},
		{"120", "min", 120}, {"2h", "min", 120}, {"1 h 20 min", "min", 80}, {"1h20m", "min", 80}, {"1d", "min", 1440}, {"6h", "h", 6}, {"30d", "d", 30}, {"48H", "d", 2},
		{"2500000", "bit/s", 2_500_000}, {"2.5M", "bit/s", 2_500_000}, {"96k", "bit/s", 96_000}, {"96 kbit/s", "bit/s", 96_000}, {"0", "bit/s", 0},
		{"500", "MB", 500}, {"4GB", "MB", 4000}, {"1.5 TB", "MB", 1_500_000},
	} {
		got, err := readUnit(c.text, c.unit)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got, c.text)
	}
	for _, c := range []struct{ text, unit, says string }{
		{"90s", "h", "expected a multiple of 1 h"}, {"soon", "ms", "such as 500ms, 2s"}, {"2x", "ms", "such as 500ms, 2s"}, {"2s soon", "ms", "such as"}, {"-2s", "ms", "such as"},
		{"1e30d", "d", "such as"}, {"99999999999999999999d", "ms", "shorter"}, {"fast", "bit/s", "such as 2.5M"}, {"much", "MB", "such as 500MB"}, {"99999999999999999999T", "bit/s", "smaller"},
	} {
		_, err := readUnit(c.text, c.unit)
		assert.ErrorContains(t, err, c.says, c.text)
	}
}

func TestDurationsReadAsPeopleSayThem(t *testing.T) {
	for want, d := range map[string]time.Duration{"0 ms": 0, "500 ms": 500 * time.Millisecond, "2 s": 2 * time.Second, "2.5 s": 2500 * time.Millisecond, "59 s": 59 * time.Second,
		"1 min 5 s": 65 * time.Second, "1 h 20 min": 80 * time.Minute, "6 h": 6 * time.Hour, "30 d": 30 * 24 * time.Hour, "1 d": 24*time.Hour + 30*time.Second, "-2 s": -2 * time.Second} {
		assert.Equal(t, want, duration(d))
		if d >= 0 && d%time.Second == 0 && d != 24*time.Hour+30*time.Second {
			back, err := readDuration(want)
			require.NoError(t, err)
			assert.Equal(t, d, back)
		}
	}
}

// TestFlagsOfSettings: each setting has a flag, old names still work but are not shown, and defaults read as people say them.
func TestFlagsOfSettings(t *testing.T) {
	var f settingFlags
	flags := pflag.NewFlagSet("channel", pflag.ContinueOnError)
	f.register(flags, settings.Settings{}.WithDefaults())
	require.NoError(t, flags.Parse([]string{"--segment", "4s", "--part", "500", "--ts", "--time-shift", "2h", "--time-shift-mb=4000", "--closed=false"}))
	s, err := f.settings()
	require.NoError(t, err)
	assert.EqualValues(t, 4000, s.SegmentMillis)
	assert.EqualValues(t, 500, s.PartMillis)
	assert.True(t, s.TS, "by its old name")
	assert.EqualValues(t, 120, s.TimeShiftMinutes)
	assert.EqualValues(t, 4000, s.TimeShiftMB)
	change := f.changed()
	assert.Contains(t, change["access"], "closed")
	assert.NotContains(t, change, "title")
	usage := flags.FlagUsages()
	for _, shown := range []string{"--segment duration", "(default 2 s)", "--transport-streams", "--end-stream", "--time-shift-size size"} {
		assert.Contains(t, usage, shown)
	}
	for _, hidden := range []string{"--ts", "--closed", "--time-shift-mb"} {
		assert.NotContains(t, usage, hidden+" ")
	}
	assert.ErrorContains(t, flags.Parse([]string{"--segment", "long"}), "expected a duration")

	var rung settingFlags
	flags = pflag.NewFlagSet("rung", pflag.ContinueOnError)
	rung.register(flags, ladder.Rung{On: true})
	require.NoError(t, flags.Parse([]string{"--bitrate", "2.5M", "--audio", "96k", "--label"}))
	var r ladder.Rung
	require.NoError(t, rung.applyTo(&r))
	assert.EqualValues(t, 2_500_000, r.Bitrate)
	assert.EqualValues(t, 96_000, r.AudioBitrate)
	assert.True(t, r.Picture.Label)
}
