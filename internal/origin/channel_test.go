package origin

import (
	"encoding/binary"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/contribution"
	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/events"
	"metaplasis/internal/origin/publish"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

// shown is a channel to which made-up video and audio are sent, on a clock that the test moves. Its workers die at once.
type shown struct {
	c      *Channel
	f      *Feed
	clock  *set
	frames int64
}

func newShown(t *testing.T, s settings.Settings) *shown {
	clock, keep := &set{}, nobody{make(chan events.Event, 100)}
	o := New(Options{Keeper: keep, Gate: keep, Burst: -1, Now: clock.now, Monotonic: clock.elapsed, Worker: func() *exec.Cmd { return exec.Command("false") }})
	t.Cleanup(o.Close)
	s.Slug = "start-line"
	c, err := o.Add(s, zero, publish.Position{})
	require.NoError(t, err)
	x := &shown{c: c, clock: clock}
	x.f, err = o.Open(contribution.Sender{Channel: "start-line", Key: "key", Protocol: "test", Remote: "192.0.2.1:5000"})
	require.NoError(t, err)
	x.f.Track(media.Track{Kind: media.Video, Codec: media.H264, Timescale: media.VideoTimescale, Width: 1280, Height: 720, FrameRate: media.Rational{Num: 30, Den: 1},
		CodecName: "avc1.64001f", Config: []byte{1}, Clock: media.Clock{Scale: media.VideoTimescale}})
	x.f.Track(media.Track{Kind: media.Audio, Codec: media.AAC, Timescale: 48000, SampleRate: 48000, Channels: 2, CodecName: "mp4a.40.2", FrameSamples: 1024,
		Config: []byte{0x11, 0x90}, Clock: media.Clock{Scale: 48000}})
	return x
}

// picture sends a picture of so many bytes, of which one every two seconds is an IDR picture, and the sound that goes with it.
func (x *shown) picture(size int) {
	data := make([]byte, max(size, 16))
	binary.BigEndian.PutUint32(data, uint32(len(data)-4))
	key := x.frames%60 == 0
	if data[4] = 0x41; key {
		data[4] = 0x65
	}
	data[5] = 0x88
	x.f.Unit(media.TrackID(media.Video), x.frames*3000, 0, key, data)
	for n := (x.frames*1600 + 1023) / 1024; n*1024 < (x.frames+1)*1600; n++ {
		x.f.Unit(media.TrackID(media.Audio), n*1024, 0, true, make([]byte, 340))
	}
	x.frames++
	x.clock.pass(time.Second / 30)
}

func (x *shown) seconds(n int) {
	for range n * 30 {
		x.picture(2000)
	}
}

var passing = ladder.Rung{Name: "source", On: true, Source: true}

func TestMemoryBoundFollowsFromTheSettings(t *testing.T) {
	rungs := []ladder.Rung{passing}
	short, long := settings.Settings{}.WithDefaults(), settings.Settings{Packaging: settings.Packaging{Window: 60, SegmentMillis: 6000}}.WithDefaults()
	assert.Less(t, memoryBound(&short, rungs, 0), memoryBound(&long, rungs, 0))
	// A source far above what is planned for stays within it.
	x := newShown(t, settings.Settings{Ladder: ladder.Ladder{Rungs: rungs}})
	for range 30 * 30 {
		x.picture(1_000_000) // 240 Mbit/s
		if x.frames%30 == 0 {
			st := x.c.Status()
			require.LessOrEqual(t, st.Memory, st.MemoryBound)
		}
	}
	assert.Positive(t, x.c.Status().Memory)
	x.c.measure(-1, govern.Turn{})
	assert.False(t, x.c.health.squeezed.IsZero(), "it is told")
}

// TestTheGovernorActsAndTells: a worker that is short makes it take a step, which stands in the events and the status, and leaves the ladder
// that the engineer wrote as it is; a ladder without a governor is not touched.
func TestTheGovernorActsAndTells(t *testing.T) {
	asked := ladder.Rung{Name: "b", On: true, Height: 360, Bitrate: 500_000, Effort: 3}
	for _, mode := range []ladder.Governor{ladder.GovernorLower, ladder.Ungoverned} {
		x := newShown(t, settings.Settings{Ladder: ladder.Ladder{Governor: mode, Rungs: []ladder.Rung{passing, asked}}})
		x.seconds(2)
		effort := func() int {
			x.c.mu.Lock()
			defer x.c.mu.Unlock()
			i := 0
			for x.c.session.Rungs[i].Name != "b" {
				i++
			}
			return x.c.session.Rungs[i].Effort
		}
		for second := range int64(6) {
			x.clock.pass(time.Second)
			x.c.mu.Lock()
			x.c.health.load.Take(worker.Stats{PID: 7, Stats: transcode.Stats{Decoded: 30 * second, Dropped: 5 * second, LagMillis: 900}}, x.clock.now())
			x.c.mu.Unlock()
			x.c.measure(0, govern.Turn{})
		}
		st := x.c.Status()
		assert.Equal(t, 3, st.Rungs[1].Effort, "what was asked for stays")
		if mode == ladder.Ungoverned {
			assert.Nil(t, st.Governor)
			assert.Equal(t, 3, effort())
			continue
		}
		require.NotNil(t, st.Governor)
		assert.Equal(t, []govern.Step{{Rung: "b", Kind: govern.Effort, From: 3, To: 2}}, st.Governor.Steps)
		assert.Equal(t, 2, effort(), "the run is told")
		s := x.c.Settings()
		s.Ladder.Governor = ladder.Ungoverned
		require.NoError(t, x.c.Apply(s))
		assert.Nil(t, x.c.Status().Governor)
		assert.Equal(t, 3, effort())
	}
}

// TestKeyframesAreAskedFor: with each segment where the source passes through, now and then where all is encoded, and soon when the worker
// cannot go on without one.
func TestKeyframesAreAskedFor(t *testing.T) {
	for _, passes := range []bool{true, false} {
		x := newShown(t, settings.Settings{Ladder: ladder.Ladder{Rungs: []ladder.Rung{{Name: "source", On: true, Source: passes, Height: 360, Bitrate: 500_000, Effort: 1}}}})
		x.seconds(1)
		want := keyForJoining
		if passes {
			want = time.Duration(x.c.settings.SegmentMillis) * time.Millisecond
		}
		stats := func(s transcode.Stats) {
			x.c.mu.Lock()
			defer x.c.mu.Unlock()
			x.c.health.load.Take(worker.Stats{PID: 7, Stats: s}, x.clock.now())
		}
		assert.Equal(t, want, x.f.Grid())
		stats(transcode.Stats{Keyless: true})
		assert.Equal(t, keyEach, x.f.Grid())
		stats(transcode.Stats{})
		assert.Equal(t, want, x.f.Grid())
	}
}

// What cannot be read of a cue message is a problem of the channel for a while.
func TestCueMessagesThatCannotBeRead(t *testing.T) {
	x := newShown(t, settings.Settings{Ladder: ladder.Ladder{Rungs: []ladder.Rung{passing}}})
	x.seconds(3)
	x.f.Splice(media.Clock{Scale: media.VideoTimescale}, x.frames*3000, []byte{1, 2, 3})
	require.Eventually(t, func() bool { return len(x.c.Status().Problems) == 1 }, time.Minute, time.Millisecond, "the numbers are stored beside")
	assert.Contains(t, x.c.Status().Problems[0].Text, "cue messages cannot be read")
	x.clock.pass(2 * time.Minute)
	x.seconds(1)
	for _, p := range x.c.Status().Problems {
		assert.NotContains(t, p.Text, "cue messages")
	}
}
