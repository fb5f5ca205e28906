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
	t := media.Track{Kind: kind, Codec: media.H264, Timescale: media.VideoTimescale, Width: 16, Height: 16, Config: []byte{1}}
	if kind == media.Audio {
		t.Codec, t.Timescale = media.AAC, 48000
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
		f, err := bmff.ReadFragments(bytes.Join(s.Blob.Pieces(), nil))
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
	w := NewWindow(3, none{})
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
	f, err := bmff.ReadFragments(bytes.Join(last.Blob.Pieces(), nil))
	require.NoError(t, err)
	assert.Len(t, f, 5, "the segment is its parts, byte by byte")
	assert.Len(t, w.Snapshot().All(), 2, "states of one segment are one entry")
	assert.Len(t, w.Snapshot().Listed, 2)
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
				p := PlanParts(ms*90, rate, 0, 1024, hertz)
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

// none and ten are the runs of channels that were never, or ten times, interrupted.
type none struct{}

func (none) Before(uint64) uint64 { return 0 }
func (none) Begins(uint64) bool   { return false }

type ten struct{ none }

func (ten) Before(uint64) uint64 { return 10 }

// interrupted is a channel whose segment 2 begins a new run.
type interrupted struct{ none }

func (interrupted) Begins(msn uint64) bool { return msn == 2 }

func TestGapsKeepTheDiscontinuityOfTheirRun(t *testing.T) {
	w := NewWindow(5, interrupted{})
	w.Publish(segmentOf(1, false), 0)
	late := segmentOf(4, false) // the first segments of the new run did not come
	late.Start = 8 * media.VideoTimescale
	w.Publish(late, media.VideoTimescale)
	all := w.Snapshot().All()
	require.Len(t, all, 4)
	assert.Equal(t, []bool{false, true, false, false}, []bool{all[0].Discontinuity, all[1].Discontinuity, all[2].Discontinuity, all[3].Discontinuity})
	assert.EqualValues(t, 3*media.VideoTimescale, all[2].Duration, "gaps are as long as what is missing")
}

func TestWindowKeepsItsBudget(t *testing.T) {
	w := NewWindow(10, none{})
	w.SetBudget(5 * 250_000)
	for n := range uint64(30) {
		w.Publish(segmentOf(n, false), 0)
		require.LessOrEqual(t, w.Snapshot().Bytes, int64(5*250_000))
	}
	assert.Positive(t, w.Cut)
	assert.EqualValues(t, 29, w.Snapshot().All()[4].MSN, "the newest stay")
}

// feedCutter cuts pictures at decode times with presentation times, and returns the last state of each segment.
func feedCutter(c *Cutter, step int64, times [][2]int64) (out []*Segment) {
	clock := NewClock(0, media.VideoTimescale)
	clock.SetMode(Lead)
	clock.Begin(0, false)
	for n, at := range times {
		u := media.AccessUnit{DTS: at[0], PTS: at[1], Duration: step, Key: n%30 == 0, Data: []byte{0, 0, 0, 1, 9}}
		clock.Offer(&u)
		b, due, ok := clock.Lookup(u.PTS)
		if !ok {
			continue
		}
		for _, s := range c.Push(u, b, due, time.Time{}) {
			if n := len(out); n > 0 && out[n-1].MSN == s.MSN {
				out = out[:n-1]
			}
			out = append(out, s)
		}
	}
	return out
}

// Decode times have no gaps, whatever stamps do: where a part has told how long its last picture lasts,
// the next one is decoded then. Presentation times stay as they are.
func TestDecodeTimesHaveNoGaps(t *testing.T) {
	var c Cutter
	c.SetHeader(header(media.Video))
	c.SetParting(Parting{Step: 6 * frame})
	var times [][2]int64
	shown := map[int64]bool{}
	for n := range int64(300) {
		at := n * frame
		if n > 100 {
			at += 2 * frame // two pictures were lost
		}
		at += (n*7919%13 - 6) * 90 // a jitter of 6 ms
		times = append(times, [2]int64{max(at, 0), max(at, 0)})
		shown[max(at, 0)] = true
	}
	end, count := int64(-1), 0
	for _, s := range feedCutter(&c, frame, times) {
		for _, p := range s.Parts {
			f, err := bmff.ReadFragments(p.Bytes)
			require.NoError(t, err)
			for _, u := range f[0].Units {
				if end >= 0 {
					require.Equal(t, end, u.DTS, "unit %d", count)
				}
				require.Positive(t, u.Duration)
				require.GreaterOrEqual(t, u.PTS, u.DTS)
				require.True(t, shown[u.PTS] || u.PTS == u.DTS, "unit %d is shown when it should be, or when it can be", count)
				end = u.DTS + u.Duration
				count++
			}
		}
	}
	assert.Greater(t, count, 250)
}

// Parts of a varying rate keep the 85 % rule: they end with the picture that makes them long enough.
func TestPartsOfAVaryingRateKeepTheRules(t *testing.T) {
	const longest = 45 * 90
	p := PlanParts(200*90, media.Rational{}, longest, 1024, 48000)
	var c Cutter
	c.SetHeader(header(media.Video))
	c.SetParting(p.Video)
	var times [][2]int64
	at := int64(0)
	for n := range int64(600) {
		times = append(times, [2]int64{at, at})
		at += (15 + n*7919%30) * 90
	}
	parts := 0
	for _, s := range feedCutter(&c, 0, times) {
		for i, part := range s.Parts {
			require.LessOrEqual(t, part.Duration, p.Target)
			if i < len(s.Parts)-1 {
				require.GreaterOrEqual(t, part.Duration*100, p.Target*85)
			}
			parts++
		}
	}
	assert.Greater(t, parts, 50)
}

// A worker that is replaced in the middle of a segment whose pictures are reordered goes on with a
// keyframe, behind everything that was shown.
func TestAReplacedWorkerGoesOnWithAKeyframe(t *testing.T) {
	var c Cutter
	c.SetHeader(header(media.Video))
	c.SetParting(Parting{Step: 6 * frame})
	push := func(n int64, order int64, key bool) []*Segment {
		return c.Push(media.AccessUnit{DTS: n * frame, PTS: (n + order) * frame, Duration: frame, Key: key, Data: []byte{1}}, Boundary{Start: 2 * frame}, 0, time.Time{})
	}
	orders := []int64{2, 4, 1, 1} // I P b b, shown one after the other
	var state *Segment
	for n := range int64(20) {
		order := orders[n%4]
		if n > 0 && n%4 == 0 {
			order = 4
		}
		for _, s := range push(n, order, n == 0) {
			state = s
		}
	}
	require.Len(t, state.Parts, 3)
	from := c.Discard()
	// The new encoder begins with a keyframe there; its decode times begin earlier, since it reorders too.
	var after *Segment
	for k := range int64(12) {
		u := media.AccessUnit{DTS: from + (k-2)*frame, PTS: from + k*frame, Duration: frame, Key: k == 0, Data: []byte{2}}
		for _, s := range c.Push(u, Boundary{Start: 2 * frame}, 0, time.Time{}) {
			after = s
		}
	}
	require.Greater(t, len(after.Parts), 3)
	assert.True(t, after.Parts[3].Independent, "the part begins with a keyframe")
	end, last := int64(-1), int64(-1)
	for _, p := range after.Parts {
		f, err := bmff.ReadFragments(p.Bytes)
		require.NoError(t, err)
		for _, u := range f[0].Units {
			if end >= 0 {
				require.Equal(t, end, u.DTS)
			}
			end = u.DTS + u.Duration
			last = max(last, u.PTS)
		}
	}
	assert.Greater(t, last, from)
}

func TestFragmentNumbersGrow(t *testing.T) {
	const fourYears = 4 * 365 * 86400 / 2 // segments of two seconds
	numbers := FragmentNumbers(2*media.VideoTimescale, media.VideoTimescale/5)
	for _, from := range []uint64{1, fourYears - 50} {
		before := uint32(0)
		for msn := from; msn < from+50; msn++ {
			for part := range numbers {
				n := sequence(msn, part, numbers)
				require.Greater(t, n, before)
				before = n
			}
		}
	}
	assert.Equal(t, 4, FragmentNumbers(6*media.VideoTimescale, 6*media.VideoTimescale))
	assert.Equal(t, 512, FragmentNumbers(60*media.VideoTimescale, media.VideoTimescale/10))
}

func TestExpectationsFollowTheKeyframes(t *testing.T) {
	c := NewClock(0, 2*media.VideoTimescale)
	c.SetMode(Lead)
	c.Begin(0, false)
	assert.Zero(t, c.Expected(), "nothing is known before two keyframes")
	for n := range int64(100) {
		c.Offer(video(n, n%30 == 0)) // a keyframe each second
	}
	assert.EqualValues(t, 120*frame, c.Expected(), "the next keyframe that is not too early")
	assert.EqualValues(t, 60*frame, c.Length())
}

func segmentOf(msn uint64, disc bool) *Segment {
	return &Segment{MSN: msn, Discontinuity: disc, Duration: 2 * media.VideoTimescale, Header: header(media.Video), Size: 250_000}
}

func TestWindowSlides(t *testing.T) {
	w := NewWindow(3, ten{})
	for n := range uint64(20) {
		require.True(t, w.Publish(segmentOf(n+100, n == 14), 0))
	}
	s := w.Snapshot()
	assert.Len(t, s.All(), Retained(3))
	assert.Len(t, s.Advertised(), 3)
	assert.EqualValues(t, 117, s.Advertised()[0].MSN)
	assert.EqualValues(t, 11, s.Discontinuity, "one discontinuity lies before what is advertised")
	assert.EqualValues(t, 7*250_000, s.Bytes)
	seg, gone := s.Find(115)
	assert.EqualValues(t, 115, seg.MSN)
	assert.False(t, gone)
	_, gone = s.Find(112)
	assert.True(t, gone)
	seg, gone = s.Find(120)
	assert.True(t, seg == nil && !gone)
	peak, average, _ := w.Rates()
	assert.EqualValues(t, 1_000_000, peak)
	assert.EqualValues(t, 1_000_000, average)
	assert.False(t, w.Publish(segmentOf(119, false), 0), "numbers never go back")
}

func TestMissingSegmentsBecomeGaps(t *testing.T) {
	w := NewWindow(5, none{})
	w.Publish(segmentOf(1, false), 0)
	w.Publish(segmentOf(4, false), 2*media.VideoTimescale)
	all := w.Snapshot().All()
	require.Len(t, all, 4)
	assert.True(t, all[1].Gap && all[2].Gap)
	assert.EqualValues(t, 2, all[1].MSN)
	w.Publish(segmentOf(400, false), 2*media.VideoTimescale)
	assert.Len(t, w.Snapshot().All(), 1, "a hole longer than the window begins it again")
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
		for _, p := range last.Blob.Pieces() {
			joined = append(joined, p...)
		}
		var parts []byte
		for _, p := range last.Parts {
			parts = append(parts, p.Bytes...)
		}
		assert.Equal(t, parts, joined)
		if msn > 0 { // the first segment has no size to guess by
			assert.Less(t, len(last.Blob.Pieces()), len(last.Parts), "parts lie one behind the other where the room sufficed")
		}
		assert.EqualValues(t, len(joined), last.Size)
	}
}

