package cli

import (
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/spf13/cobra"

	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/locator"
	"wraithology/core/replay"
)

// errNoHit says that a checkpoint has no hit in the direction asked for.
var errNoHit = errors.New("no hit there")

// checkpointFlags are the options that name a checkpoint.
type checkpointFlags struct {
	answer.CheckpointQuery
	line, thread string
}

func (f *checkpointFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.line, "line", "", "on a line, as FILE:N")
	c.Flags().StringVar(&f.Enter, "enter", "", "on the entry of a function")
	c.Flags().StringVar(&f.Return, "return", "", "on the return of a function")
	c.Flags().StringVar(&f.Error, "error", "", "on errors and panics that have the text in them; alone, on any")
	c.Flags().Lookup("error").NoOptDefVal = "*"
	c.Flags().StringVar(&f.Write, "write", "", "on writes to a variable, field or element, as it is reached from the locator's frame")
	c.Flags().StringVar(&f.Output, "output", "", "on outputs that have the text in them; alone, on any")
	c.Flags().Lookup("output").NoOptDefVal = "*"
	c.Flags().StringVar(&f.When, "when", "", "a condition on the values there")
	c.Flags().StringVar(&f.Nth, "nth", "", "which of the hits count: 5, every 100, last, or last before 4711")
	c.Flags().StringVar(&f.thread, "thread", "", "hits on this thread only")
}

// query reads the options; rest are arguments that an option without its own
// value may have left over.
func (f *checkpointFlags) query(rest []string) (answer.CheckpointQuery, error) {
	var err error
	q := f.CheckpointQuery
	for _, r := range rest { // --error TEXT, for options that may stand alone
		switch {
		case q.Error == "*":
			q.Error = r
		case q.Output == "*":
			q.Output = r
		default:
			return q, usageError{fmt.Sprintf("%q is one argument too many", r), "give one LOCATOR, then options"}
		}
	}
	if f.line != "" {
		if q.File, q.Line, err = parseLine(f.line); err != nil {
			return q, err
		}
	}
	if f.thread != "" {
		t, err := answer.ParseThread(f.thread)
		if err != nil {
			return q, err
		}
		q.OnThread = uint32(t)
	}
	if _, err := q.Kind(); err != nil {
		return q, usageError{"a checkpoint needs exactly one of --line, --enter, --return, --error, --write and --output", "for example --line berth.go:65, or --enter clearance"}
	}
	return q, nil
}

func (a *app) hits() *cobra.Command {
	var f checkpointFlags
	c := &cobra.Command{
		Use: "hits LOCATOR --line FILE:N|--enter F|--return F|--error [TEXT]|--write PATH|--output [TEXT]", Short: "List all hits of a checkpoint",
		Args: args(1, 2, "LOCATOR with one of --line, --enter, --return, --error, --write, --output"),
		RunE: func(c *cobra.Command, given []string) error {
			q, err := f.query(given[1:])
			if err != nil {
				return err
			}
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			h, err := e.Hits(c.Context(), place(l), q)
			if err != nil {
				return err
			}
			if err := a.print(h, func(w io.Writer) { printHits(w, l.Evidence, q, h) }); err != nil {
				return err
			}
			return foundSome(h.Total)
		},
	}
	f.add(c)
	c.Flags().StringArrayVar(&f.Show, "show", nil, "evaluate this expression at each hit; may be repeated")
	c.Flags().BoolVar(&f.Slowest, "slowest", false, "those first whose calls took longest")
	c.Flags().IntVar(&f.From, "from", 0, "leave out this many hits")
	c.Flags().IntVar(&f.Count, "first", 20, "show this many hits")
	return c
}

func foundSome(n int) error {
	if n == 0 {
		return errNo
	}
	return nil
}

func (a *app) run() *cobra.Command {
	var f checkpointFlags
	var back bool
	c := &cobra.Command{
		Use: "run LOCATOR [--back] with a checkpoint as for hits", Short: "Go to the next hit of a checkpoint, or with --back to the previous one",
		Args: args(1, 2, "LOCATOR [--back] with one of --line, --enter, --return, --error, --write, --output"),
		RunE: func(c *cobra.Command, given []string) error {
			q, err := f.query(given[1:])
			if err != nil {
				return err
			}
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			s, err := e.Run(c.Context(), place(l), q, back)
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { printStep(w, l.Evidence, s, a.sourceLine(c.Context(), e)) })
		},
	}
	f.add(c)
	c.Flags().BoolVar(&back, "back", false, "to the previous hit")
	return c
}

