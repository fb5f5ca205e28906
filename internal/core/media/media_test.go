package media

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRescaleDown(t *testing.T) {
	assert.Equal(t, int64(2089), RescaleDown(1024, 44100, 90000))
	assert.Equal(t, int64(4266), RescaleDown(3840, 90000, 100_000))
	assert.Equal(t, int64(3000), RescaleDown(3000, 90000, 90000))
	assert.Zero(t, RescaleDown(0, 44100, 90000))
}

func TestRescaleRoundsToNearestWithoutOverflow(t *testing.T) {
	for _, c := range []struct{ v, from, to, want int64 }{
		{1, 1000, 90000, 90},
		{33, 1000, 48000, 1584},
		{1, 90000, 1000, 0},
		{45, 90000, 1000, 1},
		{-45, 90000, 1000, -1},
		{1024, 48000, 90000, 1920},
		{math.MaxInt64 / 2, 90000, 90000, math.MaxInt64 / 2},
		{1 << 60, 90000, 48000, 614891469123651721}, // 2^60 * 48000 is far past 64 bits
	} {
		assert.Equal(t, c.want, Rescale(c.v, c.from, c.to), "%d from %d to %d", c.v, c.from, c.to)
	}
}

func TestRational(t *testing.T) {
	assert.Equal(t, Rational{16, 9}, Rational{1920, 1080}.Reduce())
	assert.EqualValues(t, 29970, Rational{30000, 1001}.Milli())
	assert.True(t, Rational{30000, 1001}.Less(Rational{30, 1}))
	assert.False(t, Rational{}.Valid())
}

func TestCommonRates(t *testing.T) {
	for _, c := range []struct{ a, b, want Rational }{
		{Rational{30, 1}, Rational{24, 1}, Rational{6, 1}}, {Rational{30, 1}, Rational{15, 1}, Rational{15, 1}},
		{Rational{30000, 1001}, Rational{24000, 1001}, Rational{6000, 1001}}, {Rational{25, 2}, Rational{5, 1}, Rational{5, 2}},
	} {
		assert.Equal(t, c.want, c.a.Common(c.b))
		assert.Equal(t, c.want, c.b.Common(c.a))
	}
}
