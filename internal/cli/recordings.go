package cli

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/api"
	"metaplasis/internal/core/hls"
)

// recordings are stretches of channels that are kept.
//
//large:the commands of a group, each a literal
func (a *app) recordings() *cobra.Command {
	var channel string
	list := &cobra.Command{
		Use: "list", Short: "List the recordings, the newest first", Args: exactly(), Example: "  metaplasis recordings list\n  metaplasis recordings list --channel start-line",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Recordings(c.Context(), channel)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, r := range list {
					until := "goes on"
					if !r.Ended.IsZero() {
						until = r.Ended.Local().Format(time.DateTime)
					}
					kept := "forever"
					if !r.Expires.IsZero() {
						kept = "until " + r.Expires.Local().Format(time.DateOnly)
					}
					rows = append(rows, []string{strconv.FormatInt(r.ID, 10), r.Channel, string(r.State), r.Begun.Local().Format(time.DateTime), until, megabytes(r.Bytes), kept, r.Title})
				}
				a.table("RECORDING|CHANNEL|STATE|FROM|UNTIL|SIZE|KEPT|TITLE", rows)
			})
		},
	}
	list.Flags().StringVar(&channel, "channel", "", "only this channel")
	byID := func(use, short, example string, do func(c *cobra.Command, id int64) error) *cobra.Command {
		return &cobra.Command{Use: use + " RECORDING", Short: short, Args: exactly("RECORDING"), Example: example, RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("found %q, expected a recording's number from metaplasis recordings list", args[0])}
			}
			return do(c, id)
		}}
	}
	show := byID("show", "Show a recording with its addresses", "  metaplasis recordings show 3", func(c *cobra.Command, id int64) error {
		r, err := a.client().Recording(c.Context(), id)
		if err != nil {
			return err
		}
		return a.show(r, func() { a.showRecording(r) })
	})
	stop := byID("stop", "End a recording now", "  metaplasis recordings stop 3", func(c *cobra.Command, id int64) error {
		r, err := a.client().StopRecording(c.Context(), id)
		if err != nil {
			return err
		}
		return a.show(r, func() { a.printf("The recording %q has ended.\n", r.Title) })
	})
	remove := byID("remove", "Remove a recording; what nothing else keeps is deleted", "  metaplasis recordings remove 3", func(c *cobra.Command, id int64) error {
		if err := a.client().RemoveRecording(c.Context(), id); err != nil {
			return err
		}
		return a.show(map[string]int64{"removed": id}, func() { a.printf("Removed recording %d.\n", id) })
	})
	var title string
	var days int64
	set := byID("set", "Change the title of a recording, or how long it is kept", "  metaplasis recordings set 3 --title \"Race 3, finish\" --days 30", func(c *cobra.Command, id int64) error {
		var ch api.RecordingChange
		if c.Flags().Changed("title") {
			ch.Title = &title
		}
		if c.Flags().Changed("days") {
			ch.Days = &days
		}
		if ch == (api.RecordingChange{}) {
			return usageError{fmt.Errorf("nothing to change: give --title or --days")}
		}
		r, err := a.client().ChangeRecording(c.Context(), id, ch)
		if err != nil {
			return err
		}
		return a.show(r, func() { a.showRecording(r) })
	})
	set.Flags().StringVar(&title, "title", "", "title")
	set.Flags().Int64Var(&days, "days", 0, "days to keep it, from now; 0: forever")
	return group("recordings", "Keep stretches of channels, and write them as files", list, a.recordingsBegin(), show, stop, set, a.recordingsExport(), a.recordingsVerify(), remove)
}

func (a *app) showRecording(r api.Recording) {
	a.printf("Recording   %d, %s\nTitle       %s\nFrom        %s\n", r.ID, r.State, r.Title, r.Begun.Local().Format(time.DateTime))
	if !r.Ended.IsZero() {
		a.printf("Until       %s\n", r.Ended.Local().Format(time.DateTime))
	}
	if !r.Expires.IsZero() {
		a.printf("Kept until  %s\n", r.Expires.Local().Format(time.DateTime))
	}
	a.printf("Renditions  %s\nSize        %s\nHLS         %s\nDASH        %s\n", or(strings.Join(r.Kept, ", "), "none yet"), megabytes(r.Bytes), r.HLS, r.DASH)
	if r.MP4 != "" {
		a.printf("MP4         %s\n", r.MP4)
	}
}

