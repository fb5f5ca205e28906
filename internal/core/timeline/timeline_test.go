package timeline

import (
	"math/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metaplasis/internal/core/media"
)

const video, audio media.TrackID = 1, 2

// at is a time on the wall clock since the feed began.
// millis is the clock of most tests.
var millis = media.Milliseconds

func at(ms int64) time.Duration { return time.Duration(ms) * time.Millisecond }

func TestStampsWrap(t *testing.T) {
	f := NewFeed(5000 * 90)
	var got []int64
	for i, s := range []uint32{0xffffffe0, 0xfffffff0, 0, 33, 20} {
		v, verdict := f.Map(video, millis, int64(s), at(int64(i)*16))
		assert.Equal(t, Follows, verdict)
		got = append(got, v/90)
	}
	assert.Equal(t, []int64{5000, 5016, 5032, 5065, 5052}, got)
	assert.EqualValues(t, 5065*90, f.Last())
	v, verdict := f.Map(audio, millis, int64(12), at(90)) // another track, on the same line
	assert.Equal(t, []any{int64(5044), Follows}, []any{v / 90, verdict})
}

func TestWhatIsAJump(t *testing.T) {
	for name, c := range map[string]struct {
		stamp  uint32
		passed int64
		want   Verdict
	}{
		"a second back":                         {60_000 - 1000, 33, Jumped},
		"nine seconds back":                     {51_000, 33, Jumped},
		"an hour back":                          {0, 33, Jumped},
		"a little back, by interleaving":        {60_000 - 120, 33, Follows},
		"the same again":                        {60_000, 33, Follows},
		"eight seconds ahead at once":           {68_000, 33, Jumped},
		"eight seconds ahead, after as many":    {68_000, 8_000, Follows},
		"a minute ahead, after as long":         {120_000, 60_000, Jumped},
		"half a second ahead at once, in a row": {60_500, 33, Follows},
	} {
		f := NewFeed(0)
		f.Map(video, millis, int64(59_960), at(0))
		f.Map(video, millis, int64(60_000), at(40))
		before := f.Last()
		_, verdict := f.Map(video, millis, int64(c.stamp), at(40+c.passed))
		assert.Equal(t, c.want, verdict, name)
		if verdict == Jumped {
			assert.Equal(t, before, f.Last(), "%s: nothing is kept of it", name)
		}
	}
	// A track that was silent goes on where the others are, however fast they came.
	f := NewFeed(0)
	f.Map(audio, millis, int64(0), at(0))
	for ms := int64(0); ms < 8000; ms += 40 {
		f.Map(video, millis, int64(uint32(ms)), at(ms/100))
	}
	_, verdict := f.Map(audio, millis, int64(8000), at(80))
	assert.Equal(t, Follows, verdict)
}

// Tracks whose stamps jump together, one after the other, go on behind their newest units and keep their distance; one that
// jumps elsewhere later goes on as well.
func TestTracksGoOnBehindAJump(t *testing.T) {
	f := NewFeed(0)
	at := func(ms int64) time.Duration { return time.Duration(ms) * time.Millisecond }
	send := func(id media.TrackID, stamp, now int64) int64 {
		v, verdict := f.Map(id, millis, stamp, at(now))
		if verdict == Jumped {
			_, ok := f.Rejoin(id, millis, stamp, 40*ticksEachMilli, at(now))
			require.True(t, ok)
			v, verdict = f.Map(id, millis, stamp, at(now))
		}
		require.Equal(t, Follows, verdict)
		return v / ticksEachMilli
	}
	for _, jump := range []int64{0, 3_600_000, -3_000, -86_400_000, 700_000_000, 700_003_200} {
		for now := int64(0); now < 2000; now += 40 {
			base := 400_000_000 + jump
			assert.InDelta(t, f.Last()/ticksEachMilli+40, send(video, base+now, now)+0, 42)
			assert.InDelta(t, f.Last()/ticksEachMilli, f.Peek(millis, base+now)/ticksEachMilli, 42, "what is told of beside the tracks jumps with them")
			if now >= 120 { // its sound follows
				send(audio, base+now-100, now)
			}
		}
		assert.InDelta(t, 100, (f.trackOf(video).last-f.trackOf(audio).last)/ticksEachMilli, 60, "%d", jump)
	}
}

