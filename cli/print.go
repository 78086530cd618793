package cli

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"

	"wraithology/core/answer"
)

type sourceReader func(file string, line int) string

// plain makes text from evidence safe for a terminal: no control characters.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' {
			return ' '
		}
		if unicode.IsControl(r) {
			return '·'
		}
		return r
	}, s)
}

func printPeek(w io.Writer, name string, p answer.Peek, source sourceReader) {
	e := p.Evidence
	of := ""
	if e.Program != "" {
		of = " of " + plain(e.Program)
	}
	fmt.Fprintf(w, "%s  %s%s\n", name, strings.ReplaceAll(e.Kind, "-", " "), of)
	if !e.Started.IsZero() {
		on := ""
		if e.Host != "" {
			on = " on " + plain(e.Host)
		}
		fmt.Fprintf(w, "  ran      %s%s, for %s\n", e.Started.Format(time.RFC3339), on, time.Duration(e.DurationNs).Round(time.Microsecond))
	}
	if len(e.Command) > 0 {
		fmt.Fprintf(w, "  command  %s\n", plain(strings.Join(e.Command, " ")))
	}
	if e.BuildID != "" || e.Kind == "execution-log" || e.Kind == "core-dump" {
		fmt.Fprintf(w, "  build    %s\n", plain(orNone(e.BuildID)))
	}
	fmt.Fprintf(w, "  holds    %s, on %s\n", counted(int(e.Moments), "moment"), counted(e.Threads, "thread"))
	if f := p.Failure; f != nil {
		summary := plain(f.Summary)
		if !strings.HasPrefix(summary, f.Kind+": ") {
			summary = f.Kind + ": " + summary
		}
		fmt.Fprintf(w, "\nfailure    %s\n", strings.ReplaceAll(summary, "; ", ";\n           "))
		fmt.Fprintf(w, "  at       %s@%d#%s.%d\n", name, f.Moment, f.Thread, f.Frame)
		if f.Instruction != "" {
			fmt.Fprintf(w, "  by       %s\n", plain(f.Instruction))
		}
		for i, c := range f.Causes {
			if i > 0 {
				fmt.Fprintf(w, "  because  %s\n", plain(strings.Trim(c.Type+": "+c.Message, ": ")))
			}
		}
	} else if len(p.Gaps) > 0 || e.Kind != "execution-log" && e.Kind != "core-dump" {
		fmt.Fprintf(w, "\nfailure    none in what is here\n")
	} else {
		fmt.Fprintf(w, "\nfailure    none: the program ended without one\n")
	}
	for _, t := range p.Threads {
		if p.Failure == nil || t.ID != p.Failure.Thread {
			continue
		}
		printFolded(w, t.Frames, source)
	}
	if others := e.Threads - 1; p.Failure != nil && others > 0 {
		fmt.Fprintf(w, "  %s: wraith stack --all %s\n", counted(others, "more thread"), name)
	}
	if len(p.Gaps) == 0 {
		fmt.Fprintf(w, "\nmissing    nothing\n")
		return
	}
	fmt.Fprintf(w, "\nmissing\n")
	for _, g := range p.Gaps {
		fmt.Fprintf(w, "  - %s\n    %s\n", plain(g.What), plain(g.Remedy))
	}
}

