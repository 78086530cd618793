package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.TraceRequest, ask.Spans]{use: "trace LOCATOR|CASE [--id TRACE]", short: "Show the spans of a trace, their own time and the critical path",
	long: `Show the spans of a trace: that of a moment, or the one whose ID begins so; of a case all parts
of it, by evidence, except those that a later part contains. Own time is when no child of a span ran; the critical path leads from the end
back over whatever ended last.`,
	other: func(c *cobra.Command, a *app, l locator.Locator, q ask.TraceRequest, _ []string) (bool, error) {
		if q.ID == "" || !mayBeCase(l.Evidence) {
			return false, nil
		}
		return true, a.caseTrace(c.Context(), l.Evidence, q.ID)
	},
	print: func(w io.Writer, o printing, _ ask.TraceRequest, s ask.Spans) { printSpans(w, o.name, s) }})

// caseTrace prints the parts of a trace in all evidence of a case.
func (a *app) caseTrace(ctx context.Context, caseName, id string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	list, err := c.Trace(ctx, caseName, id)
	if err != nil {
		return err
	}
	type part struct {
		Evidence string `json:"evidence"`
		ask.Spans
	}
	parts := struct {
		Parts []part `json:"parts"`
	}{[]part{}}
	for _, x := range list.Traces {
		name := caseName + "/" + x.Evidence
		t, err := a.open(ctx, name)
		if err != nil {
			return err
		}
		s, err := put(ctx, t, ask.TraceRequest{ID: x.TraceID})
		if err != nil {
			return err
		}
		parts.Parts = append(parts.Parts, part{x.Evidence, s})
	}
	// A late part was joined to a copy of the parts before it, which show nothing more.
	parts.Parts = slices.DeleteFunc(slices.Clone(parts.Parts), func(p part) bool {
		return slices.ContainsFunc(parts.Parts, func(q part) bool { return contains(q.Spans, p.Spans) })
	})
	return a.print(parts, func(w io.Writer) {
		for i, p := range parts.Parts {
			if i > 0 {
				fmt.Fprintln(w)
			}
			if len(parts.Parts) > 1 {
				fmt.Fprintf(w, "part %d of %d, in %s\n", i+1, len(parts.Parts), plain(p.Evidence))
			}
			printSpans(w, caseName+"/"+p.Evidence, p.Spans)
		}
	})
}

// contains reports whether a part of a trace has all spans of a smaller one.
func contains(large, small ask.Spans) bool {
	if large.Trace.TraceID != small.Trace.TraceID || len(large.Spans) <= len(small.Spans) || len(small.Spans) < small.Trace.Spans {
		return false
	}
	ids := map[string]bool{}
	for _, x := range large.Spans {
		ids[x.SpanID] = true
	}
	return !slices.ContainsFunc(small.Spans, func(x ask.Span) bool { return !ids[x.SpanID] })
}

// barWidth is the width of a trace's duration in characters.
const barWidth = 32

// maxIndent limits the levels by which a deep span is indented.
const maxIndent = 24

func printSpans(w io.Writer, name string, s ask.Spans) {
	x := s.Trace
	fmt.Fprintf(w, "trace %s  %s, %s\n", plain(x.TraceID), plain(x.Service+"/"+strings.TrimPrefix(x.Operation, x.Service+"/")), plain(x.Status))
	fmt.Fprintf(w, "  began %s, took %s, %s\n\n", x.Started.Format(time.RFC3339Nano), time.Duration(x.DurationNs), counted(x.Spans, "span"))
	t := newTable(w, "span", "when", "took", "own", "critical", "moment", "status")
	for _, p := range s.Spans {
		status := p.Status
		if p.StatusMessage != "" {
			status += ": " + p.StatusMessage
		}
		t.AppendRow([]any{strings.Repeat("  ", max(0, min(p.Depth, maxIndent))) + plain(p.Service+"/"+strings.TrimPrefix(p.Operation, p.Service+"/")), bar(p.StartNs, p.DurationNs, x.DurationNs), time.Duration(p.DurationNs), time.Duration(p.SelfNs), time.Duration(p.CriticalNs),
			fmt.Sprintf("@%d#%s", p.Moment, p.Thread), plain(status)})
	}
	t.Render()
	printLinks(w, s.Spans)
	if n := x.Spans - len(s.Spans); n > 0 {
		fmt.Fprintf(w, "%s more\n", counted(n, "span"))
	}
	fmt.Fprintf(w, "wraith stack %s@MOMENT shows who called whom there\n", name)
}

// printLinks prints the links of spans.
func printLinks(w io.Writer, spans []ask.Span) {
	const most = 20
	n := 0
	for _, p := range spans {
		for _, l := range p.Links {
			if n++; n <= most {
				fmt.Fprintf(w, "%s links to trace %s, span %s\n", plain(p.Operation), plain(l.TraceID), plain(l.SpanID))
				for _, name := range slices.Sorted(maps.Keys(l.Attributes)) {
					fmt.Fprintf(w, "  %s = %s\n", plain(name), plain(l.Attributes[name]))
				}
			}
		}
	}
	if n > most {
		fmt.Fprintf(w, "%s more\n", counted(n-most, "link"))
	}
}

// bar draws an interval within a duration.
func bar(start, duration, whole int64) string {
	if whole <= 0 {
		return strings.Repeat("=", barWidth)
	}
	at := func(t int64) int { return int(min(max(float64(t)/float64(whole), 0), 1) * barWidth) }
	from, to := min(at(start), barWidth-1), at(start+duration)
	to = min(max(to, from+1), barWidth)
	return strings.Repeat(".", from) + strings.Repeat("=", to-from) + strings.Repeat(".", barWidth-to)
}