// A frame of sound that is lost leaves a hole of its own length, at once; stamps that stray do not.
func TestALostFrameOfSoundLeavesItsPlace(t *testing.T) {
	exact := func(n int64) int64 { return n * 1024 * 90 / 48 }
	track := NewAudio(48000, 1024)
	n := int64(0)
	for ; n < 200; n++ {
		track.DTS(exact(n))
	}
	for range 20 {
		n++ // one is lost
		for range 6 {
			assert.InDelta(t, n*1024, track.DTS(exact(n)), 2)
			n++
		}
	}
	assert.Zero(t, track.Resyncs)
	rounded := NewAudio(44100, 1024)
	for n := range int64(500) {
		if n%50 == 49 {
			continue
		}
		assert.InDelta(t, n*1024, rounded.DTS(n*1024*1000/44100*ticksEachMilli), 50)
	}
}

// A sender that sets its clock late: its reports step by hours, and its streams go on as they are.
func TestASenderThatSetsItsClock(t *testing.T) {
	f := NewFeed(0)
	clock := media.Clock{Scale: 90_000}
	for id, base := range map[media.TrackID]int64{1: 1000, 2: 900_000} {
		f.Anchor(id, clock, base, 5_000_000)
	}
	f.Map(1, clock, 1000, 0)
	f.Map(2, clock, 900_000, 0)
	for id, base := range map[media.TrackID]int64{1: 1000, 2: 900_000} {
		f.Anchor(id, clock, base+90_000, 5_000_000+90_000+1_700_000_000*90_000)
	}
	a, verdict := f.Map(1, clock, 1000+90_000, time.Second)
	assert.Equal(t, []any{int64(90_000), Follows}, []any{a, verdict})
	b, verdict := f.Map(2, clock, 900_000+90_000, time.Second)
	assert.Equal(t, []any{int64(90_000), Follows}, []any{b, verdict})
}

func TestOtherTracksAreStaleForAWhileAfterAJump(t *testing.T) {
	before := NewFeed(0)
	before.Map(video, millis, int64(50_000), 0)
	before.Map(audio, millis, int64(50_010), 0)
	after := NewFeed(100_000)
	after.After(before)
	v, verdict := after.Map(video, millis, int64(1_000), 0)
	assert.Equal(t, []any{int64(100_000), Follows}, []any{v, verdict})
	_, verdict = after.Map(audio, millis, int64(50_030), at(10))
	assert.Equal(t, Stale, verdict, "it was under way")
	v, verdict = after.Map(audio, millis, int64(1_020), at(20))
	assert.Equal(t, []any{int64(100_000 + 20*90), Follows}, []any{v, verdict})
}

func TestRoundedVideoStampsBecomeEven(t *testing.T) {
	for _, rate := range []media.Rational{{Num: 24000, Den: 1001}, {Num: 25, Den: 1}, {Num: 30000, Den: 1001}, {Num: 60000, Den: 1001}, {Num: 60, Den: 1}} {
		track := NewVideo(rate)
		last, step := int64(0), int64(0)
		for n := range int64(20_000) {
			dts := track.DTS(n * 1000 * rate.Den / rate.Num * 90) // cut to milliseconds, as encoders do
			exact := n * 90_000 * rate.Den / rate.Num
			require.InDelta(t, exact, dts, 95, "picture %d at %v", n, rate)
			if n > 0 {
				require.InDelta(t, 90_000*rate.Den/rate.Num, dts-last, 2, "even to the tick")
				require.InDelta(t, step, dts-last, 1, "a picture tells its length")
			}
			last, step = dts, track.Step()
		}
		assert.Zero(t, track.Resyncs, rate)
	}
}

func TestJitterIsEvenedOut(t *testing.T) {
	track := NewVideo(media.Rational{Num: 30, Den: 1})
	random := rand.New(rand.NewSource(7))
	last := int64(-1)
	for n := range int64(3000) {
		dts := track.DTS((n*1000/30 + random.Int63n(25) - 12 + 100) * 90)
		if n > 0 {
			require.InDelta(t, 3000, dts-last, 45, "picture %d", n)
		}
		last = dts
	}
	assert.Zero(t, track.Resyncs)
}

