// Package govern keeps a ladder within what the processor can do. When the machine is short it takes, one at a time
// and with time in between, the steps that viewers notice least: a lower effort, then half the pictures, then the
// highest rung off. When there is room again it takes them back in reverse order, and, where it may, raises the
// effort. It only decides; times and loads are values.
package govern

import (
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/core/ladder"
)

// Load is how a channel's worker is doing, over the last seconds.
type Load struct {
	Busiest  int64            // thousandths of real time that the busiest part takes
	Lag      int64            // milliseconds behind the sender
	Dropping int64            // thousandths of the pictures that are left out
	Idle     int64            // thousandths of the machine's processors that nobody uses; less than 0 when not known
	Encoding map[string]int64 // thousandths of real time that each rung's encoder takes
	Turn                      // what other channels mean for this one
}

// short reports whether the channel does not keep up.
func (l Load) short() bool { return l.Dropping > 0 || l.Lag > shortLag || l.Busiest > shortBusy }

// encoders is what the busiest encoder takes.
func (l Load) encoders() (most int64) {
	for _, v := range l.Encoding {
		most = max(most, v)
	}
	return most
}

// Kind says what a step changes.
type Kind string

// The kinds of step, in the order in which they are taken when the machine is short.
const (
	Effort Kind = "effort"    // it is another one
	Half   Kind = "half-rate" // every second picture is coded
	Off    Kind = "off"       // the rung is not made
)

// Step is one change to one rung.
type Step struct {
	Rung string `json:"rung"`
	Kind Kind   `json:"kind"`
	From int    `json:"from,omitempty"` // effort
	To   int    `json:"to,omitempty"`   // effort
}

// String says what the step does, in words.
func (s Step) String() string {
	switch s.Kind {
	case Effort:
		return fmt.Sprintf("the effort of %s is %d instead of %d", s.Rung, s.To, s.From)
	case Half:
		return fmt.Sprintf("%s has every second picture", s.Rung)
	}
	return s.Rung + " is off"
}

// When the machine is short, when it is calm, and how long either must last.
const (
	shortBusy  = 950 // thousandths of real time
	shortLag   = 400 // milliseconds
	badlyShort = 400 // thousandths of the pictures: efforts fall by two
	calmBusy   = 600 // of any encoder
	decodeIdle = 150 // thousandths of the machine
	calmDecode = 900 // decoding takes what it takes, whatever the ladder
	calmLag    = 150
	calmIdle   = 250 // thousandths of the machine
	shortFor   = 2 * time.Second
	betweenCut = 4 * time.Second
	calmFor    = 20 * time.Second
	// A step that is taken back and soon has to be taken again is not tried for longer and longer.
	soon        = 30 * time.Second
	longestCalm = 10 * time.Minute

	lowestEffort  = 1
	highestEffort = 9
	// raiseBelow is up to which load an effort is raised: each costs about a third more.
	raiseBelow = 450
)

// Governor holds the steps that are in force for one channel. The zero value is ready.
type Governor struct {
	// Raise lets it raise the effort above what was asked for while there is room.
	Raise bool

	steps    []Step // in the order in which they were taken
	short    time.Duration
	calm     time.Duration
	isShort  bool
	isCalm   bool
	changed  time.Duration
	ever     bool
	relaxed  time.Duration // when a step was last taken back, or effort raised
	relaxes  bool
	patience time.Duration // for how long it must be calm before the next one is
}

// Steps lists the steps in force.
func (g *Governor) Steps() []Step { return slices.Clone(g.steps) }

// Reset takes all steps back: the ladder or the source is another one.
func (g *Governor) Reset() { *g = Governor{Raise: g.Raise} }

// Apply returns the rungs with the steps in force.
func (g *Governor) Apply(rungs []ladder.Rung) []ladder.Rung {
	out := slices.Clone(rungs)
	for _, s := range g.steps {
		for i := range out {
			r := &out[i]
			if r.Name != s.Rung || r.Source {
				continue
			}
			switch s.Kind {
			case Effort:
				r.Effort = s.To
			case Half:
				r.FrameRate = "half"
			case Off:
				r.On = false
			}
		}
	}
	return out
}