func (a *app) step() *cobra.Command {
	var into, over, out, line, back, everything, any bool
	var to, thread string
	var head int
	var count int
	c := &cobra.Command{
		Use: "step LOCATOR --into|--over|--out|--line|--to FILE:N|--head [--back] [--count N]", Short: "Step, forward or back, and say where that led",
		Args: args(1, 1, "LOCATOR with one of --into, --over, --out, --line, --to FILE:N, --head"),
		RunE: func(c *cobra.Command, given []string) error {
			s := replay.Step{Back: back, Everything: everything, AnyThread: any}
			ways := 0
			for _, w := range []struct {
				given bool
				way   replay.Way
			}{{into, replay.Into}, {over, replay.Over}, {out, replay.Out}, {line, replay.Line}, {to != "", replay.To}, {c.Flags().Changed("head"), replay.Head}} {
				if w.given {
					s.Way = w.way
					ways++
				}
			}
			if ways != 1 {
				return usageError{"a step needs exactly one of --into, --over, --out, --line, --to and --head", "for example: wraith step " + given[0] + " --over"}
			}
			if count < 1 || head < 0 {
				return usageError{fmt.Sprintf("--count %d and --head %d: these are no numbers of steps and calls", count, head), "give a whole number from 1 on for --count, from 0 on for --head"}
			}
			s.Outer = head
			var err error
			if to != "" {
				if s.File, s.Line, err = parseLine(to); err != nil {
					return err
				}
			}
			l, err := locator.Parse(given[0])
			if err != nil {
				return err
			}
			if thread != "" {
				if l.Thread, err = answer.ParseThread(thread); err != nil {
					return err
				}
			}
			e, _, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			r, err := e.Step(c.Context(), place(l), s, count)
			if err != nil {
				return err
			}
			if err := a.print(r, func(w io.Writer) { printStep(w, l.Evidence, r, a.sourceLine(c.Context(), e)) }); err != nil {
				return err
			}
			if r.Reason == string(replay.AtEnd) || r.Reason == string(replay.AtBeginning) {
				return errNo
			}
			return nil
		},
	}
	c.Flags().BoolVar(&into, "into", false, "to the next line, also inside a call")
	c.Flags().BoolVar(&over, "over", false, "to the next line of this call")
	c.Flags().BoolVar(&out, "out", false, "out of this call")
	c.Flags().BoolVar(&line, "line", false, "to the next line of this call; with --any-thread, of any thread")
	c.Flags().StringVar(&to, "to", "", "to where the thread reaches this line next, as FILE:N")
	c.Flags().IntVar(&head, "head", 0, "to the head of this call, or with a number of one so many calls further out")
	c.Flags().Lookup("head").NoOptDefVal = "0"
	c.Flags().BoolVar(&back, "back", false, "the same backwards")
	c.Flags().BoolVar(&everything, "everything", false, "end in foreign code too, not in own code only")
	c.Flags().BoolVar(&any, "any-thread", false, "end on another thread too")
	c.Flags().StringVar(&thread, "thread", "", "step on this thread")
	c.Flags().IntVar(&count, "count", 1, "so many steps")
	return c
}

func (a *app) writes() *cobra.Command {
	var last bool
	page := replay.Page{}
	c := &cobra.Command{
		Use: "writes LOCATOR PATH", Short: "List what was written to a variable, field or element, oldest first",
		Long: "List every write of what PATH leads to from the locator's frame: a variable, a field\n(quay.Depth), an element (berths[2], table[\"Inner Ness\"]), what a pointer points to (*p).\nWrites by any name count, on any thread.",
		Args: args(2, 2, "LOCATOR PATH"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			list, err := e.Writes(c.Context(), place(l), given[1], last, page)
			if err != nil {
				return err
			}
			if err := a.print(list, func(w io.Writer) {
				printWrites(w, l.Evidence, given[1], page.From, list, a.sourceLine(c.Context(), e))
			}); err != nil {
				return err
			}
			return foundSome(list.Total)
		},
	}
	c.Flags().BoolVar(&last, "last", false, "only the write that gave the value at this moment")
	c.Flags().IntVar(&page.From, "from", 0, "leave out this many writes")
	c.Flags().IntVar(&page.Count, "first", 50, "show this many writes")
	return c
}

func (a *app) origin() *cobra.Command {
	var depth int
	c := &cobra.Command{
		Use: "origin LOCATOR PATH", Short: "Say where a value came from: the writes it was computed from, down to the inputs",
		Args: args(2, 2, "LOCATOR PATH"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			o, err := e.Origin(c.Context(), place(l), given[1], depth)
			if err != nil {
				return err
			}
			return a.print(o, func(w io.Writer) { answer.WriteOrigin(w, o, l.Evidence, a.sourceLine(c.Context(), e)) })
		},
	}
	c.Flags().IntVar(&depth, "depth", 8, "how many steps back the chain goes")
	return c
}

