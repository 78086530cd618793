package cli

import (
	"fmt"
	"io"

	"wraithology/core/ask"
)

var _ = register(question[ask.InstructionsRequest, ask.Instructions]{use: "instructions LOCATOR", short: "Show the machine instructions around a frame's place in a core dump", print: printInstructions})

func printInstructions(w io.Writer, _ printing, _ ask.InstructionsRequest, list ask.Instructions) {
	for _, x := range list.Instructions {
		mark := "   "
		if x.Here {
			mark = "now"
		}
		fmt.Fprintf(w, "%s  %s  %-24s  %-40s  %s\n", mark, x.Address, plain(x.Bytes), plain(x.Text), plain(x.Where))
		for _, o := range x.Operands {
			fmt.Fprintf(w, "       %s\n", plain(o))
		}
	}
}
