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
		if way := wayBack(feeds, in.Channel, set.Slug); way != nil {
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

// wayBack returns the shortest way over channels from one to a goal that feeds it, nil when it does not.
func wayBack(feeds map[string][]string, from, goal string) (way []string) {
	fed := map[string]string{} // of a channel that was reached, the one that it feeds
	for queue := []string{from}; len(queue) > 0; queue = queue[1:] {
		for _, next := range feeds[queue[0]] {
			if _, known := fed[next]; known {
				continue
			}
			fed[next] = queue[0]
			if next == goal {
				for at := goal; ; at = fed[at] {
					way = append([]string{at}, way...)
					if fed[at] == from {
						return way
					}
				}
			}
			queue = append(queue, next)
		}
	}
	return nil
}