func megabytes(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/1e6) }

func (a *app) recordingsBegin() *cobra.Command {
	var in api.NewRecording
	c := &cobra.Command{
		Use: "begin CHANNEL", Short: "Record a channel: from now, from a past time, or at a future time", Args: exactly("CHANNEL"),
		Long: `Record a channel from now on until it is stopped, or between two times. A time is RFC 3339,
"20 minutes ago" or 20m, "marker" for the newest marker, or "marker:ID". What lies back can be
recorded as far as the channel's time-shift reaches; a time to come makes a plan.`,
		Example: `  metaplasis recordings begin start-line --title "Race 3"
  metaplasis recordings begin start-line --from "10 minutes ago"
  metaplasis recordings begin start-line --from 2026-06-01T14:00:00Z --to 2026-06-01T15:30:00Z --days 30
  metaplasis recordings begin start-line --from marker:start --to marker:finish --renditions source,audio`,
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.client().AddRecording(c.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.show(r, func() { a.showRecording(r) })
		},
	}
	f := c.Flags()
	f.StringVar(&in.Title, "title", "", "title (default: channel and time)")
	f.StringVar(&in.From, "from", "", "start time (default: now)")
	f.StringVar(&in.To, "to", "", "end time (default: when it is stopped)")
	f.StringSliceVar(&in.Renditions, "renditions", nil, "renditions to record (default: all)")
	f.Int64Var(&in.Days, "days", 0, "days to keep it; 0: forever")
	return c
}

// forms are the files that a recording is written as, by their names.
var forms = map[string]string{"mp4": ".mp4", "fragmented": ".m4s", "ts": ".ts"}

func (a *app) recordingsExport() *cobra.Command {
	var form, rendition, to, from, until string
	var exact bool
	c := &cobra.Command{
		Use: "export RECORDING", Short: "Export a recording, or a clip of it, as a file", Args: exactly("RECORDING"),
		Long: `Write a recording as one MP4 that any tool opens, as a fragmented MP4, as a transport stream, or as the CMAF
segments with their playlists in a folder. Nothing is re-encoded, but the edges of a part with --exact. In the name of the file {channel}, {date},
{time}, {number} and {rendition} stand for what they say.`,
		Example: `  metaplasis recordings export 3 --to race-3.mp4
  metaplasis recordings export 3 --to "archive/{channel}/{date}/{number}-{rendition}.mp4" --rendition 480p
  metaplasis recordings export 3 --form ts --to race-3.ts
  metaplasis recordings export 3 --form cmaf --to race-3/
  metaplasis recordings export 3 --from 2026-06-01T14:03:10Z --until 2026-06-01T14:03:25Z --to finish.mp4`,
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usageError{fmt.Errorf("found %q, expected a recording's number from metaplasis recordings list", args[0])}
			}
			r, err := a.client().Recording(c.Context(), id)
			if err != nil {
				return err
			}
			if rendition == "" {
				if r.MP4 == "" {
					return fmt.Errorf("nothing of recording %d is kept yet", id)
				}
				rendition = strings.TrimSuffix(filepath.Base(strings.SplitN(r.MP4, "?", 2)[0]), ".mp4")
			}
			base := r.HLS[:strings.LastIndexByte(r.HLS, '/')+1]
			to = strings.NewReplacer("{channel}", r.Channel, "{date}", r.Begun.UTC().Format("2006-01-02"), "{time}", r.Begun.UTC().Format("150405"),
				"{number}", strconv.FormatInt(r.ID, 10), "{rendition}", rendition).Replace(to)
			if form == "cmaf" {
				return a.exportFolder(c, r, to)
			}
			ending, known := forms[form]
			if !known {
				return usageError{fmt.Errorf("found --form %s, expected mp4, fragmented, ts or cmaf", form)}
			}
			query := r.Query()
			if exact {
				query += "&edges=coded"
			}
			if from != "" || until != "" {
				query += "&from=" + url.QueryEscape(from) + "&to=" + url.QueryEscape(until)
			}
			n, err := a.fetchTo(c, base+url.PathEscape(rendition)+ending+"?"+query, to)
			if err != nil {
				return err
			}
			a.printf("%s: %s of %s, %q.\n", to, megabytes(n), rendition, r.Title)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&form, "form", "mp4", "mp4, fragmented, ts, or cmaf (a folder with playlists and segments)")
	f.StringVar(&rendition, "rendition", "", "video rendition (default: the best)")
	f.StringVar(&to, "to", "", "output file, or folder for cmaf; -: standard output")
	f.StringVar(&from, "from", "", "start of the clip, RFC 3339")
	f.StringVar(&until, "until", "", "end of the clip, RFC 3339")
	f.BoolVar(&exact, "exact", false, "re-encode the edges of a clip, so that the file contains nothing that is not shown")
	_ = c.MarkFlagRequired("to")
	return c
}

