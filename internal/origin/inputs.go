package origin

import (
	"fmt"
	"slices"
	"time"

	"metaplasis/internal/events"
	"metaplasis/internal/settings"
)

// Choose puts an input on air by hand, as soon as it has something: it is preferred to all others until another one is chosen, or none
// with the zero value. An input that the channel does not have is ErrNoInput.
func (c *Channel) Choose(in settings.Input) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, other, list, err := c.air.Choose(in, c.now())
	if err != nil || !other {
		return err
	}
	text := "The inputs are selected by their order again."
	if in != (settings.Input{}) {
		text = fmt.Sprintf("The input %s was selected manually.", in)
	}
	c.event(events.Info, "input-chosen", text, "")
	c.decide(list)
	return nil
}

// Vacant reports whether an input that plays by itself would be put on air: nobody is, or one that is preferred less, and who left last
// has been away for a while.
func (c *Channel) Vacant(in settings.Input) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.air.Vacant(in, c.now())
}

// Players lists the inputs that play by themselves.
func (c *Channel) Players() (out []settings.Input) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, in := range c.settings.Inputs {
		if in.Plays() {
			out = append(out, in)
		}
	}
	return out
}

// Sources lists the inputs that the service fetches or receives by itself, and whether each is wanted now: all but
// those that wait for viewers.
func (c *Channel) Sources() (out []settings.Input, wanted []bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	watched := c.sinceWatched() < watchedFor
	for _, in := range c.settings.Inputs {
		if in.Connects() && !c.removed && !c.settings.Closed {
			out, wanted = append(out, in), append(wanted, !in.OnDemand || watched)
		}
	}
	return out, wanted
}

// watchedFor is for how long an input that waits for viewers is kept up behind the last one.
const watchedFor = 30 * time.Second

// Watched says that somebody asked for the channel's media.
func (c *Channel) Watched() {
	if c.sinceWatched() > time.Second {
		c.watched.Store(int64(c.o.Monotonic(c.now())) + 1)
	}
}

// Starts reports whether a channel without a list yet is likely to have one soon: a sender is there, or is fetched since somebody watches.
func (c *Channel) Starts() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.settings.Closed || c.settings.Unpackaged {
		return false
	}
	return c.air.On() != nil || slices.ContainsFunc(c.settings.Inputs, func(in settings.Input) bool { return in.OnDemand })
}

// sinceWatched is how long ago somebody asked for the channel's media.
func (c *Channel) sinceWatched() time.Duration {
	at := c.watched.Load()
	if at == 0 {
		return 1<<63 - 1
	}
	return c.o.Monotonic(c.now()) - time.Duration(at)
}

// InputProblem says what keeps an input from playing, "" when nothing does.
func (c *Channel) InputProblem(in settings.Input, text string) {
	c.mu.Lock()
	before := c.health.inputs[in]
	if text == "" {
		delete(c.health.inputs, in)
	} else {
		c.health.inputs[in] = text
	}
	c.mu.Unlock()
	do := "Put an FLV or TS file, or CMAF track files, of that name into the folder of files."
	switch in.Kind {
	case settings.InputItems:
		do = "Check them with metaplasis items list; it is retried automatically."
	case settings.InputSlate:
		do = "Take another image, or none for the channel's title."
	case settings.InputStudio:
		do = "Check that the source is on (metaplasis studio lists sources); it is retried automatically."
	case settings.InputAddress, settings.InputProgramme, settings.InputChannel:
		do = "Check the source and the connection to it; it is retried automatically."
	}
	if text != "" && text != before {
		c.event(events.Warning, "input-failed", fmt.Sprintf("The input %s cannot be played: %s.", in, text), do)
	}
}
