package cli

import (
	"context"
	"encoding/json"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metaplasis/internal/events"
	"metaplasis/internal/origin/status"
)

func (a *app) feeds() *cobra.Command {
	var channel string
	var limit int
	list := &cobra.Command{
		Use: "list", Short: "List contribution connections, the newest first", Args: exactly(),
		Example: "  metaplasis feeds list\n  metaplasis feeds list --channel start-line --limit 5",
		RunE: func(c *cobra.Command, _ []string) error {
			feeds, err := a.client().Feeds(c.Context(), channel, limit)
			if err != nil {
				return err
			}
			return a.show(feeds, func() {
				var rows [][]string
				for _, f := range feeds {
					ended, reason := "connected", ""
					if !f.Ended.IsZero() {
						ended, reason = f.Ended.Sub(f.Begun).Round(time.Second).String(), f.Reason
					}
					rows = append(rows, []string{f.Channel, f.Protocol, f.Remote, f.Begun.Local().Format(time.DateTime),
						ended, or(tracksBrief(f.Tracks), "-"), reason})
				}
				a.table("CHANNEL|OVER|FROM|BEGUN|LASTED|TRACKS|WHY IT ENDED", rows)
			})
		},
	}
	list.Flags().StringVar(&channel, "channel", "", "only this channel")
	list.Flags().IntVar(&limit, "limit", 20, "maximum number")
	watch := &cobra.Command{
		Use: "watch", Short: "Watch all channels live in the terminal", Args: exactly(),
		Long:    "Show all channels and the newest events, once a second, until interrupted.\nWith --json every update is one line.",
		Example: "  metaplasis feeds watch",
		RunE:    func(c *cobra.Command, _ []string) error { return a.watch(c.Context()) },
	}
	return group("feeds", "List contribution feeds, or watch them live", list, watch)
}

// watch redraws the terminal with each live update.
func (a *app) watch(ctx context.Context) error {
	f, isFile := a.out.(*os.File)
	tty := isFile && term.IsTerminal(int(f.Fd()))
	cl := a.client()
	recent, err := cl.Events(ctx, "", 8)
	if err != nil {
		return err
	}
	lines := json.NewEncoder(a.out)
	err = cl.Live(ctx, func(st []status.Status, ev *events.Event) error {
		if a.json {
			if ev != nil {
				return lines.Encode(ev)
			}
			return lines.Encode(st)
		}
		if ev != nil {
			recent = append([]events.Event{*ev}, recent[:min(len(recent), 7)]...)
			return nil
		}
		if tty {
			a.printf("\x1b[H\x1b[2J")
		}
		a.printf("Metaplasis at %s, %s\n\n", cl.Server, time.Now().Format(time.TimeOnly))
		var rows [][]string
		for i := range st {
			rows = append(rows, statusRow(&st[i]))
		}
		a.table(statusHead, rows)
		a.printf("\nNewest events\n")
		for _, e := range recent {
			a.printf("%s  %-7s  %-12s  %s\n", e.At.Local().Format(time.TimeOnly), e.Level, or(e.Channel, "-"), e.Text)
		}
		if !tty {
			a.printf("\n")
		}
		return nil
	})
	if ctx.Err() != nil {
		return nil
	}
	return err
}
