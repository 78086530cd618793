package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.ExpressionRequest, ask.Expression]{use: "ask LOCATOR EXPRESSION", short: "Evaluate an expression in a frame", args: [2]int{2, 2},
	long: `Evaluate an expression of the Common Expression Language over the names of a frame.
Further functions: deref(pointer); typeOf(value); old(name) for the value at the frame's
previous moment; changed(name); and formats of whole numbers: hex(n), binary(n),
character(n), size_of(n), nanoseconds(n), unixTime(n). In a core dump also
cast(address, "struct gate"), global("gate.c", "chain") and registers: reg.rip, reg.sp.`,
	print: func(w io.Writer, _ printing, _ ask.ExpressionRequest, v ask.Expression) {
		if v.Why != "" {
			fmt.Fprintf(w, "<%s: %s>  (%s)\n", stateWords[string(v.State)], plain(v.Why), v.Type)
			return
		}
		fmt.Fprintf(w, "%s  (%s)\n", v.Value, v.Type)
	}})
