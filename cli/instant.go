package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.InstantRequest, ask.Instant]{use: "instant LOCATOR [FILE …]", short: "Show the same instant in other evidence", args: [2]int{1, 64},
	long: `Show the same instant in other evidence: of the case, or in the files that are named. A
trace that both belong to is followed; else the time of day counts. --offset FILE=1.5s says that the
clock of a file is 1.5 s behind; wraith offset does that for evidence of a case.`,
	flags: offsetFlag[ask.InstantRequest],
	other: besideFiles[ask.InstantRequest](func(c *cobra.Command, a *app, t *target, q ask.InstantRequest) error {
		return answerTo(c, a, question[ask.InstantRequest, ask.Instant]{print: printInstant}, t, q)
	}, true),
	print: printInstant})

// offsetFlag adds the flag for clock offsets of files.
func offsetFlag[Q any](c *cobra.Command) func(*Q, *locator.Locator, []string) error {
	c.Flags().StringToString("offset", nil, "FILE=DURATION, how far the clock of a file is behind; may be repeated")
	return func(*Q, *locator.Locator, []string) error { return nil }
}

// besideFiles answers a question together with other files; in a case the service finds the other
// evidence. inCase is set for questions that need a case or other files.
func besideFiles[Q any](answer func(*cobra.Command, *app, *target, Q) error, inCase bool) func(*cobra.Command, *app, locator.Locator, Q, []string) (bool, error) {
	return func(c *cobra.Command, a *app, l locator.Locator, q Q, files []string) (bool, error) {
		if len(files) == 0 {
			if inCase && !mayBeShared(l.Evidence) {
				_, err := a.inCase(l.Evidence)
				return true, err
			}
			return false, nil
		}
		if mayBeShared(l.Evidence) {
			return true, usage("leave out the other names: the service knows what else the case has; for files, check the path", "%s is not a file, and other files go only with a file", l.Evidence)
		}
		offsets, err := c.Flags().GetStringToString("offset")
		if err != nil {
			return true, err
		}
		r, err := a.openFile(c.Context(), l.Evidence)
		if err != nil {
			return true, err
		}
		t := &target{l.Evidence, client.Target{Local: ask.Subject{Recording: r, Limit: a.within}}}
		if err := a.beside(c.Context(), t, files, offsets); err != nil {
			return true, err
		}
		return true, answer(c, a, t, q)
	}
}

func printInstant(w io.Writer, o printing, _ ask.InstantRequest, x ask.Instant) {
	at := "at " + x.At.Format(time.RFC3339Nano)
	if x.At.IsZero() {
		at = "without a time of day"
	}
	fmt.Fprintf(w, "%s is %s", o.name, at)
	if x.TraceID != "" {
		fmt.Fprintf(w, ", in trace %s", plain(x.TraceID))
	}
	fmt.Fprintln(w)
	words := map[string]string{"trace": "by the trace", "clock": "by the clock", "one-moment": "it has one moment, and no clock", "unknown": "relation in time unknown"}
	for _, p := range x.Places {
		fmt.Fprintf(w, "  %s@%d#%s  %s%s\n", p.Evidence, p.Moment, p.Thread, plain(p.Function), inFile(p.File, p.Line))
		how := words[p.By]
		if p.By == "trace" || p.By == "clock" {
			how += fmt.Sprintf(", %+v away", time.Duration(p.DifferenceNs))
		}
		if p.OffsetNs != 0 {
			how += fmt.Sprintf("; its clock counts as %s behind", time.Duration(p.OffsetNs))
		}
		fmt.Fprintf(w, "      %s\n", how)
		if p.Text != "" {
			fmt.Fprintf(w, "      %s\n", plain(p.Text))
		}
	}
	if len(x.Places) == 0 {
		fmt.Fprintln(w, "  no other evidence is ready")
	}
}

func (a *app) offset() *cobra.Command {
	return &cobra.Command{
		Use: "offset CASE/NAME DURATION", Short: "Say how far the clock of evidence is behind the case's", Args: args(2, 2, "CASE/NAME DURATION, for example 1.5s or -200ms"),
		RunE: func(c *cobra.Command, args []string) error {
			d, err := time.ParseDuration(args[1])
			if err != nil {
				return usage("for example 1.5s, or -- -200ms", "invalid duration %q", args[1])
			}
			s, err := a.inCase(args[0])
			if err != nil {
				return err
			}
			if err := s.SetOffset(c.Context(), d); err != nil {
				return err
			}
			return a.print(map[string]int64{"offsetNs": int64(d)}, func(w io.Writer) { fmt.Fprintf(w, "the clock of %s counts as %s behind\n", args[0], d) })
		},
	}
}
