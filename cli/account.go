package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
)

func (a *app) accountCommand() *cobra.Command {
	c := a.ofCase("account", "Show your account: its tokens, and where you are signed in", 0, func(ctx context.Context, s *client.Client, _ []string) error {
		me, err := s.Me(ctx)
		if err != nil {
			return err
		}
		var all struct {
			Person   api.Person    `json:"person"`
			Tokens   []api.Token   `json:"tokens"`
			Sessions []api.Session `json:"sessions"`
		}
		all.Person = me
		if all.Tokens, err = s.Tokens(ctx); err != nil {
			return err
		}
		if all.Sessions, err = s.Sessions(ctx); err != nil {
			return err
		}
		return a.print(all, func(w io.Writer) {
			fmt.Fprintln(w, me.Name)
			t := newTable(w, "token", "label", "for", "made", "used", "expires")
			for _, x := range all.Tokens {
				t.AppendRow(table.Row{x.ID, plain(x.Label), x.Scope, started(x.Created), when(x.Used), when(x.Expires)})
			}
			t.Render()
			t = newTable(w, "browser", "signed in", "used", "ends")
			for _, x := range all.Sessions {
				t.AppendRow(table.Row{x.ID, started(x.Created), started(x.Used), started(x.Expires)})
			}
			t.Render()
		})
	})
	var scope string
	var days int
	token := a.ofCase("token LABEL", "Make a token for a program; your password is read from standard input", 1, func(ctx context.Context, s *client.Client, args []string) error {
		me, err := s.Me(ctx)
		if err != nil {
			return err
		}
		lines, err := a.lines(1)
		if err != nil {
			return err
		}
		t, err := s.NewToken(ctx, api.Credentials{Name: me.Name, Password: lines[0]}, args[0], scope, days)
		if err != nil {
			return err
		}
		return a.print(t, func(w io.Writer) {
			fmt.Fprintf(w, "token %d, for %s; it is shown once:\n%s\n", t.ID, t.Scope, t.Secret)
		})
	})
	token.Flags().StringVar(&scope, "scope", "write", "read, write, or ingest, which adds evidence")
	token.Flags().IntVar(&days, "days", 0, "days until it expires; 0 for never")
	revoke := a.ofCase("revoke TOKEN", "Revoke a token, by its number", 1, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usage("wraith account lists the tokens", "invalid number of a token %q", args[0])
		}
		if err := s.RevokeToken(ctx, id); err != nil {
			return err
		}
		return a.print(map[string]int64{"revoked": id}, func(w io.Writer) { fmt.Fprintf(w, "token %d does not work any more\n", id) })
	})
	password := a.ofCase("password", "Set your password; the old one and the new one are read from standard input, a line each", 0, func(ctx context.Context, s *client.Client, _ []string) error {
		lines, err := a.lines(2)
		if err != nil {
			return err
		}
		if err := s.ChangePassword(ctx, api.PasswordChange{Old: lines[0], New: lines[1]}); err != nil {
			return err
		}
		return a.print(map[string]bool{"changed": true}, func(w io.Writer) {
			fmt.Fprintln(w, "the password is changed; you are signed out of all browsers, and tokens still work")
		})
	})
	out := a.ofCase("sign-out", "Sign out of all browsers", 0, func(ctx context.Context, s *client.Client, _ []string) error {
		if err := s.EndSessions(ctx); err != nil {
			return err
		}
		return a.print(map[string]bool{"signedOut": true}, func(w io.Writer) { fmt.Fprintln(w, "you are signed out of all browsers") })
	})
	c.AddCommand(token, revoke, password, out)
	return c
}

// lines reads lines of standard input.
func (a *app) lines(n int) (out []string, err error) {
	in := bufio.NewReader(a.in)
	for range n {
		text, err := in.ReadString('\n')
		if err != nil && text == "" {
			return nil, usage("give each on a line of its own", "standard input has %s of %d", counted(len(out), "line"), n)
		}
		out = append(out, strings.TrimRight(text, "\r\n"))
	}
	return out, nil
}

// when formats a time that there may not be.
func when(at *time.Time) string {
	if at == nil {
		return "never"
	}
	return started(*at)
}
