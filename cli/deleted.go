package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/client"
)

// done prints what was done with something.
func (a *app) done(what, name string) error {
	return a.print(map[string]string{what: name}, func(w io.Writer) { fmt.Fprintln(w, what, name) })
}

// ofOne is a command about evidence of a case.
func (a *app) ofOne(use, short, what string, do func(ctx context.Context, s *client.Client, caseName, name string) error) *cobra.Command {
	return a.ofCase(use+" CASE/NAME", short, 1, func(ctx context.Context, s *client.Client, args []string) error {
		caseName, name, err := nameInCase(args[0])
		if err != nil {
			return err
		}
		if err := do(ctx, s, caseName, name); err != nil {
			return err
		}
		return a.done(what, args[0])
	})
}

func (a *app) deletedEvidence() []*cobra.Command {
	return []*cobra.Command{
		a.ofOne("delete", "Delete evidence; it can be restored for some time", "deleted", func(ctx context.Context, s *client.Client, caseName, name string) error {
			return s.DeleteEvidence(ctx, caseName, name)
		}),
		a.ofOne("restore", "Restore what was deleted last under a name", "restored", func(ctx context.Context, s *client.Client, caseName, name string) error {
			return s.RestoreEvidence(ctx, caseName, name)
		}),
		a.ofCase("deleted CASE", "List what of a case can be restored", 1, func(ctx context.Context, s *client.Client, args []string) error {
			list, err := s.Deleted(ctx, args[0])
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "kind", "name", "bytes", "deleted", "by")
				for _, x := range list {
					t.AppendRow(table.Row{x.Kind, plain(x.Name), x.Bytes, started(x.At), plain(x.By)})
				}
				t.Render()
			})
		}),
	}
}

func (a *app) deletedArtifacts() []*cobra.Command {
	return []*cobra.Command{
		a.ofCase("delete CASE NAME", "Delete an artifact; it can be restored for some time", 2, func(ctx context.Context, s *client.Client, args []string) error {
			if err := s.DeleteArtifact(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.done("deleted", args[1])
		}),
		a.ofCase("restore CASE NAME", "Restore the artifact that was deleted last under a name", 2, func(ctx context.Context, s *client.Client, args []string) error {
			if err := s.RestoreArtifact(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.done("restored", args[1])
		}),
	}
}

func (a *app) deletedCases() []*cobra.Command {
	return []*cobra.Command{
		a.ofCase("delete CASE", "Delete a case that you lead; it can be restored for some time", 1, func(ctx context.Context, s *client.Client, args []string) error {
			if err := s.DeleteCase(ctx, args[0]); err != nil {
				return err
			}
			return a.done("deleted", args[0])
		}),
		a.ofCase("restore CASE", "Restore a case that you lead", 1, func(ctx context.Context, s *client.Client, args []string) error {
			if _, err := s.RestoreCase(ctx, args[0]); err != nil {
				return err
			}
			return a.done("restored", args[0])
		}),
		a.ofCase("retention CASE DAYS", "Delete evidence of a case some days after it came; 0 for never", 2, func(ctx context.Context, s *client.Client, args []string) error {
			days, err := strconv.Atoi(args[1])
			if err != nil {
				return usage("give a number of days, or 0 for never", "invalid number of days %q", args[1])
			}
			if err := s.Retain(ctx, args[0], days); err != nil {
				return err
			}
			return a.print(map[string]int{"days": days}, func(w io.Writer) {
				if days == 0 {
					fmt.Fprintf(w, "evidence of %s is kept until somebody deletes it\n", args[0])
					return
				}
				fmt.Fprintf(w, "evidence of %s is deleted %s after it came\n", args[0], counted(days, "day"))
			})
		}),
	}
}