// TestWhatIsLeftOutIsNoLongerThanItWas: an encoder that makes nothing of a segment, or of several, leaves gaps of their length, and
// the segment before them stays as long as it was to be, whether its end was known or not.
func TestWhatIsLeftOutIsNoLongerThanItWas(t *testing.T) {
	for _, known := range []bool{true, false} {
		var c Cutter
		c.SetHeader(header(media.Video))
		w := NewWindow(10, none{})
		publish := func(list []*Segment) {
			for _, s := range list {
				require.True(t, w.Publish(s, media.VideoTimescale))
			}
		}
		for _, n := range []int64{0, 10, 25, 60, 61, 150, 155} {
			u := video(n, n%30 == 0)
			u.Duration = 0 // the next one tells
			b := Boundary{MSN: uint64(n / 30), Start: n / 30 * 30 * frame}
			due := b.Start + 30*frame
			if !known {
				due = 0
			}
			publish(c.Push(*u, b, due, time.Time{}))
		}
		publish([]*Segment{c.Flush()})
		var got []string
		at := int64(0)
		for _, s := range w.Snapshot().All() {
			assert.Equal(t, at, s.Start, "segment %d", s.MSN)
			at = s.Start + s.Duration
			got = append(got, fmt.Sprintf("%d %v %d", s.MSN, s.Gap, s.Duration/frame))
		}
		assert.Equal(t, []string{"0 false 30", "1 true 30", "2 false 30", "3 true 30", "4 true 30", "5 false 10"}, got)
	}
}

