package cli

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.MemoryRequest, ask.Memory]{use: "memory EVIDENCE ADDRESS", short: "Show the memory at an address of a core dump, and what is there", args: [2]int{2, 2}, print: printMemory,
	flags: func(c *cobra.Command) func(*ask.MemoryRequest, *locator.Locator, []string) error {
		c.Flags().Bool("holders", false, "list the places that hold this address instead")
		c.Flags().Int("from", 0, "with --holders: number of places to skip")
		c.Flags().Int("first", 20, "with --holders: number of places")
		return func(*ask.MemoryRequest, *locator.Locator, []string) error { return nil }
	},
	other: func(c *cobra.Command, a *app, l locator.Locator, q ask.MemoryRequest, _ []string) (bool, error) {
		f := c.Flags()
		if is, err := f.GetBool("holders"); err != nil || !is {
			return false, err
		}
		from, fromErr := f.GetInt("from")
		first, firstErr := f.GetInt("first")
		t, err := a.open(c.Context(), l.Evidence)
		if err := errors.Join(fromErr, firstErr, err); err != nil {
			return true, err
		}
		return true, answerTo(c, a, holders, t, ask.HoldersRequest{Address: q.Address, From: from, Count: first})
	}})

var holders = question[ask.HoldersRequest, ask.Holders]{use: "holders EVIDENCE ADDRESS", short: "List the places in a core dump's memory that hold an address", args: [2]int{2, 2}, print: printHolders}

var _ = register(holders)

func printMemory(w io.Writer, _ printing, _ ask.MemoryRequest, m ask.Memory) {
	fmt.Fprintf(w, "%s  %s\n", m.Address, plain(m.What))
	for _, x := range m.Words {
		fmt.Fprintf(w, "  %s  %18s  %s\n", x.Address, x.Value, plain(x.What))
	}
	if rest := len(m.Bytes) / 2 % 8; rest != 0 {
		fmt.Fprintf(w, "  and the bytes %s\n", plain(m.Bytes[len(m.Bytes)-2*rest:]))
	}
	if m.Why != "" {
		fmt.Fprintf(w, "  %s\n", plain(m.Why))
	}
}

func printHolders(w io.Writer, _ printing, q ask.HoldersRequest, h ask.Holders) {
	verb := "hold"
	if h.Total == 1 {
		verb = "holds"
	}
	fmt.Fprintf(w, "%s %s %s\n", counted(h.Total, "place"), verb, q.Address)
	for _, x := range h.Holders {
		fmt.Fprintf(w, "  %s  %s\n", x.Address, plain(x.What))
	}
	printMore(w, h.Total, q.From, len(h.Holders))
}
