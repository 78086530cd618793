package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

var _ = register(question[ask.StepRequest, ask.Step]{use: "step LOCATOR --into|--over|--out|--line|--to FILE:N|--head [--back] [--count N]", short: "Step forward or backward, and show the new place",
	flags: func(c *cobra.Command) func(*ask.StepRequest, *locator.Locator, []string) error {
		var into, over, out, line bool
		var to, thread string
		var head int
		f := c.Flags()
		f.BoolVar(&into, "into", false, "to the next line, also inside a call")
		f.BoolVar(&over, "over", false, "to the next line of this call")
		f.BoolVar(&out, "out", false, "out of this call")
		f.BoolVar(&line, "line", false, "to the next line of this call; with --any-thread, of any thread")
		f.StringVar(&to, "to", "", "to the next time the thread reaches this line, as FILE:N")
		f.IntVar(&head, "head", 0, "to the head of this call, or with N of its Nth caller")
		f.Lookup("head").NoOptDefVal = "0"
		f.StringVar(&thread, "thread", "", "step on this thread")
		return func(q *ask.StepRequest, l *locator.Locator, _ []string) (err error) {
			ways := 0
			for _, w := range []struct {
				named bool
				way   replay.Way
			}{{into, replay.Into}, {over, replay.Over}, {out, replay.Out}, {line, replay.Line}, {to != "", replay.To}, {f.Changed("head"), replay.Head}} {
				if w.named {
					q.Way = string(w.way)
					ways++
				}
			}
			if ways != 1 {
				return usage("for example: wraith step "+l.Evidence+" --over", "a step needs exactly one of --into, --over, --out, --line, --to and --head")
			}
			if head < 0 {
				return usage("", "invalid --head %d: use a number from 0 on", head)
			}
			q.Outer = head
			if to != "" {
				if q.File, q.Line, err = find.ParseLine(to); err != nil {
					return err
				}
			}
			if thread != "" {
				err = l.Thread.UnmarshalText([]byte(thread))
			}
			return err
		}
	},
	print: func(w io.Writer, o printing, _ ask.StepRequest, s ask.Step) { printStep(w, o, s) }})

func printStep(w io.Writer, o printing, s ask.Step) {
	fmt.Fprintf(w, "%s@%d#%s  %s%s  (%s)\n", o.name, s.Moment, s.Thread, plain(s.Function), inFile(s.File, s.Line), plain(string(s.Reason)))
	if s.Text != "" {
		fmt.Fprintf(w, "  %s\n", plain(s.Text))
	}
	if s.StepNs >= 0 {
		took := "line " + duration(s.StepNs)
		if s.Estimated {
			took = "line about " + duration(s.StepNs)
		}
		if s.CallNs >= 0 {
			took += ", call " + duration(s.CallNs)
		}
		fmt.Fprintf(w, "  %s, %s\n", timeOf(s.TimeNs, s.Estimated, s.At), took)
	}
	if text := o.source(s.File, s.Line); text != "" {
		fmt.Fprintf(w, "  | %s\n", plain(text))
	}
}

// timeOf prints the time of a moment: as reported by evidence without a recorder, or since the start.
func timeOf(ns int64, estimated bool, at time.Time) string {
	if at.IsZero() {
		return sinceStart(ns, estimated)
	}
	return at.Format(dayTime)
}

// dayTime is the layout of times of day with their date, to the nanosecond where there are any.
const dayTime = "2006-01-02 15:04:05.999999999Z"

// sinceStart prints a time since the start of the evidence. An estimated one was not read from a
// clock.
func sinceStart(ns int64, estimated bool) string {
	if estimated {
		return "about +" + time.Duration(ns).Round(time.Microsecond).String()
	}
	return "+" + time.Duration(ns).String()
}
