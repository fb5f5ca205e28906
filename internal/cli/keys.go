package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/api"
)

// keyUse is what a key is for, in a word.
func keyUse(k *api.Key) string {
	if k.Receives {
		return "receiving"
	}
	return or(k.Protocol, "any")
}

// keys are the commands for contribution keys.
//
//large:the commands of a group, each a literal
func (a *app) keys() *cobra.Command {
	var in api.NewKey
	var valid time.Duration
	create := &cobra.Command{
		Use: "create CHANNEL", Short: "Create a contribution key and show it once", Args: exactly("CHANNEL"), ValidArgsFunction: a.completeChannels,
		Long:    "Create a contribution key for a channel. It can be limited to one sender input and to one protocol, and it can expire:\nits sender is disconnected then.",
		Example: "  metaplasis keys create start-line --label \"camera 1\"\n  metaplasis keys create start-line --label \"guest\" --protocol WebRTC --valid 4h\n  metaplasis keys create start-line --label \"second encoder\" --input backup\n  metaplasis keys create start-line --label \"truck\" --receive",
		RunE: func(c *cobra.Command, args []string) error {
			if valid != 0 {
				at := time.Now().Add(valid).UTC().Truncate(time.Second)
				in.Expires = &at
			}
			k, err := a.client().CreateKey(c.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				a.printf("Key         %s\n", k.Secret)
				if k.Expires != nil {
					a.printf("Ends        %s\n", k.Expires.Local().Format(time.DateTime))
				}
				if k.Receives {
					a.printf("Receivers   srt://HOST:PORT?streamid=request/%s/%s\n", args[0], k.Secret)
				}
				for _, to := range k.Senders {
					a.printf("\n%s\n  server    %s\n  key       %s\n  or both   %s\n  %s\n", to.Protocol, to.Server, to.Key, to.URL, to.Hint)
				}
				a.printf("\nThe key is not shown again.\n")
			})
		},
	}
	create.Flags().StringVar(&in.Label, "label", "", "what the key is for")
	create.Flags().StringVar(&in.Input, "input", "", "name of the sender input that it is for; empty: any")
	create.Flags().StringVar(&in.Protocol, "protocol", "", "protocol that it is for: RTMP, SRT, RTSP, WebRTC or HTTP; empty: any")
	create.Flags().BoolVar(&in.Receives, "receive", false, "for an SRT receiver; it does not admit senders")
	create.Flags().DurationVar(&valid, "valid", 0, "validity, such as 4h; 0: forever")
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
					ends := "never"
					if k.Expires != nil {
						ends = k.Expires.Local().Format(time.DateTime)
					}
					rows = append(rows, []string{strconv.FormatInt(k.ID, 10), or(k.Label, "-"), or(k.Input, "any"), keyUse(&k),
						k.Created.Local().Format(time.DateTime), used, ends})
				}
				a.table("KEY|LABEL|INPUT|FOR|CREATED|LAST USED|ENDS", rows)
			})
		},
	}
	remove := &cobra.Command{
		Use: "remove CHANNEL KEY", Short: "Remove a key by its number; its sender is disconnected", Args: exactly("CHANNEL", "KEY"),
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
