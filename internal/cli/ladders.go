package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

// ladders are the commands for the ladder of a channel.
//
//large:the commands of a group, each a literal
func (a *app) ladders() *cobra.Command {
	show := &cobra.Command{
		Use: "show CHANNEL", Short: "Show the ladder in force", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders show start-line\n  metaplasis ladders show start-line --json > ladder.json",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(l, func() { a.showLadder(args[0], l) })
		},
	}
	plan := &cobra.Command{
		Use: "plan CHANNEL", Short: "Propose a ladder for the connected source", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders plan start-line --json > ladder.json",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().PlanLadder(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(l, func() { a.showLadder(args[0], l) })
		},
	}
	var file string
	set := &cobra.Command{
		Use: "set CHANNEL", Short: "Replace the ladder from a JSON file", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Replace the whole ladder. The file is what metaplasis ladders show --json prints.",
		Example: "  metaplasis ladders set start-line --file ladder.json\n  metaplasis ladders show start-line --json | metaplasis ladders set chase-boat --file -",
		RunE: func(c *cobra.Command, args []string) error {
			var l ladder.Ladder
			if err := a.readFile("ladder", file, "ladders show --json", &l); err != nil {
				return err
			}
			l.Planned = false
			return a.setLadder(c.Context(), args[0], l)
		},
	}
	set.Flags().StringVar(&file, "file", "", "JSON file; -: standard input")
	var planned string
	forecast := &cobra.Command{
		Use: "forecast CHANNEL", Short: "Predict whether the machine can keep up with a ladder", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Predict whether the machine can keep up with a ladder from a JSON file, without using it. It goes by what\nthe channel's rungs take now, and by what is free.",
		Example: "  metaplasis ladders forecast start-line --file ladder.json",
		RunE: func(c *cobra.Command, args []string) error {
			var l ladder.Ladder
			if err := a.readFile("ladder", planned, "ladders show --json", &l); err != nil {
				return err
			}
			o, err := a.client().Forecast(c.Context(), args[0], l)
			if err != nil {
				return err
			}
			return a.show(o, func() {
				a.printf("%s\n\n", o.Text)
				var rows [][]string
				for _, r := range o.Loads {
					rows = append(rows, []string{r.Rung, fmt.Sprintf("%d %%", r.Load/10)})
				}
				a.table("RUNG|OF A PROCESSOR", rows)
			})
		},
	}
	forecast.Flags().StringVar(&planned, "file", "", "JSON file; -: standard input")
	reset := &cobra.Command{
		Use: "reset CHANNEL", Short: "Go back to the ladder planned from the source", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders reset start-line",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.setLadder(c.Context(), args[0], ladder.Ladder{Planned: true, Governor: l.Governor, Priority: l.Priority, Interlaced: l.Interlaced})
		},
	}
	return group("ladders", "Show and change the ladder of a channel", show, plan, set, forecast, a.laddersUse(), a.laddersRung(), a.laddersDrop(),
		a.laddersTry(), a.laddersFit(), a.laddersGovern(), a.laddersPriority(), a.laddersInterlaced(), reset)
}

// readFile reads JSON from a file, or from standard input for a hyphen. like says what writes such a file.
func (a *app) readFile(what, file, like string, into any) error {
	in := a.in
	if file == "" {
		return usageError{fmt.Errorf("the %s is missing: give --file, or --file - for standard input", what)}
	}
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return fmt.Errorf("the %s: %w", what, err)
		}
		defer func() { _ = f.Close() }()
		in = f
	}
	d := json.NewDecoder(io.LimitReader(in, 1<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("the %s in %s is not what %s prints: %w", what, file, like, err)
	}
	return nil
}

// laddersGovern says what the governor may change.
func (a *app) laddersGovern() *cobra.Command {
	const off = "off"
	return &cobra.Command{
		Use: "govern CHANNEL lower|raise|off", Short: "Let the governor adapt the ladder to the available CPU", Args: exactly("CHANNEL", "lower|raise|off"), ValidArgsFunction: a.completeChannels,
		Long:    "Say what may be changed of the ladder while it runs. With lower, a machine that is short of processor time\nmakes the governor lower effort, then code every second picture, then turn the highest rung off, one step at a\ntime, and take that back when there is room. With raise, it also raises the effort while there is room. Each\nstep is an event; the ladder that you wrote stays as it is.",
		Example: "  metaplasis ladders govern start-line lower\n  metaplasis ladders govern start-line off",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			if l.Governor = ladder.Governor(args[1]); args[1] == off {
				l.Governor = ladder.Ungoverned
			}
			if l.Planned {
				l.Rungs = nil
			}
			return a.setLadder(c.Context(), args[0], l)
		},
	}
}

