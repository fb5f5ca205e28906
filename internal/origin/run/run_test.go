package run

import (
	"encoding/binary"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/hub"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/segment"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/origin/layout"
	"metaplasis/internal/settings"
)

var (
	zero    = time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)
	passing = ladder.Rung{Name: "source", On: true, Source: true}
	low     = ladder.Rung{Name: "360p", On: true, Height: 360, Bitrate: 600_000}
)

// hand is a worker that writes down what it is told.
type hand struct {
	from       uint64
	conf       transcode.Config
	boundaries []uint64
	taken      uint64
	settled    uint64
	drained    bool
}

func (h *hand) Configure(c transcode.Config) { h.conf = c }
func (h *hand) Boundary(b segment.Boundary)  { h.boundaries = append(h.boundaries, b.MSN) }
func (h *hand) Take(below uint64)            { h.taken = below }
func (h *hand) Settled(msn uint64)           { h.settled = msn }
func (h *hand) Drain()                       { h.drained = true }

// sent is a run to which made-up video and audio are sent, on a clock that the test moves.
type sent struct {
	*Run
	t       *testing.T
	worker  *hand
	now     time.Time
	frames  int64
	without int64 // no picture is an IDR picture from this one on; 0: all are as they should be
	log     []string
}

func newSent(t *testing.T, rungs ...ladder.Rung) *sent {
	x := &sent{t: t, now: zero}
	video := &media.Track{ID: 1, Kind: media.Video, Codec: media.H264, Timescale: media.VideoTimescale, Width: 1280, Height: 720, FrameRate: media.Rational{Num: 30, Den: 1},
		CodecName: "avc1.64001f", Config: []byte{1}, Clock: media.Clock{Scale: media.VideoTimescale}}
	sound := &media.Track{ID: 2, Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, CodecName: "mp4a.40.2", FrameSamples: 1024,
		Config: []byte{0x11, 0x90}, Clock: media.Clock{Scale: 48000}}
	x.Run = New(Options{Source: layout.Source{Settings: settings.Settings{Slug: "line"}.WithDefaults(), Video: video, IDs: layout.TrackIDs{}}, Audio: []*media.Track{sound},
		Hub: hub.New(8<<20, 10*media.VideoTimescale), Now: func() time.Time { return x.now }, Monotonic: func(at time.Time) time.Duration { return at.Sub(zero) }, First: zero, Epoch: zero,
		Employ: func(at uint64, conf transcode.Config) Worker {
			x.worker = &hand{from: at, conf: conf}
			return x.worker
		}})
	x.ApplyLadder(rungs)
	x.took()
	return x
}

// took writes down what the run made, but for parts.
func (x *sent) took() {
	for _, m := range x.Take() {
		switch m := m.(type) {
		case Rendition:
			x.log = append(x.log, "rendition "+m.Name)
		case Begun:
			x.log = append(x.log, fmt.Sprint("begun ", m.MSN))
		case Boundary:
			x.log = append(x.log, fmt.Sprint("boundary ", m.MSN))
		case Segment:
			if !m.Open {
				x.log = append(x.log, fmt.Sprintf("%s %d", m.Rendition, m.MSN))
			}
		case Retired:
			x.log = append(x.log, fmt.Sprintf("retired %s %d", m.Rendition, m.MSN))
		case Event:
			x.log = append(x.log, m.Kind)
		}
	}
}

func (x *sent) expect(log ...string) {
	x.t.Helper()
	assert.Equal(x.t, log, x.log)
	x.log = nil
}

// pictures sends so many pictures, of which one every two seconds is an IDR picture, and the sound that goes with them.
func (x *sent) pictures(n int) (last Verdict) {
	for range n {
		data := make([]byte, 500)
		binary.BigEndian.PutUint32(data, uint32(len(data)-4))
		if data[4] = 0x41; x.frames%60 == 0 && (x.without == 0 || x.frames < x.without) {
			data[4] = 0x65
		}
		data[5] = 0x88
		last = x.Unit(1, x.frames*3000, 0, data)
		for n := (x.frames*1600 + 1023) / 1024; n*1024 < (x.frames+1)*1600; n++ {
			x.Unit(2, n*1024, 0, make([]byte, 340))
		}
		x.took()
		x.frames++
		x.now = x.now.Add(time.Second / 30)
	}
	return last
}

func TestWhatARunMakesInItsOrder(t *testing.T) {
	x := newSent(t, passing)
	x.expect("rendition source", "rendition audio")
	assert.Equal(t, Used, x.pictures(125))
	x.expect("begun 0", "boundary 0", "boundary 1", "source 0", "audio 0", "boundary 2", "source 1", "audio 1")
	require.NotNil(t, x.worker, "it makes the preview")
	assert.Empty(t, x.worker.conf.Rungs, "nothing is encoded")
	x.Close()
	x.took()
	assert.ElementsMatch(t, []string{"audio 2", "source 2"}, x.log)
	assert.InDelta(t, 125*3000, x.End(), 3000)
	assert.EqualValues(t, 2000, x.Keyframes().DistanceMillis)
}

