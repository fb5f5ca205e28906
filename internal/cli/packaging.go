package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/api"
	"metaplasis/internal/origin/publish"
)

// protocolNames are how viewers are counted, in the order of showing.
var protocolNames = []string{"ll-hls", "hls", "dash", "hls-ts"}

func viewersText(by map[string]int) string {
	var parts []string
	total := 0
	for _, name := range protocolNames {
		if n := by[name]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, name))
			total += n
		}
	}
	if total == 0 {
		return "none"
	}
	return fmt.Sprintf("%d: %s", total, strings.Join(parts, ", "))
}

func (a *app) channelsMark() *cobra.Command {
	var m api.NewMarker
	var at string
	var lasts time.Duration
	c := &cobra.Command{
		Use: "mark CHANNEL TEXT", Short: "Set a marker; players get it as a date range or an event", Args: exactly("CHANNEL", "TEXT"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis channels mark start-line \"Starting signal\" --class start\n  metaplasis channels mark start-line \"Interview\" --lasts 90s --at 2026-06-01T12:00:00Z",
		RunE: func(c *cobra.Command, args []string) error {
			m.Text, m.DurationMillis = args[1], lasts.Milliseconds()
			if at != "" {
				t, err := time.Parse(time.RFC3339, at)
				if err != nil {
					return usageError{fmt.Errorf("found time %q, expected one such as 2026-06-01T12:00:00Z", at)}
				}
				m.At = t
			}
			out, err := a.client().Mark(c.Context(), args[0], m)
			if err != nil {
				return err
			}
			return a.show(out, func() {
				a.printf("Marked %s at %s: %s\n", args[0], out.At.Local().Format(time.DateTime),
					out.Text)
			})
		},
	}
	c.Flags().StringVar(&m.Class, "class", "", "class of the marker, such as start or finish")
	c.Flags().StringVar(&at, "at", "", "time, RFC 3339 (default: now)")
	c.Flags().DurationVar(&lasts, "lasts", 0, "duration")
	return c
}

func (a *app) channelsPlaying() *cobra.Command {
	var p publish.NowPlaying
	var cover string
	c := &cobra.Command{
		Use: "playing CHANNEL [TITLE]", Short: "Set the now-playing metadata (timed ID3)", ValidArgsFunction: a.completeChannels,
		Long:    "Say what is playing. Players get it from the next segment on, as ID3; the cover comes in\neach Nth segment. Without a title nothing is said any more.",
		Example: "  metaplasis channels playing start-line \"Race 3, first beat\" --artist \"Kestrel Bay Regatta\" --cover cover.png\n  metaplasis channels playing start-line",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				return nil
			}
			return exactly("CHANNEL", "TITLE")(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if p.Title = slices.Concat(args, []string{""})[1]; cover != "" {
				b, err := os.ReadFile(cover)
				if err != nil {
					return fmt.Errorf("the cover: %w", err)
				}
				p.Picture = b
			}
			if err := a.client().SetPlaying(c.Context(), args[0], p); err != nil {
				return err
			}
			return a.show(p, func() {
				if p.Title == "" {
					a.printf("%s says nothing any more.\n", args[0])
					return
				}
				a.printf("%s says: %s\n", args[0], p.Title)
			})
		},
	}
	c.Flags().StringVar(&p.Artist, "artist", "", "artist")
	c.Flags().StringVar(&cover, "cover", "", "cover picture, JPEG or PNG, 512 kB at most")
	return c
}
