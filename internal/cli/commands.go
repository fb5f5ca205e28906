package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"metaplasis/internal/control"
	"metaplasis/internal/control/api"
	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/media"
	"metaplasis/internal/origin"
	"metaplasis/internal/records"
	"metaplasis/internal/service"
)

func rate(bits int64) string {
	switch {
	case bits <= 0:
		return "-"
	case bits < 1_000_000:
		return fmt.Sprintf("%d kbit/s", (bits+500)/1000)
	}
	return fmt.Sprintf("%d.%02d Mbit/s", bits/1_000_000, bits%1_000_000/10_000)
}

func thousandths(v int64) string {
	if v%1000 == 0 {
		return strconv.FormatInt(v/1000, 10)
	}
	return strings.TrimRight(fmt.Sprintf("%d.%03d", v/1000, v%1000), "0")
}

func trackText(t *media.Track) string {
	if t.Kind == media.Audio {
		return fmt.Sprintf("AAC %d Hz, %d ch", t.SampleRate, t.Channels)
	}
	return fmt.Sprintf("H.264 %dx%d", t.Width, t.Height)
}

func tracksText(tracks []media.Track) string {
	var out []string
	for i := range tracks {
		out = append(out, trackText(&tracks[i]))
	}
	return strings.Join(out, ", ")
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func (a *app) channels() *cobra.Command {
	return group("channels", "Create, list, show, change and remove channels",
		a.channelsCreate(), a.channelsList(), a.channelsShow(), a.channelsChange(), a.channelsMark(), a.channelsPlaying(), a.channelsRemove())
}

func (a *app) channelsCreate() *cobra.Command {
	s := origin.Settings{}
	var selections string
	c := &cobra.Command{
		Use: "create CHANNEL", Short: "Create a channel", Args: exactly("CHANNEL"),
		Long: "Create a channel. Its ladder is planned from the first source that connects.\nA sender needs a key: metaplasis keys create CHANNEL.",
		Example: `  metaplasis channels create start-line --title "Start line"
  metaplasis channels create harbour --segment 4000 --window 5`,
		RunE: func(c *cobra.Command, args []string) error {
			s.Slug = args[0]
			var err error
			if s.Selections, err = readSelections(selections); err != nil {
				return err
			}
			ch, err := a.client().CreateChannel(c.Context(), s)
			if err != nil {
				return err
			}
			return a.show(ch, func() {
				a.printf("Created %s.\n", args[0])
				a.addresses(ch.Settings.Title, ch.Addresses)
				a.printf("\nNext: metaplasis keys create %s --label \"camera 1\"\n", args[0])
			})
		},
	}
	settingsFlags(c, &s, &selections)
	return c
}

func (a *app) channelsList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the channels", Args: exactly(), Aliases: []string{"ls"},
		Example: "  metaplasis channels list\n  metaplasis channels list --json",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Channels(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				if len(list) == 0 {
					a.printf("There are no channels. Create one: metaplasis channels create start-line\n")
					return
				}
				a.channelTable(list)
			})
		},
	}
}

func (a *app) channelTable(list []api.Channel) {
	var rows [][]string
	for i := range list {
		rows = append(rows, statusRow(&list[i].Status))
	}
	a.table(statusHead, rows)
}

const statusHead = "CHANNEL|STATE|FEED|IN|FRAMES/S|RENDITIONS|WORKER LOAD|PROBLEM"

func statusRow(st *origin.Status) []string {
	row := []string{st.Slug, string(st.State), "-", "-", "-", "-", "-", ""}
	if f := st.Feed; f != nil {
		row[2], row[3], row[4] = tracksText(f.Tracks), rate(f.Bitrate), thousandths(f.FrameRate)
	}
	n := 0
	for _, r := range st.Renditions {
		if !r.Retired {
			n++
		}
	}
	row[5] = strconv.Itoa(n)
	if w := st.Worker; w != nil {
		row[6] = fmt.Sprintf("%d %%", w.Load/10)
	}
	if len(st.Problems) > 0 {
		row[7] = st.Problems[0].Text
	}
	return row
}

