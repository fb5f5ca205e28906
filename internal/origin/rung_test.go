package origin

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/hls"
	"metaplasis/internal/core/id3"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/scte35"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/settings"
	"metaplasis/internal/worker"
)

// A rung that fails is given up by its name; the others, and every format, go on.
func TestOneRungThatFailsStopsNoOther(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 2)
	p.s.rungs = p.c.rungs
	p.c.rungs[1].Source = false
	p.seconds(7)
	before := len(p.mpd(t, "index.mpd").Periods)
	(&handler{p.c, p.s}).Failed(p.c.tracks.of("b"), "the H.264 encoder refused it")
	assert.Equal(t, "the H.264 encoder refused it", p.s.refused(p.c.rungs[1]))
	assert.Empty(t, p.s.refused(p.c.rungs[0]), "the message names the right rung")
	delete(p.s.outputs, "b") // as at its last segment
	scanned := p.c.out.periods.Scanned()
	p.seconds(8)
	assert.Greater(t, p.c.out.periods.Scanned(), scanned+2, "the manifest goes on")
	list, _, err := hls.ReadMultivariant([]byte(p.text(t, "index.m3u8")))
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "a/index.m3u8", list[0].URI)
	assert.GreaterOrEqual(t, len(p.mpd(t, "index.mpd").Periods), before)
	changed := p.c.rungs[1]
	changed.Height = 90
	assert.Empty(t, p.s.refused(changed), "another rung of the name is tried anew")
}

// The number of a splice event may be used anew once the event is over.
func TestSpliceNumbersComeAgain(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.seconds(3)
	out := scte35.Section{Command: scte35.SpliceInsert, EventID: 7, Out: true, Immediate: true, PTS: -1, Duration: 2 * 90_000}
	now := p.c.now()
	p.c.mu.Lock()
	p.c.splice(now, out.Marshal())
	p.c.splice(now.Add(spliceRepeats/2), out.Marshal())
	assert.Len(t, p.c.Markers(), 1, "it came again")
	p.c.splice(now.Add(10*spliceRepeats), out.Marshal())
	p.c.splice(now, []byte{1, 2, 3})
	p.c.mu.Unlock()
	markers := p.c.Markers()
	require.Len(t, markers, 2)
	assert.NotEqual(t, markers[0].ID, markers[1].ID)
	assert.False(t, p.c.badCue.IsZero(), "what cannot be read is a problem")
}

func TestCaptionsAreNeededAgainByAnotherWorker(t *testing.T) {
	p := newPacker(t, settings.Settings{}, 1)
	p.s.outputs["a"].direct = false
	p.seconds(3)
	o := p.s.outputs["a"]
	o.captioned = p.frames * 3000
	resume := (&handler{p.c, p.s}).Replaced("test", true)
	assert.Less(t, o.captioned, p.frames*3000)
	assert.Equal(t, resume[o.id]-1, o.captioned)
}

func TestSoundOnlyChannelsDeclareTheirEvents(t *testing.T) {
	p := newPacker(t, settings.Settings{Outputs: settings.Outputs{Selections: []settings.Selection{{Name: "radio", SoundOnly: true}}}}, 1)
	require.NoError(t, p.c.SetPlaying(NowPlaying{Title: "Race 3"}))
	p.seconds(9)
	sets := p.mpd(t, "radio.mpd").Periods[0].Sets
	require.Len(t, sets, 1)
	require.Len(t, sets[0].Inband, 1)
	assert.Equal(t, id3.Scheme, sets[0].Inband[0].Scheme)
}

func TestMemoryBoundFollowsFromTheSettings(t *testing.T) {
	rungs := []ladder.Rung{{Name: "source", On: true, Source: true}}
	short, long := settings.Settings{}.WithDefaults(), settings.Settings{Packaging: settings.Packaging{Window: 60, SegmentMillis: 6000}}.WithDefaults()
	assert.Less(t, MemoryBound(&short, rungs, 0), MemoryBound(&long, rungs, 0))
	// A source far above what is planned for stays within it.
	p := newPacker(t, settings.Settings{}, 1)
	p.s.rungs = p.c.rungs
	for _, o := range p.s.outputs {
		p.s.limit(o, o.r.Name)
	}
	for range 30 * 30 {
		p.picture(1_000_000) // 240 Mbit/s
		if p.frames%30 == 0 {
			st := p.c.Status()
			require.LessOrEqual(t, st.Memory, st.MemoryBound)
		}
	}
	p.c.measure(-1, govern.Turn{})
	assert.False(t, p.c.squeezed.IsZero(), "it is told")
}

// TestTheGovernorActsAndTells: a worker that is short makes it take a step, which stands in the events and the
// status, and leaves the ladder that the engineer wrote as it is; a ladder without a governor is not touched.
func TestTheGovernorActsAndTells(t *testing.T) {
	for _, mode := range []ladder.Governor{ladder.GovernorLower, ladder.Ungoverned} {
		p := newPacker(t, settings.Settings{Ladder: ladder.Ladder{Governor: mode}}, 2)
		now := time.Now()
		p.c.now = func() time.Time { return now }
		asked := ladder.Rung{Name: "b", On: true, Height: 360, Bitrate: 500_000, Effort: 3}
		p.c.rungs[1] = asked
		p.c.mu.Lock()
		p.s.applyLadder(p.c.rungs)
		p.c.mu.Unlock()
		for second := range int64(6) {
			now = now.Add(time.Second)
			p.c.load.take(worker.Stats{PID: 7, Stats: transcode.Stats{Decoded: 30 * second, Dropped: 5 * second, LagMillis: 900}}, now)
			p.c.measure(0, govern.Turn{})
		}
		st := p.c.Status()
		assert.Equal(t, asked, st.Rungs[1], "what was asked for stays")
		if mode == ladder.Ungoverned {
			assert.Nil(t, st.Governor)
			assert.Equal(t, 3, p.s.config.Rungs[0].Effort)
			continue
		}
		require.NotNil(t, st.Governor)
		assert.Equal(t, []govern.Step{{Rung: "b", Kind: govern.Effort, From: 3, To: 2}}, st.Governor.Steps)
		assert.Equal(t, 2, p.s.config.Rungs[0].Effort, "the worker is told")
		set := p.c.Settings()
		set.Ladder.Governor = ladder.Ungoverned
		require.NoError(t, p.c.Apply(set))
		assert.Nil(t, p.c.Status().Governor)
		assert.Empty(t, p.c.governor.Steps())
	}
}

// TestKeyframesAreAskedFor: with each segment where the source passes through, now and then where all is coded, and soon
// when the worker cannot go on without one.
func TestKeyframesAreAskedFor(t *testing.T) {
	for _, passes := range []bool{true, false} {
		p := newPacker(t, settings.Settings{}, 2)
		p.c.rungs = []ladder.Rung{{Name: "source", On: true, Source: passes, Height: 360, Bitrate: 500_000, Effort: 1}}
		f := &Feed{c: p.c, session: p.s}
		want := keyForJoining
		if passes {
			want = time.Duration(p.c.settings.SegmentMillis) * time.Millisecond
		}
		now := time.Now()
		assert.Equal(t, want, f.Grid())
		p.c.load.take(worker.Stats{PID: 7, Stats: transcode.Stats{Keyless: true}}, now)
		assert.Equal(t, keyEach, f.Grid())
		p.c.load.take(worker.Stats{PID: 7}, now)
		assert.Equal(t, want, f.Grid())
	}
}
