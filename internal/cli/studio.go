package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/protocol/studio"
)

// studio is what is on the studio's network.
func (a *app) studio() *cobra.Command {
	list := &cobra.Command{
		Use: "studio", Short: "List the sources on the studio network", Args: exactly(),
		Long: `List what session announcements (SAP) and service discovery (DNS-SD) tell of on the networks that the service
looks at (serve --studio INTERFACE): raw video, JPEG and linear sound over RTP, and RTSP cameras.
A channel takes one by its name, or by its ID.`,
		Example: `  metaplasis studio
  metaplasis channels create deck --inputs "studio:Deck camera"
  metaplasis studio picture "Deck camera" --out deck.jpg`,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.client().Studio(c.Context())
			if err != nil {
				return err
			}
			if !s.On && !a.json {
				return errors.New("the service does not look for sources: start it with --studio and the network's interface, such as --studio eth0")
			}
			return a.show(s, func() {
				var rows [][]string
				for _, o := range s.Sources {
					rows = append(rows, []string{o.ID, o.Name, o.Via, o.From, rate(o.Bitrate), sourceText(&o)})
				}
				if len(rows) == 0 {
					a.printf("No source is announced on the network now.\n")
				} else {
					a.table("ID|NAME|VIA|FROM|BITRATE|SENDS", rows)
				}
				for _, text := range s.Wrong {
					a.printf("%s\n", text)
				}
			})
		},
	}
	out := ""
	picture := &cobra.Command{
		Use: "picture SOURCE", Short: "Save a thumbnail of a source", Args: exactly("SOURCE"),
		Example: `  metaplasis studio picture "Deck camera" --out deck.jpg`,
		RunE: func(c *cobra.Command, args []string) error {
			b, err := a.client().StudioPicture(c.Context(), args[0])
			if err != nil {
				return err
			}
			if err := os.WriteFile(out, b, 0o644); err != nil {
				return err
			}
			return a.show(map[string]any{"file": out, "bytes": len(b)}, func() { a.printf("Stored %s, %d bytes.\n", out, len(b)) })
		},
	}
	picture.Flags().StringVar(&out, "out", "source.jpg", "file to write")
	list.AddCommand(picture)
	return list
}

// sourceText is what a source sends, in words.
func sourceText(s *studio.Source) string {
	var parts []string
	for _, t := range s.Tracks {
		parts = append(parts, t.Text)
	}
	if s.Problem != "" {
		parts = append(parts, s.Problem)
	}
	if s.Quiet {
		parts = append(parts, fmt.Sprintf("not announced for %v", time.Since(s.Heard).Round(time.Second)))
	}
	return strings.Join(parts, "; ")
}
