package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.StackRequest, ask.Stack]{use: "stack LOCATOR", short: "Show the stack at a moment, innermost frame first", print: printStack})

func printStack(w io.Writer, o printing, _ ask.StackRequest, s ask.Stack) {
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
			fmt.Fprintln(w, "  no application frames")
		}
		for _, f := range t.Frames {
			printFrame(w, f, o.source)
		}
	}
}
