package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/locator"
	"wraithology/reproduce"
)

// supposed is the answer of wraith suppose.
type supposed struct {
	Function   string              `json:"function"`
	Changed    []supposedValue     `json:"changed"`
	Results    []supposedValue     `json:"results"`
	Conditions []supposedCondition `json:"conditions"`
	Error      string              `json:"error"`
	Complete   bool                `json:"complete"`
	Gaps       []string            `json:"gaps"`
}

type supposedValue struct {
	Name     string `json:"name"`
	Recorded string `json:"recorded"`
	Supposed string `json:"supposed"`
}

type supposedCondition struct {
	ask.RunPlace
	Expression string `json:"expression"`
	Recorded   string `json:"recorded"`
	Supposed   string `json:"supposed"`
}

func (a *app) suppose() *cobra.Command {
	o := reproduce.Options{}
	var share bool
	c := &cobra.Command{
		Use: "suppose LOCATOR NAME=EXPRESSION…", Short: "Make a recorded call again with other values: what would have followed",
		Long: `Make the call of the frame again, with the recorded source, and with other values: of arguments, fields of the
receiver, package variables, or of a local variable at the frame's line. Say which results, conditions and panics would
differ. EXPRESSION is over the names of the frame. The call runs in a sandbox without network. Nothing of it is kept: what
is printed is computed, not recorded.`,
		Args: args(2, 33, "LOCATOR NAME=EXPRESSION…"),
		RunE: func(c *cobra.Command, args []string) error {
			l, err := locator.Parse(args[0])
			if err == nil && share { // before anything is computed
				_, _, _, err = a.shared(args[0])
			}
			if err != nil {
				return err
			}
			var list []reproduce.Supposition
			for _, text := range args[1:] {
				s, err := reproduce.ParseSupposition(text)
				if err != nil {
					return err
				}
				list = append(list, s)
			}
			r, err := a.openHere(c.Context(), l.Evidence)
			if err != nil {
				return err
			}
			p, err := place(l).Resolve(r)
			if err != nil {
				return err
			}
			got, err := reproduce.Suppose(c.Context(), r, p.Moment, p.Thread, p.Frame, list, o)
			if err != nil {
				return err
			}
			out := supposed{Function: got.Function, Changed: supposedOf(got.Changed), Results: supposedOf(got.Results), Conditions: []supposedCondition{}, Error: got.Error, Complete: len(got.Gaps) == 0, Gaps: append([]string{}, got.Gaps...)}
			for _, x := range got.Conditions {
				at, err := ask.PlaceAt(c.Context(), r, x.First)
				if err != nil {
					return err
				}
				out.Conditions = append(out.Conditions, supposedCondition{at, x.Expression, x.Recorded, x.Supposed})
			}
			if err := a.print(out, func(w io.Writer) { printSupposed(w, l.Evidence, out) }); err != nil || !share {
				return err
			}
			var text strings.Builder
			printSupposed(&text, l.Evidence, out)
			return a.shareComputed(c.Context(), args[0], p, text.String())
		},
	}
	a.remakingFlags(c, &o.Source)
	c.Flags().BoolVar(&share, "share", false, "tell the team of CASE/NAME: as a comment about the moment")
	return c
}

// shareComputed says what was computed, and not recorded, in a comment about a place of shared evidence.
func (a *app) shareComputed(ctx context.Context, evidence string, p ask.Place, text string) error {
	s, caseName, l, err := a.shared(evidence)
	if err != nil {
		return err
	}
	x, err := s.Say(ctx, caseName, api.NewComment{Text: "Computed, not recorded:\n\n    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    "), Anchor: api.Anchor{Evidence: l.Evidence, Moment: &p.Moment, Thread: p.Thread, Frame: p.Frame}})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(a.err, "shared as comment %d of case %s\n", x.ID, caseName)
	return err
}

func supposedOf(list []reproduce.Compared) []supposedValue {
	out := []supposedValue{}
	for _, x := range list {
		out = append(out, supposedValue{x.Name, x.Recorded, x.Now})
	}
	return out
}

func printSupposed(w io.Writer, name string, x supposed) {
	fmt.Fprintf(w, "supposed, not recorded: %s\n", plain(x.Function))
	for _, c := range x.Changed {
		fmt.Fprintf(w, "  if %s were %s instead of %s\n", plain(c.Name), plain(c.Supposed), plain(orNothing(c.Recorded)))
	}
	if x.Error != "" {
		fmt.Fprintf(w, "%s\n", plain(x.Error))
	}
	differ, same := 0, 0
	for _, r := range x.Results {
		if r.Recorded == r.Supposed {
			same++
			continue
		}
		if differ++; differ <= mostCompared {
			fmt.Fprintf(w, "  %s would be %s, was %s\n", plain(r.Name), plain(shorten(orNothing(r.Supposed), mostSourceValues)), plain(shorten(orNothing(r.Recorded), mostSourceValues)))
		}
	}
	switch {
	case differ > mostCompared:
		fmt.Fprintf(w, "  %d more: --json\n", differ-mostCompared)
	case differ == 0 && x.Error == "":
		fmt.Fprintln(w, "  nothing that it returns or changes would differ")
	case same > 0:
		fmt.Fprintf(w, "  %s of what it gives back would be the same\n", counted(same, "value"))
	}
	for _, c := range x.Conditions {
		fmt.Fprintf(w, "  %s would be %s, was %s\n    %s@%d#%s%s\n", plain(c.Expression), plain(c.Supposed), plain(c.Recorded), plain(name), c.Moment, c.Thread, inFile(c.File, c.Line))
	}
	for _, g := range x.Gaps {
		fmt.Fprintf(w, "not as recorded: %s\n", plain(g))
	}
}

// orNothing names a value that is not there.
func orNothing(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}