// Look decides what to do at a time: it returns the step that was taken or taken back, nil when nothing changed.
// rungs are those of the ladder, without any steps.
func (g *Governor) Look(now time.Duration, l Load, rungs []ladder.Rung) (taken *Step, back bool) {
	if g.patience == 0 {
		g.patience = calmFor
	}
	short := l.short() && !l.Wait || l.Yield
	calm := !l.Yield && !l.Wait && l.Dropping == 0 && l.Lag < calmLag && l.encoders() < calmBusy && l.Busiest < calmDecode && (l.Idle < 0 || l.Idle > calmIdle)
	if !short || !g.isShort {
		g.short = now
	}
	if !calm || !g.isCalm {
		g.calm = now
	}
	g.isShort, g.isCalm = short, calm
	switch {
	case short && now-g.short >= shortFor && (!g.ever || now-g.changed >= betweenCut):
		s := g.cut(l, rungs)
		if s == nil {
			return nil, false
		}
		if g.relaxes && now-g.relaxed < soon {
			g.patience = min(2*g.patience, longestCalm)
		}
		g.changed, g.ever = now, true
		return s, false
	case calm && now-g.calm >= g.patience && now-g.changed >= g.patience:
		s, back := g.relax(l, rungs)
		if s != nil {
			g.changed, g.ever, g.relaxed, g.relaxes, g.calm = now, true, now, true, now
		}
		return s, back
	}
	if g.relaxes && calm && now-g.relaxed > longestCalm {
		g.patience = calmFor // what was tried last holds
	}
	return nil, false
}

// Gives reports whether there is a step down left.
func (g *Governor) Gives(l Load, rungs []ladder.Rung) bool {
	probe := Governor{steps: slices.Clone(g.steps)}
	return probe.cut(l, rungs) != nil
}

// cut takes the next step down.
func (g *Governor) cut(l Load, rungs []ladder.Rung) *Step {
	now := g.Apply(rungs)
	var coded []ladder.Rung
	source := false
	for _, r := range now {
		switch {
		case r.SoundOnly():
		case r.On && r.Source:
			source = true
		case r.On:
			coded = append(coded, r.WithDefaults())
		}
	}
	if len(coded) == 0 {
		return nil
	}
	dear := func(fits func(ladder.Rung) bool) (best *ladder.Rung) {
		for i := range coded {
			if r := &coded[i]; fits(*r) && (best == nil || l.Encoding[r.Name] > l.Encoding[best.Name]) {
				best = r
			}
		}
		return best
	}
	if r := dear(func(r ladder.Rung) bool { return r.Effort > lowestEffort }); r != nil {
		down := 1
		if l.Dropping > badlyShort {
			down = 2
		}
		return g.setEffort(rungs, r, max(r.Effort-down, lowestEffort))
	}
	if r := dear(func(r ladder.Rung) bool { return r.FrameRate == "" }); r != nil {
		return g.push(Step{Rung: r.Name, Kind: Half})
	}
	if len(coded) < 2 && !source {
		return nil // one has to stay
	}
	if l.encoders() < calmBusy && l.Idle > decodeIdle {
		return nil // it is decoding that is short: without a rung it would be as short
	}
	highest := slices.MaxFunc(coded, func(a, b ladder.Rung) int { return int(a.Bitrate - b.Bitrate) })
	return g.push(Step{Rung: highest.Name, Kind: Off})
}

func (g *Governor) push(s Step) *Step {
	g.steps = append(g.steps, s)
	return &s
}

// setEffort sets a rung's effort: one step holds how far it is from what was asked for.
func (g *Governor) setEffort(rungs []ladder.Rung, r *ladder.Rung, to int) *Step {
	asked := r.Effort
	for _, o := range rungs {
		if o.Name == r.Name {
			asked = o.WithDefaults().Effort
		}
	}
	s := Step{Rung: r.Name, Kind: Effort, From: asked, To: to}
	g.steps = slices.DeleteFunc(g.steps, func(o Step) bool { return o.Kind == Effort && o.Rung == r.Name })
	if to == asked {
		return &s
	}
	// Efforts are the first steps down, so they are the last to be taken back.
	at := slices.IndexFunc(g.steps, func(o Step) bool { return o.Kind != Effort })
	if at < 0 {
		at = len(g.steps)
	}
	g.steps = slices.Insert(g.steps, at, s)
	return &s
}

// relax takes the last step back; where none is in force and it may, it raises an effort.
func (g *Governor) relax(l Load, rungs []ladder.Rung) (s *Step, back bool) {
	if n := len(g.steps); n > 0 {
		if last := g.steps[n-1]; last.Kind != Effort {
			g.steps = g.steps[:n-1]
			return &last, true
		}
		for i := n - 1; i >= 0; i-- {
			if last := g.steps[i]; last.To < last.From {
				r := ladder.Rung{Name: last.Rung, Effort: last.To}
				return g.setEffort(rungs, &r, last.To+1), true
			}
		}
	}
	if !g.Raise || l.encoders() > raiseBelow {
		return nil, false
	}
	var cheap *ladder.Rung
	now := g.Apply(rungs)
	for i := range now {
		now[i] = now[i].WithDefaults()
		if r := &now[i]; r.On && !r.Source && !r.SoundOnly() && r.Effort < highestEffort && (cheap == nil || r.Effort < cheap.Effort) {
			cheap = r
		}
	}
	if cheap == nil {
		return nil, false
	}
	return g.setEffort(rungs, cheap, cheap.Effort+1), false
}
