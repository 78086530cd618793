package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/locator"
)

var _ = register(question[ask.MeanwhileRequest, ask.Meanwhile]{use: "meanwhile LOCATOR MOMENT", short: "Show what each thread did between two moments", args: [2]int{2, 2},
	flags: func(*cobra.Command) func(*ask.MeanwhileRequest, *locator.Locator, []string) error {
		return func(q *ask.MeanwhileRequest, l *locator.Locator, _ []string) error {
			if l.Moment == event.NoMoment {
				return usage("for example: wraith meanwhile "+l.Evidence+"@100 200", "meanwhile needs two moments")
			}
			q.From = l.Moment
			return nil
		}
	},
	print: printMeanwhile})

func printMeanwhile(w io.Writer, o printing, _ ask.MeanwhileRequest, m ask.Meanwhile) {
	fmt.Fprintf(w, "from moment %d to %d\n", m.From, m.To)
	for _, d := range m.Threads {
		fmt.Fprintf(w, "  thread %s: %s, %s, %s\n", d.Thread, plain(d.Name), counted(int(d.Moments), "moment"), plain(d.State))
		fmt.Fprintf(w, "    from %s@%d#%s  %s%s\n", o.name, d.First.Moment, d.Thread, plain(d.First.Function), inFile(d.First.File, d.First.Line))
		fmt.Fprintf(w, "    to   %s@%d#%s  %s%s\n", o.name, d.Last.Moment, d.Thread, plain(d.Last.Function), inFile(d.Last.File, d.Last.Line))
	}
}
