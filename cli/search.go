package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.SearchRequest, ask.Search]{use: "search EVIDENCE [TEXT] [--type TYPE] [--object LOCATOR PATH]", short: "Find all places where a value was recorded", args: [2]int{1, 3},
	long: `Find a value: a number that is equal, a text that contains TEXT, any value of a type, or
with --object LOCATOR PATH every reference to the object that PATH leads to there.`,
	flags: func(c *cobra.Command) func(*ask.SearchRequest, *locator.Locator, []string) error {
		object := c.Flags().String("object", "", "search for references to the object at PATH of this locator")
		return func(q *ask.SearchRequest, l *locator.Locator, rest []string) (err error) {
			if *object != "" {
				if len(rest) == 0 {
					return usage("for example: wraith search run.wraith --object run.wraith@4711 quay", "--object needs a locator and a path")
				}
				if *l, err = locator.Parse(*object); err != nil {
					return err
				}
				q.Object, rest = rest[len(rest)-1], rest[:len(rest)-1]
			}
			switch {
			case len(rest) == 1:
				q.Text = rest[0]
			case len(rest) > 1 || q.Type == "" && q.Object == "":
				return usage("give a text or number, --type TYPE, or --object LOCATOR PATH", "search needs one thing to look for")
			}
			return nil
		}
	},
	print: printSearch})

func printSearch(w io.Writer, o printing, q ask.SearchRequest, s ask.Search) {
	fmt.Fprintf(w, "found at %s\n", counted(s.Total, "place"))
	for i, x := range s.Found {
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s = %s%s\n", q.From+i+1, o.name, x.Moment, x.Thread, plain(x.Name), plain(x.Value), inFile(x.File, x.Line))
		printSourceLine(w, x.Source)
	}
	printMore(w, s.Total, q.From, len(s.Found))
}
