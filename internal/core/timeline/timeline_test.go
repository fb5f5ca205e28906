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
