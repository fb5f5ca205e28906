package segment

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/bmff"
	"metaplasis/internal/core/media"
)

const frame = media.VideoTimescale / 30

func video(n int64, key bool) *media.AccessUnit {
	return &media.AccessUnit{DTS: n * frame, PTS: n * frame, Duration: frame, Key: key, Data: []byte{0, 0, 0, 1, 0x65}}
}

func header(kind media.Kind) *Header {
	t := media.Track{Kind: kind, Timescale: media.VideoTimescale, Width: 16, Height: 16, Config: []byte{1}}
	if kind == media.Audio {
		t.Timescale = 48000
	}
	return &Header{Name: "header", Bytes: bmff.Header(&t), Track: t}
}

// boundaries offers pictures to a clock and lists where it cut.
func boundaries(c *Clock, from, to int64, key func(int64) bool) (out []string) {
	for n := from; n < to; n++ {
		if b, ok := c.Offer(video(n, key(n))); ok {
			mark := ""
			if b.Discontinuity {
				mark = "!"
			}
			out = append(out, fmt.Sprintf("%d@%d%s", b.MSN, b.Start/frame, mark))
		}
	}
	return out
}

func every(n int64) func(int64) bool { return func(i int64) bool { return i%n == 0 } }

func TestGridCutsAtEvenSteps(t *testing.T) {
	c := NewClock(7, 2*media.VideoTimescale)
	c.Begin(0, true)
	assert.Equal(t, []string{"7@0!", "8@60", "9@120"}, boundaries(c, 0, 150, every(250)))
	_, end, ok := c.Lookup(100 * frame)
	assert.True(t, ok)
	assert.EqualValues(t, 120*frame, end)
	b, end, _ := c.Lookup(130 * frame)
	assert.EqualValues(t, 9, b.MSN)
	assert.EqualValues(t, 180*frame, end, "the next boundary of a grid is known ahead")
	assert.Equal(t, []string{"10@600", "11@660"}, boundaries(c, 600, 700, every(1)), "a pause makes no empty segments")
	_, _, ok = c.Lookup(-1)
	assert.False(t, ok)
}

func TestLeadFollowsTheSourcesKeyframes(t *testing.T) {
	c := NewClock(0, 2*media.VideoTimescale)
	c.SetMode(Lead)
	c.Begin(0, false)
	assert.Equal(t, []string{"0@0", "1@60", "2@120"}, boundaries(c, 0, 130, every(30)), "every second keyframe fits the step")
	_, end, _ := c.Lookup(125 * frame)
	assert.Zero(t, end, "only the next keyframe can tell")
	assert.True(t, c.Decided(128*frame))
	assert.False(t, c.Decided(140*frame))
	c.SetMode(Grid)
	assert.Equal(t, []string{"3@165", "4@225"}, boundaries(c, 130, 230, every(1000)), "a grid goes on without keyframes")
}

func TestCutterMakesWholeSegments(t *testing.T) {
	clock := NewClock(0, media.VideoTimescale)
	clock.Begin(0, false)
	var c Cutter
	c.SetHeader(header(media.Video))
	var got []*Segment
	for n := range int64(95) {
		u := video(n, n%30 == 0)
		clock.Offer(u)
		b, due, ok := clock.Lookup(u.PTS)
		require.True(t, ok)
		got = append(got, c.Push(*u, b, due, time.Time{})...)
	}
	require.Len(t, got, 3, "a segment is out with its last picture, not with the next one's first")
	got = append(got, c.Flush())
	for i, s := range got {
		assert.EqualValues(t, i, s.MSN)
		f, err := bmff.ReadFragments(s.Bytes)
		require.NoError(t, err)
		assert.EqualValues(t, i*media.VideoTimescale, f[0].DTS)
		assert.Len(t, f[0].Units, s.Units)
	}
	assert.EqualValues(t, media.VideoTimescale, got[0].Duration)
	assert.EqualValues(t, 5*frame, got[3].Duration)
	assert.Zero(t, c.Dropped)
	assert.Empty(t, c.Push(*video(0, true), Boundary{}, 0, time.Time{}), "nothing is made twice")
	assert.EqualValues(t, 1, c.Dropped)
}

func TestCutterWaitsForAKeyframe(t *testing.T) {
	var c Cutter
	c.SetHeader(header(media.Video))
	c.Push(*video(0, false), Boundary{}, 0, time.Time{})
	_, open := c.Open()
	assert.False(t, open)
	assert.EqualValues(t, 1, c.Dropped)
	c.Push(*video(1, true), Boundary{}, 0, time.Time{})
	c.Discard()
	assert.Nil(t, c.Flush(), "what was discarded comes again from elsewhere")
}

func segmentOf(msn uint64, disc bool) *Segment {
	return &Segment{MSN: msn, Discontinuity: disc, Duration: 2 * media.VideoTimescale, Header: header(media.Video), Bytes: make([]byte, 250_000)}
}

func TestWindowSlides(t *testing.T) {
	w := NewWindow(3, func(s *Segment) uint64 { return 10 })
	for n := range uint64(20) {
		require.True(t, w.Publish(segmentOf(n+100, n == 14), 0))
	}
	s := w.Snapshot()
	assert.Len(t, s.All, Retained(3))
	assert.Len(t, s.Advertised, 3)
	assert.EqualValues(t, 117, s.Advertised[0].MSN)
	assert.EqualValues(t, 11, s.Discontinuity, "one discontinuity lies before what is advertised")
	assert.EqualValues(t, 7*250_000, s.Bytes)
	seg, gone := s.Find(115)
	assert.EqualValues(t, 115, seg.MSN)
	assert.False(t, gone)
	_, gone = s.Find(112)
	assert.True(t, gone)
	seg, gone = s.Find(120)
	assert.True(t, seg == nil && !gone)
	peak, average := w.Rates()
	assert.EqualValues(t, 1_000_000, peak)
	assert.EqualValues(t, 1_000_000, average)
	assert.False(t, w.Publish(segmentOf(119, false), 0), "numbers never go back")
}

func TestMissingSegmentsBecomeGaps(t *testing.T) {
	w := NewWindow(5, func(*Segment) uint64 { return 0 })
	w.Publish(segmentOf(1, false), 0)
	w.Publish(segmentOf(4, false), 2*media.VideoTimescale)
	all := w.Snapshot().All
	require.Len(t, all, 4)
	assert.True(t, all[1].Gap && all[2].Gap)
	assert.EqualValues(t, 2, all[1].MSN)
	w.Publish(segmentOf(400, false), 2*media.VideoTimescale)
	assert.Len(t, w.Snapshot().All, 1, "a hole longer than the window begins it anew")
}

func BenchmarkCutSegment(b *testing.B) {
	u := make([]media.AccessUnit, 60)
	for i := range u {
		u[i] = *video(int64(i), i == 0)
		u[i].Data = make([]byte, 25_000)
	}
	t := header(media.Video).Track
	b.SetBytes(60 * 25_000)
	for b.Loop() {
		bmff.Segment(&t, 1, u)
	}
}
