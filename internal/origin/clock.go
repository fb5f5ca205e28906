package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/events"
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

// clockStepped begins another run, since the wall clock was set. It needs the channel's lock.
func (f *Feed) clockStepped(by time.Duration) {
	c, s := f.c, f.session
	forward := fmt.Sprintf("forward by %s", round(by))
	if by < 0 {
		forward = fmt.Sprintf("back by %s", round(-by))
	}
	const do = "Nothing is to be done if it happens once. If it happens often, look at the machine's time synchronization."
	if by < 0 && s.aligned {
		// Numbers of aligned segments are those of the wall clock, and must not come twice.
		c.event(events.Warning, "clock-stepped", fmt.Sprintf("The machine's clock was set %s. The channel is aligned: its times go on as they were.", forward), do)
		s.timer = newClock(s.now(), c.monotonic)
		s.timer.wall = s.timer.wall.Add(-media.Duration(s.feed.Last()-s.firstAt, media.VideoTimescale))
		s.timer.monotonic -= media.Duration(s.feed.Last()-s.firstAt, media.VideoTimescale)
		return
	}
	c.event(events.Warning, "clock-stepped", fmt.Sprintf("The machine's clock was set %s; the channel goes on with a discontinuity, so that its times are those of the clock.", forward), do)
	c.endSession()
	if by < 0 {
		// Media time never goes back. It is told by another epoch instead.
		c.setBack = c.created.Sub(c.now().Round(0).Add(-media.Duration(c.lastEnd, media.VideoTimescale)))
	}
	f.session = c.startSession(f.video, f.beside(), f.sounds, c.now(), s.longest)
	f.anchorAll()
}

func round(d time.Duration) time.Duration {
	if d > 10*time.Second {
		return d.Round(time.Second)
	}
	return d.Round(10 * time.Millisecond)
}