func (a *app) channelsShow() *cobra.Command {
	return &cobra.Command{
		Use: "show CHANNEL", Short: "Show a channel: state, feed, renditions, addresses", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis channels show start-line",
		RunE: func(c *cobra.Command, args []string) error {
			ch, err := a.client().Channel(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(ch, func() { a.showChannel(&ch) })
		},
	}
}

func (a *app) showChannel(ch *api.Channel) {
	st := &ch.Status
	a.printf("%s (%s): %s\n", ch.Settings.Title, ch.Settings.Slug, st.State)
	for _, p := range st.Problems {
		a.printf("  ! %s\n", p.Text)
	}
	a.printf("\nSegments    %d ms in parts of %d ms, %d in the playlist\n", ch.Settings.SegmentMillis, ch.Settings.PartMillis, ch.Settings.Window)
	a.printf("Viewers     %s\n", viewersText(st.Viewers))
	a.printf("Memory      %.1f of at most %.1f MB\n", float64(st.Memory)/1e6, float64(st.MemoryBound)/1e6)
	if f := st.Feed; f != nil {
		a.printf("Feed        %s from %s since %s\n            %s, %s, %s frames/s\n", f.Protocol, f.Remote, f.Begun.Local().Format(time.DateTime), tracksText(f.Tracks), rate(f.Bitrate), thousandths(f.FrameRate))
	} else {
		a.printf("Feed        none; send to %s with a key as stream name\n", ch.Addresses.Server)
	}
	if w := st.Worker; w != nil {
		a.printf("Worker      busiest stage %d %% of real time, %d %% of a core in all, %d ms behind, %d pictures dropped, replaced %d times\n", w.Load/10, w.CPU/10, w.LagMillis, w.Dropped, w.Replaced)
	}
	if len(st.Renditions) > 0 {
		a.printf("\n")
		var rows [][]string
		for _, r := range st.Renditions {
			size, state := "-", "on"
			if r.Width > 0 {
				size = fmt.Sprintf("%dx%d", r.Width, r.Height)
			}
			if r.Retired {
				state = "off"
			}
			rows = append(rows, []string{r.Name, r.Codec, size, rate(r.Average), rate(r.Peak), fmt.Sprintf("%d to %d", r.First, r.Last), state})
		}
		a.table("RENDITION|CODEC|SIZE|AVERAGE|PEAK|SEGMENTS|STATE", rows)
	}
	d := ch.Addresses
	a.printf("\nConsole     %s\nPlayer      %s\nEmbed       %s\nHLS         %s\nDASH        %s\nDASH, low   %s\n", d.Console, d.Watch, d.Embed, d.HLS, d.DASH, d.LowDASH)
	if d.TS != "" {
		a.printf("HLS in TS   %s\n", d.TS)
	}
	for _, sel := range d.Selections {
		a.printf("%-11s %s\n            %s\n", sel.Name, sel.HLS, sel.DASH)
	}
	a.printf("Server      %s\n", or(d.Server, "RTMP is off"))
}

// settingsFlags are the flags of a channel's settings. Selections are read by readSelections.
func settingsFlags(c *cobra.Command, s *origin.Settings, selections *string) {
	f := c.Flags()
	f.StringVar(&s.Title, "title", "", "title for people")
	f.Int64Var(&s.SegmentMillis, "segment", origin.DefaultSegmentMillis, "segment length in milliseconds")
	f.Int64Var(&s.PartMillis, "part", origin.DefaultPartMillis, "part length in milliseconds, 100 to 1000: the smaller, the nearer to live")
	f.IntVar(&s.Window, "window", origin.DefaultWindow, "segments that a playlist shows")
	f.Int64Var(&s.StartOffsetMillis, "start-offset", 0, "where players begin, in milliseconds before the end; 0 leaves it to them")
	f.BoolVar(&s.Aligned, "aligned", false, "cut and number segments by the wall clock, for two origins with one source; from the next feed on")
	f.BoolVar(&s.TS, "ts", false, "offer transport streams and packed audio too, for old receivers")
	f.BoolVar(&s.Numbered, "numbered", false, "let the DASH manifest count segments instead of listing their times")
	f.StringVar(selections, "selections", "", "named selections of rungs with addresses of their own, such as phones=360p+240p,radio=sound")
	f.StringVar(&s.SoundName, "sound-name", "", "name of the audio, for menus")
	f.StringVar(&s.Language, "language", "", "language of sound and captions, such as en")
	f.IntVar(&s.CoverEvery, "cover-every", origin.DefaultCoverEvery, "put the cover picture into each so-many-th segment")
	f.BoolVar(&s.Closed, "closed", false, "end the playlists for good and admit no sender, until it is set back")
}

// soundSelection stands for the sound alone in a selection.
const soundSelection = "sound"

// readSelections reads name=rung+rung,name=sound.
func readSelections(text string) ([]origin.Selection, error) {
	out := []origin.Selection{}
	if text == "" {
		return out, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		name, rungs, ok := strings.Cut(part, "=")
		if !ok || name == "" || rungs == "" {
			return nil, usageError{fmt.Errorf("found selection %q, expected NAME=RUNG+RUNG or NAME=%s", part, soundSelection)}
		}
		sel := origin.Selection{Name: name, SoundOnly: rungs == soundSelection}
		if !sel.SoundOnly {
			sel.Rungs = strings.Split(rungs, "+")
		}
		out = append(out, sel)
	}
	return out, nil
}

func (a *app) channelsChange() *cobra.Command {
	var s origin.Settings
	var selections string
	c := &cobra.Command{
		Use: "change CHANNEL", Short: "Change a channel's settings while it runs", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Change settings. They take effect at the next segment; the sender stays connected and\nviewers keep playing. For the ladder see metaplasis ladders.",
		Example: "  metaplasis channels change start-line --segment 4000 --part 500\n  metaplasis channels change start-line --ts --selections phones=480p+240p,radio=sound\n  metaplasis channels change start-line --title \"Start line, day 2\"",
		RunE: func(c *cobra.Command, args []string) error {
			list, err := readSelections(selections)
			if err != nil {
				return err
			}
			var ch api.Change
			changed := 0
			c.Flags().Visit(func(f *pflag.Flag) {
				to := map[string]func(){
					"title": func() { ch.Title = &s.Title }, "segment": func() { ch.SegmentMillis = &s.SegmentMillis }, "part": func() { ch.PartMillis = &s.PartMillis },
					"window": func() { ch.Window = &s.Window }, "start-offset": func() { ch.StartOffsetMillis = &s.StartOffsetMillis }, "aligned": func() { ch.Aligned = &s.Aligned },
					"ts": func() { ch.TS = &s.TS }, "numbered": func() { ch.Numbered = &s.Numbered }, "selections": func() { ch.Selections = &list },
					"sound-name": func() { ch.SoundName = &s.SoundName }, "language": func() { ch.Language = &s.Language }, "cover-every": func() { ch.CoverEvery = &s.CoverEvery },
					"closed": func() { ch.Closed = &s.Closed },
				}[f.Name]
				if to != nil {
					to()
					changed++
				}
			})
			if changed == 0 {
				return usageError{errors.New("nothing to change: give --title, --segment or another setting; see metaplasis channels change --help")}
			}
			out, err := a.client().ChangeChannel(c.Context(), args[0], ch)
			if err != nil {
				return err
			}
			return a.show(out, func() { a.printf("Changed %s; it takes effect at the next segment.\n", args[0]) })
		},
	}
	settingsFlags(c, &s, &selections)
	return c
}

func (a *app) channelsRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "remove CHANNEL", Short: "Remove a channel and its keys", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Remove a channel and its keys. Its sender is disconnected and viewers lose it.",
		Example: "  metaplasis channels remove harbour --yes",
		RunE: func(c *cobra.Command, args []string) error {
			if !yes {
				return usageError{fmt.Errorf("this disconnects %s for good: say --yes to do it", args[0])}
			}
			if err := a.client().RemoveChannel(c.Context(), args[0]); err != nil {
				return err
			}
			return a.show(map[string]string{"removed": args[0]}, func() { a.printf("Removed %s.\n", args[0]) })
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	return c
}

func (a *app) keys() *cobra.Command {
	var label string
	create := &cobra.Command{
		Use: "create CHANNEL", Short: "Make a contribution key and show it once", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis keys create start-line --label \"camera 1\"",
		RunE: func(c *cobra.Command, args []string) error {
			k, err := a.client().CreateKey(c.Context(), args[0], label)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				a.printf("Server      %s\nStream key  %s\n\nOr, for an encoder with one field:\n%s\n\nThe key is not shown again.\n", or(k.Server, "RTMP is off"), k.Secret, k.URL)
			})
		},
	}
	create.Flags().StringVar(&label, "label", "", "what the key is for")
	list := &cobra.Command{
		Use: "list CHANNEL", Short: "List a channel's keys, without their secrets", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis keys list start-line",
		RunE: func(c *cobra.Command, args []string) error {
			keys, err := a.client().Keys(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(keys, func() {
				var rows [][]string
				for _, k := range keys {
					used := "never"
					if k.Used != nil {
						used = k.Used.Local().Format(time.DateTime)
					}
					rows = append(rows, []string{strconv.FormatInt(k.ID, 10), or(k.Label, "-"), k.Created.Local().Format(time.DateTime), used})
				}
				a.table("KEY|LABEL|CREATED|LAST USED", rows)
			})
		},
	}
	remove := &cobra.Command{
		Use: "remove CHANNEL KEY", Short: "Remove a key by its number; a sender that uses it stays until it disconnects", Args: exactly("CHANNEL", "KEY"),
		Example: "  metaplasis keys remove start-line 3",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("found %q, expected a key's number from metaplasis keys list %s", args[1], args[0])}
			}
			if err := a.client().RemoveKey(c.Context(), args[0], id); err != nil {
				return err
			}
			return a.show(map[string]int64{"removed": id}, func() { a.printf("Removed key %d.\n", id) })
		},
	}
	return group("keys", "Make, list and remove contribution keys", create, list, remove)
}

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
					rows = append(rows, []string{f.Channel, f.Protocol, f.Remote, f.Begun.Local().Format(time.DateTime), ended, or(tracksText(f.Tracks), "-"), reason})
				}
				a.table("CHANNEL|OVER|FROM|BEGUN|LASTED|TRACKS|WHY IT ENDED", rows)
			})
		},
	}
	list.Flags().StringVar(&channel, "channel", "", "only this channel")
	list.Flags().IntVar(&limit, "limit", 20, "how many")
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
	err = cl.Live(ctx, func(st []origin.Status, ev *origin.Event) error {
		if a.json {
			if ev != nil {
				return lines.Encode(ev)
			}
			return lines.Encode(st)
		}
		if ev != nil {
			recent = append([]origin.Event{*ev}, recent[:min(len(recent), 7)]...)
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
			return a.setLadder(c.Context(), args[0], ladder.Ladder{Planned: true})
		},
	}
	return group("ladders", "Show and change the ladder of a channel", show, plan, set, a.laddersRung(), a.laddersDrop(), reset)
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
			sound = "AAC " + rate(r.AudioBitrate)
		}
		if r.Source {
			rows = append(rows, []string{r.Name, on, "source", "source", "-", "-", "-", sound})
			continue
		}
		r = r.WithDefaults()
		size := func(n int) string {
			if n == 0 {
				return "auto"
			}
			return strconv.Itoa(n)
		}
		rows = append(rows, []string{r.Name, on, size(r.Width) + " x " + size(r.Height), rate(r.Bitrate), rate(r.Peak), fmt.Sprintf("%d ms", r.Buffer), strconv.Itoa(r.Effort), sound})
	}
	a.table("RUNG|STATE|SIZE|BITRATE|PEAK|BUFFER|EFFORT|SOUND", rows)
}

