package operations

import (
	"fmt"
	"strings"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// circles finds inputs of a channel that lead back to it over other channels.
func (c *Channels) circles(set settings.Settings) (out []ladder.Problem) {
	feeds := map[string][]string{} // of a channel, those that feed it
	for _, other := range c.origin.Channels() {
		feeds[other.Slug()] = feedersOf(other.Settings().Inputs)
	}
	feeds[set.Slug] = feedersOf(set.Inputs)
	for i, in := range set.Inputs {
		if in.Kind != settings.InputChannel {
			continue
		}
		if way := wayBack(feeds, in.Channel, set.Slug, nil); way != nil {
			out = append(out, ladder.Problem{Field: fmt.Sprintf("inputs.%d", i),
				Text: fmt.Sprintf("the channel %s is fed by %s, which would make a circle; take another channel", in.Channel, strings.Join(way, ", which is fed by "))})
		}
	}
	return out
}

func feedersOf(list []settings.Input) (out []string) {
	for _, in := range list {
		if in.Kind == settings.InputChannel {
			out = append(out, in.Channel)
		}
	}
	return out
}

// wayBack returns the channels between one and a goal that feeds it, nil when it does not.
func wayBack(feeds map[string][]string, from, goal string, seen []string) []string {
	for _, next := range feeds[from] {
		if next == goal {
			return append(seen, next)
		}
		known := next == from
		for _, s := range seen {
			known = known || s == next
		}
		if !known {
			if way := wayBack(feeds, next, goal, append(seen, next)); way != nil {
				return way
			}
		}
	}
	return nil
}
