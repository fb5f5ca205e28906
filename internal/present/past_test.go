package present

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/dash"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
)

// pastStrip is a rendition with segments of two seconds from one ordinal to another; it starts over at the ordinals of breaks.
func pastStrip(name, sound string, width int, from, to uint64, breaks ...uint64) RetainedRendition {
	t := media.Track{Kind: media.Audio, Codec: media.AAC, CodecName: "mp4a.40.2", Timescale: 48_000, SampleRate: 48_000, Channels: 2}
	if width > 0 {
		t = media.Track{Kind: media.Video, Codec: media.H264, CodecName: "avc1.42c01e", Timescale: 90_000, Width: width, Height: width * 9 / 16}
	}
	h := &segment.Header{Name: "header-" + name + ".mp4", Track: t}
	s := RetainedRendition{Name: name, Sound: sound, Ordinal: from, Longest: 2 * media.VideoTimescale}
	for n := from; n < to; n++ {
		begins := false
		for _, b := range breaks {
			begins = begins || b == n
		}
		at := int64(n) * 2
		s.List = append(s.List, &segment.Segment{MSN: 1000 + n, Prefix: "a-", Discontinuity: begins, Start: at * media.VideoTimescale, Duration: 2 * media.VideoTimescale, Header: h,
			Size: int64(width) * 100, FirstPTS: at * t.Timescale, TrackDuration: 2 * t.Timescale})
	}
	return s
}

func pastOf(ended bool, strips ...RetainedRendition) *Past {
	return &Past{Slug: "line", Epoch: epoch0, Now: epoch0.Add(time.Hour), Ended: ended, Query: "?recording=1", Step: 2 * media.VideoTimescale, Renditions: strips}
}

var epoch0 = time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)

func TestAnotherRungStandsInForWhatIsMissing(t *testing.T) {
	late := pastStrip("120p", "audio", 214, 10, 15)
	gone := pastStrip("480p", "audio", 854, 0, 12)
	holed := pastStrip("180p", "audio", 320, 0, 20)
	gap := *holed.List[4]
	gap.Gap = true
	holed.List[4], holed.Gapped = &gap, true
	p := pastOf(true, pastStrip("source", "audio", 1280, 0, 20, 0, 14), gone, holed, late, pastStrip("audio", "", 0, 0, 20, 0, 14))
	for name, elsewhere := range map[string]int{"source": 0, "480p": 8, "180p": 1, "120p": 15} {
		list, err := hls.ReadMedia(p.Playlist(name, hls.CMAF, false))
		require.NoError(t, err)
		assert.Len(t, list.Entries, 20, name)
		assert.True(t, list.Ended)
		n := 0
		for i, e := range list.Entries {
			assert.False(t, e.Gap, "%s %d", name, i)
			if e.URI[0] == '.' {
				n++
			}
		}
		assert.Equal(t, elsewhere, n, name)
	}
	text := string(p.Multivariant(hls.CMAF))
	assert.Contains(t, text, "480p/index.m3u8?recording=1")
	assert.NotContains(t, text, "120p", "what begins later is not offered")
	var m dash.MPD
	require.NoError(t, m.Unmarshal(p.Manifest()))
	require.Len(t, m.Periods, 5, "where rungs come, miss and go, and at the discontinuity")
	assert.EqualValues(t, 0, m.Periods[0].Start.D())
	assert.Equal(t, 40*time.Second, m.Duration.D())
}

func TestWhatIsBeingMadeIsWaitedFor(t *testing.T) {
	slow := pastStrip("180p", "audio", 320, 0, 12)
	slow.Goes = true
	p := pastOf(false, pastStrip("source", "audio", 1280, 0, 20), slow, pastStrip("audio", "", 0, 0, 20))
	list, err := hls.ReadMedia(p.Playlist("180p", hls.CMAF, false))
	require.NoError(t, err)
	assert.Len(t, list.Entries, 12, "its next segment is still to come")
	p.Renditions[1].Goes = false
	list, err = hls.ReadMedia(p.Playlist("180p", hls.CMAF, false))
	require.NoError(t, err)
	assert.Len(t, list.Entries, 20, "another stands in from where it ended")
}

func TestRenditionsBeginTogether(t *testing.T) {
	p := pastOf(false, pastStrip("source", "audio", 1280, 5, 20, 5), pastStrip("audio", "", 0, 4, 20, 5))
	p.From = epoch0.Add(11 * time.Second)
	p.Align()
	for _, name := range []string{"source", "audio"} {
		list, err := hls.ReadMedia(p.Playlist(name, hls.CMAF, false))
		require.NoError(t, err)
		assert.EqualValues(t, 6, list.MediaSequence, name)
		assert.Equal(t, "TIME-OFFSET=1.00000,PRECISE=YES", list.Start, name)
		assert.EqualValues(t, 0, list.DiscontinuitySequence, name)
	}
}

// Renditions that are cut off to begin together may have a hole there, and one may lack what none else has.
func TestNoListBeginsWithAGap(t *testing.T) {
	hole := func(s RetainedRendition, from, to int) RetainedRendition {
		for i := from; i < to; i++ {
			gap := *s.List[i]
			gap.Gap = true
			s.List[i], s.Gapped = &gap, true
		}
		return s
	}
	p := pastOf(false, hole(pastStrip("source", "audio", 1280, 4, 20), 0, 4), hole(pastStrip("360p", "audio", 640, 4, 20), 1, 3), pastStrip("audio", "", 0, 5, 20),
		hole(pastStrip("180p", "audio", 320, 4, 9), 0, 5))
	p.Align()
	for _, name := range []string{"source", "360p", "180p", "audio"} {
		for _, w := range []hls.Wrapping{hls.CMAF, hls.Keys} {
			list, err := hls.ReadMedia(p.Playlist(name, w, false))
			require.NoError(t, err, name)
			require.NotEmpty(t, list.Entries, name)
			assert.False(t, list.Entries[0].Gap && name != "180p", name)
		}
	}
	require.NotNil(t, p.Multivariant(hls.CMAF))
	require.NotNil(t, p.Manifest())
}