// fetchTo writes what an address answers to a file, which is there whole or not at all.
func (a *app) fetchTo(c *cobra.Command, address, to string) (int64, error) {
	req, err := http.NewRequestWithContext(c.Context(), http.MethodGet, address, nil)
	if err != nil {
		return 0, err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, fmt.Errorf("fetching %s: %w", address, err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1000))
		return 0, fmt.Errorf("the service answered %d: %s", res.StatusCode, strings.TrimSpace(string(text)))
	}
	if to == "-" {
		return io.Copy(a.out, res.Body)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return 0, err
	}
	out, err := os.CreateTemp(filepath.Dir(to), ".part-*")
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(out, res.Body)
	if closing := out.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(out.Name(), to)
	}
	if err != nil {
		_ = os.Remove(out.Name())
		return 0, fmt.Errorf("writing %s: %w", to, err)
	}
	return n, os.Chmod(to, 0o644)
}

// exportFolder writes the playlists and segments of a recording to a folder.
func (a *app) exportFolder(c *cobra.Command, r api.Recording, to string) error {
	base := r.HLS[:strings.LastIndexByte(r.HLS, '/')+1]
	query := "?" + r.Query()
	done := map[string]bool{}
	var total int64
	fetch := func(name string) error {
		if done[name] {
			return nil
		}
		done[name] = true
		plain := strings.SplitN(name, "?", 2)[0]
		n, err := a.fetchTo(c, base+name, filepath.Join(to, filepath.FromSlash(plain)))
		total += n
		return err
	}
	for i, rendition := range r.Kept {
		playlist := rendition + "/index.m3u8"
		if err := fetch(playlist + query); err != nil {
			return err
		}
		file := filepath.Join(to, filepath.FromSlash(playlist))
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(strings.ReplaceAll(string(b), query, "")), 0o644); err != nil {
			return err
		}
		list, err := hls.ReadMedia(b)
		if err != nil {
			return fmt.Errorf("the playlist of %s: %w", rendition, err)
		}
		for _, e := range list.Entries {
			if e.Gap {
				continue
			}
			for _, name := range []string{e.Header, e.URI} {
				plain, query, _ := strings.Cut(name, "?")
				if err := fetch(path.Join(rendition, plain) + "?" + query); err != nil {
					return err
				}
			}
		}
		_, _ = fmt.Fprintf(a.err, "%d of %d: %s, %d segments\n", i+1, len(r.Kept), rendition, len(list.Entries))
	}
	// The lists come last: what they name is there.
	for _, name := range []string{"index.m3u8", "index.mpd"} {
		if err := fetch(name + query); err != nil {
			return err
		}
		file := filepath.Join(to, name)
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(strings.ReplaceAll(string(b), query, "")), 0o644); err != nil {
			return err
		}
	}
	a.printf("%s: %s in %d files.\n", to, megabytes(total), len(done))
	return nil
}
