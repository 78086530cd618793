package cli

import (
	"fmt"
	"io"
	"reflect"
	"strconv"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

// pairFlags are the flags that choose two lists of hits.
type pairFlags struct {
	on, with *checkpointFlags
	request  ask.PairsRequest
}

func addPairFlags(c *cobra.Command) *pairFlags {
	f := &pairFlags{on: addCheckpointFlags(c), with: addPrefixedCheckpointFlags(c, "with-")}
	request := reflect.ValueOf(&f.request).Elem()
	for _, x := range ask.Fields(request.Type()) {
		bind(c.Flags(), request, x)
	}
	for _, x := range ask.Fields(reflect.TypeFor[ask.CheckpointOn]()) {
		bind(c.Flags(), reflect.ValueOf(&f.request.Hits).Elem(), x)
		bindAs(c.Flags(), reflect.ValueOf(&f.request.With).Elem(), x, "with-"+flagName(x)[len("--"):])
	}
	return f
}

// isSet reports whether the user chose lists of hits.
func (f *pairFlags) isSet() bool {
	return f.on.isSet() || f.with.isSet() || f.request.Key+f.request.Value != ""
}

// comparePairs compares two lists of hits of one recording or of two.
func (a *app) comparePairs(c *cobra.Command, args []string, f *pairFlags) (err error) {
	const most = 2
	if len(args) > most {
		return usage("give one run, or two", "unexpected argument %q", args[most])
	}
	q := f.request
	if q.Hits.On, err = f.on.on(nil); err != nil {
		return err
	}
	if f.with.isSet() {
		if q.With.On, err = f.with.on(nil); err != nil {
			return err
		}
	}
	if q.Count, err = strconv.Atoi(c.Flags().Lookup("first").Value.String()); err != nil {
		return err
	}
	l, err := locator.Parse(args[0])
	if err != nil {
		return err
	}
	t, names, err := a.ofOneCase(c.Context(), l.Evidence, args[1:])
	if err != nil {
		return err
	}
	if len(names) > 0 {
		q.In = names[0]
	}
	if err := ask.Validate(q, flagName); err != nil {
		return err
	}
	return answerTo(c, a, pairing, t, q)
}

// pairing prints the answer of a comparison of hits.
var pairing = question[ask.PairsRequest, ask.Pairs]{print: printPairs}

func printPairs(w io.Writer, o printing, q ask.PairsRequest, p ask.Pairs) {
	with := q.With
	if with.On == "" {
		with = q.Hits
	}
	fmt.Fprintf(w, "%s of %s, %d of %s\n", counted(p.Left, "hit"), plain(q.Hits.String()), p.Right, plain(with.String()))
	fmt.Fprintf(w, "%d of %s with the same %s differ", p.Differ, counted(p.Pairs, "pair"), plain(q.Key))
	if p.OnlyLeft+p.OnlyRight > 0 {
		fmt.Fprintf(w, "; %d only in the first list, %d only in the second", p.OnlyLeft, p.OnlyRight)
	}
	fmt.Fprintln(w)
	if p.Unknown > 0 {
		fmt.Fprintf(w, "  %s has no key or value: unknown; at the first: %s\n", counted(p.Unknown, "hit"), plain(p.Trouble))
	}
	if p.Unexamined > 0 {
		fmt.Fprintf(w, "  %s not compared: there are too many\n", counted(p.Unexamined, "hit"))
	}
	for i, x := range p.Differing {
		fmt.Fprintf(w, "\n  %4d  %s\n", q.From+i+1, plain(shorten(x.Key, mostSourceText)))
		printHit(w, o.name, x.LeftValue, x.Left)
		name := o.name
		if q.In != "" {
			name = q.In
		}
		printHit(w, name, x.RightValue, x.Right)
	}
	printMore(w, p.Differ+p.OnlyLeft+p.OnlyRight, q.From, len(p.Differing))
	switch {
	case p.Differ == 0:
		return
	case len(p.Common) == 0:
		fmt.Fprintln(w, "\nnothing separates those that differ from the others")
		return
	}
	fmt.Fprintln(w, "\nwhat those that differ have in common:")
	printSeparations(w, "differ", "equal", p.Differ, p.Pairs-p.Differ, 0, p.Common)
	if p.Cut {
		fmt.Fprintln(w, "only the first pairs were searched for it")
	}
}

// printHit prints one of the two hits of a pair.
func printHit(w io.Writer, name, value string, at *ask.RunPlace) {
	if at == nil {
		fmt.Fprintf(w, "        no counterpart in the other list\n")
		return
	}
	fmt.Fprintf(w, "        %s  %s@%d#%s%s\n", plain(shorten(value, mostSourceValues)), plain(name), at.Moment, at.Thread, inFile(at.File, at.Line))
}
