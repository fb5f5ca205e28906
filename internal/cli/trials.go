package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/api"
	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
)

// laddersTry encodes the last seconds of a feed at several efforts and bitrates.
func (a *app) laddersTry() *cobra.Command {
	var efforts []int
	var bitrates []int64
	c := &cobra.Command{
		Use: "try CHANNEL RUNG", Short: "Try other efforts and bitrates for a rung, in the background", Args: exactly("CHANNEL", "RUNG"), ValidArgsFunction: a.completeChannels,
		Long:    "Encode the last seconds of the feed at several efforts and bitrates, beside what is on air and with the lowest\npriority, and show quality against bits and processor time.",
		Example: "  metaplasis ladders try start-line 480p\n  metaplasis ladders try start-line 480p --efforts 2,4,6,8 --bitrates 800000,1200000",
		RunE: func(c *cobra.Command, args []string) error {
			t, err := a.try(c.Context(), args[0], api.NewTrial{Rung: args[1], Efforts: efforts, Bitrates: bitrates})
			if err != nil {
				return err
			}
			return a.show(t, func() { a.showPoints(&t) })
		},
	}
	c.Flags().IntSliceVar(&efforts, "efforts", nil, "efforts, such as 1,3,5,7")
	c.Flags().Int64SliceVar(&bitrates, "bitrates", nil, "bits per second; default: four around the rung's own")
	return c
}

// laddersFit proposes a ladder for the content.
func (a *app) laddersFit() *cobra.Command {
	var effort int
	var apply bool
	c := &cobra.Command{
		Use: "fit CHANNEL", Short: "Propose a ladder that fits the content", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Encode the last seconds of the feed at several sizes and bitrates, and propose rungs where the bits bring most.\nNothing changes unless --apply is given.",
		Example: "  metaplasis ladders fit start-line\n  metaplasis ladders fit start-line --effort 4 --apply",
		RunE: func(c *cobra.Command, args []string) error {
			in := api.NewTrial{}
			if effort > 0 {
				in.Efforts = []int{effort}
			}
			t, err := a.try(c.Context(), args[0], in)
			if err != nil {
				return err
			}
			if apply && len(t.Proposed) > 0 {
				l, err := a.client().Ladder(c.Context(), args[0])
				if err != nil {
					return err
				}
				l.Planned, l.Plan, l.Rungs = false, nil, t.Proposed
				return a.setLadder(c.Context(), args[0], l)
			}
			return a.show(t, func() {
				a.showPoints(&t)
				a.printf("\nProposed, in force after --apply:\n\n")
				a.showLadder(args[0], ladder.Ladder{Rungs: t.Proposed})
			})
		},
	}
	c.Flags().IntVar(&effort, "effort", 0, "effort of all rungs; 0: 2")
	c.Flags().BoolVar(&apply, "apply", false, "apply the proposal at the next segment")
	return c
}

// try runs a trial and shows how far it is.
func (a *app) try(ctx context.Context, slug string, in api.NewTrial) (t api.Trial, err error) {
	if t, err = a.client().BeginTrial(ctx, slug, in); err != nil {
		return t, err
	}
	shown := -1
	for t.State == api.TrialRunning {
		if t.Done != shown {
			shown = t.Done
			_, _ = fmt.Fprintf(os.Stderr, "%d of %d ways tried\n", t.Done, t.Of)
		}
		select {
		case <-ctx.Done():
			stop, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			defer cancel()
			_ = a.client().StopTrial(stop, slug)
			return t, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		if t, err = a.client().Trial(ctx, slug); err != nil {
			return t, err
		}
	}
	if t.State != api.TrialDone {
		return t, fmt.Errorf("the trial ended early: %s", t.Text)
	}
	return t, nil
}

func (a *app) showPoints(t *api.Trial) {
	hull := map[[2]int64]bool{}
	for _, m := range t.Hull {
		hull[[2]int64{m.Bitrate, m.Quality}] = true
	}
	var rows [][]string
	for _, p := range t.Points {
		mark := ""
		if hull[[2]int64{p.Bitrate, p.PSNR}] {
			mark = "worth its bits"
		}
		rows = append(rows, []string{coding.Label(p.Codec), fmt.Sprintf("%d x %d", p.Width, p.Height), strconv.Itoa(p.Effort), rate(p.Asked), rate(p.Bitrate),
			fmt.Sprintf("%d.%02d dB", p.PSNR/100, p.PSNR%100), fmt.Sprintf("%d.%04d", p.SSIM/10_000, p.SSIM%10_000), fmt.Sprintf("%d.%d ms", p.Micros/1000, p.Micros%1000/100),
			fmt.Sprintf("%d %%", p.Load/10), mark})
	}
	head := "CODEC|SIZE|EFFORT|ASKED|TAKEN|PSNR|SSIM|A PICTURE|OF A PROCESSOR|"
	if len(t.Hull) == 0 {
		head = strings.TrimSuffix(head, "|")
		for i := range rows {
			rows[i] = rows[i][:len(rows[i])-1]
		}
	}
	a.table(head, rows)
}