// A keyframe that does not come, or one that comes late, makes no segment longer than the limit: the next one begins without a
// keyframe, says so, and holds every picture.
func TestASegmentIsNeverLongerThanItsLimit(t *testing.T) {
	const limit = 2*media.VideoTimescale + media.VideoTimescale*9/20
	for name, key := range map[string]func(int64) bool{
		"a lost one":           func(n int64) bool { return n%60 == 0 && n != 120 },
		"ten seconds apart":    every(300),
		"none but the first":   func(n int64) bool { return n == 0 },
		"each second and more": func(n int64) bool { return n%60 == 0 },
	} {
		c := NewClock(0, 2*media.VideoTimescale)
		c.SetMode(Lead)
		c.SetLimit(limit)
		c.Begin(0, false)
		cutter := &Cutter{Longest: limit}
		cutter.SetHeader(header(media.Video))
		var list []*Segment
		for n := range int64(1000) {
			u := *video(n, key(n))
			u.Duration = 0
			c.Offer(&u)
			b, due, ok := c.Lookup(u.PTS)
			require.True(t, ok)
			for _, s := range cutter.Push(u, b, due, time.Time{}) {
				if !s.Open {
					list = append(list, s)
				}
			}
		}
		list = append(list, cutter.Flush())
		units := 0
		for i, s := range list {
			units += s.Units
			assert.LessOrEqual(t, (s.Duration+media.VideoTimescale/2)/media.VideoTimescale, int64(2), "%s: segment %d", name, i)
			assert.Equal(t, !key(s.Start/frame), s.Dependent, "%s: segment %d", name, i)
			assert.EqualValues(t, i, s.MSN)
		}
		assert.Equal(t, 1000, units, name)
		assert.Zero(t, cutter.Dropped)
	}
}

