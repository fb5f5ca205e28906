package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/api"
	"metaplasis/internal/origin/status"
	"metaplasis/internal/settings"
)

func (a *app) channels() *cobra.Command {
	return group("channels", "Create, list, show, change and remove channels",
		a.channelsCreate(), a.channelsList(), a.channelsShow(), a.channelsChange(), a.channelsMark(), a.channelsPlaying(), a.channelsSwitch(), a.channelsRemove())
}

func (a *app) channelsCreate() *cobra.Command {
	var flags settingFlags
	c := &cobra.Command{
		Use: "create CHANNEL", Short: "Create a channel", Args: exactly("CHANNEL"),
		Long: "Create a channel. Its ladder is planned from the first source that connects.\nA sender needs a key: metaplasis keys create CHANNEL.",
		Example: `  metaplasis channels create start-line --title "Start line"
  metaplasis channels create harbour --segment 4s --window 5`,
		RunE: func(c *cobra.Command, args []string) error {
			s, err := flags.settings()
			if err != nil {
				return err
			}
			s.Slug = args[0]
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
	flags.register(c.Flags(), settings.Settings{}.WithDefaults())
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

func statusRow(st *status.Status) []string {
	row := []string{st.Slug, string(st.State), "-", "-", "-", "-", "-", ""}
	if f := st.Feed; f != nil {
		row[2], row[3], row[4] = tracksBrief(f.Tracks), rate(f.Bitrate), thousandths(f.FrameRate)
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

// showChannel prints a channel as people read it.
//
//large:one page of text, line by line
func (a *app) showChannel(ch *api.Channel) {
	st := &ch.Status
	a.printf("%s (%s): %s\n", ch.Settings.Title, ch.Settings.Slug, st.State)
	for _, p := range st.Problems {
		a.printf("  ! %s\n", p.Text)
	}
	a.printf("\nSegments    %s in parts of %s, %d in the playlist\n", durationOf(ch.Settings.SegmentMillis), durationOf(ch.Settings.PartMillis), ch.Settings.Window)
	a.printf("Viewers     %s\n", viewersText(st.Viewers))
	a.printf("Memory      %.1f of at most %.1f MB\n", float64(st.Memory)/1e6, float64(st.MemoryBound)/1e6)
	for i, in := range st.Inputs {
		head := "Inputs"
		if i > 0 {
			head = ""
		}
		state := "waits"
		switch {
		case in.OnAir:
			state = "on air"
		case in.Problem != "":
			state = in.Problem
		case in.Standby > 0:
			state = "stands by"
		}
		if in.Chosen {
			state += ", chosen by hand"
		}
		a.printf("%-11s %s, %s\n", head, in.Input, state)
	}
	if f := st.Feed; f != nil {
		a.printf("Feed        %s from %s since %s\n            %s, %s, %s frames/s\n", f.Protocol, f.Remote,
			f.Begun.Local().Format(time.DateTime), tracksText(f.Tracks), rate(f.Bitrate), thousandths(f.FrameRate))
	} else {
		a.printf("Feed        none; send to %s with a key as stream name\n", ch.Addresses.Server)
	}
	if w := st.Worker; w != nil {
		a.printf("Worker      busiest stage %d %% of real time, %d %% of a core in all, %s behind, %d pictures dropped, replaced %d times\n", w.Load/10, w.CPU/10, durationOf(w.LagMillis), w.Dropped, w.Replaced)
	}
	if g := st.Governor; g != nil {
		text := []string{}
		for _, s := range g.Steps {
			text = append(text, s.String())
		}
		a.printf("Governor    %s\n", or(strings.Join(text, "; "), "the ladder is as it was asked for"))
	}
	if len(st.Renditions) > 0 {
		a.printf("\n")
		var rows [][]string
		for _, r := range st.Renditions {
			size, state, asked := "-", "on", "-"
			if r.Asked > 0 {
				asked = rate(r.Asked)
			}
			if r.Width > 0 {
				size = fmt.Sprintf("%dx%d", r.Width, r.Height)
			}
			if r.Retired {
				state = "off"
			}
			rows = append(rows, []string{r.Name, r.Codec, size, asked, rate(r.Second), rate(r.Average), rate(r.Peak),
				fmt.Sprintf("%d to %d", r.First, r.Last), state})
		}
		a.table("RENDITION|CODEC|SIZE|TARGET|NOW|AVERAGE|PEAK|SEGMENTS|STATE", rows)
	}
	d := ch.Addresses
	a.printf("\nConsole     %s\nPlayer      %s\nEmbed       %s\nHLS         %s\nDASH        %s\nDASH, low   %s\n",
		d.Console, d.Watch, d.Embed, d.HLS, d.DASH, d.LowDASH)
	if d.TS != "" {
		a.printf("HLS in TS   %s\n", d.TS)
	}
	for _, sel := range d.Selections {
		a.printf("%-11s %s\n            %s\n", sel.Name, sel.HLS, sel.DASH)
	}
	a.printf("Server      %s\n", or(d.Server, "RTMP is off"))
}

// channelsSwitch puts an input on air by hand.
func (a *app) channelsSwitch() *cobra.Command {
	const byOrder = "order"
	return &cobra.Command{
		Use: "switch CHANNEL INPUT", Short: "Put an input on air by hand", Args: exactly("CHANNEL", "INPUT"), ValidArgsFunction: a.completeChannels,
		Long:    "Put one of the channel's inputs on air as soon as it has something, whatever their order is. A sender whose\nplace it takes stands by, connected. The input " + byOrder + " leaves it to the order of the inputs again.",
		Example: "  metaplasis channels switch start-line file:standby.flv\n  metaplasis channels switch start-line sender\n  metaplasis channels switch start-line order",
		RunE: func(c *cobra.Command, args []string) error {
			var in settings.Input
			if args[1] != byOrder {
				in = settings.ParseInput(args[1])
			}
			if err := a.client().ChooseInput(c.Context(), args[0], in); err != nil {
				return err
			}
			if args[1] == byOrder {
				a.printf("The inputs of %s are switched by their order.\n", args[0])
				return nil
			}
			a.printf("The input %s of %s is on air as soon as it has something.\n", in, args[0])
			return nil
		},
	}
}

func (a *app) channelsChange() *cobra.Command {
	var flags settingFlags
	c := &cobra.Command{
		Use: "change CHANNEL", Short: "Change a channel's settings while it runs", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Change settings. They take effect at the next segment; the sender stays connected and\nviewers keep playing. For the ladder see metaplasis ladders.",
		Example: "  metaplasis channels change start-line --segment 4s --part 500ms\n  metaplasis channels change start-line --transport-streams --selections phones=480p+240p,radio=sound\n  metaplasis channels change start-line --inputs sender,file:standby.flv\n  metaplasis channels change start-line --title \"Start line, day 2\"",
		RunE: func(c *cobra.Command, args []string) error {
			change := flags.changed()
			if len(change) == 0 {
				return usageError{errors.New("nothing to change: give --title, --segment or another setting; see metaplasis channels change --help")}
			}
			out, err := a.client().ChangeChannel(c.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.show(out, func() { a.printf("Changed %s; it takes effect at the next segment.\n", args[0]) })
		},
	}
	flags.register(c.Flags(), settings.Settings{}.WithDefaults())
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
	c.Flags().BoolVar(&yes, "yes", false, "confirm")
	return c
}