func TestMissingPicturesLeaveTheLineWhereItIs(t *testing.T) {
	track := NewVideo(media.Rational{Num: 30, Den: 1})
	for n := range int64(1000) {
		if n%97 == 13 || n > 300 && n < 320 {
			continue // lost on the way
		}
		assert.InDelta(t, n*3000, track.DTS(n*1000/30*90), 95)
	}
	assert.Zero(t, track.Resyncs)
	assert.False(t, track.Varies())
}

func TestWrongFrameRateIsGivenUp(t *testing.T) {
	track := NewVideo(media.Rational{Num: 30, Den: 1})
	track.SetJitter(0)
	last := int64(-1)
	for n := range int64(200) {
		dts := track.DTS(n * 47 * 90) // it sends a picture each 47 ms
		assert.Greater(t, dts, last)
		last = dts
	}
	assert.EqualValues(t, 199*47*90, last)
	assert.True(t, track.Varies())
}

// A camera that leaves out every other picture in the dark is still one of its rate.
func TestHalfTheRateIsOnTheLine(t *testing.T) {
	track := NewVideo(media.Rational{Num: 50, Den: 1})
	track.SetJitter(1)
	for n := range int64(200) {
		require.EqualValues(t, n*40*90, track.DTS(n*40*90))
	}
	assert.False(t, track.Varies())
}

// Whatever stamps come, times grow and nothing breaks.
func FuzzTrack(f *testing.F) {
	f.Add([]byte{1, 2, 3, 200, 0, 0, 255, 17}, uint16(30), uint16(1))
	f.Fuzz(func(t *testing.T, steps []byte, num, den uint16) {
		for _, track := range []*Track{NewVideo(media.Rational{Num: int64(num), Den: int64(den)}), NewAudio(int64(num)+1, int64(den)+1)} {
			at, last := int64(0), int64(-1<<62)
			for i, s := range steps {
				at += int64(s)*90 - 30*90
				dts, _ := track.Times(at, (int64(i%7)-3)*90)
				if dts <= last {
					t.Fatalf("unit %d is decoded at %d, the one before at %d", i, dts, last)
				}
				last = dts
				track.Step()
			}
		}
	})
}

// Some senders say that pictures are presented before they are decoded. Order and distance stay, and
// pictures are decoded earlier instead.
func TestCompositionBelowZero(t *testing.T) {
	track := NewVideo(media.Rational{Num: 30, Den: 1})
	track.SetShift(67 * 90)
	offsets := []int64{0, 67, -33, -33} // I P b b
	var shown []int64
	for n := range int64(400) {
		offset := offsets[n%4]
		if n%4 == 0 && n > 0 {
			offset = 67
		}
		if n%4 == 1 {
			offset = 67
		}
		dts, pts := track.Times(n*1000/30*90, offset*90)
		require.GreaterOrEqual(t, pts, dts, "picture %d", n)
		require.InDelta(t, (n*1000/30+offset)*90, pts, 200, "it is shown when it says")
		shown = append(shown, dts)
	}
	for i := 1; i < len(shown); i++ {
		require.Greater(t, shown[i], shown[i-1])
	}
}

func TestAudioFollowsItsSampleCountUntilItDrifts(t *testing.T) {
	track := NewAudio(48000, 1024)
	for n := range int64(500) {
		assert.InDelta(t, n*1024, track.DTS(n*1024/48*90), 24)
	}
	gap := track.DTS((500*1024/48 + 200) * 90) // 200 ms were lost
	assert.InDelta(t, 500*1024+200*48, gap, 48)
	assert.EqualValues(t, 1, track.Resyncs)
}

