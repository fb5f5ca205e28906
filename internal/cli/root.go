// Package cli is the command line: thin commands over the control API's client, and the two that
// start the service itself.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"metaplasis/internal/client"
	"metaplasis/internal/service"
)

// Exit codes.
const (
	exitFailed  = 1 // the service refused, or something broke
	exitUsage   = 2 // the command line was wrong
	exitSilent  = 3 // the service does not answer
	exitSignIn  = 4 // not signed in
	exitMissing = 5 // there is nothing of that name
	exitBroken  = 6 // an inspection found violated rules
)

// app is what every command shares.
//
//large:a method for each command, which has little to do with the others
type app struct {
	in     io.Reader
	out    io.Writer
	err    io.Writer
	json   bool
	server string
	token  string
	data   string

	dataGiven bool // by flag or environment
}

// usageError marks a wrong command line.
type usageError struct{ error }

// Main runs a command line and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	if errors.Is(err, errBroken) {
		return exitBroken // the report has said it all
	}
	_, _ = fmt.Fprintln(errOut, "metaplasis: "+err.Error())
	return exitCode(err)
}

func exitCode(err error) int {
	var usage usageError
	var refused *client.Error
	switch {
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		return exitUsage
	case errors.As(err, &refused) && refused.Status == 401:
		return exitSignIn
	case errors.As(err, &refused) && refused.Status == 404:
		return exitMissing
	case strings.Contains(err.Error(), "does not answer"):
		return exitSilent
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "metaplasis",
		Short: "A live origin: feeds in, adaptive channels out",
		Long: `Metaplasis takes contribution feeds, turns each into an adaptive ladder of aligned
renditions, and serves them to browsers.

Try it:           metaplasis rehearse
Run it:           metaplasis serve
Make a channel:   metaplasis channels create start-line --title "Start line"
Let a sender in:  metaplasis keys create start-line --label "camera 1"

Exit codes: 0 done, 1 refused or failed, 2 wrong usage, 3 no service answers,
4 not signed in, 5 nothing of that name, 6 an inspected stream violates rules.`,
		SilenceUsage: true, SilenceErrors: true,
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w\nSee %s --help", err, c.CommandPath())}
	})
	f := root.PersistentFlags()
	f.BoolVar(&a.json, "json", false, "print JSON")
	f.StringVar(&a.server, "server", os.Getenv("METAPLASIS_SERVER"),
		"address of the service (environment METAPLASIS_SERVER; default: the one that runs here, else where sign-in was, else http://127.0.0.1:8780)")
	f.StringVar(&a.token, "token", "", "client token (environment METAPLASIS_TOKEN; default from sign-in, or the operator's token of this machine)")
	f.StringVar(&a.data, "data", defaultData(), "data folder of the service (environment METAPLASIS_DATA)")
	root.PersistentPreRun = func(c *cobra.Command, _ []string) {
		a.dataGiven = c.Flags().Changed("data") || os.Getenv("METAPLASIS_DATA") != ""
		if data, err := filepath.Abs(a.data); err == nil {
			a.data = data
		}
	}
	root.AddCommand(a.serve(), a.rehearse(), a.channels(), a.keys(), a.relays(), a.feeds(), a.ladders(), a.plans(), a.images(), a.events(), a.camera(),
		a.delay(), a.inspect(), a.signIn(), a.users(), a.password(), a.hooks(), a.recordings(), a.store(), a.items(), a.export(), a.studio(), a.workerCommand(), a.srtHostCommand(), a.forwardCommand())
	return root
}

func defaultData() string {
	if d := os.Getenv("METAPLASIS_DATA"); d != "" {
		return d
	}
	return userData()
}

func userData() string {
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "metaplasis")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "metaplasis-data"
	}
	return filepath.Join(home, ".local", "share", "metaplasis")
}

// signedIn is what sign-in remembers.
type signedIn struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func signedInFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("folder of settings: %w", err)
	}
	return filepath.Join(dir, "metaplasis", "client.json"), nil
}

// client makes the API's client. What is given by flag comes first, then the environment, then
// the last sign-in, then the token that a service on this machine left in its data folder.
func (a *app) client() *client.Client {
	c := &client.Client{Server: a.server, Token: a.token}
	if c.Token == "" {
		c.Token = os.Getenv("METAPLASIS_TOKEN")
	}
	var remembered signedIn
	if path, err := signedInFile(); err == nil {
		if b, err := os.ReadFile(path); err == nil {
			_ = json.Unmarshal(b, &remembered)
		}
	}
	data, here := a.data, false
	if c.Server == "" {
		c.Server = remembered.Server
	}
	// A service or rehearsal that runs here needs no sign-in, and no address when there is no other.
	list := service.FindRunning(runningFolder())
	if a.dataGiven {
		if abs, err := filepath.Abs(a.data); err == nil {
			a.data = abs
		}
		list = append(list, service.FindRunning(service.NotesIn(a.data))...)
	}
	for _, r := range list {
		at := "http://" + local(r.HTTP)
		if a.dataGiven && r.Data != a.data || c.Server != "" && strings.TrimRight(c.Server, "/") != at {
			continue
		}
		c.Server, data, here = at, r.Data, true
		break
	}
	if c.Server == "" {
		c.Server = "http://127.0.0.1:8780"
	}
	if c.Token == "" && c.Server == remembered.Server && data == a.data {
		c.Token = remembered.Token
	}
	// The operator's token of this machine is for the service that was found running on that data folder, and for nobody
	// else who is at an address that somebody names.
	if c.Token == "" && here {
		if b, err := os.ReadFile(service.TokenFile(data)); err == nil {
			c.Token = strings.TrimSpace(string(b))
		}
	}
	return c
}

// runningFolder is where the services of this user leave a note.
func runningFolder() string { return filepath.Join(filepath.Dir(userData()), "metaplasis-running") }

// show prints v as JSON when that was asked for, and through human otherwise.
func (a *app) show(v any, human func()) error {
	if !a.json {
		human()
		return nil
	}
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

func (a *app) printf(format string, args ...any) { _, _ = fmt.Fprintf(a.out, format, args...) }

// table prints rows in columns.
func (a *app) table(head string, rows [][]string) {
	w := tabwriter.NewWriter(a.out, 0, 4, 2, ' ', 0)
	_, _ = fmt.Fprintln(w, strings.ReplaceAll(head, "|", "\t"))
	for _, r := range rows {
		_, _ = fmt.Fprintln(w, strings.Join(r, "\t"))
	}
	_ = w.Flush()
}

// exactly wants a number of arguments and says which.
func exactly(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return usageError{fmt.Errorf("found %d arguments, expected %d: %s\nSee %s --help", len(args), len(names),
				strings.Join(names, " "), c.CommandPath())}
		}
		return nil
	}
}

// group is a command that only holds others.
func group(use, short string, sub ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usageError{fmt.Errorf("unknown command %q\nSee %s --help", args[0], c.CommandPath())}
		}
		return nil
	}, RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(sub...)
	return c
}

// completeChannels offers the channels' names.
func (a *app) completeChannels(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := a.client().Channels(c.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, ch := range list {
		out = append(out, ch.Settings.Slug)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func discard() *slog.Logger { return slog.New(slog.DiscardHandler) }
