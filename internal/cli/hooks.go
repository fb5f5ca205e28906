package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/hooks"
)

// hooks are programs that are told what happens.
//
//large:the commands of a group, each a literal
func (a *app) hooks() *cobra.Command {
	var in hooks.Hook
	add := &cobra.Command{
		Use: "add", Short: "Call a program on events (webhook)", Args: exactly(),
		Long: `Call a program on events, by a signed HTTP request or by a command in the service's folder of hooks
(serve --hook-commands). Events are ` + strings.Join(hooks.Happenings(), ", ") + `;
without --events it is told of all but admission. An admission waits for the answer: 403, or exit code 3,
keeps the sender out. Calls that fail are repeated, six times in a quarter of an hour.`,
		Example: `  metaplasis hooks add --url https://desk.example/regatta --events feed-begun,feed-ended
  metaplasis hooks add --command tally-light --channel start-line --events channel-on-air,channel-off-air
  metaplasis hooks add --url http://127.0.0.1:9000/may --events admission --strict`,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.client().AddHook(c.Context(), in)
			if err != nil {
				return err
			}
			return a.show(h, func() {
				a.printf("Hook %d was added.\nSecret      %s\n\nIt signs calls (docs/hooks.md), and is not shown again.\n", h.ID, h.Secret)
			})
		},
	}
	f := add.Flags()
	f.StringVar(&in.Label, "label", "", "what it is for")
	f.StringVar(&in.URL, "url", "", "URL to call, http or https")
	f.StringVar(&in.Command, "command", "", "command in the service's hook folder")
	f.StringSliceVar(&in.Events, "events", nil, "events to send (default: all except admission)")
	f.StringVar(&in.Channel, "channel", "", "only this channel")
	f.BoolVar(&in.Strict, "strict", false, "reject senders when an admission request fails")
	list := &cobra.Command{
		Use: "list", Short: "List the hooks", Args: exactly(), Example: "  metaplasis hooks list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Hooks(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, h := range list {
					rows = append(rows, []string{strconv.FormatInt(h.ID, 10), or(h.Label, "-"), or(h.URL, "command "+h.Command), or(strings.Join(h.Events, ","), "all"), or(h.Channel, "all")})
				}
				a.table("HOOK|LABEL|TELLS|EVENTS|CHANNEL", rows)
			})
		},
	}
	byID := func(use, short, example string, do func(c *cobra.Command, id int64) error) *cobra.Command {
		return &cobra.Command{Use: use + " HOOK", Short: short, Args: exactly("HOOK"), Example: example, RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("found %q, expected a hook's number from metaplasis hooks list", args[0])}
			}
			return do(c, id)
		}}
	}
	remove := byID("remove", "Remove a hook by its number", "  metaplasis hooks remove 2", func(c *cobra.Command, id int64) error {
		if err := a.client().RemoveHook(c.Context(), id); err != nil {
			return err
		}
		return a.show(map[string]int64{"removed": id}, func() { a.printf("Removed hook %d.\n", id) })
	})
	try := byID("test", "Tell a hook something, and show what came of it", "  metaplasis hooks test 2", func(c *cobra.Command, id int64) error {
		d, err := a.client().TryHook(c.Context(), id)
		if err != nil {
			return err
		}
		return a.show(d, func() {
			verdict := "It did not take the call"
			if d.Done {
				verdict = "It took the call"
			}
			a.printf("%s in %d ms: %s\n", verdict, d.Millis, d.Status)
		})
	})
	deliveries := &cobra.Command{
		Use: "deliveries", Short: "Show webhook deliveries, newest first", Args: exactly(), Example: "  metaplasis hooks deliveries",
		RunE: func(c *cobra.Command, _ []string) error {
			out, err := a.client().Deliveries(c.Context())
			if err != nil {
				return err
			}
			return a.show(out, func() {
				var rows [][]string
				for _, d := range out.List {
					state := "is tried again"
					switch {
					case d.Done:
						state = "done"
					case d.GivenUp:
						state = "given up"
					case d.Tries == 0:
						state = "waits"
					}
					rows = append(rows, []string{d.At.Local().Format(time.DateTime), strconv.FormatInt(d.Hook, 10), d.Event, or(d.Channel, "-"), state, strconv.Itoa(d.Tries), d.Status})
				}
				a.table("AT|HOOK|EVENT|CHANNEL|STATE|TRIES|ANSWER", rows)
				if out.Lost > 0 {
					a.printf("\n%d more were dropped, since too many waited.\n", out.Lost)
				}
			})
		},
	}
	return group("hooks", "Tell other programs what happens", add, list, remove, try, deliveries)
}