func TestRatesSnap(t *testing.T) {
	assert.Equal(t, media.Rational{Num: 30000, Den: 1001}, SnapRate(29971))
	assert.Equal(t, media.Rational{Num: 25, Den: 1}, SnapRate(25000))
	assert.Equal(t, media.Rational{Num: 27, Den: 2}, SnapRate(13500))
	random := rand.New(rand.NewSource(3))
	for _, rate := range []media.Rational{{Num: 24, Den: 1}, {Num: 25, Den: 1}, {Num: 30, Den: 1}, {Num: 50, Den: 1}, {Num: 60, Den: 1}} {
		var m RateMeter
		assert.Zero(t, m.Milli())
		for n := range int64(40) {
			m.Add(n*1000*rate.Den/rate.Num + random.Int63n(3))
		}
		got := m.Constant()
		assert.InDelta(t, rate.Milli(), got.Milli(), float64(rate.Milli())/500, "%v", rate)
	}
	var m RateMeter
	ms := int64(0)
	for n := range int64(40) {
		m.Add(ms)
		ms += []int64{17, 50, 33, 83}[n%4]
	}
	assert.False(t, m.Constant().Valid(), "a rate that varies")
	assert.EqualValues(t, 83, m.Longest())
}

func TestAlignedFeedsAgreeOnTheWallClock(t *testing.T) {
	const wall = int64(1_795_000_000_123)
	for name, c := range map[string]struct {
		stamp       uint32
		first, next int64
	}{
		"stamps that are the wall clock's":      {uint32((wall - 40) & 0xffffffff), wall - 40, wall - 7},
		"stamps ahead of it":                    {uint32((wall + 900) & 0xffffffff), wall + 900, wall + 933},
		"stamps of their own, to whole seconds": {5_300, 1_795_000_000_300, 1_795_000_000_333},
	} {
		for _, late := range []int64{0, 80} { // another origin hears it a little later
			f := NewFeed(0)
			f.Align(video, millis, int64(c.stamp), wall+late, 2000)
			v, verdict := f.Map(video, millis, int64(c.stamp), 0)
			assert.Equal(t, Follows, verdict, name)
			if c.stamp == 5_300 {
				assert.EqualValues(t, 1300, v/90%2000, "shifted by whole steps only")
				assert.InDelta(t, wall, v/90, 1000)
				continue
			}
			assert.Equal(t, c.first, v/90, name)
			v, _ = f.Map(video, millis, int64(c.stamp+33), at(33))
			assert.Equal(t, c.next, v/90, name)
		}
	}
}

func TestPeekDoesNotMoveOn(t *testing.T) {
	f := NewFeed(1000 * 90)
	assert.EqualValues(t, 1000*90, f.Peek(millis, 77))
	f.Map(video, millis, int64(500), 0)
	assert.EqualValues(t, 1100*90, f.Peek(millis, 600))
	v, _ := f.Map(video, millis, int64(533), at(33))
	assert.EqualValues(t, 1033*90, v)
}

// A week of a sender whose clock runs 50 millionths fast or slow, over a network that delays at
// random: media time stays beside the wall clock, moves smoothly, and the drift is told.
func TestAWeekOfDrift(t *testing.T) {
	for _, ppm := range []int64{-50, 50, 120} {
		f := NewFeed(0)
		random := rand.New(rand.NewSource(ppm))
		last, worst := int64(0), int64(0)
		const every = 1000 // milliseconds of the sender's clock
		for sent := int64(0); sent < 7*24*3600*1000; sent += every {
			real := time.Duration(sent)*time.Millisecond - time.Duration(sent)*time.Duration(ppm)*time.Nanosecond
			came := real + 30*time.Millisecond + time.Duration(random.ExpFloat64()*float64(20*time.Millisecond))
			v, verdict := f.Map(video, millis, int64(uint32(sent)), came)
			if d := v - last - every*90; verdict != Follows || sent > 0 && abs(d) > every*90*6/10_000+20 {
				t.Fatalf("at %d ms media time moved by %d ticks more than the stamp, verdict %d", sent, d, verdict)
			}
			last = v
			if sent > 20*60*1000 {
				worst = max(worst, abs(v*1000/90-real.Microseconds()))
			}
		}
		measured, known := f.Drift()
		assert.True(t, known)
		assert.InDelta(t, ppm, measured, 12)
		assert.Less(t, worst, int64(120_000), "microseconds beside the clock, of a sender %d ppm fast", ppm)
	}
}

// What a burst put ahead of the clock is made up, and so does not outlive the feed by long.
func TestALeadIsMadeUp(t *testing.T) {
	f := NewFeed(0)
	f.Lead(2 * time.Second)
	var v int64
	for sent := int64(0); sent < 3*3600*1000; sent += 100 {
		v, _ = f.Map(video, millis, int64(uint32(sent)), at(sent))
	}
	assert.InDelta(t, -2100, v/90-3*3600*1000, 60)
}

