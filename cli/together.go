package cli

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/client"
)

// nameInCase splits CASE/NAME.
func nameInCase(text string) (caseName, name string, err error) {
	caseName, name, ok := strings.Cut(text, "/")
	if !ok || name == "" {
		return "", "", usage("write it as CASE/NAME", "%q has no evidence of a case", text)
	}
	return caseName, name, nil
}

// inCase finds the evidence CASE/NAME in the service.
func (a *app) inCase(name string) (*client.Shared, error) {
	caseName, evidence, err := nameInCase(name)
	if err != nil {
		return nil, err
	}
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	return c.Evidence(caseName, evidence), nil
}

func (a *app) sender() *cobra.Command {
	label := ""
	inbox := false
	c := &cobra.Command{
		Use: "sender CASE|--inbox [--label LABEL]", Short: "Make a token with which programs send spans and logs into a case",
		Long: "Make a token with which programs send spans and logs by the OpenTelemetry protocol into a case, or\ninto your inbox. It can do nothing else. It is shown once; an SDK takes it from its environment:\n\n  OTEL_EXPORTER_OTLP_ENDPOINT=URL OTEL_EXPORTER_OTLP_HEADERS=authorization=Bearer%20TOKEN",
		Args: args(0, 1, "CASE|--inbox"),
		RunE: func(c *cobra.Command, args []string) error {
			if inbox == (len(args) == 1) {
				return usage("wraith sender CASE, or wraith sender --inbox", "a sender is for a case, or for the inbox")
			}
			s, err := a.client()
			if err != nil {
				return err
			}
			x, err := s.NewSender(c.Context(), strings.Join(args, ""), label)
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) {
				fmt.Fprintf(w, "%s\n  sends into %s, and is not shown again\n", x.Secret, x.Case)
			})
		},
	}
	host, _ := os.Hostname() // a label for people to read
	c.Flags().StringVar(&label, "label", "made on "+host, "purpose")
	c.Flags().BoolVar(&inbox, "inbox", false, "for data without a case")
	c.AddCommand(&cobra.Command{
		Use: "list CASE", Short: "List the tokens that may send into a case", Args: args(1, 1, "CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			list, err := s.Senders(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "number", "for", "by", "made")
				for _, x := range list {
					t.AppendRow([]any{x.ID, plain(x.Label), x.By, x.Created.Format("2006-01-02 15:04")})
				}
				t.Render()
			})
		},
	}, &cobra.Command{
		Use: "delete CASE NUMBER", Short: "Take a token away", Args: args(2, 2, "CASE NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return usage("wraith sender list CASE lists them", "invalid number %q", args[1])
			}
			s, err := a.client()
			if err != nil {
				return err
			}
			if err := s.DeleteSender(c.Context(), args[0], id); err != nil {
				return err
			}
			return a.print(map[string]int64{"deleted": id}, func(w io.Writer) { fmt.Fprintf(w, "sender %d may send no more\n", id) })
		},
	})
	return c
}

func (a *app) move() *cobra.Command {
	return &cobra.Command{
		Use: "move CASE/NAME CASE", Short: "Move evidence to another case, for example from the inbox", Args: args(2, 2, "CASE/NAME CASE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.inCase(args[0])
			if err != nil {
				return err
			}
			e, err := s.Move(c.Context(), args[1])
			if err != nil {
				return err
			}
			return a.print(e, func(w io.Writer) { fmt.Fprintf(w, "%s is now %s/%s\n", args[0], args[1], e.Name) })
		},
	}
}

func (a *app) alike() *cobra.Command {
	return &cobra.Command{
		Use: "alike CASE/NAME", Short: "List the evidence with the same failure, or a similar one, in all your cases, and what they found", Args: args(1, 1, "CASE/NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.inCase(args[0])
			if err != nil {
				return err
			}
			list, err := s.Alike(c.Context())
			if err != nil {
				return err
			}
			if err := a.print(list, func(w io.Writer) {
				t := newTable(w, "evidence", "alike", "uploaded", "outcome", "cause that the case was closed with")
				for _, x := range list {
					alike := "the same"
					if !x.Same {
						alike = fmt.Sprintf("%.0f %%", 100*x.Score)
					}
					t.AppendRow([]any{x.Case + "/" + x.Evidence.Name, alike, x.Evidence.Uploaded.Format("2006-01-02 15:04"), plain(shorten(x.Evidence.Outcome, 100)), plain(shorten(x.Cause, 60))})
				}
				t.Render()
			}); err != nil {
				return err
			}
			return foundSome(len(list))
		},
	}
}
