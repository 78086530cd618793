package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.ContrastRequest, ask.Contrast]{use: "contrast EVIDENCE --when CONDITION [--calls FUNCTION]", short: "Show what separates the traces, records or calls for which a condition holds from the others",
	long: `Show what separates the traces of an event trace, the records of a log, or with --calls the calls of a
function, for which a condition holds from the others: values, operations and messages that they have or do not have,
and durations. Only differences that are hardly chance are listed, the greatest first.`,
	print: func(w io.Writer, _ printing, q ask.ContrastRequest, c ask.Contrast) {
		fmt.Fprintf(w, "%s: %d with %s, %d without\n", counted(c.With+c.Without, c.Of), c.With, plain(q.When), c.Without)
		if c.Undecided > 0 {
			fmt.Fprintf(w, "  for %s the condition had no answer; for the first: %s\n", counted(c.Undecided, c.Of), plain(c.Trouble))
		}
		switch {
		case c.With == 0 || c.Without == 0:
			fmt.Fprintln(w, "there is nothing to compare: the condition must hold for some of them and not for others")
			return
		case len(c.Differences) == 0:
			fmt.Fprintln(w, "nothing else separates them")
			return
		}
		printSeparations(w, "with", "without", c.With, c.Without, q.From, c.Differences)
		printMore(w, c.Total, q.From, len(c.Differences))
		if len(c.Left) > 0 {
			fmt.Fprintf(w, "not compared, because nearly each has another value: %s\n", plain(shorten(fmt.Sprint(c.Left), mostSourceValues)))
		}
		if c.Cut {
			fmt.Fprintln(w, "there is more than is compared: name a narrower condition, or split the evidence")
		}
	}})

// printSeparations prints what separates two sets of things with these names and sizes.
func printSeparations(w io.Writer, with, without string, nWith, nWithout, from int, list []ask.Separation) {
	t := newTable(w, "", with, without, "difference")
	for i, d := range list {
		t.AppendRow([]any{from + i + 1, partOf(d.With, nWith), partOf(d.Without, nWithout), describeDifference(d, nWith, nWithout)})
	}
	t.Render()
}

// partOf writes how many of a number have something.
func partOf(n, of int) string {
	if of == 0 {
		return "0"
	}
	return fmt.Sprintf("%d (%s)", n, share(int64(n), int64(of)))
}

// describeDifference says what the matching things have, or lack.
func describeDifference(d ask.Separation, nWith, nWithout int) string {
	name := plain(d.Name)
	lacks := d.With*nWithout < d.Without*nWith
	switch d.What {
	case "operation":
		return name + " happens"
	case "missing":
		return name + " does not happen"
	case "duration":
		if name == "" {
			return "it takes " + plain(d.Value)
		}
		return name + " takes " + plain(d.Value)
	case "message":
		if lacks {
			return "no message  " + name
		}
		return "message  " + name
	}
	if lacks {
		return name + " is not " + plain(d.Value)
	}
	return name + " = " + plain(d.Value)
}
