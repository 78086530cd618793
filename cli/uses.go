package cli

import (
	"fmt"
	"io"
	"strings"

	"wraithology/core/ask"
)

var _ = register(question[ask.UsesRequest, ask.Uses]{use: "uses LOCATOR PATH", short: "Show which calls used an object: passed, returned, stored or changed", args: [2]int{2, 2},
	long: `Show the calls that used the object to which PATH leads from the locator's frame, in the order of their entries: those
that it was passed to, and those that returned, stored or changed it. Calls that only read it through another object are not
known. The story of the object shows each step.`,
	print: printUses})

func printUses(w io.Writer, o printing, q ask.UsesRequest, u ask.Uses) {
	fmt.Fprintf(w, "%s used %s\n", counted(u.Total, "call"), plain(q.Of))
	for i, c := range u.Calls {
		how := strings.Join(c.What, ", ")
		if c.Parameter != "" {
			how = strings.Replace(how, "passed", "passed as "+c.Parameter, 1)
		}
		asked := ""
		if c.Asked {
			asked = "  (this call)"
		}
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s: %s%s%s\n", q.From+i+1, o.name, c.Moment, c.Thread, plain(c.Function), plain(how), inFile(c.File, c.Line), asked)
	}
	if u.Unexamined > 0 {
		fmt.Fprintf(w, "  %s not followed: there are too many\n", counted(u.Unexamined, "place"))
	}
	printMore(w, u.Total, q.From, len(u.Calls))
}
