package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.WritesRequest, ask.Writes]{use: "writes LOCATOR PATH", short: "List the writes of a variable, field or element, oldest first", args: [2]int{2, 2},
	long: `List every write of what PATH leads to from the locator's frame: a variable, a field
(quay.Depth), an element (berths[2], table["Inner Ness"]), what a pointer points to (*p).
Writes by any name count, on any thread.`,
	print: printWrites})

func printWrites(w io.Writer, o printing, q ask.WritesRequest, list ask.Writes) {
	fmt.Fprintf(w, "%s to %s\n", counted(list.Total, "write"), q.Path)
	for i, x := range list.Writes {
		old := ""
		if x.Old != nil {
			old = plain(*x.Old) + " -> "
		}
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s%s%s\n", q.From+i+1, o.name, x.Moment, x.Thread, old, plain(x.New), inFile(x.File, x.Line))
		printSourceLine(w, x.Source)
	}
	printMore(w, list.Total, q.From, len(list.Writes))
}
