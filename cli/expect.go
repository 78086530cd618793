package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/expectations"
	"wraithology/core/replay/find"
)

// expectationStore is where expectations are kept: a file, or a case.
type expectationStore interface {
	list(ctx context.Context) ([]api.KeptExpectation, error)
	add(ctx context.Context, e ask.Expectation) (api.KeptExpectation, error)
	change(ctx context.Context, id int64, n api.ExpectationChange) (api.KeptExpectation, error)
	delete(ctx context.Context, id int64) error
}

// expectationsIn returns where the expectations of a name are kept.
func (a *app) expectationsIn(name string) (expectationStore, error) {
	if expectations.IsFile(name) {
		return expectationFile{name}, nil
	}
	c, err := a.client()
	return expectationCase{c, name}, err
}

type expectationCase struct {
	c    *client.Client
	name string
}

func (x expectationCase) list(ctx context.Context) ([]api.KeptExpectation, error) {
	return x.c.Expectations(ctx, x.name)
}

func (x expectationCase) add(ctx context.Context, e ask.Expectation) (api.KeptExpectation, error) {
	return x.c.Expect(ctx, x.name, e)
}

func (x expectationCase) change(ctx context.Context, id int64, n api.ExpectationChange) (api.KeptExpectation, error) {
	return x.c.ChangeExpectation(ctx, x.name, id, n)
}

func (x expectationCase) delete(ctx context.Context, id int64) error {
	return x.c.DeleteExpectation(ctx, x.name, id)
}

type expectationFile struct{ path string }

func (x expectationFile) list(context.Context) ([]api.KeptExpectation, error) {
	f, err := expectations.Open(x.path)
	if err != nil {
		return nil, err
	}
	out := []api.KeptExpectation{}
	for i, e := range f.List() {
		out = append(out, api.KeptExpectation{ID: int64(i + 1), Expectation: e})
	}
	return out, nil
}

func (x expectationFile) add(_ context.Context, e ask.Expectation) (api.KeptExpectation, error) {
	f, err := expectations.Create(x.path)
	if err != nil {
		return api.KeptExpectation{}, err
	}
	e.Text = x.lineText(e.Checkpoint)
	if err := f.Add(e); err != nil {
		return api.KeptExpectation{}, err
	}
	return api.KeptExpectation{ID: int64(len(f.List())), Expectation: e}, f.Save()
}

func (x expectationFile) change(_ context.Context, id int64, n api.ExpectationChange) (api.KeptExpectation, error) {
	f, err := expectations.Open(x.path)
	if err != nil {
		return api.KeptExpectation{}, err
	}
	e, err := f.At(id)
	if err != nil {
		return api.KeptExpectation{}, err
	}
	if n.Checkpoint != nil && *n.Checkpoint != e.Checkpoint {
		e.Checkpoint, e.Text = *n.Checkpoint, x.lineText(*n.Checkpoint)
	}
	for member, value := range map[*string]*string{&e.When: n.When, &e.That: n.That, &e.Note: n.Note} {
		if value != nil {
			*member = *value
		}
	}
	if err := f.Replace(id, e); err != nil {
		return api.KeptExpectation{}, err
	}
	return api.KeptExpectation{ID: id, Expectation: e}, f.Save()
}

func (x expectationFile) delete(_ context.Context, id int64) error {
	f, err := expectations.Open(x.path)
	if err != nil {
		return err
	}
	if err := f.Delete(id); err != nil {
		return err
	}
	return f.Save()
}

// lineText returns the source text of a checkpoint's line, if the source file is at its path from the file's folder or
// from here; else it is empty, and the number of the line counts.
func (x expectationFile) lineText(checkpoint string) string {
	kind, about, err := find.Parse(checkpoint)
	if err != nil || kind.Name != "line" {
		return ""
	}
	file, line, err := find.ParseLine(about)
	if err != nil {
		return ""
	}
	for _, path := range []string{filepath.Join(filepath.Dir(x.path), file), file} {
		text, err := os.ReadFile(path)
		if lines := strings.Split(string(text), "\n"); err == nil && line <= len(lines) {
			return strings.TrimSpace(lines[line-1])
		}
	}
	return ""
}

