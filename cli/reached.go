package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.ReachedRequest, ask.Conditions]{use: "reached LOCATOR", short: "Show why a line was reached: the conditions that decided it, innermost first",
	long: `Show the conditions that decided that the line of the locator's frame was reached:
branches, loops and early returns of its call, innermost first, then those of its callers, each with the values
of its operands.`,
	print: func(w io.Writer, o printing, _ ask.ReachedRequest, c ask.Conditions) {
		fmt.Fprintf(w, "%s decided it, innermost first\n", counted(len(c.Conditions), "condition"))
		printConditions(w, o, c, "; otherwise it would have left before the line")
	}})

var _ = register(question[ask.MissedRequest, ask.Conditions]{use: "missed LOCATOR --line FILE:N|--write PATH|--enter FUNCTION", short: "Show why something did not happen in a call: the conditions that turned away from it",
	long: `Show why a line was not reached, a value not written or a function not called in the call of
the locator's frame, or in the calls that it made: the conditions that turned away from it, nearest first, each with the
values of its operands.`,
	print: func(w io.Writer, o printing, _ ask.MissedRequest, c ask.Conditions) {
		if c.Happened >= 0 {
			fmt.Fprintf(w, "it happened: %s, at %s@%d\n", plain(c.Note), o.name, c.Happened)
			return
		}
		if len(c.Conditions) == 0 {
			fmt.Fprintln(w, plain(c.Note))
			return
		}
		fmt.Fprintf(w, "%s turned away from it, nearest first\n", counted(len(c.Conditions), "condition"))
		printConditions(w, o, c, "; it left here")
	}})

// printConditions writes conditions as text. leaves follows those that leave.
func printConditions(w io.Writer, o printing, c ask.Conditions, leaves string) {
	for i, x := range c.Conditions {
		times := ""
		if x.Times > 1 {
			times = fmt.Sprintf(", for the %s time", ordinal(x.Times))
		}
		role := ""
		if x.Role == "exit" {
			role = leaves
		}
		fmt.Fprintf(w, "  %3d  %s was %s%s%s\n", i+1, plain(x.Expression), x.Value, times, role)
		fmt.Fprintf(w, "       at %s@%d#%s%s  %s\n", o.name, x.Moment, x.Thread, inFile(x.File, x.Line), plain(x.Function))
		for _, v := range x.Operands {
			from := ""
			if v.Written >= 0 {
				from = fmt.Sprintf("  (since @%d)", v.Written)
			}
			fmt.Fprintf(w, "         %s = %s%s\n", plain(v.Name), plain(shorten(v.Value, mostSourceValues)), from)
		}
	}
	if c.Note != "" {
		fmt.Fprintf(w, "  %s\n", plain(c.Note))
	}
}

// ordinal writes 1st, 2nd, 3rd, 4th.
func ordinal(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprint(n) + suffix
}