func TestAWorkerIsToldOfUnitsAndBoundaries(t *testing.T) {
	x := newSent(t, passing, low)
	x.pictures(136)
	require.NotNil(t, x.worker)
	assert.Equal(t, []uint64{0, 1, 2}, x.worker.boundaries)
	assert.Equal(t, x.Hub.Next(), x.worker.taken)
	require.Len(t, x.worker.conf.Rungs, 1)
	id := x.worker.conf.Rungs[0].ID
	x.EncodedTrack(id, media.Track{Kind: media.Video, Codec: media.H264, Timescale: media.VideoTimescale, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30, Den: 1}, CodecName: "avc1.42c01e"})
	x.log = nil
	for n := range int64(135) {
		x.EncodedUnit(id, media.AccessUnit{PTS: n * 3000, DTS: n * 3000, Duration: 3000, Key: n%60 == 0, Data: make([]byte, 100)})
	}
	x.took()
	x.expect("360p 0", "360p 1")
	assert.EqualValues(t, 2, x.worker.settled, "what is finished need not be repeated")
	resume := x.Replaced()
	assert.Contains(t, resume, id, "of a segment that is out in part, the rest is wanted")
	x.Close()
	assert.True(t, x.worker.drained)
	assert.True(t, x.Working())
	x.Flush()
	assert.False(t, x.Working())
}

func TestARungThatIsTurnedOffEndsWithItsSegment(t *testing.T) {
	x := newSent(t, passing, low)
	x.pictures(65)
	id := x.worker.conf.Rungs[0].ID
	x.EncodedTrack(id, media.Track{Kind: media.Video, Codec: media.H264, Timescale: media.VideoTimescale, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30, Den: 1}})
	next := x.Clock().Next()
	x.ApplyLadder([]ladder.Rung{passing})
	x.took()
	x.log = nil
	for n := range int64(120) {
		x.EncodedUnit(id, media.AccessUnit{PTS: n * 3000, DTS: n * 3000, Duration: 3000, Key: n%60 == 0, Data: make([]byte, 100)})
		x.pictures(1)
	}
	assert.Contains(t, x.log, fmt.Sprintf("retired 360p %d", next))
	assert.False(t, x.Makes("360p"))
	assert.True(t, x.Makes("source"))
}

func TestARungThatTheWorkerCannotMake(t *testing.T) {
	x := newSent(t, passing, low)
	x.pictures(5)
	x.log = nil
	x.EncodingFailed(x.worker.conf.Rungs[0].ID, "the encoder refused it")
	x.took()
	x.expect("transcoding-failed")
	assert.Empty(t, x.worker.conf.Rungs)
	assert.Equal(t, "the encoder refused it", x.Refused(low))
	x.EncodingFailed(0, "it has no memory")
	x.took()
	x.expect("transcoding-failed")
}

func TestASourceWithoutIDRPictures(t *testing.T) {
	x := newSent(t, passing, low)
	x.without = 1
	x.pictures(30 * 13)
	assert.Contains(t, x.log, "source-without-idr")
	assert.Contains(t, x.Keyframes().Problem, "The rung that passes through is off")
	assert.Equal(t, "it waits for the sender's IDR pictures", x.Refused(passing))
	x.log, x.without = nil, 0
	x.pictures(60 * 4)
	assert.Contains(t, x.log, "source-resumed")
	assert.Empty(t, x.Keyframes().Problem)
}

func TestWhatEndsARun(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(*sent)
		want  Verdict
	}{
		"nothing":        {func(*sent) {}, Used},
		"a pause":        {func(x *sent) { x.frames += 60; x.now = x.now.Add(2 * time.Second) }, Paused},
		"stamps leap":    {func(x *sent) { x.frames += 100_000 }, Jumped},
		"stamps go back": {func(x *sent) { x.frames = 0 }, Jumped},
	} {
		x := newSent(t, passing)
		x.pictures(65)
		c.spoil(x)
		assert.Equal(t, c.want, x.pictures(1), name)
	}
	stepped := time.Duration(0)
	x := newSent(t, passing)
	x.Monotonic = func(at time.Time) time.Duration { return at.Sub(zero) - stepped }
	x.pictures(65)
	stepped = time.Hour
	x.now = x.now.Add(time.Hour)
	assert.Equal(t, ClockStepped, x.pictures(1))
	assert.InDelta(t, time.Hour, x.Step(), float64(time.Second))
}

func TestSoundWaitsForTheFirstPicture(t *testing.T) {
	x := newSent(t, passing)
	for n := range int64(400) { // eight seconds of it
		x.Unit(2, n*1024, 0, make([]byte, 340))
	}
	assert.InDelta(t, longestWait*48000/1024, len(x.waiting.list), 60)
	assert.False(t, x.Begun())
	x.frames = 240
	x.pictures(1)
	assert.True(t, x.Begun())
	assert.Empty(t, x.waiting.list)
}

// What was in pictures that did not come out is needed again by the worker that follows.
func TestCaptionsAreNeededAgainByAnotherWorker(t *testing.T) {
	x := newSent(t, passing, low)
	x.pictures(65)
	id := x.worker.conf.Rungs[0].ID
	x.EncodedTrack(id, media.Track{Kind: media.Video, Codec: media.H264, Timescale: media.VideoTimescale, Width: 640, Height: 360, FrameRate: media.Rational{Num: 30, Den: 1}})
	for n := range int64(70) {
		x.EncodedUnit(id, media.AccessUnit{PTS: n * 3000, DTS: n * 3000, Duration: 3000, Key: n%60 == 0, Data: make([]byte, 100)})
	}
	o := x.outputs["360p"]
	assert.EqualValues(t, 69*3000, o.captioned)
	resume := x.Replaced()
	assert.Equal(t, resume[id]-1, o.captioned)
}