func (a *app) expect() *cobra.Command {
	c := &cobra.Command{
		Use: "expect", Short: "Write down what an expression should be at a checkpoint: add, list, edit and delete expectations",
		Long: `Expectations say what an expression should be at the hits of a checkpoint; wraith check tells whether they hold.
They are kept in a case, for the team, or in a file beside the code. A name with a slash, or that ends in .yaml or .yml,
is a file.`,
		Args: args(0, 0, "add|list|edit|delete CASE|FILE"),
		RunE: func(c *cobra.Command, _ []string) error {
			return usage("use: wraith expect add CASE|FILE --enter FUNCTION --that EXPRESSION", "expect needs one of its commands")
		},
	}
	list := &cobra.Command{
		Use: "list CASE|FILE", Short: "List the expectations", Args: args(1, 1, "CASE|FILE"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.expectationsIn(args[0])
			if err != nil {
				return err
			}
			list, err := s.list(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				t := newTable(w, "number", "at", "should be", "note")
				for _, x := range list {
					t.AppendRow(table.Row{x.ID, plain(x.Label()), plain(x.That), plain(x.Note)})
				}
				t.Render()
			})
		},
	}
	remove := &cobra.Command{
		Use: "delete CASE|FILE NUMBER", Short: "Delete an expectation", Args: args(2, 2, "CASE|FILE NUMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := expectationNumber(args[1])
			if err != nil {
				return err
			}
			s, err := a.expectationsIn(args[0])
			if err != nil {
				return err
			}
			if err := s.delete(c.Context(), id); err != nil {
				return err
			}
			return a.print(map[string]int64{"deleted": id}, func(w io.Writer) { fmt.Fprintf(w, "deleted expectation %d\n", id) })
		},
	}
	c.AddCommand(a.expectAdd(), list, a.expectEdit(), remove)
	return c
}

func expectationNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usage("wraith expect list CASE|FILE lists them", "invalid expectation number %q", text)
	}
	return id, nil
}

// addPlacelessFlags adds the flags of the checkpoints that can hold an expectation.
func addPlacelessFlags(c *cobra.Command) *checkpointFlags {
	f := addCheckpointFlags(c)
	for _, k := range find.Kinds() {
		if k.Placed {
			_ = c.Flags().MarkHidden(k.Name) // the flag exists
		}
	}
	return f
}

func (a *app) expectAdd() *cobra.Command {
	var e ask.Expectation
	var f *checkpointFlags
	const form = "CASE|FILE --line|--enter|--return … [--when EXPRESSION] --that EXPRESSION"
	c := &cobra.Command{
		Use: "add " + form, Short: "Expect something at the hits of a checkpoint", Args: args(1, 2, form),
		RunE: func(c *cobra.Command, args []string) (err error) {
			if e.Checkpoint, err = f.on(args[1:]); err != nil {
				return err
			}
			if e.That == "" {
				return usage("for example --that 'depth > draught'", "--that is missing")
			}
			if err := e.Valid(); err != nil {
				return err
			}
			s, err := a.expectationsIn(args[0])
			if err != nil {
				return err
			}
			x, err := s.add(c.Context(), e)
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { printExpectation(w, x) })
		},
	}
	f = addPlacelessFlags(c)
	c.Flags().StringVar(&e.When, "when", "", "condition for hits that count")
	c.Flags().StringVar(&e.That, "that", "", "expression that should be true")
	c.Flags().StringVar(&e.Note, "note", "", "why it should be")
	return c
}

func (a *app) expectEdit() *cobra.Command {
	var when, that, note string
	var f *checkpointFlags
	const form = "CASE|FILE NUMBER [--line|--enter|--return …] [--when EXPRESSION] [--that EXPRESSION] [--note TEXT]"
	c := &cobra.Command{
		Use: "edit " + form, Short: "Change an expectation", Args: args(2, 3, form),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := expectationNumber(args[1])
			if err != nil {
				return err
			}
			n := api.ExpectationChange{}
			for name, x := range map[string]struct {
				value  *string
				member **string
			}{"when": {&when, &n.When}, "that": {&that, &n.That}, "note": {&note, &n.Note}} {
				if c.Flags().Changed(name) {
					*x.member = x.value
				}
			}
			if f.isSet() {
				on, err := f.on(args[2:])
				if err != nil {
					return err
				}
				n.Checkpoint = &on
			}
			if n == (api.ExpectationChange{}) {
				return usage("for example --that 'depth > draught'", "nothing to change")
			}
			s, err := a.expectationsIn(args[0])
			if err != nil {
				return err
			}
			x, err := s.change(c.Context(), id, n)
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { printExpectation(w, x) })
		},
	}
	f = addPlacelessFlags(c)
	c.Flags().StringVar(&when, "when", "", "condition for hits that count")
	c.Flags().StringVar(&that, "that", "", "expression that should be true")
	c.Flags().StringVar(&note, "note", "", "why it should be")
	return c
}

func printExpectation(w io.Writer, x api.KeptExpectation) {
	fmt.Fprintf(w, "expectation %d: at %s, %s\n", x.ID, plain(x.Label()), plain(x.That))
	if x.Text != "" {
		fmt.Fprintf(w, "  | %s\n", plain(x.Text))
	}
}
