package origin

import (
	"cmp"
	"fmt"
	"runtime"
	"time"

	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/events"
)

// worked is how the channel's worker does, and of what source; false while nothing is known. It needs the channel's lock.
func (c *Channel) worked(idle int64) (load govern.Load, video *media.Track, known bool) {
	if c.session == nil || c.session.Video == nil {
		return load, nil, false
	}
	l := &c.health.load
	load = govern.Load{Busiest: l.Busy, Lag: l.Now.LagMillis, Dropping: l.Dropping, Idle: idle, Encoding: map[string]int64{}}
	for _, n := range l.Nodes {
		if n.Kind == transcode.EncodePictures {
			load.Encoding[n.Rendition] = n.Load
		}
	}
	return load, c.session.Video, l.Known
}

// see tells the order of the channels how this one does.
func (c *Channel) see(order *govern.Order, idle int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	l, _, known := c.worked(idle)
	if !known {
		return
	}
	gives := c.settings.Ladder.Governor != ladder.Ungoverned && c.governor.Gives(l, c.rungs)
	order.See(c.slug, cmp.Or(c.settings.Ladder.Priority, ladder.DefaultPriority), l, gives)
}

// Forecast says whether the channel is likely to keep up with another ladder, which is checked.
func (c *Channel) Forecast(l ladder.Ladder) govern.Outlook {
	c.mu.Lock()
	defer c.mu.Unlock()
	load, video, _ := c.worked(c.o.idle.Load())
	rungs := l.Rungs
	switch {
	case l.Planned:
		rungs = ladder.Default(video, nil)
	case l.Plan != nil:
		rungs = ladder.Fit(rungs, video)
	}
	return govern.Forecast(c.o.machine(), load, c.governor.Apply(c.rungs), rungs, video)
}

// advice is which effort there is room for, by rung. It needs the channel's lock.
func (c *Channel) advice() map[string]int {
	load, video, known := c.worked(c.o.idle.Load())
	if !known || len(load.Encoding) == 0 {
		return nil
	}
	return govern.Advise(c.o.machine(), load, c.governor.Apply(c.rungs), video)
}

// machine is what there is to share.
func (o *Origin) machine() govern.Machine {
	return govern.Machine{Cores: runtime.NumCPU(), Idle: o.idle.Load()}
}

// govern lets the governor look at the worker's load, once a second. It needs the channel's lock.
func (c *Channel) govern(idle int64, turn govern.Turn) {
	mode := c.settings.Ladder.Governor
	load, _, known := c.worked(idle)
	if mode == ladder.Ungoverned || !known {
		return
	}
	load.Turn = turn
	c.governor.Raise = mode == ladder.GovernorRaise
	step, back := c.governor.Look(c.o.Monotonic(c.now())-c.begun, load, c.rungs)
	if step == nil {
		return
	}
	if load.Yield && !back {
		text := fmt.Sprintf("CPU is needed by a channel of a higher priority: %s.", step)
		c.o.event(events.Event{At: c.now(), Channel: c.slug, Level: events.Warning, Kind: "governor", Text: text, Like: text})
		c.applyGoverned()
		return
	}
	text := fmt.Sprintf("The CPU is overloaded (%d.%d %% of the pictures dropped, %d ms behind): %s.", load.Dropping/10, load.Dropping%10, load.Lag, step)
	level := events.Warning
	if back {
		text, level = fmt.Sprintf("CPU is available again; reverted: %s.", step), events.Info
	} else if step.Kind == govern.Effort && step.To > step.From {
		text, level = fmt.Sprintf("There is room: %s.", step), events.Info
	}
	c.o.event(events.Event{At: c.now(), Channel: c.slug, Level: level, Kind: "governor", Text: text, Like: text})
	c.applyGoverned()
}

// applyGoverned lets the run take the ladder as the governor leaves it.
func (c *Channel) applyGoverned() {
	c.session.ApplyLadder(c.governor.Apply(c.rungs))
	c.carryOut(c.session)
}

// machineLoad measures how much of the machine nobody uses.
type machineLoad struct{ total, idle int64 }

// sample returns the thousandths of all processors that were idle since the last look, less than 0 when not known.
func (m *machineLoad) sample() int64 {
	total, idle, err := processorTimes()
	before := *m
	m.total, m.idle = total, idle
	if err != nil || before.total == 0 || total <= before.total {
		return -1
	}
	return (idle - before.idle) * 1000 / (total - before.total)
}

const lookEach = time.Second
