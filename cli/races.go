package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.RacesRequest, ask.Races]{use: "races EVIDENCE", short: "List accesses to the same place by two threads that nothing orders",
	long: `List pairs of accesses to the same place by two threads, at least one of them a write, that nothing
in the program orders: no lock, channel, wait group or start of a goroutine. Atomics, sync.Once and code that is not
recorded are taken to order all threads that use them. Pairs that lost an update come first: a thread read
a value, another one wrote it, and the first one overwrote that.`,
	print: printRaces})

func printRaces(w io.Writer, o printing, q ask.RacesRequest, r ask.Races) {
	fmt.Fprintf(w, "%s\n", counted(r.Total, "race"))
	for i, x := range r.Races {
		what := "accesses without order"
		if x.Lost {
			what = "an update was lost"
		}
		times := ""
		if x.Times > 1 {
			times = fmt.Sprintf(", %d times; the first:", x.Times)
		}
		fmt.Fprintf(w, "  %3d  %s: %s%s\n", q.From+i+1, plain(x.Name), what, times)
		printAccess(w, o, x.First, "")
		printAccess(w, o, x.Second, "")
		if x.Overwrite != nil {
			printAccess(w, o, *x.Overwrite, "over")
		}
	}
	if r.Unexamined > 0 {
		fmt.Fprintf(w, "  the reads of %s were not examined: there are too many\n", counted(r.Unexamined, "line"))
	}
	printMore(w, r.Total, q.From, len(r.Races))
}

// printAccess writes an access. over is put before "wrote".
func printAccess(w io.Writer, o printing, a ask.Access, over string) {
	did := "read"
	if a.Write {
		did = over + "wrote"
	}
	fmt.Fprintf(w, "       thread %s %s %s = %s at %s@%d#%s%s  %s\n", a.Thread, did, plain(a.Name), plain(shorten(a.Value, mostSourceValues)), o.name, a.Moment, a.Thread, inFile(a.File, a.Line), plain(a.Function))
	if text := o.source(a.File, a.Line); text != "" {
		fmt.Fprintf(w, "         | %s\n", plain(text))
	}
}
