package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/address"
	"metaplasis/internal/api"
	"metaplasis/internal/onward/relay"
	"metaplasis/internal/settings"
)

// relays carry a channel onward.
func (a *app) relays() *cobra.Command {
	list := &cobra.Command{
		Use: "list CHANNEL", Short: "List a channel's relays and their state", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis relays list start-line",
		RunE: func(c *cobra.Command, args []string) error {
			list, err := a.client().Relays(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.showRelays(list)
		},
	}
	remove := &cobra.Command{
		Use: "remove CHANNEL RELAY", Short: "Remove a relay", Args: exactly("CHANNEL", "RELAY"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis relays remove start-line platform",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveRelay(c.Context(), args[0], args[1]); err != nil {
				return err
			}
			return a.show(map[string]string{"removed": args[1]}, func() { a.printf("Removed the relay %s.\n", args[1]) })
		},
	}
	test := &cobra.Command{
		Use: "test CHANNEL RELAY", Short: "Test the connection of a relay", Args: exactly("CHANNEL", "RELAY"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis relays test start-line platform",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := a.client().TestRelay(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if err := a.show(out, func() {
				if out.Takes {
					a.printf("%s\n", out.Text)
				}
			}); err != nil {
				return err
			}
			if !out.Takes {
				return fmt.Errorf("the far end does not take it: %s", out.Text)
			}
			return nil
		},
	}
	return group("relays", "Carry channels onward to other servers and receivers", a.addRelay(), list, a.turnRelay("start", "Let a relay send from now on", true),
		a.turnRelay("stop", "Let a relay send nothing more", false), test, remove)
}

func (a *app) addRelay() *cobra.Command {
	var r settings.Relay
	var from, until string
	var programmes []string
	add := &cobra.Command{
		Use: "add CHANNEL RELAY ADDRESS", Short: "Add a relay, or change the one of that name", Args: exactly("CHANNEL", "RELAY", "ADDRESS"), ValidArgsFunction: a.completeChannels,
		Long: `Push a channel to an address, and retry for as long as the relay is on. Keys, passphrases and passwords in the
address are stored encrypted. Addresses:

` + schemeList(address.Relay) + `
Parameters are in docs/relays.md.`,
		Example: `  metaplasis relays add start-line platform rtmp://192.0.2.7/live/KEY
  metaplasis relays add start-line truck "srt://192.0.2.8:9000?latency=200&passphrase=PHRASE" --rung 720p
  metaplasis relays add start-line decoder "udp://239.10.1.1:5000?interface=eth0&ttl=4"
  metaplasis relays add start-line mux "udp://239.10.1.2:5000?rate=9000" --programme harbour#720p=2:Harbour
  metaplasis relays add start-line site "put+https://site.example/live/{channel}?key=TOKEN"
  metaplasis relays add start-line evening rtsp://192.0.2.9/in --from 2026-06-01T18:00:00Z --until 2026-06-01T22:00:00Z`,
		RunE: func(c *cobra.Command, args []string) error {
			r.Name, r.Address = args[1], args[2]
			for i, text := range programmes {
				p, err := readProgramme(text, i+2)
				if err != nil {
					return usageError{err}
				}
				r.Programmes = append(r.Programmes, p)
			}
			for _, f := range []struct {
				name, text string
				to         *time.Time
			}{{"from", from, &r.From}, {"until", until, &r.Until}} {
				if f.text == "" {
					continue
				}
				at, err := time.Parse(time.RFC3339, f.text)
				if err != nil {
					return usageError{fmt.Errorf("found --%s %q, expected a time such as 2026-06-01T18:00:00Z", f.name, f.text)}
				}
				*f.to = at
			}
			list, err := a.client().PutRelay(c.Context(), args[0], r)
			if err != nil {
				return err
			}
			return a.showRelays(list)
		},
	}
	f := add.Flags()
	f.StringVar(&r.Rung, "rung", "", "rung to send (default: the source, unchanged)")
	f.StringVar(&r.Sound, "sound", "", "audio rendition to send (default: that of the rung)")
	f.StringVar(&r.Secret, "secret", "", "secret of the far end, if it is not in the address: stream name, passphrase, password or token")
	f.BoolVar(&r.Whole, "whole", false, "send the sender's transport stream unchanged, over udp, rtp or srt")
	f.StringArrayVar(&programmes, "programme", nil, "another channel as a further programme of the transport stream, such as harbour, harbour#720p or harbour#720p=5:Harbour with number and name; again for more")
	f.IntVar(&r.Number, "number", 0, "programme number of this channel in a transport stream (default: 1)")
	f.BoolVar(&r.Off, "off", false, "add it without starting it")
	f.StringVar(&from, "from", "", "start time, such as 2026-06-01T18:00:00Z")
	f.StringVar(&until, "until", "", "end time")
	return add
}

// readProgramme reads CHANNEL[#RUNG][=NUMBER][:NAME].
func readProgramme(text string, number int) (p settings.CarriedProgramme, err error) {
	rest, name, _ := strings.Cut(text, ":")
	rest, digits, numbered := strings.Cut(rest, "=")
	p.Channel, p.Rung, _ = strings.Cut(rest, "#")
	p.Name, p.Number = name, number
	if numbered {
		if p.Number, err = strconv.Atoi(digits); err != nil {
			return p, fmt.Errorf("found the programme %q, expected CHANNEL#RUNG=NUMBER:NAME", text)
		}
	}
	return p, nil
}

func (a *app) turnRelay(word, short string, on bool) *cobra.Command {
	return &cobra.Command{
		Use: word + " CHANNEL RELAY", Short: short, Args: exactly("CHANNEL", "RELAY"), ValidArgsFunction: a.completeChannels,
		Example: "  metaplasis relays " + word + " start-line platform",
		RunE: func(c *cobra.Command, args []string) error {
			cl := a.client()
			if err := cl.TurnRelay(c.Context(), args[0], args[1], on); err != nil {
				return err
			}
			list, err := cl.Relays(c.Context(), args[0])
			return errors.Join(err, a.showRelays(list))
		},
	}
}

func (a *app) showRelays(list []api.ChannelRelay) error {
	return a.show(list, func() {
		var rows [][]string
		for _, r := range list {
			p := r.Progress
			if p == nil {
				p = &relay.Progress{State: "off"}
			}
			rung := or(r.Rung, "source")
			if r.Whole {
				rung = "whole stream"
			}
			rows = append(rows, []string{r.Name, r.Address, rung, string(p.State), fmt.Sprintf("%.2f", float64(p.Bitrate)/1e6),
				fmt.Sprintf("%.1f", float64(p.Bytes)/1e6), fmt.Sprint(p.Lost), r.Words})
		}
		a.table("RELAY|ADDRESS|RUNG|STATE|MBIT/S|MB|LEFT OUT|", rows)
	})
}

// schemeList lists the schemes of a direction, each with an example of its addresses.
func schemeList(d address.Direction) string {
	var b strings.Builder
	for _, s := range address.In(d) {
		fmt.Fprintf(&b, "  %-10s %s\n", s.Name, s.Text[d].Example)
	}
	return b.String()
}
