package e2e

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/camera"
	"metaplasis/internal/settings"
)

// TestRecordsAreExported: events, feeds and statistics as tables.
func TestRecordsAreExported(t *testing.T) {
	t.Parallel()
	s := start(t)
	url := s.channel("start-line", settings.Settings{Title: "=1+1"}, sourceOnly)
	s.send(0, camera.Options{URL: url})
	table := func(args ...string) [][]string {
		out, exit := s.command(append([]string{"export"}, args...)...)
		require.Zero(t, exit, out)
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		require.NoError(t, err, out)
		return rows
	}
	eventually(t, "a feed", func() bool { return s.status("start-line").Feed != nil })
	assert.Equal(t, "at,seconds,channel,live seconds,bitrate,load,viewers,most viewers", strings.Join(table("statistics", "--channel", "start-line")[0], ","))
	eventually(t, "the feed is stored", func() bool { return len(table("feeds")) == 2 })
	assert.Greater(t, len(table("events", "--from", "10m")), 2)
	feeds := table("feeds")
	require.Len(t, feeds, 2)
	assert.Equal(t, "RTMP", feeds[1][3])
	assert.Len(t, table("feeds", "--until", "2020-01-01T00:00:00Z", "--from", "2019-01-01T00:00:00Z"), 1)
	out, exit := s.command("export", "secrets")
	assert.NotZero(t, exit)
	assert.Contains(t, out, "expected statistics, events or feeds")
}
