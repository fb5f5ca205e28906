package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/library"
)

// items are the files of the library.
func (a *app) items() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the files of the library, and what keeps them from being played", Args: exactly(), Example: "  metaplasis items list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Items(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for i := range list {
					e := &list[i]
					rows = append(rows, []string{e.Name, or(e.Container, "-"), lasts(e.Millis), megabytes(e.Bytes), or(trackWords(e), "-"), or(e.Trouble, or(e.Note, "plays"))})
				}
				a.table("ITEM|CONTAINER|LENGTH|SIZE|TRACKS|STATE", rows)
			})
		},
	}
	show := &cobra.Command{
		Use: "show ITEM", Short: "Show a file of the library with its tracks and addresses", Args: exactly("ITEM"), Example: "  metaplasis items show race-3",
		RunE: func(c *cobra.Command, args []string) error {
			e, err := a.client().Item(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(e, func() {
				a.printf("File        %s, %s, %s, %s\n", e.File, or(e.Container, "not read"), lasts(e.Millis), megabytes(e.Bytes))
				for _, t := range e.Tracks {
					state := "plays as it is"
					if t.Trouble != "" {
						state = t.Trouble
					}
					size := ""
					if t.Width > 0 {
						size = fmt.Sprintf(" %dx%d", t.Width, t.Height)
					}
					keys := ""
					if t.KeyMillis > 0 {
						keys = fmt.Sprintf(", keyframes up to %.1f s apart", float64(t.KeyMillis)/1000)
					}
					a.printf("%-11s %s%s, %d kbit/s%s: %s\n", t.Name, or(t.Codec, t.Kind), size, t.Bitrate/1000, keys, state)
				}
				if text := or(e.Trouble, e.Note); text != "" {
					a.printf("State       %s\n", text)
				}
				if e.HLS != "" {
					a.printf("HLS         %s\nDASH        %s\n", e.HLS, e.DASH)
				}
			})
		},
	}
	return group("items", "Files on demand", list, show)
}

func lasts(millis int64) string {
	return (time.Duration(millis) * time.Millisecond).Round(100 * time.Millisecond).String()
}

func trackWords(e *library.Entry) string {
	var out []string
	for _, t := range e.Tracks {
		text := or(t.Codec, t.Kind)
		if t.Width > 0 {
			text += fmt.Sprintf(" %dx%d", t.Width, t.Height)
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}
