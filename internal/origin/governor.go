package origin

import (
	"fmt"
	"time"

	"metaplasis/internal/core/govern"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/transcode"
)

// GovernorStatus is what the governor has changed of a channel's ladder.
type GovernorStatus struct {
	Mode  ladder.Governor `json:"mode"`
	Steps []govern.Step   `json:"steps"` // in force, in the order in which they were taken
}

// govern lets the governor look at the worker's load, once a second. It needs the channel's lock.
func (c *Channel) govern(idle int64) {
	mode := c.settings.Ladder.Governor
	if mode == ladder.Ungoverned || c.session == nil || c.session.video == nil {
		return
	}
	l := c.load.read()
	if !l.known {
		return
	}
	c.governor.Raise = mode == ladder.GovernorRaise
	load := govern.Load{Busiest: l.busy, Lag: l.now.LagMillis, Dropping: l.dropping, Idle: idle, Encoding: map[string]int64{}}
	for _, n := range l.nodes {
		if n.Kind == transcode.EncodePictures {
			load.Encoding[n.Rendition] = n.Load
		}
	}
	step, back := c.governor.Look(c.now().Sub(c.created), load, c.rungs)
	if step == nil {
		return
	}
	text := fmt.Sprintf("The machine is short (%d.%d %% of the pictures left out, %d ms behind): %s.", load.Dropping/10, load.Dropping%10, load.Lag, step)
	level := Warning
	if back {
		text, level = fmt.Sprintf("There is room again: it is taken back that %s.", step), Info
	} else if step.Kind == govern.Effort && step.To > step.From {
		text, level = fmt.Sprintf("There is room: %s.", step), Info
	}
	c.o.event(Event{At: c.now(), Channel: c.slug, Level: level, Kind: "governor", Text: text, Like: text})
	c.session.applyLadder(c.governor.Apply(c.rungs))
}

// machineLoad measures how much of the machine nobody uses.
type machineLoad struct{ total, idle int64 }

// look returns the thousandths of all processors that were idle since the last look, less than 0 when not known.
func (m *machineLoad) look() int64 {
	total, idle, err := processorTimes()
	before := *m
	m.total, m.idle = total, idle
	if err != nil || before.total == 0 || total <= before.total {
		return -1
	}
	return (idle - before.idle) * 1000 / (total - before.total)
}

const lookEach = time.Second
