package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
)

func (a *app) noticesCommand() *cobra.Command {
	var count int
	c := a.ofCase("notices CASE", "List what you were told about a case, and switch mails on or off", 1, func(ctx context.Context, s *client.Client, args []string) error {
		x, err := s.Notices(ctx, args[0], count)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) {
			if len(x.List) > 0 {
				t := newTable(w, "number", "when", "what")
				for _, n := range x.List {
					t.AppendRow(table.Row{n.ID, n.At.Local().Format("2006-01-02 15:04"), plain(shorten(n.Subject, 110))})
				}
				t.Render()
			}
			fmt.Fprintln(w, mailState(x))
		})
	})
	c.Flags().IntVar(&count, "count", 100, "number of notices, the latest, at most 1000")
	show := a.ofCase("show CASE NUMBER", "Show a notice with the stack and the values", 2, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "a notice")
		if err != nil {
			return err
		}
		x, err := s.Notices(ctx, args[0], mostListed)
		if err != nil {
			return err
		}
		for _, n := range x.List {
			if n.ID == id {
				return a.print(n, func(w io.Writer) {
					fmt.Fprintf(w, "%s\n\n%s\n%s\n", plain(n.Subject), plainLines(strings.TrimSpace(n.Markdown)), plain(n.Link))
				})
			}
		}
		return usage("wraith notices CASE lists them", "there is no notice %d among the latest %d", id, mostListed)
	})
	mail := &cobra.Command{Use: "mail ADDRESS", Short: "Set your mail address; - for none", Args: args(1, 1, "ADDRESS"), RunE: func(c *cobra.Command, args []string) error {
		s, err := a.client()
		if err != nil {
			return err
		}
		address := args[0]
		if address == "-" {
			address = ""
		}
		x, err := s.SetMail(c.Context(), address)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { fmt.Fprintf(w, "mails go to %s\n", cmp.Or(plain(x.Mail), "nobody")) })
	}}
	c.AddCommand(show, a.switchNotices("on", true), a.switchNotices("off", false), mail)
	return c
}

func (a *app) switchNotices(name string, isOn bool) *cobra.Command {
	return a.ofCase(name+" CASE", "Switch mails about a case "+name, 1, func(ctx context.Context, s *client.Client, args []string) error {
		if err := s.SwitchNotices(ctx, args[0], isOn); err != nil {
			return err
		}
		x, err := s.Notices(ctx, args[0], 1)
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { fmt.Fprintln(w, mailState(x)) })
	})
}

// mailState says whether the person is mailed, and what is missing if not.
func mailState(x api.Notices) string {
	switch {
	case !x.CanMail:
		return "the service sends no mail: its administrator can give it a mail server with wraithd --smtp"
	case !x.IsOn:
		return "mails about this case are off: wraith notices on CASE switches them on"
	case x.Mail == "":
		return "you have no mail address: wraith notices mail ADDRESS sets one"
	}
	return "mails go to " + plain(x.Mail)
}

func (a *app) webhookCommand() *cobra.Command {
	c := a.ofCase("webhook CASE", "List a case's webhooks, add, try or delete one", 1, func(ctx context.Context, s *client.Client, args []string) error {
		list, err := s.Hooks(ctx, args[0])
		if err != nil {
			return err
		}
		return a.print(list, func(w io.Writer) {
			t := newTable(w, "number", "address", "kinds", "by", "latest request")
			for _, x := range list {
				t.AppendRow(table.Row{x.ID, plain(x.URL), cmp.Or(strings.Join(x.Kinds, ", "), "all"), plain(x.By), plain(hookState(x))})
			}
			t.Render()
		})
	})
	var kinds []string
	add := a.ofCase("add CASE URL", "Tell an address what arrives in a case; prints the secret for signatures", 2, func(ctx context.Context, s *client.Client, args []string) error {
		x, err := s.AddHook(ctx, args[0], api.NewHook{URL: args[1], Kinds: kinds})
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) {
			fmt.Fprintf(w, "webhook %d to %s\nsecret, shown only now: %s\n", x.ID, plain(x.URL), plain(x.Secret))
		})
	})
	add.Flags().StringSliceVar(&kinds, "kind", nil, "what is sent: checkpoint, expectation or failure; all if it is not given")
	try := a.ofCase("try CASE NUMBER", "Send a trial to a webhook now", 2, func(ctx context.Context, s *client.Client, args []string) error {
		id, err := number(args[1], "a webhook")
		if err != nil {
			return err
		}
		if err := s.TryHook(ctx, args[0], id); err != nil {
			return err
		}
		return a.print(struct{}{}, func(w io.Writer) { fmt.Fprintln(w, "the receiver took the trial") })
	})
	c.AddCommand(add, try, a.deletes("webhook", (*client.Client).DeleteHook))
	return c
}

// hookState says what became of the latest request to a webhook.
func hookState(x api.Hook) string {
	switch {
	case x.Ended != "":
		return "ended: " + x.Ended
	case x.Sent != nil:
		return "taken " + x.Sent.Local().Format("2006-01-02 15:04")
	case x.Trouble != "":
		return fmt.Sprintf("failed %d times: %s", x.Failed, x.Trouble)
	}
	return "none yet"
}

// sendHandOver posts a hand-over note and tells members.
func (a *app) sendHandOver() *cobra.Command {
	var to []string
	c := a.ofCase("send CASE FILE", "Post a hand-over note as a comment, and tell the members; - reads standard input", 2, func(ctx context.Context, s *client.Client, args []string) error {
		text, err := noteText(args[1])
		if err != nil {
			return err
		}
		x, err := s.SendHandOver(ctx, args[0], api.HandingOver{Text: text, To: to})
		if err != nil {
			return err
		}
		return a.print(x, func(w io.Writer) { printComment(w, x) })
	})
	c.Flags().StringSliceVar(&to, "to", nil, "members who are told; all if it is not given")
	return c
}

// mostNote limits a note that is read, in bytes.
const mostNote = 1 << 20

// noteText reads a note from a file, or from standard input.
func noteText(name string) (string, error) {
	in := os.Stdin
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return "", fmt.Errorf("read the note: %w", err)
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, mostNote))
	if err != nil {
		return "", fmt.Errorf("read the note: %w", err)
	}
	return string(text), nil
}
