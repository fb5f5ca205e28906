package cli

import (
	"encoding/json"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/events"
	"metaplasis/internal/origin/status"
)

func (a *app) events() *cobra.Command {
	var channel string
	var limit int
	var follow bool
	c := &cobra.Command{
		Use: "events", Short: "Show the event log, the newest last", Args: exactly(),
		Example: "  metaplasis events --channel start-line\n  metaplasis events --follow",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Events(c.Context(), channel, limit)
			if err != nil {
				return err
			}
			if a.json && !follow {
				return a.show(list, nil)
			}
			for i := len(list) - 1; i >= 0; i-- {
				a.printEvent(&list[i])
			}
			if !follow {
				return nil
			}
			err = a.client().Live(c.Context(), func(_ []status.Status, e *events.Event) error {
				if e != nil && (channel == "" || e.Channel == channel) {
					a.printEvent(e)
				}
				return nil
			})
			if c.Context().Err() != nil {
				return nil
			}
			return err
		},
	}
	c.Flags().StringVar(&channel, "channel", "", "only this channel")
	c.Flags().IntVar(&limit, "limit", 30, "number of past events")
	c.Flags().BoolVar(&follow, "follow", false, "keep printing new events")
	return c
}

func (a *app) printEvent(e *events.Event) {
	if a.json {
		_ = json.NewEncoder(a.out).Encode(e)
		return
	}
	a.printf("%s  %-7s  %-12s  %s\n", e.At.Local().Format(time.DateTime), e.Level, or(e.Channel, "-"), e.Text)
	if e.Do != "" {
		a.printf("%44s> %s\n", "", e.Do)
	}
}
