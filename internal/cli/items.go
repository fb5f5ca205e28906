package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/library"
)

// items are the files of the library.
func (a *app) items() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the items of the library, and why any of them cannot be played", Args: exactly(), Example: "  metaplasis items list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Items(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for i := range list {
					e := &list[i]
					rows = append(rows, []string{e.Name, or(e.Container, "-"), lasts(e.Millis), megabytes(e.Bytes), or(trackWords(e), "-"), stateWords(e)})
				}
				a.table("ITEM|CONTAINER|LENGTH|SIZE|TRACKS|STATE", rows)
			})
		},
	}
	show := &cobra.Command{
		Use: "show ITEM", Short: "Show an item with its tracks and addresses", Args: exactly("ITEM"), Example: "  metaplasis items show race-3",
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
					rate := ""
					if t.Bitrate > 0 {
						rate = fmt.Sprintf(", %d kbit/s", t.Bitrate/1000)
					}
					if t.Language != "" {
						rate = ", " + t.Language + rate
					}
					a.printf("%-11s %s%s%s%s: %s\n", t.Name, or(t.Codec, t.Kind), size, rate, keys, state)
				}
				if text := or(e.Trouble, e.Note); text != "" {
					a.printf("State       %s\n", text)
				}
				if e.HLS != "" {
					a.printf("HLS         %s\n", e.HLS)
					if e.TS != "" {
						a.printf("HLS, TS     %s\n", e.TS)
					}
					a.printf("DASH        %s\n", e.DASH)
				}
				a.printf("Download    %s\n", e.Download)
				if e.Coding != nil {
					a.printf("Coding      %s\n", codingWords(e.Coding))
				}
			})
		},
	}
	return group("items", "Files on demand", list, show, a.uploadItem(), a.codeItem(), a.changeCoding("pause", "Let the coding of an item rest"), a.changeCoding("resume", "Go on with the coding of an item"),
		a.changeCoding("uncode", "Stop the coding of an item, and remove what was made"), a.removeItem())
}

func stateWords(e *library.Entry) string {
	switch {
	case e.Looking > 0:
		return fmt.Sprintf("is looked through, %d %%", e.Looking)
	case e.Coding != nil && e.Coding.State != "done":
		return codingWords(e.Coding)
	}
	return or(e.Trouble, or(e.Note, "plays"))
}

func codingWords(c *library.Coding) string {
	text := c.State
	if c.State == "coding" || c.State == "paused" {
		text += fmt.Sprintf(", %d %%", c.Percent)
	}
	if c.Speed > 0 {
		text += fmt.Sprintf(", %.1f times as fast as it plays", float64(c.Speed)/100)
	}
	if c.Left > 0 {
		text += fmt.Sprintf(", about %s left", time.Duration(c.Left)*time.Second)
	}
	if len(c.Rungs) > 0 {
		text += ": " + strings.Join(c.Rungs, ", ")
	}
	if c.Trouble != "" {
		text += ": " + c.Trouble
	}
	return text
}

// uploadItem sends files.
func (a *app) uploadItem() *cobra.Command {
	patience := 10 * time.Minute
	cmd := &cobra.Command{
		Use: "upload FILE...", Short: "Upload files to the library; interrupted uploads resume", Args: cobra.MinimumNArgs(1),
		Long:    "Upload files to the library. After a lost connection the upload resumes where it was; an interrupted command resumes\nwhen it is run again.",
		Example: "  metaplasis items upload race-3.mp4 race-3.en.vtt",
		RunE: func(c *cobra.Command, args []string) error {
			for _, name := range args {
				if err := a.upload(c, name, patience); err != nil {
					return err
				}
			}
			return nil
		},
	}
	cmd.Flags().DurationVar(&patience, "patience", patience, "give up after this long without progress")
	return cmd
}

func (a *app) upload(c *cobra.Command, name string, patience time.Duration) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	told, begin := time.Time{}, time.Now()
	first := int64(-1)
	file, err := a.client().Upload(c.Context(), filepath.Base(name), f, info.Size(), patience, func(sent int64) {
		if first < 0 {
			first = sent
		}
		if now := time.Now(); now.Sub(told) >= time.Second && info.Size() > 8<<20 {
			told = now
			c.PrintErrf("%s: %d %%, %.1f MB/s\n", filepath.Base(name), sent*100/info.Size(), float64(sent-first)/1e6/max(now.Sub(begin).Seconds(), 0.001))
		}
	})
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	a.printf("%s is in the library, %s.\n", file, megabytes(info.Size()))
	return nil
}

// codeItem encodes an item into a ladder.
func (a *app) codeItem() *cobra.Command {
	var heights []int
	wait := false
	cmd := &cobra.Command{
		Use: "code ITEM", Short: "Encode an item into a ladder in the background", Args: exactly("ITEM"),
		Long:    "Encode an item into a ladder in the background, behind everything that is live. It goes on after a restart of the service.\nThe item plays as it is until then, if it does.",
		Example: "  metaplasis items code race-3\n  metaplasis items code race-3 --heights 720,360 --wait",
		RunE: func(c *cobra.Command, args []string) error {
			e, err := a.client().Code(c.Context(), args[0], heights)
			for err == nil && wait && e.Coding != nil && e.Coding.State != "done" && e.Coding.State != "failed" && e.Coding.State != "paused" {
				c.PrintErrf("%s\n", codingWords(e.Coding))
				select {
				case <-c.Context().Done():
					return c.Context().Err()
				case <-time.After(2 * time.Second):
				}
				e, err = a.client().Item(c.Context(), args[0])
			}
			if err != nil {
				return err
			}
			if e.Coding != nil && e.Coding.State == "failed" {
				return fmt.Errorf("the item could not be encoded: %s", e.Coding.Trouble)
			}
			return a.show(e, func() { a.printf("%s\n", codingWords(e.Coding)) })
		},
	}
	cmd.Flags().IntSliceVar(&heights, "heights", nil, "heights of the rungs, such as 720,360 (default: the standard ones)")
	cmd.Flags().BoolVar(&wait, "wait", false, "wait until it is done, and show progress")
	return cmd
}

func (a *app) changeCoding(what, short string) *cobra.Command {
	call := what
	if what == "uncode" {
		call = ""
	}
	return &cobra.Command{
		Use: what + " ITEM", Short: short, Args: exactly("ITEM"), Example: "  metaplasis items " + what + " race-3",
		RunE: func(c *cobra.Command, args []string) error {
			e, err := a.client().Coding(c.Context(), args[0], call)
			if err != nil {
				return err
			}
			return a.show(e, func() {
				if e.Coding == nil {
					a.printf("%s is not encoded.\n", e.Name)
				} else {
					a.printf("%s\n", codingWords(e.Coding))
				}
			})
		},
	}
}

func (a *app) removeItem() *cobra.Command {
	return &cobra.Command{
		Use: "remove ITEM", Short: "Remove an item with its files", Args: exactly("ITEM"), Example: "  metaplasis items remove race-3",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveItem(c.Context(), args[0]); err != nil {
				return err
			}
			a.printf("%s is removed.\n", args[0])
			return nil
		},
	}
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
