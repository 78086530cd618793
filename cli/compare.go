package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/expectations"
	"wraithology/core/locator"
)

var _ = registerCommand(func(a *app) *cobra.Command {
	c := command(a, compareQuestion)
	lists := addPairFlags(c)
	compare := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		if lists.isSet() {
			return a.comparePairs(c, args, lists)
		}
		return compare(c, args)
	}
	return c
})

var compareQuestion = question[ask.CompareRequest, ask.Comparison]{use: "compare FAILING PASSING… [--propose FILE] | RUN [OTHER] --return|--line|… --key E --value E [--with-line …]", short: "Put a failing run beside a passing one: where they part, and what explains it", args: [2]int{1, 18},
	long: `Align the calls of two recordings of a program: a failing run and a passing one, of the same version or of
another. Show the first moment at which they part, in path or in value, and up to ten causes that led to the failure: lines
whose source differs, branches that only one run takes, lines after which the paths part, values that differ although their
line read equal values, and last what is only handed on; and simple relations that hold in all passing runs and break in the failing one, which
--propose writes as expectations. Addresses and times are not compared; --ignore names what else is not.
Both runs are files, or evidence of one case. The exit code is 1 if the runs are equal.

Of event traces, the failed trace is put beside one of the same operation without an error. Core dumps and crash texts are
compared by their failures, their failing stacks, and the variables of own frames and their globals.

With a checkpoint, its hits are compared by key with those of another checkpoint (--with-line …), or with those of the
other run: list the keys whose values differ, and what these hits have in common.`,
	flags: func(c *cobra.Command) func(*ask.CompareRequest, *locator.Locator, []string) error {
		c.Flags().String("propose", "", "file to which the contrasts are added as expectations")
		return func(q *ask.CompareRequest, _ *locator.Locator, rest []string) error {
			q.Also = rest
			return nil
		}
	},
	other: func(c *cobra.Command, a *app, l locator.Locator, q ask.CompareRequest, _ []string) (bool, error) {
		if q.With == "" {
			return true, usage("for example: wraith compare failing.wraith passing.wraith", "missing a run that passed, or the checkpoint and --key of two lists of hits")
		}
		t, names, err := a.ofOneCase(c.Context(), l.Evidence, append([]string{q.With}, q.Also...))
		if err != nil {
			return true, err
		}
		q.With, q.Also = names[0], names[1:]
		return true, answerTo(c, a, comparing, t, q)
	},
}

// comparing prints the answer of a comparison.
var comparing = question[ask.CompareRequest, ask.Comparison]{print: printComparison, after: propose}

// ofOneCase opens evidence beside other evidence: all are files, or evidence of one case. It returns the names by which a
// request asks for the others.
func (a *app) ofOneCase(ctx context.Context, first string, others []string) (*target, []string, error) {
	if !mayBeShared(first) {
		r, err := a.openFile(ctx, first)
		if err != nil {
			return nil, nil, err
		}
		t := &target{first, client.Target{Local: ask.Subject{Recording: r, Limit: a.within}}}
		return t, others, a.beside(ctx, t, others, nil)
	}
	var names []string
	own, _, _ := strings.Cut(first, "/")
	for _, name := range others {
		ofCase, short, ok := strings.Cut(name, "/")
		if !ok || ofCase != own {
			return nil, nil, usage("all runs must be files, or evidence of one case", "compare %s with %s", first, name)
		}
		names = append(names, short)
	}
	t, err := a.open(ctx, first)
	return t, names, err
}

// propose adds the contrasts to the file of --propose.
func propose(c *cobra.Command, answer ask.Comparison) error {
	path, err := c.Flags().GetString("propose")
	if err != nil || path == "" {
		return err
	}
	f, err := expectations.Create(path)
	if err != nil {
		return err
	}
	for _, x := range answer.Contrasts {
		if !x.Proposed {
			continue
		}
		e := ask.Expectation{Checkpoint: x.Checkpoint, Text: x.Text, That: x.That, Note: fmt.Sprintf("proposed: it held %s in runs that passed", counted(x.Held, "time"))}
		if err := f.Add(e); err != nil {
			return err
		}
	}
	return f.Save()
}

func printComparison(w io.Writer, o printing, q ask.CompareRequest, c ask.Comparison) {
	fmt.Fprintf(w, "%s with a counterpart; %d only in %s, %d only in %s\n", counted(c.Aligned, c.Of), c.OnlyLeft, plain(o.name), c.OnlyRight, plain(q.With))
	if c.First == nil {
		fmt.Fprintln(w, "the runs do not part")
		return
	}
	fmt.Fprintf(w, "\nthey part first, by %s:\n", c.First.Kind)
	printParting(w, o, q, *c.First)
	fmt.Fprintf(w, "\n%s:\n", counted(len(c.Causes), "cause"))
	for i, x := range c.Causes {
		if i > 0 {
			fmt.Fprintln(w)
		}
		printParting(w, o, q, x)
	}
	if len(c.Contrasts) > 0 {
		fmt.Fprintf(w, "\nwhat holds in what passed and breaks here:\n")
	}
	for _, x := range c.Contrasts {
		fmt.Fprintf(w, "  at %s: %s\n    held %s, breaks at %s", plain(x.Checkpoint), plain(x.That), counted(x.Held, "time"), counted(x.Breaks, "hit"))
		if x.Broken != nil {
			fmt.Fprintf(w, ", first at %s@%d#%s", plain(o.name), x.Broken.Moment, x.Broken.Thread)
		}
		fmt.Fprintln(w)
	}
	if c.Unexamined {
		fmt.Fprintln(w, "\nthe runs part at more places than were examined; --ignore NAMES leaves out what differs in each run")
	}
}

func printParting(w io.Writer, o printing, q ask.CompareRequest, p ask.Parting) {
	fmt.Fprintf(w, "  %s\n", plain(shorten(p.Name, mostSourceText)))
	for _, side := range []struct {
		name, value string
		place       *ask.RunPlace
	}{{o.name, p.LeftValue, p.Left}, {q.With, p.RightValue, p.Right}} {
		at := "nothing there"
		if side.place != nil {
			at = fmt.Sprintf("@%d in %s%s", side.place.Moment, plain(side.place.Function), inFile(side.place.File, side.place.Line))
		}
		fmt.Fprintf(w, "    %s  %s\n      %s\n", plain(side.name), at, plain(shorten(side.value, mostSourceValues)))
	}
	fmt.Fprintf(w, "    %s\n", plain(p.Why))
}
