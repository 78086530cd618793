package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/answer"
)

func (l local) Traces(ctx context.Context, q answer.TracesQuery) (answer.Traces, error) {
	return answer.TracesOf(ctx, l.r, q)
}

func (l local) Spans(ctx context.Context, id string, at client.At) (answer.Spans, error) {
	m, t, err := l.resolve(at)
	if err != nil && id == "" {
		return answer.Spans{}, err
	}
	return answer.SpansOf(ctx, l.r, id, m, t)
}

func (a *app) traces() *cobra.Command {
	var q answer.TracesQuery
	c := &cobra.Command{
		Use: "traces EVIDENCE|CASE [--when EXPR]", Short: "List traces, the newest first",
		Long: "List traces, the newest first. A condition is on what is said of the trace, service, operation,\nstatus (\"unset\", \"ok\", \"error\"), duration, spans, errors, started and traceID, and on the attributes\nof its root, or else of its other spans: duration > duration(\"250ms\") && vessel.name == \"Curlew Bank\".",
		Args: args(1, 1, "EVIDENCE|CASE [--when EXPR] [--first N]"),
		RunE: func(c *cobra.Command, given []string) error {
			list, err := a.listTraces(c.Context(), given[0], q)
			if err != nil {
				return err
			}
			if err := a.print(list, func(w io.Writer) { printTraces(w, given[0], q, list) }); err != nil {
				return err
			}
			return foundSome(list.Total)
		},
	}
	c.Flags().StringVar(&q.When, "when", "", "a condition on the trace")
	c.Flags().IntVar(&q.From, "from", 0, "leave out this many traces")
	c.Flags().IntVar(&q.Count, "first", 20, "show this many traces")
	return c
}

// listTraces lists the traces of a file, of evidence in the service, or of a case.
func (a *app) listTraces(ctx context.Context, name string, q answer.TracesQuery) (answer.Traces, error) {
	if mayBeCase(name) {
		c, err := a.client()
		if err != nil {
			return answer.Traces{}, nowhere(name, err)
		}
		return c.Traces(ctx, name, q)
	}
	e, _, err := a.open(ctx, name)
	if err != nil {
		return answer.Traces{}, err
	}
	return e.Traces(ctx, q)
}

// mayBeCase reports whether a name can only be that of a case.
func mayBeCase(name string) bool {
	_, err := os.Stat(name)
	return err != nil && name != standardInput && !strings.ContainsAny(name, "/@")
}

func printTraces(w io.Writer, name string, q answer.TracesQuery, list answer.Traces) {
	if list.Undecided > 0 {
		fmt.Fprintf(w, "for %s the condition had no answer; for the first: %s\n", counted(list.Undecided, "trace"), plain(list.Trouble))
	}
	t := newTable(w, "started", "took", "spans", "status", "service", "operation", "trace", "from moment")
	for _, x := range list.Traces {
		status := x.Status
		if x.Errors > 0 {
			status += fmt.Sprintf(" (%d)", x.Errors)
		}
		at := fmt.Sprintf("@%d", x.Moment)
		if x.Evidence != "" {
			at = plain(x.Evidence) + at
		}
		t.AppendRow([]any{x.Started.Format("2006-01-02 15:04:05.000"), time.Duration(x.DurationNs).Round(time.Microsecond), x.Spans, status, plain(x.Service), plain(x.Operation), x.TraceID, at})
	}
	t.Render()
	fmt.Fprintf(w, "%d of %s", len(list.Traces), counted(list.Total, "trace"))
	if q.When != "" {
		fmt.Fprintf(w, " when %s", q.When)
	}
	if more := list.Total - q.From - len(list.Traces); more > 0 {
		fmt.Fprintf(w, "; more: --from %d", q.From+len(list.Traces))
	}
	fmt.Fprintf(w, "\nwraith trace %s --id TRACE shows the spans of one\n", name)
}

