package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/core/inspect"
	"metaplasis/internal/inspector"
)

// errBroken ends an inspection that found violated rules.
var errBroken = errors.New("")

func (a *app) inspect() *cobra.Command {
	var follow time.Duration
	c := &cobra.Command{
		Use: "inspect ADDRESS", Short: "Inspect any HLS or DASH stream", Args: exactly("ADDRESS"),
		Long: `Follow a live or on-demand stream for a while, as a player would, and tell what breaks
the standards or a player. The address is that of a playlist (multivariant or media) or of
a manifest, of this service or any other.

Exit codes: 0 clean or playable, 1 not reachable, 6 rules are violated.`,
		Example: "  metaplasis inspect http://127.0.0.1:8780/media/start-line/index.m3u8\n  metaplasis inspect https://origin.example/live/manifest.mpd --for 60s --json",
		RunE: func(c *cobra.Command, args []string) error {
			if !a.json {
				_, _ = fmt.Fprintf(a.err, "following %s for %v …\n", args[0], follow)
			}
			r, err := inspector.Run(c.Context(), inspector.Options{Address: args[0], Follow: follow,
				Say: func(format string, v ...any) {
					if !a.json {
						_, _ = fmt.Fprintf(a.err, format+"\n", v...)
					}
				}})
			if err != nil {
				return err
			}
			if err := a.show(r, func() { a.printReport(&r) }); err != nil {
				return err
			}
			if r.Broken > 0 {
				return errBroken
			}
			return nil
		},
	}
	c.Flags().DurationVar(&follow, "for", 20*time.Second, "how long to follow a live stream")
	return c
}

func millis(v *int64) string {
	if v == nil {
		return "-"
	}
	return strconv.FormatInt(*v, 10) + " ms"
}

func (a *app) printReport(r *inspect.Report) {
	kind := "on demand"
	if r.Live {
		kind = fmt.Sprintf("live, followed for %d s", r.Seconds)
	}
	a.printf("%s, %s\n\n", r.Protocol, kind)
	var rows [][]string
	for _, s := range r.Streams {
		rows = append(rows, []string{s.Name, or(s.Kind, "-"), or(s.Codec, "-"), or(s.Size, "-"), strconv.Itoa(s.Segments),
			strconv.Itoa(s.Parts), rate(s.Peak), rate(s.Announced), millis(s.Edge), millis(s.Fetch), millis(&s.Aim), millis(s.Behind)})
	}
	a.table("RENDITION|KIND|CODEC|SIZE|SEGMENTS|PARTS|PEAK|ANNOUNCED|EDGE|FETCH|AIM|BEHIND", rows)
	a.printf("\nEdge: from the end of the list to the clock. Fetch: of a segment or part. Aim: how far behind\nthe end a player stays. Behind: edge and aim together.\n")
	if r.Skew >= 0 {
		a.printf("Sound and video begin %d ms apart at most.\n", r.Skew)
	}
	if len(r.Findings) > 0 {
		a.printf("\n")
		for _, f := range r.Findings {
			a.printf("%-6s  %-22s  %-12s  %s\n", f.Level, f.Rule, or(f.Where, "-"), strings.TrimSpace(f.Found))
			times := ""
			if f.Count > 1 {
				times = fmt.Sprintf(" (seen %d times)", f.Count)
			}
			a.printf("%46s> expected %s; %s%s\n", "", f.Want, f.Ref, times)
		}
	}
	a.printf("\n%s\n", r.Verdict)
}
