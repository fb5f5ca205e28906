package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"metaplasis/internal/core/coding"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
)

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
		Use: "plan CHANNEL", Short: "Propose a ladder for the source that is connected", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
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
			in := a.in
			if file == "" {
				return usageError{errors.New("the ladder is missing: give --file, or --file - for standard input")}
			}
			if file != "-" {
				f, err := os.Open(file)
				if err != nil {
					return fmt.Errorf("the ladder: %w", err)
				}
				defer func() { _ = f.Close() }()
				in = f
			}
			var l ladder.Ladder
			d := json.NewDecoder(io.LimitReader(in, 1<<20))
			d.DisallowUnknownFields()
			if err := d.Decode(&l); err != nil {
				return fmt.Errorf("the ladder in %s is not what ladders show --json prints: %w", file, err)
			}
			l.Planned = false
			return a.setLadder(c.Context(), args[0], l)
		},
	}
	set.Flags().StringVar(&file, "file", "", "JSON file; - is standard input")
	reset := &cobra.Command{
		Use: "reset CHANNEL", Short: "Go back to the ladder planned from the source", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders reset start-line",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.setLadder(c.Context(), args[0], ladder.Ladder{Planned: true, Governor: l.Governor})
		},
	}
	return group("ladders", "Show and change the ladder of a channel", show, plan, set, a.laddersRung(), a.laddersDrop(),
		a.laddersGovern(), reset)
}

// laddersGovern says what the governor may change.
func (a *app) laddersGovern() *cobra.Command {
	const off = "off"
	return &cobra.Command{
		Use: "govern CHANNEL lower|raise|off", Short: "Let the governor fit the ladder to the machine", Args: exactly("CHANNEL", "lower|raise|off"), ValidArgsFunction: a.completeChannels,
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

func (a *app) setLadder(ctx context.Context, slug string, l ladder.Ladder) error {
	out, err := a.client().SetLadder(ctx, slug, l)
	if err != nil {
		return err
	}
	return a.show(out, func() {
		a.printf("The ladder of %s takes effect at the next segment.\n\n", slug)
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
		}
		sound := "source"
		if r.AudioBitrate > 0 {
			sound = coding.Label(cmp.Or(r.AudioCodec, coding.Usual(media.Audio))) + " " + rate(r.AudioBitrate)
			if r.AudioChannels == 1 {
				sound += " mono"
			}
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
			fmt.Sprintf("%d ms", r.Buffer), strconv.Itoa(r.Effort), sound})
	}
	if l.Governor != ladder.Ungoverned {
		defer a.printf("\nThe governor may %s it.\n", map[ladder.Governor]string{ladder.GovernorLower: "lower", ladder.GovernorRaise: "lower and raise"}[l.Governor])
	}
	a.table("RUNG|STATE|CODEC|SIZE|FRAMES|BITRATE|PEAK|BUFFER|EFFORT|SOUND", rows)
}

// laddersRung changes one rung, or adds it.
func (a *app) laddersRung() *cobra.Command {
	var r ladder.Rung
	var codec, audioCodec string
	c := &cobra.Command{
		Use: "rung CHANNEL RUNG", Short: "Change one rung, or add it", Args: exactly("CHANNEL",
			"RUNG"), ValidArgsFunction: a.completeChannels,
		Long:    "Change what is given of one rung, or add it at the end of the ladder.",
		Example: "  metaplasis ladders rung start-line 480p --bitrate 1500000\n  metaplasis ladders rung start-line 240p --on=false\n  metaplasis ladders rung start-line 144p --height 144 --bitrate 200000\n  metaplasis ladders rung start-line 480p-vp9 --codec vp9 --height 480 --bitrate 900000\n  metaplasis ladders rung start-line 240p --frame-rate half --audio 48000 --audio-codec opus --audio-channels 1",
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
			c.Flags().Visit(func(f *pflag.Flag) {
				switch f.Name {
				case "on":
					to.On = r.On
				case "source":
					to.Source = r.Source
				case "width":
					to.Width = r.Width
				case "height":
					to.Height = r.Height
				case "bitrate":
					to.Bitrate, to.Peak = r.Bitrate, 0
				case "peak":
					to.Peak = r.Peak
				case "buffer":
					to.Buffer = r.Buffer
				case "effort":
					to.Effort = r.Effort
				case "codec":
					to.Codec = media.Codec(codec)
				case "frame-rate":
					to.FrameRate = r.FrameRate
				case "audio":
					to.AudioBitrate = r.AudioBitrate
				case "audio-codec":
					to.AudioCodec = media.Codec(audioCodec)
				case "audio-channels":
					to.AudioChannels = r.AudioChannels
				}
			})
			return a.setLadder(c.Context(), args[0], l)
		},
	}
	f := c.Flags()
	f.BoolVar(&r.On, "on", true, "make this rendition")
	f.BoolVar(&r.Source, "source", false, "pass the source's video through untouched")
	f.IntVar(&r.Width, "width", 0, "width in pixels; 0 follows from the height")
	f.IntVar(&r.Height, "height", 0, "height in pixels; 0 follows from the width")
	f.Int64Var(&r.Bitrate, "bitrate", 0, "bits a second")
	f.Int64Var(&r.Peak, "peak", 0, "highest bits a second; 0 is 1.2 times the bitrate")
	f.IntVar(&r.Buffer, "buffer", 0, "decoder buffer in milliseconds; 0 is 1000")
	f.IntVar(&r.Effort, "effort", 0, "1 (least processor time) to 9 (best picture); 0 is 2")
	f.StringVar(&codec, "codec", "", fmt.Sprintf("codec of the pictures: %v; none is the first", coding.Encoded(media.Video)))
	f.Int64Var(&r.AudioBitrate, "audio", 0, "code the sound anew at bits a second; 0 passes the source through")
	f.StringVar(&audioCodec, "audio-codec", "", fmt.Sprintf("codec of that sound: %v; none is the first", coding.Encoded(media.Audio)))
	f.IntVar(&r.AudioChannels, "audio-channels", 0, "1 mixes that sound down to mono, 2 makes it stereo; 0 is as many as the source has")
	f.StringVar(&r.FrameRate, "frame-rate", "", "half takes every second picture, a number such as 25 or 29.97 so many a second; none is the source's rate")
	return c
}

func (a *app) laddersDrop() *cobra.Command {
	return &cobra.Command{
		Use: "drop CHANNEL RUNG", Short: "Take a rung out of the ladder", Args: exactly("CHANNEL",
			"RUNG"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders drop start-line 240p",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			kept := ladder.Ladder{Governor: l.Governor}
			for _, r := range l.Rungs {
				if r.Name != args[1] {
					kept.Rungs = append(kept.Rungs, r)
				}
			}
			if len(kept.Rungs) == len(l.Rungs) {
				return usageError{fmt.Errorf("%s has no rung %q: see metaplasis ladders show %s", args[0], args[1],
					args[0])}
			}
			return a.setLadder(c.Context(), args[0], kept)
		},
	}
}
