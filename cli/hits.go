package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.HitsRequest, ask.Hits]{use: "hits LOCATOR " + checkpointUsage(), short: "List all hits of a checkpoint", args: [2]int{1, 2},
	flags: func(c *cobra.Command) func(*ask.HitsRequest, *locator.Locator, []string) error {
		f := addCheckpointFlags(c)
		return func(q *ask.HitsRequest, _ *locator.Locator, rest []string) (err error) {
			q.On, err = f.on(rest)
			return err
		}
	},
	print: printHits})

var _ = register(question[ask.RunRequest, ask.Step]{use: "run LOCATOR " + checkpointUsage(), short: "Go to the next hit of a checkpoint, or with --back to the previous one", args: [2]int{1, 2},
	flags: func(c *cobra.Command) func(*ask.RunRequest, *locator.Locator, []string) error {
		f := addCheckpointFlags(c)
		return func(q *ask.RunRequest, _ *locator.Locator, rest []string) (err error) {
			q.On, err = f.on(rest)
			return err
		}
	},
	print: func(w io.Writer, o printing, _ ask.RunRequest, s ask.Step) { printStep(w, o, s) }})

// onCalls reports whether a checkpoint is on entries or returns of a function.
func onCalls(on string) bool {
	return strings.HasPrefix(on, "enter ") || strings.HasPrefix(on, "return ")
}

func printHits(w io.Writer, o printing, q ask.HitsRequest, h ask.Hits) {
	fmt.Fprintf(w, "%s of %s\n", counted(h.Total, "hit"), q.CheckpointOn)
	if h.Undecided > 0 {
		fmt.Fprintf(w, "  at %s the condition had no answer; at the first: %s\n", counted(h.Undecided, "moment"), plain(h.Trouble))
	}
	told := map[string]string{} // the last error of each expression
	for i, x := range h.Hits {
		took := ""
		if (onCalls(q.On) || q.Slowest) && x.CallNs >= 0 {
			took = ", took " + time.Duration(x.CallNs).String()
		}
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s  %s%s\n", q.From+i+1, o.name, x.Moment, x.Thread, plain(x.Function), timeOf(x.TimeNs, x.Estimated, x.At), took)
		if x.New != nil {
			old := ""
			if x.Old != nil {
				old = plain(*x.Old) + " -> "
			}
			fmt.Fprintf(w, "          %s%s\n", old, plain(*x.New))
		}
		if x.Text != "" {
			fmt.Fprintf(w, "          %s\n", plain(x.Text))
		}
		if !strings.HasPrefix(q.On, "line ") && !strings.HasPrefix(q.On, "enter ") { // else it is the same at each hit
			printSourceLine(w, x.Source)
		}
		for _, s := range x.Shown {
			value := s.Value
			if s.Error != "" {
				value = "? " + s.Error
				if told[s.Expression] == s.Error {
					value = "? (as above)"
				}
				told[s.Expression] = s.Error
			}
			fmt.Fprintf(w, "          %s = %s\n", plain(s.Expression), plain(value))
		}
	}
	printMore(w, h.Total, q.From, len(h.Hits))
}