func (a *app) trace() *cobra.Command {
	id := ""
	c := &cobra.Command{
		Use: "trace LOCATOR|CASE [--id TRACE]", Short: "Show the spans of a trace, their own time and the critical path",
		Long: "Show the spans of a trace: that of a moment, or the one whose ID begins so; of a case all parts\nof it, by evidence. Own time is when no child of a span ran; the critical path leads from the end\nback over whatever ended last.",
		Args: args(1, 1, "LOCATOR|CASE [--id TRACE]"),
		RunE: func(c *cobra.Command, given []string) error {
			if id != "" && mayBeCase(given[0]) {
				return a.caseTrace(c.Context(), given[0], id)
			}
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			s, err := e.Spans(c.Context(), id, place(l))
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { printSpans(w, l.Evidence, s) })
		},
	}
	c.Flags().StringVar(&id, "id", "", "the trace's ID, or its beginning")
	return c
}

// caseTrace shows the parts of a trace in the evidence of a case.
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
		answer.Spans
	}
	parts := struct {
		Parts []part `json:"parts"`
	}{[]part{}}
	for _, x := range list.Traces {
		name := caseName + "/" + x.Evidence
		e, _, err := a.open(ctx, name)
		if err != nil {
			return err
		}
		s, err := e.Spans(ctx, x.TraceID, client.At{})
		if err != nil {
			return err
		}
		parts.Parts = append(parts.Parts, part{x.Evidence, s})
	}
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

// barWidth is how many characters stand for a trace's whole duration.
const barWidth = 32

func printSpans(w io.Writer, name string, s answer.Spans) {
	x := s.Trace
	fmt.Fprintf(w, "trace %s  %s, %s\n", x.TraceID, plain(x.Service+"/"+strings.TrimPrefix(x.Operation, x.Service+"/")), x.Status)
	fmt.Fprintf(w, "  began %s, took %s, %s\n\n", x.Started.Format(time.RFC3339Nano), time.Duration(x.DurationNs), counted(x.Spans, "span"))
	t := newTable(w, "span", "when", "took", "own", "critical", "moment", "status")
	for _, p := range s.Spans {
		status := p.Status
		if p.StatusMessage != "" {
			status += ": " + p.StatusMessage
		}
		t.AppendRow([]any{strings.Repeat("  ", p.Depth) + plain(p.Service+"/"+strings.TrimPrefix(p.Operation, p.Service+"/")), bar(p.StartNs, p.DurationNs, x.DurationNs), micro(p.DurationNs), micro(p.SelfNs), micro(p.CriticalNs),
			fmt.Sprintf("@%d#%s", p.Moment, p.Thread), plain(status)})
	}
	t.Render()
	printLinks(w, s.Spans)
	if n := x.Spans - len(s.Spans); n > 0 {
		fmt.Fprintf(w, "%s more\n", counted(n, "span"))
	}
	fmt.Fprintf(w, "wraith stack %s@MOMENT shows who called whom there\n", name)
}

// printLinks writes what spans say that they have to do with.
func printLinks(w io.Writer, spans []answer.Span) {
	const most = 20
	n := 0
	for _, p := range spans {
		for _, l := range p.Links {
			if n++; n <= most {
				fmt.Fprintf(w, "%s links to trace %s, span %s\n", plain(p.Operation), plain(l.TraceID), plain(l.SpanID))
			}
		}
	}
	if n > most {
		fmt.Fprintf(w, "%s more\n", counted(n-most, "link"))
	}
}

func micro(ns int64) time.Duration { return time.Duration(ns).Round(time.Microsecond) }

// bar draws a stretch of time within a whole.
func bar(start, duration, whole int64) string {
	if whole <= 0 {
		return strings.Repeat("=", barWidth)
	}
	at := func(t int64) int { return int(min(max(float64(t)/float64(whole), 0), 1) * barWidth) }
	from, to := min(at(start), barWidth-1), at(start+duration)
	to = min(max(to, from+1), barWidth)
	return strings.Repeat(".", from) + strings.Repeat("=", to-from) + strings.Repeat(".", barWidth-to)
}