func (a *app) ledger() *cobra.Command {
	var f checkpointFlags
	var q answer.LedgerQuery
	var hits, asCSV, asMarkdown bool
	c := &cobra.Command{
		Use: "ledger LOCATOR --call|--hits …|--writes PATH --column EXPRESSION …", Short: "A table: one row a moment, one column an expression",
		Args: args(1, 2, "LOCATOR with one of --call, --hits, --writes PATH, and --column EXPRESSION"),
		RunE: func(c *cobra.Command, given []string) error {
			rows := 0
			for _, x := range []bool{q.Call, hits, q.Writes != ""} {
				if x {
					rows++
				}
			}
			if rows != 1 || len(q.Columns) == 0 {
				return usageError{"a ledger needs exactly one of --call, --hits and --writes, and at least one --column", "for example: wraith ledger " + given[0] + " --call --column water"}
			}
			if hits {
				var err error
				if q.Hits, err = f.query(given[1:]); err != nil {
					return err
				}
			}
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			t, err := e.Ledger(c.Context(), place(l), q)
			if err != nil {
				return err
			}
			switch {
			case asCSV && !a.json:
				err = t.WriteCSV(a.out)
			case asMarkdown && !a.json:
				err = t.WriteMarkdown(a.out)
			default:
				err = a.print(t, func(w io.Writer) { printLedger(w, t) })
			}
			if err != nil {
				return err
			}
			return foundSome(t.Total)
		},
	}
	f.add(c)
	c.Flags().BoolVar(&q.Call, "call", false, "a row for each line of the frame's call")
	c.Flags().BoolVar(&hits, "hits", false, "a row for each hit of the checkpoint that the options name")
	c.Flags().StringVar(&q.Writes, "writes", "", "a row for each write to what this path leads to")
	c.Flags().StringArrayVar(&q.Columns, "column", nil, "a column, as an expression; may be repeated")
	c.Flags().IntVar(&q.From, "from", 0, "leave out this many rows")
	c.Flags().IntVar(&q.Count, "first", 200, "show this many rows")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	c.Flags().BoolVar(&asMarkdown, "markdown", false, "print a Markdown table")
	return c
}

func (a *app) search() *cobra.Command {
	var q answer.SearchQuery
	var object string
	c := &cobra.Command{
		Use: "search EVIDENCE [TEXT] [--type TYPE] [--object LOCATOR PATH]", Short: "Find a value among all that were recorded",
		Long: "Find a value: a number that is equal, a text that has TEXT in it, any value of a type, or\nwith --object LOCATOR PATH every reference to the object that PATH leads to there.",
		Args: args(1, 3, "EVIDENCE [TEXT] [--type TYPE] [--object LOCATOR PATH]"),
		RunE: func(c *cobra.Command, given []string) error {
			at := given[0]
			rest := given[1:]
			if object != "" {
				if len(rest) == 0 {
					return usageError{"--object needs a locator and a path", "for example: wraith search run.wraith --object run.wraith@4711 quay"}
				}
				at, q.Object, rest = object, rest[len(rest)-1], rest[:len(rest)-1]
			}
			switch {
			case len(rest) == 1:
				q.Text = rest[0]
			case len(rest) > 1 || q.Type == "" && q.Object == "":
				return usageError{"search needs one thing to look for", "give a text or number, --type TYPE, or --object LOCATOR PATH"}
			}
			e, l, err := a.open(c.Context(), at)
			if err != nil {
				return err
			}
			s, err := e.Search(c.Context(), place(l), q)
			if err != nil {
				return err
			}
			if err := a.print(s, func(w io.Writer) { printSearch(w, l.Evidence, q.From, s) }); err != nil {
				return err
			}
			return foundSome(s.Total)
		},
	}
	c.Flags().StringVar(&q.Type, "type", "", "values of this type only")
	c.Flags().StringVar(&object, "object", "", "references to the object that the path after it leads to at this locator")
	c.Flags().IntVar(&q.From, "from", 0, "leave out this many places")
	c.Flags().IntVar(&q.Count, "first", 20, "show this many places")
	return c
}

func (a *app) changed() *cobra.Command {
	return &cobra.Command{
		Use: "changed LOCATOR", Short: "Say what differs from the frame's previous moment",
		Args: args(1, 1, "LOCATOR"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			x, err := e.Changed(c.Context(), place(l))
			if err != nil {
				return err
			}
			return a.print(x, func(w io.Writer) { printChanged(w, x) })
		},
	}
}

func (a *app) meanwhile() *cobra.Command {
	return &cobra.Command{
		Use: "meanwhile LOCATOR MOMENT", Short: "Say what each thread did between two moments",
		Args: args(2, 2, "LOCATOR MOMENT"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			to, err := strconv.ParseInt(given[1], 10, 64)
			if err != nil || l.Moment == event.NoMoment {
				return usageError{"meanwhile needs two moments", "for example: wraith meanwhile " + l.Evidence + "@100 200"}
			}
			m, err := e.Meanwhile(c.Context(), int64(l.Moment), to)
			if err != nil {
				return err
			}
			return a.print(m, func(w io.Writer) { printMeanwhile(w, l.Evidence, m) })
		},
	}
}
