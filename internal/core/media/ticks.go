package media

import (
	"math"
	"math/bits"
	"time"
)

// All arithmetic on 64-bit times goes through this file. Products are held in 128 bits, and a result that does not
// fit 64 bits is the nearest one that does: a time from outside can be wrong, but never wraps into another one.

// Rescale converts v from one timescale to another, rounded to nearest, half away from zero. Timescales are positive;
// a timescale that is not is taken for 1.
func Rescale(v, from, to int64) int64 {
	if v < 0 {
		return -rescale(magnitude(v), from, to, from/2)
	}
	return rescale(uint64(v), from, to, from/2)
}

// RescaleDown converts v from one timescale to another, rounded toward zero.
func RescaleDown(v, from, to int64) int64 {
	if v < 0 {
		return -rescale(magnitude(v), from, to, 0)
	}
	return rescale(uint64(v), from, to, 0)
}

// RescaleUp converts v, which is not negative, from one timescale to another, rounded up.
func RescaleUp(v, from, to int64) int64 { return rescale(uint64(max(v, 0)), from, to, from-1) }

func magnitude(v int64) uint64 {
	if v == math.MinInt64 {
		return 1 << 63
	}
	return uint64(-v)
}

func rescale(v uint64, from, to, round int64) int64 {
	from, to = max(from, 1), max(to, 1)
	if from == to {
		return int64(min(v, math.MaxInt64))
	}
	hi, lo := bits.Mul64(v, uint64(to))
	lo, carry := bits.Add64(lo, uint64(round), 0)
	if hi += carry; hi >= uint64(from) {
		return math.MaxInt64
	}
	q, _ := bits.Div64(hi, lo, uint64(from))
	return int64(min(q, math.MaxInt64))
}

// Duration converts ticks of a timescale to a duration, rounded to nearest. Beyond 292 years it is the longest one.
func Duration(ticks, timescale int64) time.Duration {
	return time.Duration(Rescale(ticks, timescale, int64(time.Second)))
}

// Ticks converts a duration to ticks of a timescale, rounded to nearest.
func Ticks(d time.Duration, timescale int64) int64 {
	return Rescale(int64(d), int64(time.Second), timescale)
}

// WallClock returns the wall clock of a time in ticks of VideoTimescale since an epoch. The epoch may lie further back
// than a Duration goes. A part of a nanosecond is left out.
func WallClock(epoch time.Time, ticks int64) time.Time {
	seconds := ticks / VideoTimescale
	rest := RescaleDown(ticks-seconds*VideoTimescale, VideoTimescale, int64(time.Second))
	return time.Unix(epoch.Unix()+seconds, int64(epoch.Nanosecond())+rest)
}

// TicksSince returns how many ticks of VideoTimescale a wall clock lies after an epoch, less than 0 before it. It is
// the inverse of WallClock.
func TicksSince(epoch, at time.Time) int64 {
	seconds := at.Unix() - epoch.Unix()
	return seconds*VideoTimescale + Rescale(int64(at.Nanosecond()-epoch.Nanosecond()), int64(time.Second), VideoTimescale)
}

// PerSecond returns a rate, such as bytes per second, of an amount that took some ticks of a timescale; 0 when it took none.
func PerSecond(amount, ticks, timescale int64) int64 {
	if ticks <= 0 {
		return 0
	}
	return Rescale(amount, ticks, timescale)
}
