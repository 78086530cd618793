package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/core/fault"
	"wraithology/recorder"
)

func (a *app) record() *cobra.Command {
	var output, level, budget string
	var detail recorder.Detail
	var ring int64
	c := &cobra.Command{
		Use: "record -o FILE -- COMMAND", Short: "Run a Go program or its tests and record what they do",
		Long: "Run go run, go test or go build, or a program that wraith record -- go build made,\nand write an execution log. The program's files stay untouched; its output, exit code\nand signals pass through. A program that was built this way writes its log when it runs.",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 0 || c.ArgsLenAtDash() != 0 {
				return usage("use: wraith record -o FILE -- go run|test|build …", "no command to record was given")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if output == "" {
				return usage("use: wraith record -o FILE -- "+args[0]+" …", "no output was named")
			}
			if ring < 0 {
				return usage("use a number of megabytes from 1 on, or leave --ring off to keep everything", "invalid --ring %d", ring)
			}
			detail.Level = recorder.Level(level)
			var err error
			if detail.Sample.Budget, err = shareOf(budget); err != nil {
				return err
			}
			r, err := recorder.Record(c.Context(), recorder.Options{Output: output, Command: args, Detail: detail, Ring: ring << 20, Stdin: a.in, Stdout: a.out, Stderr: a.err})
			switch {
			case err != nil && (r.ExitCode == 0 || !errors.Is(err, fault.Nothing)):
				return err
			case err != nil:
				_, remedy := fault.Of(err)
				fmt.Fprintf(a.err, "wraith: %s\n  %s\n", err, remedy)
			case r.Unwritten:
				fmt.Fprintf(a.err, "wraith: nothing went wrong, so the ring was not written to %s\n", output)
			case r.Later && r.ExitCode == 0:
				fmt.Fprintf(a.err, "wraith: built; the program writes %s when it runs\n", output)
			case r.Summary.Processes > 0:
				fmt.Fprintf(a.err, "wraith: recorded %s, %d bytes, in %s\n  wraith peek %s\n", counted(r.Summary.Processes, "process"), r.Summary.Bytes, output, output)
			}
			if r.ExitCode != 0 {
				return exitCode(r.ExitCode)
			}
			return nil
		},
	}
	c.Flags().StringVarP(&output, "output", "o", "", "execution log to write")
	c.Flags().StringVar(&level, "detail", string(recorder.Values), "level of detail: calls, lines or values; each includes the one before")
	c.Flags().StringSliceVar(&detail.Packages, "packages", nil, "record these packages only, as paths or path/..., also of other modules; all for everything outside the standard library")
	c.Flags().StringSliceVar(&detail.Functions, "functions", nil, "record these functions only, by name")
	c.Flags().IntVar(&detail.Depth, "depth", 0, "number of references to follow (default 3, with calls 1)")
	c.Flags().IntVar(&detail.Length, "length", 256, "number of bytes kept of a text; a quarter as many elements are kept of a list")
	c.Flags().Int64Var(&ring, "ring", 0, "keep only the last N megabytes; they are written when the program fails or receives SIGUSR1")
	c.Flags().StringArrayVar((*[]string)(&detail.Redact), "redact", nil, "also keep out of the log: a WORD of names of variables, fields and map keys, type:T, or text:REGEXP; none leaves out the usual rules for passwords, tokens and keys; may be repeated")
	c.Flags().BoolVar(&detail.Verify, "verify", false, "also record snapshots of the variables in scope, for wraith verify")
	c.Flags().Uint64Var(&detail.Sample.Every, "sample", 0, "of the calls that a service handles, and of its goroutines, record one in N")
	c.Flags().StringVar(&budget, "budget", "", "record as many of them as cost this share of the processor's time, such as 5%")
	c.Flags().StringSliceVar(&detail.AskOn, "ring-on-error", nil, "also write the ring when one of these functions returns an error")
	return c
}

// shareOf reads a percentage; empty is 0.
func shareOf(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	if err != nil || n <= 0 || n > 100 {
		return 0, usage("write it as 5%", "invalid --budget %q", text)
	}
	return n / 100, nil
}
