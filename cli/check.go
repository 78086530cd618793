package cli

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/expectations"
	"wraithology/core/fault"
)

// checkedEvidence is a piece of evidence and how the expectations held in it; err is why they could not be checked.
type checkedEvidence struct {
	Name string `json:"name"`
	ask.Check
	err error
}

// checkedAll is the answer for several pieces of evidence. The counts of each expectation are sums; its first break is
// that in the first evidence in which it breaks.
type checkedAll struct {
	ask.Check
	Evidence []checkedEvidence `json:"evidence,omitempty"`
}

func (a *app) check() *cobra.Command {
	var file, ofCase, junit string
	var all, strict bool
	const form = "EVIDENCE… --expectations FILE | --case CASE [--junit FILE]"
	c := &cobra.Command{
		Use: "check " + form, Short: "Check recordings against expectations: how often each holds, breaks or is unknown",
		Long: `Check one or more recordings against the expectations of a file or a case. What breaks, is unknown or is never reached
is printed with the first place; nothing is printed if all hold. The exit code is 1 if an expectation breaks, and with
--strict also if one is unknown or never reached.`,
		Args: args(1, 1000, form),
		RunE: func(c *cobra.Command, args []string) error {
			list, err := a.expectationsFrom(c.Context(), file, ofCase)
			if err != nil {
				return err
			}
			result, failed := a.checkAll(c.Context(), args, list)
			if junit != "" {
				if err := writeJUnit(junit, result); err != nil {
					return err
				}
			}
			shown := result
			if len(args) == 1 {
				shown.Evidence = nil // its answer is the sum
			}
			if err := a.print(shown, func(w io.Writer) { printChecks(w, result, all) }); err != nil {
				return err
			}
			switch {
			case failed != nil:
				return failed
			case result.Broken > 0 || strict && !result.complete():
				return errNo
			}
			return nil
		},
	}
	c.Flags().StringVar(&file, "expectations", "", "file of expectations, as wraith expect writes it")
	c.Flags().StringVar(&ofCase, "case", "", "case whose expectations are checked")
	c.Flags().StringVar(&junit, "junit", "", "write the result as JUnit XML to this file")
	c.Flags().BoolVar(&all, "all", false, "print also what holds")
	c.Flags().BoolVar(&strict, "strict", false, "exit with 1 also if an expectation is unknown or never reached")
	a.evidenceFlags(c)
	a.outputFlags(c)
	return c
}

// expectationsFrom reads the expectations of a file or a case.
func (a *app) expectationsFrom(ctx context.Context, file, ofCase string) (list []ask.Expectation, err error) {
	switch {
	case (file == "") == (ofCase == ""):
		return nil, usage("for example --expectations expectations.yaml", "check needs one of --expectations and --case")
	case file != "":
		f, err := expectations.Open(file)
		if err != nil {
			return nil, err
		}
		list = f.List()
	default:
		s, err := a.client()
		if err != nil {
			return nil, err
		}
		all, err := s.Expectations(ctx, ofCase)
		if err != nil {
			return nil, err
		}
		for _, x := range all {
			list = append(list, x.Expectation)
		}
	}
	if len(list) == 0 {
		return nil, fault.NotFound.New("wraith expect add adds one", "no expectations in %s", file+ofCase)
	}
	return list, nil
}

// checkAll checks all evidence, also after one that cannot be checked; the error is that of the first of these.
func (a *app) checkAll(ctx context.Context, names []string, list []ask.Expectation) (out checkedAll, failed error) {
	out.Total = len(list)
	for _, e := range list {
		out.Expectations = append(out.Expectations, ask.Checked{Checkpoint: e.Label(), That: e.That, Note: e.Note, Missing: true})
	}
	for _, name := range names {
		x := checkedEvidence{Name: name}
		t, err := a.open(ctx, name)
		if err == nil {
			x.Check, err = put(ctx, t, ask.CheckRequest{Expectations: list})
		}
		if err != nil {
			x.err = fmt.Errorf("check %s: %w", name, err)
			failed = errors.Join(failed, x.err)
		}
		for i, got := range x.Expectations {
			out.Expectations[i] = sum(out.Expectations[i], got)
		}
		out.Evidence = append(out.Evidence, x)
		if ctx.Err() != nil {
			break
		}
	}
	for _, e := range out.Expectations {
		if e.Breaks > 0 {
			out.Broken++
		}
	}
	return out, failed
}

// sum adds the counts of an expectation in another piece of evidence.
func sum(a, b ask.Checked) ask.Checked {
	a.Holds, a.Breaks, a.Unknown = a.Holds+b.Holds, a.Breaks+b.Breaks, a.Unknown+b.Unknown
	if a.First == nil {
		a.First, a.Shown = b.First, b.Shown
	}
	if a.Trouble == "" {
		a.Trouble = b.Trouble
	}
	a.Missing = a.Missing && b.Missing
	return a
}

