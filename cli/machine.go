package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/coredump/module"
	"wraithology/core/evidence"
	"wraithology/core/replay"
)

// artifacts are what the command line says about binaries and source text.
func (a *app) artifacts() evidence.Artifacts {
	out := evidence.Artifacts{Modules: module.Sources{Binaries: a.binaries, Debug: a.debug}, Source: a.source, Paths: a.paths}
	if dir, err := os.UserCacheDir(); err == nil {
		out.Modules.Cache = filepath.Join(dir, "wraithology", "modules")
	}
	return out
}

func (l local) Groups(ctx context.Context, at client.At) (answer.Groups, error) {
	m, _, err := l.resolve(at)
	if err != nil {
		return answer.Groups{}, err
	}
	return answer.GroupsAt(ctx, l.r, m)
}

func (l local) Memory(ctx context.Context, address, count uint64) (answer.Memory, error) {
	return answer.MemoryAt(ctx, l.r, address, count)
}

func (l local) Holders(ctx context.Context, pointer uint64, page replay.Page) (answer.Holders, error) {
	return answer.HoldersOf(ctx, l.r, pointer, page)
}

func (l local) Instructions(ctx context.Context, at client.At, before, after int) (answer.Instructions, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Instructions{}, err
	}
	return answer.InstructionsAt(ctx, l.r, m, t, at.Frame, before, after)
}

func (a *app) threads() *cobra.Command {
	return &cobra.Command{
		Use: "threads LOCATOR", Short: "Show all threads, grouped where their stacks are the same",
		Args: args(1, 1, "LOCATOR"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			g, err := e.Groups(c.Context(), place(l))
			if err != nil {
				return err
			}
			return a.print(g, func(w io.Writer) { printGroups(w, g) })
		},
	}
}

func printGroups(w io.Writer, g answer.Groups) {
	fmt.Fprintf(w, "%s in %s\n", counted(g.Total, "thread"), counted(len(g.Groups), "group"))
	for _, x := range g.Groups {
		const most = 12
		ids := strings.Join(x.Threads[:min(most, len(x.Threads))], ", ")
		if x.Count > most {
			ids += ", …"
		}
		fmt.Fprintf(w, "\n%s, %s: %s\n", counted(x.Count, x.Kind), plain(x.State), ids)
		if x.Waits != "" {
			fmt.Fprintf(w, "  %s\n", plain(x.Waits))
		}
		printFolded(w, x.Frames, nil)
	}
}

// printFolded prints frames with runs of foreign ones folded to one line. An own
// frame comes with its source line.
func printFolded(w io.Writer, frames []answer.Frame, source sourceReader) {
	for i := 0; i < len(frames); i++ {
		end := i
		for end < len(frames) && !frames[end].Own {
			end++
		}
		if n := end - i; n > 2 {
			fmt.Fprintf(w, "  %3d  … %d foreign frames, from %s to %s\n", frames[i].Index, n, plain(frames[i].Function), plain(frames[end-1].Function))
			i = end - 1
			continue
		}
		if source == nil {
			source = func(string, int) string { return "" }
		}
		printFrame(w, frames[i], source)
	}
}

// number reads an address or count, in decimal or with 0x in hexadecimal.
func number(s, what string) (uint64, error) {
	n, err := strconv.ParseUint(s, 0, 64)
	if err != nil {
		return 0, usageError{fmt.Sprintf("%q is no %s", s, what), "for example 0x7ffe1c40"}
	}
	return n, nil
}

func (a *app) memory() *cobra.Command {
	var count uint64
	var holders bool
	var page replay.Page
	c := &cobra.Command{
		Use: "memory EVIDENCE ADDRESS", Short: "Show the memory at an address of a core dump, and what it is",
		Args: args(2, 2, "EVIDENCE ADDRESS"),
		RunE: func(c *cobra.Command, given []string) error {
			at, err := number(given[1], "address")
			if err != nil {
				return err
			}
			e, _, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			if holders {
				h, err := e.Holders(c.Context(), at, page)
				if err != nil {
					return err
				}
				if err := a.print(h, func(w io.Writer) { printHolders(w, given[1], page.From, h) }); err != nil {
					return err
				}
				if h.Total == 0 {
					return errNo
				}
				return nil
			}
			m, err := e.Memory(c.Context(), at, count)
			if err != nil {
				return err
			}
			return a.print(m, func(w io.Writer) { printMemory(w, m) })
		},
	}
	c.Flags().Uint64Var(&count, "count", 64, "how many bytes")
	c.Flags().BoolVar(&holders, "holders", false, "list the places that hold this address instead")
	c.Flags().IntVar(&page.From, "from", 0, "with --holders: the first to list")
	c.Flags().IntVar(&page.Count, "first", 20, "with --holders: how many to list")
	return c
}

func printMemory(w io.Writer, m answer.Memory) {
	fmt.Fprintf(w, "%s  %s\n", m.Address, plain(m.What))
	for _, x := range m.Words {
		fmt.Fprintf(w, "  %s  %18s  %s\n", x.Address, x.Value, plain(x.What))
	}
	if rest := len(m.Bytes) / 2 % 8; rest != 0 {
		fmt.Fprintf(w, "  and the bytes %s\n", m.Bytes[len(m.Bytes)-2*rest:])
	}
	if m.Why != "" {
		fmt.Fprintf(w, "  %s\n", plain(m.Why))
	}
}

func printHolders(w io.Writer, address string, from int, h answer.Holders) {
	fmt.Fprintf(w, "%s hold %s\n", counted(h.Total, "place"), address)
	for _, x := range h.Holders {
		fmt.Fprintf(w, "  %s  %s\n", x.Address, plain(x.What))
	}
	if more := h.Total - from - len(h.Holders); more > 0 {
		fmt.Fprintf(w, "  %d more: --from %d\n", more, from+len(h.Holders))
	}
}

func (a *app) instructions() *cobra.Command {
	var before, after int
	c := &cobra.Command{
		Use: "instructions LOCATOR", Short: "Show the machine instructions around a frame's place in a core dump",
		Args: args(1, 1, "LOCATOR"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			list, err := e.Instructions(c.Context(), place(l), before, after)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printInstructions(w, list) })
		},
	}
	c.Flags().IntVar(&before, "before", 6, "how many before the place")
	c.Flags().IntVar(&after, "after", 6, "how many after it")
	return c
}

func printInstructions(w io.Writer, list answer.Instructions) {
	for _, x := range list.Instructions {
		mark := "   "
		if x.Here {
			mark = "now"
		}
		fmt.Fprintf(w, "%s  %s  %-24s  %-40s  %s\n", mark, x.Address, x.Bytes, plain(x.Text), plain(x.Where))
		for _, o := range x.Operands {
			fmt.Fprintf(w, "       %s\n", plain(o))
		}
	}
}
