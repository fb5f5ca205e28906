package origin

import (
	"metaplasis/internal/onward"
	"metaplasis/internal/origin/tap"
)

// Tap begins to read the channel.
func (c *Channel) Tap(choice onward.Choice) onward.Tap {
	release := func() {}
	if choice.Real != nil && !choice.Look {
		c.mu.Lock()
		c.demand.Hold(choice.Real)
		c.mu.Unlock()
		release = func() {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.demand.Release(choice.Real, c.expireDemand)
		}
	}
	return tap.New(c, c.hub, c.changes, choice, release)
}

// expireDemand stops what is encoded for real-time viewers, if nobody needs it.
func (c *Channel) expireDemand() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.demand.Expire() {
		c.demandChanged()
	}
}

// demandChanged plans the ladder of the run again, with or without what is encoded for real-time viewers.
func (c *Channel) demandChanged() {
	if s := c.session; s != nil {
		s.SetPair(c.demand.Video, c.demand.Sound)
		c.carryOut(s)
	}
}

// Lines implements tap.Channel.
func (c *Channel) Lines(choice onward.Choice) (l tap.Lines) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.session
	if s == nil {
		return l
	}
	l = tap.Choose(s.Run, choice)
	if choice.Real != nil && !choice.Look && c.demand.Want(s.Run, choice.Real, l) {
		c.demandChanged()
	}
	return l
}

// Removed implements tap.Channel.
func (c *Channel) Removed() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.removed
}

// Has reports whether the channel has a rung, or an audio rendition, of a name. While nothing is on air it may have all.
func (c *Channel) Has(rung string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.session == nil || tap.Has(c.session.Run, rung)
}

// Offers lists the rungs that fit a viewer in real time, the best first; all of them for nil.
func (c *Channel) Offers(real *onward.Real) []onward.Offer {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil || c.session.Video == nil {
		return nil
	}
	return tap.Offers(c.session.Run, real)
}

// Runs reports whether the run on air has pictures, and sound.
func (c *Channel) Runs() (video, sound bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil {
		return false, false
	}
	return c.session.Video != nil, c.session.Main() != nil
}

// Sounds lists the source's audio tracks, the main one first.
func (c *Channel) Sounds() []onward.Sound {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.session == nil {
		return nil
	}
	return tap.Sounds(c.session.Run)
}
