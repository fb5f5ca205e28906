package rtpmedia

import (
	"testing"
	"time"

	"github.com/pion/rtcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

// TestReportsAfterManyDays reads sender reports of a stream that began long ago: the two clocks in them are those of one
// moment.
func TestReportsAfterManyDays(t *testing.T) {
	track := media.Track{ID: 1, Kind: media.Audio, Codec: media.Opus, Timescale: 48000, SampleRate: 48000, Channels: 2}
	begun := time.Date(2027, 3, 28, 0, 30, 0, 0, time.UTC)
	for _, age := range []time.Duration{0, 28*time.Hour + 29*time.Minute, 30 * time.Hour, 60 * 24 * time.Hour, 3 * 365 * 24 * time.Hour} {
		s, err := New(track, 96, begun)
		require.NoError(t, err)
		first := s.Packets(0, true, []byte{1, 2})[0].Timestamp
		pts := media.Ticks(age, media.VideoTimescale)
		b := s.Report(pts, begun.Add(age))
		require.NotNil(t, b, age)
		list, err := rtcp.Unmarshal(b)
		require.NoError(t, err)
		r := list[0].(*rtcp.SenderReport)
		at := time.Unix(int64(r.NTPTime>>32)-2208988800, int64(r.NTPTime&0xffffffff*1_000_000_000>>32))
		assert.WithinDuration(t, begun.Add(age), at, time.Millisecond, age)
		assert.Equal(t, uint32(age/time.Second*48000), r.RTPTime-first, age)
	}
}
