package origin_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
	"metaplasis/internal/settings"
)

// Playlists are there with the first part, before the sender's second keyframe; their target duration is what it was when a keyframe
// is lost and when nothing comes for seconds, and no segment is longer. The pause is a discontinuity, not a picture of its length.
func TestTargetsDoNotChange(t *testing.T) {
	r := newRig(t)
	c := r.channel(settings.Settings{Slug: "start-line", Ladder: sourceOnly})
	f := r.feed("start-line")
	track, units, stamps := h264(t, 1)
	f.Track(track)
	send := func(from, to int64, without int) { // so many milliseconds of the loop; without a keyframe at one index
		for ; from < to; from += 8000 {
			for i, u := range units {
				if s := from + int64(stamps[i]); s < to && i != without {
					f.Unit(media.TrackID(media.Video), s, int64(u.Composition), u.Key, u.Data)
				}
			}
		}
	}
	keys := []int{}
	for i, u := range units {
		if u.Key {
			keys = append(keys, i)
		}
	}
	require.Greater(t, len(keys), 2)
	require.InDelta(t, 2000, stamps[keys[1]], 50)
	send(0, 1600, -1) // the second keyframe comes later
	for _, path := range []string{"/start-line/index.m3u8", "/start-line/source/index.m3u8"} {
		r.eventually("the first playlist", func() bool { code, _ := r.get(path); return code == 200 })
	}
	_, text := r.get("/start-line/source/index.m3u8")
	assert.Contains(t, string(text), "#EXT-X-PART:")
	first := r.playlist("start-line", "source").TargetDuration
	for i, u := range units { // the rest of the loop, without its third keyframe
		if s := int64(stamps[i]); s >= 1600 && i != keys[2] {
			f.Unit(media.TrackID(media.Video), s, int64(u.Composition), u.Key, u.Data)
		}
	}
	r.passed.Add(int64(13 * time.Second)) // what was sent at once, and five seconds without anything
	send(8000+5000, 8000+5000+16000, -1)
	f.End("test")
	r.eventually("all segments", func() bool { return last(c, "source") >= 10 })
	p := r.playlist("start-line", "source")
	assert.Equal(t, first, p.TargetDuration)
	breaks := int(p.DiscontinuitySequence)
	for _, e := range p.Whole() {
		if e.Discontinuity {
			breaks++
		}
		assert.LessOrEqual(t, e.Duration.Round(time.Second), p.TargetDuration)
	}
	assert.Equal(t, 1, breaks)
	r.eventually("an event", func() bool { return r.keep.has("feed-paused") })
	assert.False(t, r.keep.has("target-duration-rose"))
}
