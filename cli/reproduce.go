package cli

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"wraithology/core/locator"
	"wraithology/core/replay"
	"wraithology/reproduce"
)

// reproduced is the answer of wraith reproduce.
type reproduced struct {
	Function string    `json:"function"`
	File     string    `json:"file"`
	Test     string    `json:"test"`
	Complete bool      `json:"complete"`
	Gaps     []string  `json:"gaps"`
	Run      *remadeAs `json:"run"`
}

// remadeAs is how a call behaved when it was made again.
type remadeAs struct {
	Same    bool       `json:"same"`
	Results []compared `json:"results"`
	Error   string     `json:"error"`
}

type compared struct {
	Name     string `json:"name"`
	Recorded string `json:"recorded"`
	Now      string `json:"now"`
}

func comparedOf(list []reproduce.Compared) []compared {
	out := []compared{}
	for _, x := range list {
		out = append(out, compared(x))
	}
	return out
}

func (a *app) reproduce() *cobra.Command {
	var output, source string
	var run bool
	c := &cobra.Command{
		Use: "reproduce LOCATOR [-o FILE] [--run]", Short: "Write a Go test that makes a recorded call again",
		Long: `Write a Go test, in the package of the frame's function, that rebuilds the receiver, the arguments and the package
variables as recorded at the entry of the call, makes the call, and compares what it returns and changes with the
recording. What cannot be rebuilt is listed. --run builds it with the recorded source, without changing a file, runs it
in a sandbox without network, and says whether the call behaves as recorded. The exit code of --run is 1 if it does not.`,
		Args: args(1, 1, "LOCATOR"),
		RunE: func(c *cobra.Command, args []string) error {
			r, call, err := a.recordedCall(c.Context(), args[0])
			if err != nil {
				return err
			}
			test, err := reproduce.Write(c.Context(), r, call, reproduce.Options{Source: source, Link: linkOf(args[0], call)})
			if err != nil {
				return err
			}
			out := reproduced{Function: test.Function, File: test.File, Test: test.Text, Complete: test.Complete(), Gaps: append([]string{}, test.Gaps...)}
			if output != "" {
				if err := os.WriteFile(output, []byte(test.Text), 0o644); err != nil {
					return fmt.Errorf("write the test: %w", err)
				}
				out.File = output
			}
			if run {
				got, err := test.Run(c.Context())
				if err != nil {
					return err
				}
				out.Run = &remadeAs{got.Same, comparedOf(got.Results), got.Error}
			}
			if err := a.print(out, func(w io.Writer) { printReproduced(w, out, output != "") }); err != nil {
				return err
			}
			if out.Run != nil && !out.Run.Same {
				return errNo
			}
			return nil
		},
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file for the test (default: it is printed)")
	c.Flags().BoolVar(&run, "run", false, "make the call in a sandbox and compare it with the recording")
	a.remakingFlags(c, &source)
	return c
}

// remakingFlags adds the flags of commands that make recorded calls again.
func (a *app) remakingFlags(c *cobra.Command, source *string) {
	c.Flags().StringVar(source, "source", "", "root of the program's module (default: where it was recorded)")
	a.signInFlags(c)
	a.outputFlags(c)
}

// recordedCall opens the recording of a locator and reads the call of its frame.
func (a *app) recordedCall(ctx context.Context, text string) (replay.Recording, replay.MadeCall, error) {
	l, err := locator.Parse(text)
	if err != nil {
		return nil, replay.MadeCall{}, err
	}
	r, err := a.openHere(ctx, l.Evidence)
	if err != nil {
		return nil, replay.MadeCall{}, err
	}
	reader, err := reproduce.CallsOf(r)
	if err != nil {
		return nil, replay.MadeCall{}, err
	}
	p, err := place(l).Resolve(r)
	if err != nil {
		return nil, replay.MadeCall{}, err
	}
	call, err := reader.MadeCall(ctx, p.Moment, p.Thread, p.Frame)
	return r, call, err
}

// linkOf names a call by its entry.
func linkOf(text string, call replay.MadeCall) string {
	l, err := locator.Parse(text)
	if err != nil {
		return text
	}
	return fmt.Sprintf("%s@%d#%s", l.Evidence, call.Enter, call.Thread)
}

func printReproduced(w io.Writer, x reproduced, isWritten bool) {
	if isWritten {
		fmt.Fprintf(w, "wrote the test of %s to %s\n", plain(x.Function), x.File)
	} else {
		fmt.Fprint(w, x.Test)
		fmt.Fprintf(w, "\n// belongs into %s\n", plain(x.File))
	}
	if x.Complete {
		fmt.Fprintln(w, "// everything that the call was given is rebuilt")
	} else if isWritten {
		fmt.Fprintln(w, "not as recorded:")
		for _, g := range x.Gaps {
			fmt.Fprintf(w, "  %s\n", plain(g))
		}
	}
	if x.Run == nil {
		return
	}
	switch {
	case x.Run.Error != "":
		fmt.Fprintf(w, "the call could not be compared: %s\n", plain(x.Run.Error))
	case x.Run.Same:
		fmt.Fprintln(w, "the call behaves as recorded")
	default:
		fmt.Fprintln(w, "the call does not behave as recorded")
	}
	printCompared(w, x.Run.Results)
}

// mostCompared limits the values of a comparison that are printed.
const mostCompared = 20

func printCompared(w io.Writer, list []compared) {
	for i, r := range list {
		if i == mostCompared {
			fmt.Fprintf(w, "  %d more: --json\n", len(list)-i)
			return
		}
		if r.Recorded == r.Now {
			fmt.Fprintf(w, "  %s is %s, as recorded\n", plain(r.Name), plain(shorten(r.Now, mostSourceValues)))
			continue
		}
		fmt.Fprintf(w, "  %s was %s, now it is %s\n", plain(r.Name), plain(shorten(orNothing(r.Recorded), mostSourceValues)), plain(shorten(orNothing(r.Now), mostSourceValues)))
	}
}