// laddersUse lets a channel use a plan.
func (a *app) laddersUse() *cobra.Command {
	var version int
	var fresh bool
	c := &cobra.Command{
		Use: "use CHANNEL PLAN", Short: "Apply a ladder plan to a channel", Args: exactly("CHANNEL", "PLAN"), ValidArgsFunction: a.completeChannels,
		Long:    "Apply a ladder plan to a channel, from the next segment on. Rungs that the channel has otherwise than the plan\nit uses now stay so, also with the other plan or version, unless --fresh is given. Rungs that are larger than\nthe source are left out.",
		Example: "  metaplasis ladders use start-line phone-first\n  metaplasis ladders use start-line regatta --version 3 --fresh",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			to := ladder.Ladder{Plan: &ladder.Use{Name: args[1], Version: version}, Priority: l.Priority}
			if !fresh {
				to.Rungs = l.Own()
			}
			return a.setLadder(c.Context(), args[0], to)
		},
	}
	c.Flags().IntVar(&version, "version", 0, "version of the plan; 0: the newest")
	c.Flags().BoolVar(&fresh, "fresh", false, "discard the channel's own rungs")
	return c
}

// laddersPriority says whose turn it is first.
func (a *app) laddersPriority() *cobra.Command {
	return &cobra.Command{
		Use: "priority CHANNEL 1-9", Short: "Set which channels give way first when the CPU is short", Args: exactly("CHANNEL", "1-9"), ValidArgsFunction: a.completeChannels,
		Long:    "Set which channels give way first when the CPU is short of processor time: those of the lowest priority.\nThe usual one is 5.",
		Example: "  metaplasis ladders priority start-line 8",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			if l.Priority, err = strconv.Atoi(args[1]); err != nil {
				return usageError{fmt.Errorf("found priority %q, expected a number from 1 to 9", args[1])}
			}
			if l.Planned {
				l.Rungs = nil
			}
			return a.setLadder(c.Context(), args[0], l)
		},
	}
}

// laddersInterlaced says what becomes of interlaced pictures.
func (a *app) laddersInterlaced() *cobra.Command {
	const fields = "fields"
	return &cobra.Command{
		Use: "interlaced CHANNEL fields|frames|bob|weave", Short: "Set how interlaced video is handled", Args: exactly("CHANNEL", "fields|frames|bob|weave"), ValidArgsFunction: a.completeChannels,
		Long:    "Set how interlaced video is handled. fields makes a picture of each field (50i becomes 50p), frames one of\neach two (25p); both keep what stands still as sharp as it is. bob interpolates everything, weave leaves\npictures as they are.",
		Example: "  metaplasis ladders interlaced start-line frames",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			if l.Interlaced = ladder.Interlaced(args[1]); args[1] == fields {
				l.Interlaced = ladder.FieldsAdaptive
			}
			if l.Planned {
				l.Rungs = nil
			}
			return a.setLadder(c.Context(), args[0], l)
		},
	}
}

func (a *app) setLadder(ctx context.Context, slug string, l ladder.Ladder) error {
	outlook, unknown := a.client().Forecast(ctx, slug, l)
	out, err := a.client().SetLadder(ctx, slug, l)
	if err != nil {
		return err
	}
	return a.show(out, func() {
		a.printf("The ladder of %s takes effect at the next segment.\n", slug)
		if unknown == nil {
			a.printf("%s\n", outlook.Text)
		}
		a.printf("\n")
		a.showLadder(slug, out)
	})
}

