package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"metaplasis/internal/api"
	"metaplasis/internal/operations"
	"metaplasis/internal/records"
	"metaplasis/internal/service"
)

// users are who may sign in, and what they may do.
func (a *app) users() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the users and their roles", Args: exactly(), Example: "  metaplasis users list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Users(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, u := range list {
					rows = append(rows, []string{u.Name, string(u.Role), u.Created.Local().Format(time.DateTime)})
				}
				a.table("USER|ROLE|SINCE", rows)
			})
		},
	}
	var role string
	add := &cobra.Command{
		Use: "add USER", Short: "Add a user", Args: exactly("USER"),
		Long:    "Add a user. The password is asked for, or read from standard input. A role is watch (see everything but\nsecrets), operate (change channels, ladders and keys) or administer (change users too).",
		Example: "  metaplasis users add ana --role operate\n  echo a-long-password | metaplasis users add gallery --role watch",
		RunE: func(c *cobra.Command, args []string) error {
			password, err := a.ask("Password of " + args[0] + ": ")
			if err != nil {
				return fmt.Errorf("the password: %w", err)
			}
			u, err := a.client().AddUser(c.Context(), api.NewUser{Name: args[0], Password: password, Role: api.Role(role)})
			if err != nil {
				return err
			}
			return a.show(u, func() { a.printf("%s may %s.\n", u.Name, u.Role) })
		},
	}
	add.Flags().StringVar(&role, "role", string(api.Watch), "role: watch, operate or administer")
	remove := &cobra.Command{
		Use: "remove USER", Short: "Remove a user with their sessions and tokens", Args: exactly("USER"), Example: "  metaplasis users remove ana",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveUser(c.Context(), args[0]); err != nil {
				return err
			}
			a.printf("The user %s was removed.\n", args[0])
			return nil
		},
	}
	return group("users", "List, add and remove users", list, add, remove)
}

func (a *app) signIn() *cobra.Command {
	var user string
	c := &cobra.Command{
		Use: "sign-in", Short: "Sign in to a service and remember it", Args: exactly(),
		Long:    "Check a password, make a client token, and remember both service and token for the\ncommands that follow. The password is asked for, or read from standard input.",
		Example: "  metaplasis sign-in --server http://origin.example:8780 --user admin",
		RunE: func(c *cobra.Command, _ []string) error {
			cl := a.client()
			cl.Token = ""
			password, err := a.ask("Password of " + user + ": ")
			if err != nil {
				return fmt.Errorf("the password: %w", err)
			}
			host, _ := os.Hostname()
			t, err := cl.SignIn(c.Context(), user, password, "commands on "+host)
			if err != nil {
				return err
			}
			path, err := signedInFile()
			if err != nil {
				return err
			}
			b, _ := json.Marshal(signedIn{cl.Server, t.Secret})
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return fmt.Errorf("remembering the sign-in: %w", err)
			}
			if err := os.WriteFile(path, b, 0o600); err != nil {
				return fmt.Errorf("remembering the sign-in: %w", err)
			}
			return a.show(map[string]string{"server": cl.Server, "user": user},
				func() { a.printf("Signed in at %s as %s.\n", cl.Server, user) })
		},
	}
	c.Flags().StringVar(&user, "user", service.Administrator, "user name")
	return c
}

// password sets a user's password directly in the records, for who has lost it.
func (a *app) password() *cobra.Command {
	var user, dsn string
	c := &cobra.Command{
		Use: "password", Short: "Set a user's password on the service's machine", Args: exactly(),
		Long:    "Set a user's password directly in the records, when it is lost. The service must not be\nrunning on its own database at the same time; with a DSN it may.",
		Example: "  metaplasis password\n  echo new-password | metaplasis password --user admin",
		RunE: func(c *cobra.Command, _ []string) error {
			next, err := a.ask("New password of " + user + ": ")
			if err != nil {
				return fmt.Errorf("the password: %w", err)
			}
			if len(next) < 10 {
				return usageError{fmt.Errorf("found %d characters, expected at least 10", len(next))}
			}
			if dsn = cmp.Or(dsn, os.Getenv(dsnVariable)); dsn == "" {
				server, err := records.StartServer(c.Context(), filepath.Join(a.data, "records"), discard())
				if err != nil {
					return err
				}
				defer func() { _ = server.Stop() }()
				dsn = server.DSN
			}
			db, err := records.Open(c.Context(), dsn)
			if err != nil {
				return err
			}
			defer func() { _ = db.Close() }()
			u, err := db.UserByName(c.Context(), user)
			if err != nil {
				return fmt.Errorf("user %s: %w", user, err)
			}
			if err := db.SetPassword(c.Context(), u.ID, operations.HashPassword(next)); err != nil {
				return err
			}
			a.printf("The password of %s was set.\n", user)
			return nil
		},
	}
	c.Flags().StringVar(&user, "user", service.Administrator, "user name")
	c.Flags().StringVar(&dsn, "dsn", "", "DSN of the service's MariaDB, if it is not its own (environment METAPLASIS_DSN)")
	return c
}
