package segment

import (
	"bytes"
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
		f, err := bmff.ReadFragments(bytes.Join(s.Pieces, nil))
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

func TestCutterPublishesParts(t *testing.T) {
	clock := NewClock(3, media.VideoTimescale)
	clock.Begin(0, false)
	var c Cutter
	c.SetHeader(header(media.Video))
	c.SetParting(Parting{Step: 6 * frame})
	var got []string
	w := NewWindow(3, func(*Segment) uint64 { return 0 })
	var last *Segment
	for n := range int64(62) {
		u := video(n, n%30 == 0)
		clock.Offer(u)
		b, due, _ := clock.Lookup(u.PTS)
		for _, s := range c.Push(*u, b, due, time.Time{}) {
			got = append(got, fmt.Sprintf("%d:%d@%d%v", s.MSN, len(s.Parts), n, map[bool]string{true: "+", false: "."}[s.Open]))
			require.True(t, w.Publish(s, media.VideoTimescale))
			last = s
		}
	}
	assert.Equal(t, []string{"3:1@5+", "3:2@11+", "3:3@17+", "3:4@23+", "3:5@29.", "4:1@35+", "4:2@41+", "4:3@47+", "4:4@53+", "4:5@59."}, got,
		"each part is out with its last picture")
	var whole []media.AccessUnit
	for i, p := range last.Parts {
		assert.EqualValues(t, 6*frame, p.Duration)
		assert.Equal(t, i == 0, p.Independent)
		f, err := bmff.ReadFragments(p.Bytes)
		require.NoError(t, err)
		whole = append(whole, f[0].Units...)
	}
	assert.Len(t, whole, 30)
	f, err := bmff.ReadFragments(bytes.Join(last.Pieces, nil))
	require.NoError(t, err)
	assert.Len(t, f, 5, "the segment is its parts, byte by byte")
	assert.Len(t, w.Snapshot().All, 2, "states of one segment are one entry")
	assert.Len(t, w.Snapshot().Whole(), 2)
}

func TestReplacedWorkerGoesOnBehindTheLastPart(t *testing.T) {
	var c Cutter
	c.SetHeader(header(media.Video))
	c.SetParting(Parting{Step: 6 * frame})
	b := Boundary{MSN: 1}
	for n := range int64(9) {
		c.Push(*video(n, n == 0), b, 0, time.Time{})
	}
	require.EqualValues(t, 6*frame, c.Discard())
	var got []*Segment
	for n := range int64(12) {
		got = append(got, c.Push(*video(n, n == 0 || n == 6), b, 0, time.Time{})...)
	}
	require.Len(t, got, 1)
	assert.Len(t, got[0].Parts, 2)
	assert.Equal(t, 12, got[0].Units, "nothing twice, nothing left out")
	assert.True(t, got[0].Parts[1].Independent)
}

func TestPartsKeepTheRules(t *testing.T) {
	rates := []media.Rational{{Num: 24, Den: 1}, {Num: 25, Den: 1}, {Num: 30000, Den: 1001}, {Num: 30, Den: 1}, {Num: 50, Den: 1}, {Num: 60000, Den: 1001}}
	for _, rate := range rates {
		for _, hertz := range []int64{0, 22050, 44100, 48000} {
			for ms := int64(100); ms <= 1000; ms += 13 {
				p := PlanParts(ms*90, rate, 1024, hertz)
				name := fmt.Sprint(rate, hertz, ms)
				require.LessOrEqual(t, p.Video.Step, p.Target, name)
				require.GreaterOrEqual(t, p.Video.Step*100, p.Target*85, name)
				if hertz == 0 {
					continue
				}
				// Cut ten seconds of sound by the plan.
				var c Cutter
				h := header(media.Audio)
				h.Track.Timescale = hertz
				c.SetHeader(h)
				c.SetParting(p.Audio)
				var last *Segment
				for n := int64(0); n*1024 < 10*hertz; n++ {
					for _, s := range c.Push(media.AccessUnit{DTS: n * 1024, PTS: n * 1024, Duration: 1024, Key: true, Data: []byte{1}}, Boundary{}, 0, time.Time{}) {
						last = s
					}
				}
				for _, part := range last.Parts {
					require.LessOrEqual(t, part.Duration, p.Target, name)
					require.GreaterOrEqual(t, part.Duration*100, p.Target*85, name)
				}
			}
		}
	}
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
	return &Segment{MSN: msn, Discontinuity: disc, Duration: 2 * media.VideoTimescale, Header: header(media.Video), Size: 250_000}
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
		bmff.Chunk(&t, bmff.ChunkOptions{First: true}, u)
	}
}

func TestAlignedClocksAgree(t *testing.T) {
	const day = int64(1_780_315_200) // seconds since 1970
	cut := func(mode Mode, joined int64, early int64) (out []string) {
		c := NewClock(3, 2*media.VideoTimescale)
		c.SetAligned(true)
		c.SetMode(mode)
		start := day*media.VideoTimescale + joined*frame
		c.Begin(start, false)
		for n := joined; n < 300; n++ {
			u := video(0, n == joined || (n+early)%60 == 0)
			u.PTS = day*media.VideoTimescale + n*frame
			u.DTS = u.PTS
			if b, ok := c.Offer(u); ok {
				out = append(out, fmt.Sprintf("%d@%d", b.MSN-uint64(day)/2, b.Start/frame-day*30))
			}
		}
		return out
	}
	assert.Equal(t, []string{"0@0", "1@60", "2@120", "3@180", "4@240"}, cut(Grid, 0, 0))
	assert.Equal(t, []string{"0@25", "1@60", "2@120", "3@180", "4@240"}, cut(Grid, 25, 0), "who joins late cuts the same from the next line on")
	assert.Equal(t, []string{"1@70", "2@120", "3@180", "4@240"}, cut(Lead, 70, 0))
	assert.Equal(t, []string{"0@1", "1@59", "2@119", "3@179", "4@239", "5@299"}, cut(Lead, 1, 1), "keyframes a little early open the segment they stand before")
	c := NewClock(uint64(day), 2*media.VideoTimescale) // numbers were higher once
	c.SetAligned(true)
	c.Begin(day*media.VideoTimescale, true)
	u := video(0, true)
	u.PTS = day * media.VideoTimescale
	b, _ := c.Offer(u)
	assert.EqualValues(t, day, b.MSN, "numbers never go back")
}

func TestPiecesAreTheParts(t *testing.T) {
	var c Cutter
	c.SetHeader(header(media.Video))
	c.SetParting(Parting{Step: 6 * frame})
	for msn := range uint64(3) {
		b := Boundary{MSN: msn, Start: int64(msn) * 30 * frame}
		var last *Segment
		for n := range int64(30) {
			u := *video(int64(msn)*30+n, n == 0)
			u.Data = make([]byte, 500*(msn+1)) // each segment twice the guess
			u.Data[0] = byte(n)
			for _, s := range c.Push(u, b, b.Start+30*frame, time.Time{}) {
				last = s
			}
		}
		require.False(t, last.Open)
		var joined []byte
		for _, p := range last.Pieces {
			joined = append(joined, p...)
		}
		var parts []byte
		for _, p := range last.Parts {
			parts = append(parts, p.Bytes...)
		}
		assert.Equal(t, parts, joined)
		if msn > 0 { // the first segment has no size to guess by
			assert.Less(t, len(last.Pieces), len(last.Parts), "parts lie one behind the other where the room sufficed")
		}
		assert.EqualValues(t, len(joined), last.Size)
	}
}