func (a *app) showLadder(slug string, l ladder.Ladder) {
	if len(l.Rungs) == 0 {
		a.printf("The ladder of %s will be planned from the first source that connects.\n", slug)
		return
	}
	var rows [][]string
	for _, r := range l.Rungs {
		on := "on"
		if !r.On {
			on = "off"
		} else if r.Ready {
			on = "ready-made"
		}
		sound := "source"
		if r.AudioBitrate > 0 {
			sound = coding.Label(cmp.Or(r.AudioCodec, coding.Usual(media.Audio))) + " " + rate(r.AudioBitrate)
			if r.AudioChannels == 1 {
				sound += " mono"
			}
			if r.Loudness != 0 {
				sound += fmt.Sprintf(" %d LUFS", r.Loudness)
			}
		}
		if r.SoundOnly() {
			rows = append(rows, []string{r.Name, on, "-", "-", "-", "-", "-", "-", "-", sound})
			continue
		}
		if r.Source {
			rows = append(rows, []string{r.Name, on, "source", "source", "source", "source", "-", "-", "-", sound})
			continue
		}
		r = r.WithDefaults()
		size := func(n int) string {
			if n == 0 {
				return "auto"
			}
			return strconv.Itoa(n)
		}
		rows = append(rows, []string{r.Name, on, coding.Label(cmp.Or(r.Codec, coding.Usual(media.Video))), size(r.Width) + " x " + size(r.Height), cmp.Or(r.FrameRate, "source"), rate(r.Bitrate), rate(r.Peak),
			durationOf(int64(r.Buffer)), strconv.Itoa(r.Effort), sound})
	}
	if l.Plan != nil {
		own := ""
		if len(l.Plan.Own) > 0 {
			own = "; its own: " + strings.Join(l.Plan.Own, ", ")
		}
		a.printf("%s uses the plan %s, version %d%s.\n\n", slug, l.Plan.Name, l.Plan.Version, own)
	}
	if l.Governor != ladder.Ungoverned {
		defer a.printf("\nThe governor may %s it.\n", map[ladder.Governor]string{ladder.GovernorLower: "lower", ladder.GovernorRaise: "lower and raise"}[l.Governor])
	}
	a.table("RUNG|STATE|CODEC|SIZE|FRAMES|BITRATE|PEAK|BUFFER|EFFORT|SOUND", rows)
}

// laddersRung changes one rung, or adds it.
func (a *app) laddersRung() *cobra.Command {
	var flags settingFlags
	c := &cobra.Command{
		Use: "rung CHANNEL RUNG", Short: "Change one rung, or add it", Args: exactly("CHANNEL",
			"RUNG"), ValidArgsFunction: a.completeChannels,
		Long:    "Change the given settings of one rung, or add it at the end of the ladder.",
		Example: "  metaplasis ladders rung start-line 480p --bitrate 1.5M\n  metaplasis ladders rung start-line 240p --on=false\n  metaplasis ladders rung start-line 144p --height 144 --bitrate 200k\n  metaplasis ladders rung start-line 480p-vp9 --codec vp9 --height 480 --bitrate 900k\n  metaplasis ladders rung start-line 240p --frame-rate half --audio-bitrate 48k --audio-codec opus --audio-channels 1\n  metaplasis ladders rung start-line 480p --quality 60 --profile main --level 3.1 --burn-in-name --burn-in-clock top\n  metaplasis ladders rung start-line upright --width 480 --height 854 --crop-left 420 --crop-right 420 --bitrate 900k\n  metaplasis ladders rung start-line radio --audio-bitrate 96k --loudness -23",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			l.Planned = false
			at := -1
			for i := range l.Rungs {
				if l.Rungs[i].Name == args[1] {
					at = i
				}
			}
			if at < 0 {
				l.Rungs = append(l.Rungs, ladder.Rung{Name: args[1], On: true})
				at = len(l.Rungs) - 1
			}
			to := &l.Rungs[at]
			if c.Flags().Changed("bitrate") {
				to.Peak = 0 // follows again
			}
			if err := flags.applyTo(to); err != nil {
				return err
			}
			if l.Plan != nil { // the others stay the plan's
				l.Rungs = append(slices.DeleteFunc(l.Own(), func(r ladder.Rung) bool { return r.Name == to.Name }), *to)
			}
			return a.setLadder(c.Context(), args[0], l)
		},
	}
	flags.register(c.Flags(), ladder.Rung{On: true})
	return c
}

func (a *app) laddersDrop() *cobra.Command {
	return &cobra.Command{
		Use: "drop CHANNEL RUNG", Short: "Remove a rung from the ladder", Args: exactly("CHANNEL",
			"RUNG"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders drop start-line 240p",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			kept := l
			kept.Planned = false
			kept.Rungs = slices.DeleteFunc(slices.Clone(l.Rungs), func(r ladder.Rung) bool { return r.Name == args[1] })
			if len(kept.Rungs) == len(l.Rungs) {
				return usageError{fmt.Errorf("%s has no rung %q: see metaplasis ladders show %s", args[0], args[1],
					args[0])}
			}
			if l.Plan != nil {
				p, err := a.client().Plan(c.Context(), l.Plan.Name, l.Plan.Version)
				if err != nil {
					return err
				}
				for _, r := range p.Rungs { // what the plan has is turned off
					if r.Name == args[1] {
						r.On = false
						kept.Rungs = append(kept.Rungs, r)
					}
				}
			}
			return a.setLadder(c.Context(), args[0], kept)
		},
	}
}
