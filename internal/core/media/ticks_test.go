package media

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTimesDoNotOverflow(t *testing.T) {
	const century = 100 * 365 * 24 * 3600
	assert.Equal(t, century*time.Second, Duration(century*VideoTimescale, VideoTimescale))
	assert.EqualValues(t, century*VideoTimescale, Ticks(century*time.Second, VideoTimescale))
	assert.EqualValues(t, math.MaxInt64, Rescale(math.MaxInt64, 1, VideoTimescale), "what does not fit is the nearest that does")
	assert.EqualValues(t, -math.MaxInt64, Rescale(math.MinInt64, 1, VideoTimescale))
	assert.EqualValues(t, -math.MaxInt64, RescaleDown(math.MinInt64, 3, 3))
	assert.EqualValues(t, 7, Rescale(7, 0, -1), "a timescale that is not positive")
	assert.Equal(t, time.Duration(math.MaxInt64), Duration(math.MaxInt64, VideoTimescale))
	assert.EqualValues(t, 3, RescaleUp(1024, 48000, 100))
	assert.EqualValues(t, 1<<62/3*2, PerSecond(1<<62/3, 45000, VideoTimescale))
	assert.Zero(t, PerSecond(1, 0, VideoTimescale))
}

func TestWallClocksOfManyYears(t *testing.T) {
	for _, epoch := range []time.Time{time.Unix(0, 0), time.Date(2026, 2, 3, 4, 5, 6, 789_012_345, time.UTC)} {
		for _, ticks := range []int64{0, 1, 2999, 90_000, 29 * 3600 * VideoTimescale, 57 * 365 * 86400 * VideoTimescale, 400 * 365 * 86400 * VideoTimescale, -3001} {
			at := WallClock(epoch, ticks)
			assert.Equal(t, ticks, TicksSince(epoch, at), "%d ticks after %v", ticks, epoch)
		}
	}
}