// complete reports whether every expectation was reached in some evidence and was never unknown.
func (c checkedAll) complete() bool {
	for _, e := range c.Expectations {
		if !e.Reached() || e.Unknown > 0 {
			return false
		}
	}
	return true
}

// verdictOf says how an expectation did, in one word or two.
func verdictOf(e ask.Checked) string {
	switch {
	case e.Breaks > 0:
		return "breaks"
	case e.Unknown > 0:
		return "unknown"
	case !e.Reached():
		return "not reached"
	}
	return "holds"
}

// printChecks prints what does not hold, or everything.
func printChecks(w io.Writer, c checkedAll, all bool) {
	counts := map[string]int{}
	for i, e := range c.Expectations {
		verdict := verdictOf(e)
		counts[verdict]++
		if verdict == "holds" && !all {
			continue
		}
		fmt.Fprintf(w, "%-11s  %d  at %s: %s\n", verdict, i+1, plain(e.Checkpoint), plain(e.That))
		if n := e.Holds + e.Breaks + e.Unknown; n > 0 {
			fmt.Fprintf(w, "             of %s: %d hold, %d break, %d unknown\n", counted(n, "hit"), e.Holds, e.Breaks, e.Unknown)
		}
		for _, x := range c.Evidence {
			if i < len(x.Expectations) && x.Expectations[i].Breaks > 0 {
				printFirstBreak(w, x.Name, x.Expectations[i])
			}
		}
		if e.Trouble != "" && verdict != "breaks" {
			fmt.Fprintf(w, "             %s\n", plain(e.Trouble))
		}
		if e.Note != "" {
			fmt.Fprintf(w, "             %s\n", plain(e.Note))
		}
	}
	if all || counts["holds"] < c.Total {
		var list []string
		for _, verdict := range []string{"holds", "breaks", "unknown", "not reached"} {
			if counts[verdict] > 0 {
				list = append(list, fmt.Sprintf("%d %s", counts[verdict], verdict))
			}
		}
		fmt.Fprintf(w, "%s: %s\n", counted(c.Total, "expectation"), strings.Join(list, ", "))
	}
}

func printFirstBreak(w io.Writer, name string, e ask.Checked) {
	at := "nowhere"
	if e.First != nil {
		at = fmt.Sprintf("%s@%d#%s in %s%s", plain(name), e.First.Moment, e.First.Thread, plain(e.First.Function), inFile(e.First.File, e.First.Line))
	}
	fmt.Fprintf(w, "             first at %s\n", at)
	for _, x := range e.Shown {
		fmt.Fprintf(w, "               %s = %s\n", plain(x.Expression), plain(shorten(x.Value, mostSourceValues)))
	}
}

// The elements of JUnit XML that pipelines read: a suite for each piece of evidence, a case for each expectation.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Failure *junitMessage `xml:"failure,omitempty"`
	Error   *junitMessage `xml:"error,omitempty"`
	Skipped *junitMessage `xml:"skipped,omitempty"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// suiteOf returns the suite of a piece of evidence. What is unknown or not reached counts as skipped.
func suiteOf(x checkedEvidence) junitSuite {
	s := junitSuite{Name: x.Name}
	for _, e := range x.Expectations {
		c := junitCase{Class: e.Checkpoint, Name: e.That}
		switch verdict := verdictOf(e); verdict {
		case "breaks":
			var text strings.Builder
			printFirstBreak(&text, x.Name, e)
			c.Failure = &junitMessage{fmt.Sprintf("breaks at %d of %s", e.Breaks, counted(e.Holds+e.Breaks+e.Unknown, "hit")), text.String()}
			s.Failures++
		case "unknown", "not reached":
			c.Skipped = &junitMessage{verdict, e.Trouble}
			s.Skipped++
		}
		s.Cases = append(s.Cases, c)
	}
	if x.err != nil {
		s.Cases = append(s.Cases, junitCase{Class: x.Name, Name: "check", Error: &junitMessage{x.err.Error(), ""}})
		s.Errors++
	}
	s.Tests = len(s.Cases)
	return s
}

func writeJUnit(path string, c checkedAll) error {
	var all junitSuites
	for _, x := range c.Evidence {
		all.Suites = append(all.Suites, suiteOf(x))
	}
	text, err := xml.MarshalIndent(all, "", "  ")
	if err == nil {
		err = os.WriteFile(path, append([]byte(xml.Header), append(text, '\n')...), 0o644)
	}
	if err != nil {
		return fmt.Errorf("write --junit: %w", err)
	}
	return nil
}
