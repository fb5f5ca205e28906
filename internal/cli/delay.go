package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/origin/status"
	"metaplasis/internal/viewer"
)

// delayWays are the ways that low delay is asked of.
var delayWays = []string{"webrtc", "websocket", "ll-hls", "ll-dash"}

// delay measures how long a picture takes from the camera to a page.
func (a *app) delay() *cobra.Command {
	var ways, rungs []string
	var take, settle time.Duration
	c := &cobra.Command{
		Use: "delay CHANNEL", Short: "Measure the latency from a demo camera to a browser", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long: `Play a channel in a headless browser, read the number of each picture that the page
shows, and tell how long ago the camera sent it. The channel must be fed by a camera of
this program, as the rehearsal's are; the browser is Chromium on this machine.
Without --rung every rung is measured that is on.`,
		Example: "  metaplasis delay start-line\n  metaplasis delay start-line --way ll-hls --rung 480p --for 60s",
		RunE: func(c *cobra.Command, args []string) error {
			if err := viewer.Available(); err != nil {
				return err
			}
			cl := a.client()
			ch, err := cl.Channel(c.Context(), args[0])
			if err != nil {
				return err
			}
			if ch.Status.Feed == nil {
				return fmt.Errorf("nobody sends to %s: start a camera first, such as metaplasis camera --to ADDRESS",
					args[0])
			}
			if len(rungs) == 0 {
				for _, r := range ch.Status.Rungs {
					if r.On {
						rungs = append(rungs, r.Name)
					}
				}
			}
			var results []breakdown
			var rows [][]string
			var failed error
			for _, w := range ways {
				for _, r := range rungs {
					if !a.json {
						_, _ = fmt.Fprintf(a.err, "measuring %s of %s for %v …\n", w, r, take)
					}
					m, err := viewer.Measure(c.Context(), cl.Server,
						viewer.Run{Channel: args[0], Way: w, Rung: r, Settle: settle, Take: take})
					if err != nil {
						failed = errors.Join(failed, err)
						continue
					}
					results = append(results, breakdown{})
					d := breakdown{Result: m}
					if now, err := cl.Channel(c.Context(), args[0]); err == nil {
						d.explain(&now.Status)
					}
					results[len(results)-1] = d
					rows = append(rows, []string{
						m.Way, m.Rung, seconds(m.Median), seconds(m.P95), seconds(m.Longest), fmt.Sprint(m.Stalls), fmt.Sprint(m.Pictures),
						fmt.Sprint(d.Coding), fmt.Sprint(d.Part), fmt.Sprint(d.Line), fmt.Sprint(m.InHand),
					})
				}
			}
			if err := a.show(results, func() {
				a.table("WAY|RUNG|MEDIAN|P95|LONGEST|STALLS|PICTURES|CODING|PART|LINE|IN HAND", rows)
				a.printf("\nWhere the median goes, in ms. Coding: from a picture's arrival until it is encoded. Part: until the\npart that it is in is whole, on average. In hand: what the player holds behind the picture on screen.\nLine: the rest, from the camera to the origin, from the origin to the page, and to the screen.\n")
			}); err != nil {
				return err
			}
			return failed
		},
	}
	c.Flags().StringSliceVar(&ways, "way", delayWays,
		"how to play: "+strings.Join([]string{"webrtc", "websocket", "webtransport", "ll-hls", "hls", "ll-dash", "dash", "ts", "native"}, ", "))
	c.Flags().StringSliceVar(&rungs, "rung", nil, "rungs to measure; default all that are on")
	c.Flags().DurationVar(&take, "for", 20*time.Second, "how long to measure")
	c.Flags().DurationVar(&settle, "settle", 8*time.Second, "how long to let the player settle first")
	return c
}

// breakdown is a measurement and where its median goes, in milliseconds.
type breakdown struct {
	viewer.Result
	Coding int64 `json:"codingMillis"`
	Part   int64 `json:"partMillis"`
	Line   int64 `json:"lineMillis"`
}

// explain takes what the origin knows: the rest is the line's.
func (b *breakdown) explain(st *status.Status) {
	for _, r := range st.Renditions {
		if r.Name == b.Rung {
			b.Coding = r.CodingMillis
		}
	}
	if strings.HasPrefix(b.Way, "ll-") { // the others wait for no part
		b.Part = st.PartTarget / 2
	}
	b.Line = max(0, b.Median-b.Coding-b.Part-b.InHand)
}

func seconds(ms int64) string { return fmt.Sprintf("%d.%02d s", ms/1000, ms%1000/10) }