// TestEveryTrackHasAClockOfItsOwn: one feed's tracks may be stamped in different scales, wrap at different
// times or not at all, and lie on one line all the same.
func TestEveryTrackHasAClockOfItsOwn(t *testing.T) {
	f := NewFeed(0)
	transport, sampled, whole := media.Clock{Scale: 90_000, Turn: 1 << 33}, media.Clock{Scale: 48_000, Turn: 1 << 32}, media.Clock{Scale: 90_000}
	const begin = 1<<33 - 3*90_000 // three seconds before the first wraps
	for n := range int64(500) {    // 40 ms each
		now := at(n * 40)
		v, verdict := f.Map(video, transport, (begin+n*3600)&(1<<33-1), now)
		require.Equal(t, Follows, verdict)
		assert.EqualValues(t, n*3600, v, "picture %d", n)
		start := media.Rescale(begin, 90_000, 48_000)
		v, verdict = f.Map(audio, sampled, (start+n*1920)&(1<<32-1), now)
		require.Equal(t, Follows, verdict)
		assert.InDelta(t, n*3600, v, 2, "frame %d", n)
		v, verdict = f.Map(audio+1, whole, begin+n*3600, now)
		require.Equal(t, Follows, verdict)
		assert.EqualValues(t, n*3600, v)
	}
	_, verdict := f.Map(audio+1, whole, begin+500*3600+90_000*30, at(500*40))
	assert.Equal(t, Jumped, verdict)
}

// TestAnchoredTracksLieOnOneLine: tracks that count from anywhere, such as those of RTP, lie beside each other
// once the sender says which stamp is which time, before the first unit or later.
func TestAnchoredTracksLieOnOneLine(t *testing.T) {
	pictures, frames := media.Clock{Scale: 90_000, Turn: 1 << 32}, media.Clock{Scale: 48_000, Turn: 1 << 32}
	const wall = 1_800_000_000 * 90_000 // some time in seconds since 1970
	const one, other = 1<<32 - 90_000, 3_000_000_000
	stamp := func(c media.Clock, begin, n int64) int64 { return (begin + n*c.Scale/25) % c.Turn }
	for _, early := range []bool{true, false} {
		f := NewFeed(0)
		anchor := func(n int64) {
			f.Anchor(video, pictures, stamp(pictures, one, n), wall+n*3600)
			f.Anchor(audio, frames, stamp(frames, other, n), wall+n*3600+9_000) // the sound is 100 ms later
		}
		if early {
			anchor(0)
		} else {
			_, verdict := f.Map(video, pictures, one, at(0))
			require.Equal(t, Follows, verdict)
			anchor(1)
		}
		for n := int64(0); n < 200; n++ { // 40 ms each; the pictures' stamps wrap after a second
			if n == 100 {
				anchor(100)
				f.Anchor(video, pictures, stamp(pictures, one, 100), wall+100*3600+3_000) // a clock that was corrected a little
			}
			v, verdict := f.Map(video, pictures, stamp(pictures, one, n), at(n*40))
			require.Equal(t, Follows, verdict, n)
			assert.EqualValues(t, n*3600, v, "picture %d", n)
			v, verdict = f.Map(audio, frames, stamp(frames, other, n), at(n*40))
			require.Equal(t, Follows, verdict, n)
			assert.InDelta(t, n*3600+9_000, v, 2, "frame %d", n)
		}
		f.Anchor(audio, frames, stamp(frames, other, 200), wall+215*3600+9_000)
		v, verdict := f.Map(audio, frames, stamp(frames, other, 200), at(200*40))
		assert.Equal(t, Follows, verdict)
		assert.InDelta(t, 215*3600+9_000, v, 2, "what the sender sets right by more is followed")
	}
	f := NewFeed(0)
	f.Anchor(video, pictures, one, wall)
	f.Align(video, pictures, one, wall/90, 2000)
	v, _ := f.Map(video, pictures, one, at(0))
	assert.EqualValues(t, wall, v, "what the sender's clock says is the time that all origins find")
}
