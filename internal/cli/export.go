package cli

import (
	"fmt"
	"io"
	"os"
	"slices"

	"github.com/spf13/cobra"
)

// exported are the tables of records.
var exported = []string{"statistics", "events", "feeds"}

// export writes records as tables.
func (a *app) export() *cobra.Command {
	var channel, from, until, to string
	c := &cobra.Command{
		Use: "export {statistics|events|feeds}", Short: "Export records as CSV", Args: exactly("TABLE"), ValidArgs: exported,
		Long: `Write what channels did (a row for each minute; 10 minutes after three days, an hour after two months), events, or
contribution connections as a table. A time is RFC 3339 or "7 days ago"; without one it is the last day.`,
		Example: "  metaplasis export statistics --channel start-line --from 168h --to week.csv\n  metaplasis export events --from 2026-06-01T00:00:00Z",
		RunE: func(c *cobra.Command, args []string) error {
			if !slices.Contains(exported, args[0]) {
				return usageError{fmt.Errorf("found %q, expected statistics, events or feeds", args[0])}
			}
			out, done := a.out, func() error { return nil }
			if to != "" && to != "-" {
				f, err := os.Create(to)
				if err != nil {
					return err
				}
				out, done = io.Writer(f), f.Close
			}
			err := a.client().Export(c.Context(), args[0], channel, from, until, out)
			if end := done(); err == nil {
				err = end
			}
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&channel, "channel", "", "only this channel")
	f.StringVar(&from, "from", "", "start time (default: a day ago)")
	f.StringVar(&until, "until", "", "end time (default: now)")
	f.StringVar(&to, "to", "-", "output file; -: standard output")
	return c
}