func counted(n int, what string) string {
	switch {
	case n == 1:
	case strings.HasSuffix(what, "s"):
		what += "es"
	default:
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}

func orNone(s string) string {
	if s == "" {
		return "not known"
	}
	return s
}

// inFile writes a place in the source after something else, where there is one.
func inFile(file string, line int) string {
	if file == "" {
		return ""
	}
	return fmt.Sprintf("  %s:%d", plain(file), line)
}

func printFrame(w io.Writer, f answer.Frame, source sourceReader) {
	where := ""
	if f.File != "" {
		where = fmt.Sprintf("  %s:%d", plain(f.File), f.Line)
	}
	if f.Inlined {
		where += "  (inlined)"
	}
	fmt.Fprintf(w, "  %3d  %s%s\n", f.Index, plain(f.Function), where)
	if f.Note != "" {
		fmt.Fprintf(w, "         %s\n", plain(f.Note))
	}
	if text := source(f.File, f.Line); text != "" {
		fmt.Fprintf(w, "         | %s\n", plain(text))
	}
}

func printStack(w io.Writer, s answer.Stack, source sourceReader) {
	for i, t := range s.Threads {
		if i > 0 {
			fmt.Fprintln(w)
		}
		state := ""
		if t.State != "" {
			state = ", " + plain(t.State)
		}
		fmt.Fprintf(w, "moment %d, thread %s: %s%s\n", s.Moment, t.ID, plain(t.Name), state)
		if t.Creator != "" {
			fmt.Fprintf(w, "  started by %s\n", plain(t.Creator))
		}
		for _, x := range t.Deferred {
			fmt.Fprintf(w, "  deferred %s\n", plain(x))
		}
		if len(t.Frames) == 0 {
			fmt.Fprintln(w, "  no frames of own code are known of it")
		}
		for _, f := range t.Frames {
			printFrame(w, f, source)
		}
	}
}

var stateWords = map[string]string{
	"unassigned": "not assigned yet", "leftover": "holds leftover garbage", "optimised-away": "optimised away",
	"unrecorded": "not recorded", "redacted": "redacted",
}

func printValues(w io.Writer, v answer.Values) {
	if len(v.Variables) == 0 {
		fmt.Fprintln(w, "no names are in scope here")
	}
	scope := ""
	for _, x := range v.Variables {
		if x.Scope != scope {
			scope = x.Scope
			fmt.Fprintf(w, "%s\n", scopeWords[scope])
		}
		printVariable(w, x, "  ")
	}
	for _, x := range v.Returned {
		fmt.Fprintf(w, "returned\n  %s  = %s\n", plain(x.Function), plain(strings.Join(x.Values, ", ")))
	}
}

var scopeWords = map[string]string{"parameter": "parameters", "local": "locals", "return": "results", "global": "globals", "register": "registers"}

func printVariable(w io.Writer, v answer.Variable, indent string) {
	value := plain(v.Value)
	if words, ok := stateWords[v.State]; ok {
		value = "<" + words + ">"
		if v.Why != "" {
			value = "<" + words + ": " + plain(v.Why) + ">"
		}
	}
	fmt.Fprintf(w, "%s%s  %s  = %s\n", indent, plain(v.Name), plain(v.Type), value)
	for _, c := range v.Children {
		printVariable(w, c, indent+"    ")
	}
	if n := v.Count - len(v.Children); n > 0 && len(v.Children) > 0 {
		fmt.Fprintf(w, "%s    and %d more\n", indent, n)
	}
}

func printHits(w io.Writer, name string, q answer.CheckpointQuery, h answer.Hits) {
	fmt.Fprintf(w, "%s of %s\n", counted(h.Total, "hit"), q)
	if h.Undecided > 0 {
		fmt.Fprintf(w, "  at %d moments the condition had no answer; at the first: %s\n", h.Undecided, plain(h.Trouble))
	}
	for i, x := range h.Hits {
		took := ""
		if (q.Enter != "" || q.Return != "" || q.Slowest) && x.CallNs >= 0 {
			took = ", took " + time.Duration(x.CallNs).String()
		}
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s  +%s%s\n", q.From+i+1, name, x.Moment, x.Thread, plain(x.Function), time.Duration(x.TimeNs).Round(time.Microsecond), took)
		if x.Text != "" {
			fmt.Fprintf(w, "          %s\n", plain(x.Text))
		}
		for _, s := range x.Shown {
			value := s.Value
			if s.Error != "" {
				value = "? " + s.Error
			}
			fmt.Fprintf(w, "          %s = %s\n", plain(s.Expression), plain(value))
		}
	}
	if more := h.Total - q.From - len(h.Hits); more > 0 {
		fmt.Fprintf(w, "  %d more: --from %d\n", more, q.From+len(h.Hits))
	}
}

func printWrites(w io.Writer, name, path string, from int, list answer.Writes, source sourceReader) {
	fmt.Fprintf(w, "%s to %s\n", counted(list.Total, "write"), path)
	for i, x := range list.Writes {
		old := ""
		if x.Old != nil {
			old = plain(*x.Old) + " -> "
		}
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s%s%s\n", from+i+1, name, x.Moment, x.Thread, old, plain(x.New), inFile(x.File, x.Line))
		if text := source(x.File, x.Line); text != "" {
			fmt.Fprintf(w, "          | %s\n", plain(text))
		}
	}
	if more := list.Total - from - len(list.Writes); more > 0 {
		fmt.Fprintf(w, "  %d more: --from %d\n", more, from+len(list.Writes))
	}
}

func printChanged(w io.Writer, c answer.Changed) {
	if len(c.Changes) == 0 {
		fmt.Fprintf(w, "nothing in this frame differs from moment %d\n", c.Previous)
	} else {
		fmt.Fprintf(w, "since moment %d of this frame\n", c.Previous)
	}
	for _, x := range c.Changes {
		if x.Old == nil {
			fmt.Fprintf(w, "  %s = %s\n", plain(x.Name), plain(x.New))
			continue
		}
		fmt.Fprintf(w, "  %s: %s -> %s\n", plain(x.Name), plain(*x.Old), plain(x.New))
	}
	for _, x := range c.Returned {
		fmt.Fprintf(w, "  %s returned %s at moment %d\n", plain(x.Function), plain(strings.Join(x.Values, ", ")), x.Moment)
	}
}

func printSearch(w io.Writer, name string, from int, s answer.Search) {
	fmt.Fprintf(w, "found at %s\n", counted(s.Total, "place"))
	for i, x := range s.Found {
		fmt.Fprintf(w, "  %6d  %s@%d#%s  %s = %s%s\n", from+i+1, name, x.Moment, x.Thread, plain(x.Name), plain(x.Value), inFile(x.File, x.Line))
	}
	if more := s.Total - from - len(s.Found); more > 0 {
		fmt.Fprintf(w, "  %d more: --from %d\n", more, from+len(s.Found))
	}
}

func printLedger(w io.Writer, l answer.Ledger) {
	heads := []any{"moment", "place"}
	for _, c := range l.Columns {
		heads = append(heads, c)
	}
	t := newTable(w, heads...)
	for _, row := range l.Rows {
		place := row.Function
		if row.File != "" {
			place = fmt.Sprintf("%s:%d", row.File, row.Line)
		}
		cells := table.Row{row.Moment, plain(place)}
		for _, c := range row.Cells {
			value := plain(c.Value)
			if c.Error != "" {
				value = "?"
			}
			if c.Changed {
				value += " *"
			}
			cells = append(cells, value)
		}
		t.AppendRow(cells)
	}
	t.Render()
	fmt.Fprintf(w, "%d of %s; * differs from the row before, ? has no value there\n", len(l.Rows), counted(l.Total, "row"))
}

func printMeanwhile(w io.Writer, name string, m answer.Meanwhile) {
	fmt.Fprintf(w, "from moment %d to %d\n", m.From, m.To)
	for _, d := range m.Threads {
		fmt.Fprintf(w, "  thread %s: %s, %s, %s\n", d.Thread, plain(d.Name), counted(int(d.Moments), "moment"), plain(d.State))
		fmt.Fprintf(w, "    from %s@%d#%s  %s%s\n", name, d.First.Moment, d.Thread, plain(d.First.Function), inFile(d.First.File, d.First.Line))
		fmt.Fprintf(w, "    to   %s@%d#%s  %s%s\n", name, d.Last.Moment, d.Thread, plain(d.Last.Function), inFile(d.Last.File, d.Last.Line))
	}
}

func printStep(w io.Writer, name string, s answer.Step, source sourceReader) {
	fmt.Fprintf(w, "%s@%d#%s  %s%s  (%s)\n", name, s.Moment, s.Thread, plain(s.Function), inFile(s.File, s.Line), s.Reason)
	if s.Text != "" {
		fmt.Fprintf(w, "  %s\n", plain(s.Text))
	}
	if s.StepNs >= 0 {
		took := "the line took " + time.Duration(s.StepNs).String()
		if s.CallNs >= 0 {
			took += ", its call " + time.Duration(s.CallNs).String()
		}
		fmt.Fprintf(w, "  +%s, %s\n", time.Duration(s.TimeNs).Round(time.Microsecond), took)
	}
	if text := source(s.File, s.Line); text != "" {
		fmt.Fprintf(w, "  | %s\n", plain(text))
	}
}
