package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"
)

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
					rows = append(rows, []string{strconv.FormatInt(k.ID, 10), or(k.Label, "-"),
						k.Created.Local().Format(time.DateTime), used})
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
				return usageError{fmt.Errorf("found %q, expected a key's number from metaplasis keys list %s", args[1],
					args[0])}
			}
			if err := a.client().RemoveKey(c.Context(), args[0], id); err != nil {
				return err
			}
			return a.show(map[string]int64{"removed": id}, func() { a.printf("Removed key %d.\n", id) })
		},
	}
	return group("keys", "Make, list and remove contribution keys", create, list, remove)
}
