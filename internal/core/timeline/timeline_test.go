package timeline

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metaplasis/internal/core/media"
)

func TestStampsWrap(t *testing.T) {
	f := NewFeed(5000)
	var got []int64
	for _, s := range []uint32{0xffffffe0, 0xfffffff0, 0, 33, 20} {
		ms, jumped := f.Map(s)
		assert.False(t, jumped)
		got = append(got, ms)
	}
	assert.Equal(t, []int64{5000, 5016, 5032, 5065, 5052}, got)
	assert.EqualValues(t, 5065, f.Last())
}

func TestJumpsGoOnWhereTheLineWas(t *testing.T) {
	for name, to := range map[string]uint32{"ahead": 90_000, "back": 100} {
		f := NewFeed(0)
		f.Map(50_000)
		f.Map(50_040)
		ms, jumped := f.Map(to)
		assert.True(t, jumped, name)
		assert.EqualValues(t, 80, ms, name)
		ms, jumped = f.Map(to + 33)
		assert.False(t, jumped, name)
		assert.EqualValues(t, 113, ms, name)
	}
}

func TestRoundedVideoStampsBecomeEven(t *testing.T) {
	track := NewVideo(media.Rational{Num: 30000, Den: 1001})
	for n := range int64(3000) {
		ms := n * 1001 / 30 // cut to milliseconds, as encoders do
		assert.Equal(t, (n*3003*1000+500)/1000, track.DTS(ms), "picture %d", n)
	}
	assert.Zero(t, track.Resyncs)
	assert.EqualValues(t, 6006, track.Composition(67))
	assert.EqualValues(t, 0, track.Composition(-5))
}

func TestWrongFrameRateIsGivenUp(t *testing.T) {
	track := NewVideo(media.Rational{Num: 50, Den: 1})
	last := int64(-1)
	for n := range int64(60) {
		dts := track.DTS(n * 40) // it sends 25
		assert.Greater(t, dts, last)
		last = dts
	}
	assert.EqualValues(t, 59*40*90, last)
}

func TestAudioFollowsItsSampleCountUntilItDrifts(t *testing.T) {
	track := NewAudio(48000, 1024)
	for n := range int64(500) {
		assert.Equal(t, n*1024, track.DTS(n*1024/48))
	}
	gap := track.DTS(500*1024/48 + 200) // 200 ms were lost
	assert.InDelta(t, 500*1024+200*48, gap, 48)
	assert.EqualValues(t, 1, track.Resyncs)
}

func TestRatesSnap(t *testing.T) {
	assert.Equal(t, media.Rational{Num: 30000, Den: 1001}, SnapRate(29971))
	assert.Equal(t, media.Rational{Num: 25, Den: 1}, SnapRate(25000))
	assert.Equal(t, media.Rational{Num: 27, Den: 2}, SnapRate(13500))
	var m RateMeter
	assert.Zero(t, m.Milli())
	for n := range int64(30) {
		m.Add(n * 1000 / 30)
	}
	assert.InDelta(t, 30_000, m.Milli(), 40)
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
			f.Align(c.stamp, wall+late, 2000)
			ms, jumped := f.Map(c.stamp)
			assert.False(t, jumped, name)
			if name[:13] == "stamps of the" && c.stamp == 5_300 {
				assert.EqualValues(t, 1300, ms%2000, "shifted by whole steps only")
				assert.InDelta(t, wall, ms, 1000)
				continue
			}
			assert.Equal(t, c.first, ms, name)
			ms, _ = f.Map(c.stamp + 33)
			assert.Equal(t, c.next, ms, name)
		}
	}
}

func TestAPictureTellsItsLength(t *testing.T) {
	v := NewVideo(media.Rational{Num: 30000, Den: 1001})
	last := v.DTS(1000)
	for n := int64(1); n < 100; n++ {
		step := v.Step()
		next := v.DTS(1000 + n*1001/30)
		assert.Equal(t, last+step, next)
		last = next
	}
	assert.Zero(t, NewVideo(media.Rational{}).Step(), "nobody can tell at a rate that varies")
}

func TestPeekDoesNotMoveOn(t *testing.T) {
	f := NewFeed(1000)
	assert.EqualValues(t, 1000, f.Peek(77))
	f.Map(500)
	assert.EqualValues(t, 1100, f.Peek(600))
	ms, _ := f.Map(533)
	assert.EqualValues(t, 1033, ms)
}
