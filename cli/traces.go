package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"wraithology/core/ask"
	"wraithology/core/locator"
)

var _ = register(question[ask.TracesRequest, ask.Traces]{use: "traces EVIDENCE|CASE [--when EXPR]", short: "List traces, newest first",
	long: `List traces, newest first. A condition is on what is known of the trace: service, operation,
status ("unset", "ok", "error"), duration, spans, errors, started and traceID, and on the attributes
of its root, or else of its other spans: duration > duration("250ms") && vessel.name == "Curlew Bank".`,
	other: func(c *cobra.Command, a *app, l locator.Locator, q ask.TracesRequest, _ []string) (bool, error) {
		if !mayBeCase(l.Evidence) {
			return false, nil
		}
		s, err := a.client()
		if err != nil {
			return true, alsoNoFile(l.Evidence, err)
		}
		list, err := s.Traces(c.Context(), l.Evidence, q)
		if err != nil {
			return true, err
		}
		if err := a.print(list, func(w io.Writer) { printTraces(w, printing{name: l.Evidence}, q, list) }); err != nil {
			return true, err
		}
		return true, foundSome(list.Total)
	},
	print: printTraces})

func printTraces(w io.Writer, o printing, q ask.TracesRequest, list ask.Traces) {
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
		t.AppendRow([]any{x.Started.Format("2006-01-02 15:04:05.000"), time.Duration(x.DurationNs).Round(time.Microsecond), x.Spans, plain(status), plain(x.Service), plain(x.Operation), plain(x.TraceID), at})
	}
	t.Render()
	fmt.Fprintf(w, "%d of %s", len(list.Traces), counted(list.Total, "trace"))
	if q.When != "" {
		fmt.Fprintf(w, " when %s", q.When)
	}
	if more := list.Total - q.From - len(list.Traces); more > 0 {
		fmt.Fprintf(w, "; more: --from %d", q.From+len(list.Traces))
	}
	fmt.Fprintf(w, "\nwraith trace %s --id TRACE shows the spans of one\n", o.name)
}
