package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/reproduce"
)

// tried is the answer of wraith trial.
type tried struct {
	Calls      int         `json:"calls"`
	Same       int         `json:"same"`
	Differ     int         `json:"differ"`
	NotRebuilt int         `json:"notRebuilt"`
	NotTried   int         `json:"notTried,omitempty"`
	Total      int         `json:"total"`
	Differing  []triedCall `json:"differing"`
	Gaps       []string    `json:"gaps"`
	Notes      []string    `json:"notes"`
}

type triedCall struct {
	ask.RunPlace
	Results []compared `json:"results"`
	Error   string     `json:"error,omitempty"`
}

func (a *app) trial() *cobra.Command {
	var function string
	var share bool
	o := reproduce.TrialOptions{}
	c := &cobra.Command{
		Use: "trial EVIDENCE --function F [--first N] [--source DIR]", Short: "Make the recorded calls of a function again with the source as it is now",
		Long: `Make every recorded call of a function, with its recorded arguments, against the source as it is now, and say how
many behave the same, which differ and how, and which could not be rebuilt: what a fix changes, before it ships. The
calls run in a sandbox without network. The exit code is 1 if a call differs.`,
		Args: args(1, 1, "EVIDENCE --function F"),
		RunE: func(c *cobra.Command, args []string) error {
			if function == "" {
				return usage("for example --function Book.Apply", "--function is missing")
			}
			if o.First < 0 {
				return usage("for example --first 100", "invalid --first %d: use a number from 1 on", o.First)
			}
			if share { // before anything is computed
				if _, _, _, err := a.shared(args[0]); err != nil {
					return err
				}
			}
			r, err := a.openHere(c.Context(), args[0])
			if err != nil {
				return err
			}
			got, err := reproduce.Try(c.Context(), r, function, o)
			if err != nil {
				return err
			}
			out := tried{Calls: got.Calls, Same: got.Same, Differ: got.Differ, NotRebuilt: got.NotRebuilt, NotTried: got.NotTried, Total: got.Total, Differing: []triedCall{}, Gaps: append([]string{}, got.Gaps...), Notes: append([]string{}, got.Notes...)}
			for _, x := range got.Differing {
				out.Differing = append(out.Differing, triedCall{RunPlace: placeOfCall(x.Call), Results: comparedOf(x.Results), Error: x.Error})
			}
			if err := a.print(out, func(w io.Writer) { printTrial(w, args[0], out) }); err != nil {
				return err
			}
			if share {
				var text strings.Builder
				fmt.Fprintf(&text, "the calls of %s with the source as it is now: ", function)
				printTrial(&text, args[0], out)
				p := ask.Place{Moment: event.NoMoment}
				if len(out.Differing) > 0 {
					p.Moment, p.Thread = out.Differing[0].Moment, out.Differing[0].Thread
				}
				if p, err = p.Resolve(r); err == nil {
					err = a.shareComputed(c.Context(), args[0], p, text.String())
				}
				if err != nil {
					return err
				}
			}
			if out.Differ > 0 {
				return errNo
			}
			return nil
		},
	}
	c.Flags().StringVar(&function, "function", "", "function or method whose calls are tried")
	c.Flags().IntVar(&o.First, "first", 0, "number of calls (default all)")
	const usual = 2 * time.Minute
	c.Flags().DurationVar(&o.Time, "time", usual, "time for the calls; the rest is not tried")
	a.remakingFlags(c, &o.Source)
	c.Flags().BoolVar(&share, "share", false, "tell the team of CASE/NAME: as a comment about the first call that differs")
	return c
}

// placeOfCall is the entry of a call.
func placeOfCall(call replay.MadeCall) ask.RunPlace {
	return ask.RunPlace{Moment: call.Enter, Thread: call.Thread, Function: call.Function.Name, File: call.File, Line: call.Function.Line}
}

// mostDifferingCalls limits the calls that are printed.
const mostDifferingCalls = 10

func printTrial(w io.Writer, name string, t tried) {
	fmt.Fprintf(w, "%s of %d: %d the same, %d differ, %d not rebuilt\n", counted(t.Calls, "call"), t.Total, t.Same, t.Differ, t.NotRebuilt)
	if t.NotTried > 0 {
		fmt.Fprintf(w, "  %s not tried: the time was over; --time gives more\n", counted(t.NotTried, "call"))
	}
	for _, n := range t.Notes {
		fmt.Fprintf(w, "  it %s\n", plain(n))
	}
	for i, x := range t.Differing {
		if i == mostDifferingCalls {
			fmt.Fprintf(w, "%d more: --json\n", t.Differ-i)
			break
		}
		fmt.Fprintf(w, "%s@%d#%s  %s\n", plain(name), x.Moment, x.Thread, plain(x.Function))
		if x.Error != "" {
			fmt.Fprintf(w, "  %s\n", plain(x.Error))
		}
		printCompared(w, x.Results)
	}
	if len(t.Gaps) > 0 {
		fmt.Fprintln(w, "not rebuilt because of")
		for i, g := range t.Gaps {
			if i == mostDifferingCalls {
				fmt.Fprintf(w, "  %d more: --json\n", len(t.Gaps)-i)
				break
			}
			fmt.Fprintf(w, "  %s\n", plain(g))
		}
	}
}
