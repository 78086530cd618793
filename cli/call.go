package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.CallRequest, ask.Call]{use: "call LOCATOR", short: "Show the call of a frame: what it was given, what it gave back, what it changed outside itself",
	long: `Show the call of a frame as a whole: the arguments that it really had, at its entry; what it returned, or its panic; and
what it changed in its receiver, in what its arguments refer to, and in package variables.`,
	print: func(w io.Writer, o printing, q ask.CallRequest, c ask.Call) {
		fmt.Fprintf(w, "%s%s\n", plain(c.Function), inFile(c.File, c.Line))
		ended := "it does not end in the recording"
		switch c.Outcome {
		case "returned":
			ended = fmt.Sprintf("returned at %s@%d#%s", plain(o.name), c.End, c.Thread)
		case "panicked":
			ended = fmt.Sprintf("left by a panic at %s@%d#%s: %s", plain(o.name), c.End, c.Thread, plain(orNothing(c.Panic)))
		}
		fmt.Fprintf(w, "entered at %s@%d#%s, %s\n", plain(o.name), c.Moment, c.Thread, ended)
		for _, list := range []struct {
			what   string
			values []ask.CallValue
		}{{"given", c.Arguments}, {"gave back", c.Results}} {
			if len(list.values) > 0 {
				fmt.Fprintln(w, list.what)
			}
			for _, v := range list.values {
				value := plain(shorten(v.Value, mostSourceValues))
				if v.Value == "" && v.Why != "" {
					value = "<" + plain(v.Why) + ">"
				}
				fmt.Fprintf(w, "  %s  %s = %s\n", plain(v.Name), plain(v.Type), value)
			}
		}
		if c.Outcome == "unfinished" {
			return
		}
		if c.Total == 0 {
			fmt.Fprintln(w, "changed nothing outside itself that is known")
			return
		}
		fmt.Fprintln(w, "changed")
		for _, x := range c.Changed {
			old, now := "nothing", "nothing"
			if x.Old != nil {
				old = *x.Old
			}
			if x.New != nil {
				now = *x.New
			}
			fmt.Fprintf(w, "  %s  %s -> %s\n", plain(x.Name), plain(shorten(old, mostSourceValues)), plain(shorten(now, mostSourceValues)))
		}
		printMore(w, c.Total, q.From, len(c.Changed))
	}})
