package cli

import (
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/store"
)

// store is what is kept, as files.
func (a *app) store() *cobra.Command {
	show := &cobra.Command{
		Use: "show", Short: "Show the store, and what is in quarantine", Args: exactly(), Example: "  metaplasis store show",
		RunE: func(c *cobra.Command, _ []string) error {
			st, err := a.client().Store(c.Context())
			if err != nil {
				return err
			}
			return a.show(st, func() {
				a.printf("Store       %s\n", st.Place)
				if st.Deletions > 0 {
					a.printf("To remove   %d files %s\n", 2*st.Deletions, st.DeletionError)
				}
				if len(st.Quarantine) == 0 {
					a.printf("Quarantine  empty\n")
					return
				}
				var rows [][]string
				for _, q := range st.Quarantine {
					rows = append(rows, []string{q.Channel, q.Oldest.Local().Format(time.DateTime), q.Newest.Local().Format(time.DateTime), megabytes(q.Bytes), q.Why})
				}
				a.printf("\nIn quarantine: it stays until you adopt or remove it.\n\n")
				a.table("CHANNEL|FROM|UNTIL|SIZE|WHY", rows)
			})
		},
	}
	decide := func(use, short, done, example string, do func(c *cobra.Command, slug string) (store.Quarantine, error)) *cobra.Command {
		return &cobra.Command{Use: use + " CHANNEL", Short: short, Args: exactly("CHANNEL"), Example: example, RunE: func(c *cobra.Command, args []string) error {
			q, err := do(c, args[0])
			if err != nil {
				return err
			}
			return a.show(q, func() {
				a.printf("%s %s of %s, from %s to %s.\n", done, megabytes(q.Bytes), q.Channel, q.Oldest.Local().Format(time.DateTime), q.Newest.Local().Format(time.DateTime))
			})
		}}
	}
	adopt := decide("adopt", "Make a recording of what is in quarantine of a channel", "Adopted", "  metaplasis store adopt start-line",
		func(c *cobra.Command, slug string) (store.Quarantine, error) {
			return a.client().AdoptQuarantined(c.Context(), slug)
		})
	remove := decide("remove", "Remove what is in quarantine of a channel, for good", "Removed", "  metaplasis store remove start-line",
		func(c *cobra.Command, slug string) (store.Quarantine, error) {
			return a.client().RemoveQuarantined(c.Context(), slug)
		})
	return group("store", "Look after the files of what is kept", show, adopt, remove)
}

// errNotWhole makes the command end with a code of its own.
var errNotWhole = errors.New("not all of it is there as it was written")

func (a *app) recordingsVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify [RECORDING...]", Short: "Verify the checksums of recordings (default: all)",
		Example: "  metaplasis recordings verify 3\n  metaplasis recordings verify",
		RunE: func(c *cobra.Command, args []string) error {
			var ids []int64
			for _, text := range args {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return usageError{fmt.Errorf("found %q, expected a recording's number from metaplasis recordings list", text)}
				}
				ids = append(ids, id)
			}
			if len(args) == 0 {
				list, err := a.client().Recordings(c.Context(), "")
				if err != nil {
					return err
				}
				for _, r := range list {
					ids = append(ids, r.ID)
				}
			}
			whole := true
			reports := map[string]store.Verification{}
			for _, id := range ids {
				r, err := a.client().VerifyRecording(c.Context(), id)
				if err != nil {
					return err
				}
				reports[strconv.FormatInt(id, 10)] = r
				whole = whole && r.Sound()
				if !a.json {
					a.reportOf(id, &r)
				}
			}
			if err := a.show(reports, func() {}); err != nil {
				return err
			}
			if !whole {
				return errNotWhole
			}
			return nil
		},
	}
}

func (a *app) reportOf(id int64, r *store.Verification) {
	if r.Sound() {
		a.printf("Recording %d is whole: %d segments, %s.\n", id, r.Segments, megabytes(r.Bytes))
		return
	}
	a.printf("Recording %d is not whole: of %d pairs of files %d are missing, %d are damaged, %d cannot be read now.\n", id, r.Bundles, len(r.Missing), len(r.Damaged), len(r.Unread))
	for _, path := range r.Missing {
		a.printf("  missing  %s\n", path)
	}
	for _, path := range r.Damaged {
		a.printf("  damaged  %s\n", path)
	}
	for path, why := range r.Unread {
		a.printf("  unread   %s: %s\n", path, why)
	}
}