// Where pictures are reordered, a segment that is cut without a keyframe holds every picture all the same.
func TestReorderedPicturesOfACutSegment(t *testing.T) {
	const limit = media.VideoTimescale
	c := NewClock(0, media.VideoTimescale)
	c.SetMode(Lead)
	c.SetLimit(limit)
	c.Begin(2*frame, false)
	cutter := &Cutter{Longest: limit}
	cutter.SetHeader(header(media.Video))
	units := 0
	for n := range int64(200) {
		shown := n // I P B B P B B
		if n > 0 {
			shown = []int64{n + 2, n - 1, n - 1}[(n-1)%3]
		}
		u := media.AccessUnit{DTS: n * frame, PTS: (shown + 2) * frame, Key: n == 0, Data: []byte{0, 0, 0, 1, 9}}
		c.Offer(&u)
		b, due, ok := c.Lookup(u.PTS)
		require.True(t, ok)
		for _, s := range cutter.Push(u, b, due, time.Time{}) {
			if !s.Open {
				units += s.Units
				assert.LessOrEqual(t, s.Duration, int64(limit+limit/2))
			}
		}
	}
	if s := cutter.Flush(); s != nil {
		units += s.Units
	}
	assert.Equal(t, 200, units)
	assert.Zero(t, cutter.Dropped)
}

// A picture that lasts for seconds ends where its segment may end.
func TestALongPictureEndsWithItsSegment(t *testing.T) {
	const limit = 2*media.VideoTimescale + media.VideoTimescale*9/20
	c := NewClock(0, 2*media.VideoTimescale)
	c.SetMode(Lead)
	c.SetLimit(limit)
	c.Begin(0, false)
	cutter := &Cutter{Longest: limit}
	cutter.SetHeader(header(media.Video))
	var list []*Segment
	for _, n := range []int64{0, 1, 2, 3, 200, 201, 202, 260, 261} {
		u := *video(n, n == 0 || n == 260)
		u.Duration = 0
		c.Offer(&u)
		b, due, ok := c.Lookup(u.PTS)
		require.True(t, ok)
		for _, s := range cutter.Push(u, b, due, time.Time{}) {
			if !s.Open {
				list = append(list, s)
			}
		}
	}
	require.Len(t, list, 2)
	assert.LessOrEqual(t, list[0].Duration, int64(limit))
	assert.Equal(t, int64(200*frame), list[1].Start)
}

// Frames of sound that are missing leave no hole: the one behind them lasts over their place, and the next is where it belongs.
func TestMissingFramesOfSoundLeaveNoHole(t *testing.T) {
	for _, parting := range []Parting{{Step: 18000}, {Step: 18000, Frames: 9}} {
		clock := NewClock(0, 2*media.VideoTimescale)
		clock.Begin(0, false)
		c := &Cutter{}
		h := header(media.Audio)
		h.Track.FrameSamples = 1024
		c.SetHeader(h)
		c.SetParting(parting)
		var parts []*Part
		end := int64(-1)
		for n := range int64(400) {
			if n%37 == 20 || n%37 == 21 { // two of them are missing
				continue
			}
			u := media.AccessUnit{DTS: n * 1024, PTS: n * 1024, Duration: 1024, Key: true, Data: []byte{1}}
			lead := media.AccessUnit{DTS: n * 1920, PTS: n * 1920, Key: true}
			clock.Offer(&lead)
			b, due, ok := clock.Lookup(n * 1920)
			require.True(t, ok)
			for _, s := range c.Push(u, b, due, time.Time{}) {
				if k := len(s.Parts); k > 0 && (len(parts) == 0 || parts[len(parts)-1] != s.Parts[k-1]) {
					p := s.Parts[k-1]
					if end >= 0 {
						assert.InDelta(t, end, p.Start, 200, "no hole")
					}
					parts, end = append(parts, p), p.Start+p.Duration
					assert.LessOrEqual(t, p.Duration, int64(9*1920+2*1920+100))
				}
			}
		}
		assert.Greater(t, len(parts), 30)
	}
}