// laddersRung changes one rung, or adds it.
func (a *app) laddersRung() *cobra.Command {
	var r ladder.Rung
	c := &cobra.Command{
		Use: "rung CHANNEL RUNG", Short: "Change one rung, or add it", Args: exactly("CHANNEL", "RUNG"), ValidArgsFunction: a.completeChannels,
		Long:    "Change what is given of one rung, or add it at the end of the ladder.",
		Example: "  metaplasis ladders rung start-line 480p --bitrate 1500000\n  metaplasis ladders rung start-line 240p --on=false\n  metaplasis ladders rung start-line 144p --height 144 --bitrate 200000",
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
				case "audio":
					to.AudioBitrate = r.AudioBitrate
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
	f.Int64Var(&r.AudioBitrate, "audio", 0, "encode sound as AAC at bits a second; 0 passes the source through")
	return c
}

func (a *app) laddersDrop() *cobra.Command {
	return &cobra.Command{
		Use: "drop CHANNEL RUNG", Short: "Take a rung out of the ladder", Args: exactly("CHANNEL", "RUNG"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis ladders drop start-line 240p",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[0])
			if err != nil {
				return err
			}
			kept := ladder.Ladder{}
			for _, r := range l.Rungs {
				if r.Name != args[1] {
					kept.Rungs = append(kept.Rungs, r)
				}
			}
			if len(kept.Rungs) == len(l.Rungs) {
				return usageError{fmt.Errorf("%s has no rung %q: see metaplasis ladders show %s", args[0], args[1], args[0])}
			}
			return a.setLadder(c.Context(), args[0], kept)
		},
	}
}

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
			err = a.client().Live(c.Context(), func(_ []origin.Status, e *origin.Event) error {
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
	c.Flags().IntVar(&limit, "limit", 30, "how many of the past")
	c.Flags().BoolVar(&follow, "follow", false, "wait for more")
	return c
}

func (a *app) printEvent(e *origin.Event) {
	if a.json {
		_ = json.NewEncoder(a.out).Encode(e)
		return
	}
	a.printf("%s  %-7s  %-12s  %s\n", e.At.Local().Format(time.DateTime), e.Level, or(e.Channel, "-"), e.Text)
	if e.Do != "" {
		a.printf("%44s> %s\n", "", e.Do)
	}
}

func (a *app) signIn() *cobra.Command {
	var user string
	c := &cobra.Command{
		Use: "sign-in", Short: "Sign in to a service and remember it", Args: exactly(),
		Long:    "Check a password, make a client token, and remember both service and token for the\ncommands that follow. The password is asked for, or read from standard input.",
		Example: "  metaplasis sign-in --server http://origin.example:8780 --user admin",
		RunE: func(c *cobra.Command, _ []string) error {
			cl := a.client()
			cl.Token = ""
			password, err := a.ask("Password of " + user + ": ")
			if err != nil {
				return fmt.Errorf("the password: %w", err)
			}
			host, _ := os.Hostname()
			t, err := cl.SignIn(c.Context(), user, password, "commands on "+host)
			if err != nil {
				return err
			}
			path, err := signedInFile()
			if err != nil {
				return err
			}
			b, _ := json.Marshal(signedIn{cl.Server, t.Secret})
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return fmt.Errorf("remembering the sign-in: %w", err)
			}
			if err := os.WriteFile(path, b, 0o600); err != nil {
				return fmt.Errorf("remembering the sign-in: %w", err)
			}
			return a.show(map[string]string{"server": cl.Server, "user": user}, func() { a.printf("Signed in at %s as %s.\n", cl.Server, user) })
		},
	}
	c.Flags().StringVar(&user, "user", service.Administrator, "user name")
	return c
}

// password sets a user's password directly in the records, for who has lost it.
func (a *app) password() *cobra.Command {
	var user, dsn string
	c := &cobra.Command{
		Use: "password", Short: "Set a user's password on the machine of the service", Args: exactly(),
		Long:    "Set a user's password directly in the records, when it is lost. The service must not be\nrunning on its own database at the same time; with a DSN it may.",
		Example: "  metaplasis password\n  echo new-password | metaplasis password --user admin",
		RunE: func(c *cobra.Command, _ []string) error {
			next, err := a.ask("New password of " + user + ": ")
			if err != nil {
				return fmt.Errorf("the password: %w", err)
			}
			if len(next) < 10 {
				return usageError{fmt.Errorf("found %d characters, expected at least 10", len(next))}
			}
			if dsn == "" {
				server, err := records.StartServer(c.Context(), filepath.Join(a.data, "records"), discard())
				if err != nil {
					return err
				}
				defer func() { _ = server.Stop() }()
				dsn = server.DSN
			}
			db, err := records.Open(c.Context(), dsn)
			if err != nil {
				return err
			}
			defer func() { _ = db.Close() }()
			u, err := db.UserByName(c.Context(), user)
			if err != nil {
				return fmt.Errorf("user %s: %w", user, err)
			}
			if err := db.SetPassword(c.Context(), u.ID, control.HashPassword(next)); err != nil {
				return err
			}
			a.printf("The password of %s was set.\n", user)
			return nil
		},
	}
	c.Flags().StringVar(&user, "user", service.Administrator, "user name")
	c.Flags().StringVar(&dsn, "dsn", os.Getenv("METAPLASIS_DSN"), "DSN of the service's MariaDB, if it is not its own")
	return c
}
