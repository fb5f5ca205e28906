package intake

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

var begun = time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)

func picture(id media.TrackID, w, h int) media.Track {
	return media.Track{ID: id, Kind: media.Video, Codec: media.H264, CodecName: "avc1.64001f", Timescale: media.VideoTimescale, Width: w, Height: h,
		Config: []byte{1, 2, 3}, Clock: media.Clock{Scale: media.VideoTimescale}}
}

func sound(id media.TrackID) media.Track {
	return media.Track{ID: id, Kind: media.Audio, Codec: media.AAC, CodecName: "mp4a.40.2", Timescale: 48000, SampleRate: 48000, Channels: 2, FrameSamples: 1024,
		Config: []byte{1}, Clock: media.Clock{Scale: 48000}}
}

// send holds pictures of a track at 25 a second until the source is known, and returns how many that took.
func send(x *Intake, id media.TrackID, from int) (n int) {
	for ; n < 200; n++ {
		at := int64(from+n) * 3600
		x.Came(id, n == 0, begun.Add(media.Duration(at, media.VideoTimescale)), Waiting)
		if x.Hold(Unit{ID: id, Kind: media.Video, Stamp: at, Data: make([]byte, 100)}, begun.Add(media.Duration(at, media.VideoTimescale))) {
			return n + 1
		}
	}
	return n
}

func TestASourceIsKnownOnceItsRateIs(t *testing.T) {
	x := New()
	x.Announce(picture(1, 1280, 720), Waiting)
	x.Announce(sound(2), Waiting)
	assert.False(t, x.Ready())
	assert.Equal(t, enoughFrames, send(x, 1, 0))
	s := x.Begin(begun.Add(time.Second))
	assert.Equal(t, media.Rational{Num: 25, Den: 1}, s.Video.FrameRate)
	assert.Len(t, s.Units, enoughFrames)
	assert.Equal(t, begun, s.First)
	assert.True(t, s.JitterKnown)
	assert.False(t, x.Holds())
}

func TestASecondTrackIsNotWaitedForLong(t *testing.T) {
	x := New()
	x.Announce(picture(1, 1280, 720), Waiting)
	n := send(x, 1, 0)
	assert.InDelta(t, patience*25/1000, n, 2)
	assert.Empty(t, x.Begin(begun).Sounds)
}

func TestWhatWaitsIsBounded(t *testing.T) {
	x := New()
	x.Announce(picture(1, 1280, 720), Waiting)
	n := 1
	for !x.Hold(Unit{ID: 1, Kind: media.Video, Data: make([]byte, 1<<20)}, begun) {
		n++
	}
	assert.LessOrEqual(t, n, MaxEarlyBytes>>20)
}

func TestPicturesThatAreShownBeforeTheySayThatTheyAreDecoded(t *testing.T) {
	x := New()
	v := picture(1, 1280, 720)
	v.Reordered, v.FrameRate = true, media.Rational{Num: 25, Den: 1}
	x.Announce(v, Waiting)
	x.Announce(sound(2), Waiting)
	for n, composition := range []int64{0, 7200, -3600, 0, 3600} {
		x.Hold(Unit{ID: 1, Kind: media.Video, Stamp: int64(n) * 3600, Composition: composition, Data: make([]byte, 10)}, begun)
	}
	assert.EqualValues(t, 3600, x.Begin(begun).Shift)
}

func TestWhatATrackAsksForWhileARunGoesOn(t *testing.T) {
	other := picture(1, 1280, 720)
	other.Config = []byte{9}
	larger := picture(1, 1920, 1080)
	clock := picture(1, 1280, 720)
	clock.Clock = media.Clock{Scale: 48000}
	for name, c := range map[string]struct {
		t    media.Track
		step Step
		text string
	}{
		"the same":                {picture(1, 1280, 720), Nothing, ""},
		"other parameter sets":    {other, Parameters, ""},
		"another clock":           {clock, Clock, ""},
		"another size":            {larger, Restart, "The sender changed its video to avc1.64001f, 1920x1080."},
		"a smaller one beside it": {picture(7, 640, 360), Layer, ""},
		"another language":        {sound(8), Restart, "The sender also sends audio: mp4a.40.2, 48000 Hz, 2 channels."},
	} {
		x := New()
		x.Announce(picture(1, 1280, 720), Waiting)
		x.Announce(sound(2), Waiting)
		got, ignored := x.Announce(c.t, Running)
		assert.Equal(t, c.step, got.Step, name)
		assert.Equal(t, c.text, got.Text, name)
		assert.Nil(t, ignored, name)
		got, _ = x.Announce(c.t, Standby)
		assert.Equal(t, Nothing, got.Step, "%s, while it stands by", name)
	}
}

func TestTracksBeyondThoseThatAreUsedAreToldOnce(t *testing.T) {
	x := New()
	x.Announce(picture(1, 1280, 720), Waiting)
	_, ignored := x.Announce(picture(2, 640, 480), Waiting) // another shape: it shows something else
	require.NotNil(t, ignored)
	assert.Contains(t, ignored.Text, "640x480 is ignored")
	_, ignored = x.Announce(picture(2, 640, 480), Waiting)
	assert.Nil(t, ignored)
	for id := range media.TrackID(maxSounds) {
		_, ignored = x.Announce(sound(10+id), Waiting)
		assert.Nil(t, ignored)
	}
	_, ignored = x.Announce(sound(99), Waiting)
	assert.NotNil(t, ignored)
	_, _, used := x.Kind(99)
	assert.False(t, used)
	assert.Len(t, x.Tracks(begun), 1+maxSounds)
}

func TestALargerPictureLeadsOnceItIsSteady(t *testing.T) {
	x := New()
	x.Announce(picture(1, 640, 360), Waiting)
	x.Announce(sound(2), Waiting)
	send(x, 1, 0)
	x.Begin(begun)
	x.Announce(picture(3, 1280, 720), Running)
	at := begun.Add(time.Second)
	for step := time.Duration(0); step < sizeSteady; step += 100 * time.Millisecond {
		x.Came(1, false, at.Add(step), Running)
		c := x.Came(3, false, at.Add(step), Running)
		require.Equal(t, Nothing, c.Step, step)
	}
	c := x.Came(3, false, at.Add(sizeSteady), Running)
	assert.Equal(t, Restart, c.Step)
	assert.Contains(t, c.Text, "1280x720")
	assert.True(t, x.Keyless(), "until its next keyframe")
	assert.EqualValues(t, 3, x.Video().ID)
	x.Came(3, true, at.Add(sizeSteady), Waiting)
	assert.False(t, x.Keyless())
	// It pauses: the smaller one leads again.
	c = x.Came(1, true, at.Add(sizeSteady+2*sizePause), Running)
	assert.Equal(t, Restart, c.Step)
	assert.EqualValues(t, 1, x.Video().ID)
}
