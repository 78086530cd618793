package cli

import (
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"wraithology/core/ask"
	"wraithology/core/event"
)

var _ = register(question[ask.PeekRequest, ask.Peek]{use: "peek EVIDENCE", short: "Show what evidence is, how the program ended, where, and what is missing", print: printPeek, previews: true})

func printPeek(w io.Writer, o printing, _ ask.PeekRequest, p ask.Peek) {
	name := o.name
	e := p.Evidence
	of := ""
	if e.Program != "" {
		of = " of " + plain(e.Program)
	}
	fmt.Fprintf(w, "%s  %s%s\n", name, strings.ReplaceAll(plain(e.Kind), "-", " "), of)
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
	if e.BuildID != "" || e.Traits.Lines && (e.Traits.History || e.Traits.Memory) {
		fmt.Fprintf(w, "  build    %s\n", plain(orNone(e.BuildID)))
	}
	fmt.Fprintf(w, "  holds    %s, on %s\n", counted(int(e.Moments), "moment"), counted(e.Threads, "thread"))
	if e.Reading != nil {
		printReading(w, o, *e.Reading)
	}
	if f := p.Failure; f != nil {
		summary, kind := plain(f.Summary), plain(f.Kind)
		if !strings.HasPrefix(summary, kind+": ") {
			summary = kind + ": " + summary
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
	} else if len(p.Gaps) > 0 || !e.Traits.Lines || !e.Traits.History && !e.Traits.Memory {
		fmt.Fprintf(w, "\nfailure    none in what is here\n")
	} else {
		fmt.Fprintf(w, "\nfailure    none: the program ended without one\n")
	}
	for _, t := range p.Threads {
		if p.Failure == nil || t.ID != p.Failure.Thread {
			continue
		}
		printFolded(w, t.Frames, o.source)
	}
	if others := len(p.Threads) - 1; p.Failure != nil && others > 0 {
		fmt.Fprintf(w, "  %s: wraith stack --all %s\n", counted(others, "more thread"), name)
	}
	printLead(w, o, p)
	if len(p.Gaps) == 0 {
		fmt.Fprintf(w, "\nmissing    nothing\n")
		return
	}
	fmt.Fprintf(w, "\nmissing\n")
	for _, g := range p.Gaps {
		fmt.Fprintf(w, "  - %s\n    %s\n", plain(g.What), plain(g.Remedy))
	}
}

// printReading writes how the lines of a log were read.
func printReading(w io.Writer, o printing, r event.Reading) {
	fmt.Fprintf(w, "\nread       %s = %s + %s + %s + %d unread\n", counted(int(r.Lines), "line"), counted(int(r.Records), "record"),
		counted(int(r.Continuations), "continuation line"), counted(int(r.Blank), "blank line"), r.Unread)
	if r.Records > 0 {
		fmt.Fprintf(w, "           %s of the records have a time, %s a level\n", share(r.Timed, r.Records), share(r.Leveled, r.Records))
	}
	for _, s := range r.Samples {
		fmt.Fprintf(w, "  line %-5d %s\n", s.Line, plain(shorten(s.Text, mostSourceValues)))
		var parts []string
		for _, part := range [][2]string{{"time", s.Time}, {"level", s.Level}, {"thread", s.Thread}, {"logger", s.Logger}, {"message", s.Message}} {
			if part[1] != "" {
				parts = append(parts, part[0]+" "+plain(shorten(part[1], mostSourceValues/2)))
			}
		}
		fmt.Fprintf(w, "             %s\n", strings.Join(parts, " | "))
	}
	for _, s := range r.FirstUnread {
		fmt.Fprintf(w, "  line %-5d %s\n             unread: kept as text\n", s.Line, plain(shorten(s.Text, mostSourceValues)))
	}
	if r.Unread > 0 || r.Timed < r.Records {
		fmt.Fprintf(w, "  another reading: wraith peek %s --pattern '{time} {level} {message}'\n", o.name)
	}
}

// share writes a part of a whole in percent. It is 100 % or 0 % only if it is all or nothing.
func share(part, whole int64) string {
	percent := 100 * float64(part) / float64(whole)
	switch {
	case part == whole:
		return "100 %"
	case part == 0:
		return "0 %"
	}
	return strconv.FormatFloat(min(max(math.Round(percent*10)/10, 0.1), 99.9), 'f', -1, 64) + " %"
}

// printLead writes what leads on from a failure.
func printLead(w io.Writer, o printing, p ask.Peek) {
	if len(p.Outputs) > 0 {
		fmt.Fprintln(w, "\nlast outputs")
		for _, x := range p.Outputs {
			fmt.Fprintf(w, "  @%-8d %s\n", x.Moment, plain(shorten(strings.TrimRight(x.Text, "\n"), mostSourceValues)))
		}
	}
	if c := p.Condition; c != nil {
		fmt.Fprintf(w, "\nthe check  %s was %s%s\n", plain(c.Expression), plain(c.Value), inFile(c.File, c.Line))
		for _, v := range c.Operands {
			fmt.Fprintf(w, "           %s = %s\n", plain(v.Name), plain(shorten(v.Value, mostSourceValues)))
		}
	}
	if len(p.Deadlocks) > 0 {
		fmt.Fprintln(w)
	}
	for _, c := range p.Deadlocks {
		printCycle(w, c)
	}
	if r := p.Lost; r != nil {
		fmt.Fprintf(w, "\nan update of %s was lost\n", plain(r.Name))
		printAccess(w, o, r.First, "")
		printAccess(w, o, r.Second, "")
		if r.Overwrite != nil {
			printAccess(w, o, *r.Overwrite, "over")
		}
	}
	if len(p.Next) > 0 {
		fmt.Fprintln(w, "\nnext")
		for _, n := range p.Next {
			at := o.name
			if n.Question != "hits" && n.Question != "races" {
				at = fmt.Sprintf("%s@%d#%s.%d", o.name, n.Moment, n.Thread, n.Frame)
			}
			argument := ""
			if n.Argument != "" {
				argument = " " + plain(quoteArgument(n.Argument))
			}
			fmt.Fprintf(w, "  wraith %s %s%s\n      %s\n", plain(n.Question), at, argument, plain(n.Why))
		}
	}
}
