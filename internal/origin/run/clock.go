package run

import (
	"time"
)

// A channel's media time runs with the wall clock, which is set: by NTP, by people, and by a machine that was
// suspended. clock tells a step of the wall clock, which a run without a discontinuity cannot follow, from the slow
// difference to the monotonic clock that it can.
type clock struct {
	wall      time.Time     // when the run began
	monotonic time.Duration // the same on the monotonic clock
	ahead     time.Duration // how much longer than on the monotonic clock the run has lasted on the wall clock
}

// stepLimit is by how much the wall clock may move between two units and not have been set.
const stepLimit = 100 * time.Millisecond

// newClock begins at a time on the wall clock.
func newClock(at time.Time, monotonic func(time.Time) time.Duration) clock {
	return clock{wall: at.Round(0), monotonic: monotonic(at)}
}

// elapsed returns how long the run has lasted by the wall clock, and by how much that was set since it was asked
// last, 0 when it was not.
func (c *clock) elapsed(now time.Time, monotonic func(time.Time) time.Duration) (elapsed, step time.Duration) {
	elapsed = now.Round(0).Sub(c.wall)
	ahead := elapsed - (monotonic(now) - c.monotonic)
	if step = ahead - c.ahead; step.Abs() > stepLimit {
		return elapsed, step
	}
	c.ahead = ahead
	return elapsed, 0
}
