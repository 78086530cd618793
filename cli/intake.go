package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/replay"
	"wraithology/core/structuredlog"
	"wraithology/core/traceback"
)

// standardInput is how standard input is named.
const standardInput = "-"

func kindList() string {
	var names []string
	for _, k := range evidence.Kinds {
		names = append(names, string(k))
	}
	return strings.Join(names, ", ")
}

// openFile opens evidence of this machine.
func (a *app) openFile(ctx context.Context, path string) (replay.Replay, error) {
	as, err := evidence.ParseKind(a.as)
	if err != nil {
		return nil, usageError{err.Error(), "for example --as structured-log"}
	}
	rules, err := structuredlog.ParseRules(a.fields)
	if err != nil {
		return nil, usageError{err.Error(), "for example --field thread=order_id"}
	}
	o := evidence.Options{Timelines: evidence.OwnTimelines(), Artifacts: a.artifacts(), As: as, Rules: rules, Own: traceback.Own(a.own)}
	if path == standardInput {
		if path, err = a.pipe(); err != nil {
			return nil, err
		}
		o.Timelines = evidence.Timelines{} // it will not be asked for again
	}
	progress, end := a.progress("index " + path)
	defer end()
	return evidence.Open(ctx, path, o, progress)
}

// slow is how long something takes before it shows its progress.
const slow = 500 * time.Millisecond

// progress returns what shows the share that is done of something that takes long, on
// a terminal, and what ends that.
func (a *app) progress(what string) (tell func(done float64), end func()) {
	if !a.terminal() {
		return nil, func() {}
	}
	begun := time.Now()
	var bar *progressbar.ProgressBar
	return func(done float64) {
			if bar == nil && time.Since(begun) > slow {
				bar = progressbar.NewOptions(100, progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription(what), progressbar.OptionClearOnFinish())
			}
			if bar != nil {
				_ = bar.Set(int(100 * done)) // it is decoration
			}
		}, func() {
			if bar != nil {
				_ = bar.Finish()
			}
		}
}

// pipe copies standard input to a file, once.
func (a *app) pipe() (string, error) {
	if a.piped != "" {
		return a.piped, nil
	}
	f, err := os.CreateTemp("", "wraith-input-*")
	if err != nil {
		return "", fmt.Errorf("make a file for standard input: %w", err)
	}
	a.piped = f.Name()
	n, err := io.Copy(f, a.in)
	if err := errors.Join(err, f.Close()); err != nil {
		return "", fmt.Errorf("read standard input: %w", err)
	}
	if n == 0 {
		return "", fmt.Errorf("%w: nothing came from standard input", evidence.ErrUnreadable)
	}
	return a.piped, nil
}

// removePiped removes the copy of standard input.
func (a *app) removePiped() {
	if a.piped != "" {
		_ = os.Remove(a.piped) // it lies in the folder for temporary files
	}
}

func (l local) Traces(ctx context.Context, q answer.TracesQuery) (answer.Traces, error) {
	return answer.TracesOf(ctx, l.r, q)
}

func (l local) Spans(ctx context.Context, id string, at client.At) (answer.Spans, error) {
	m := event.Moment(at.Moment)
	if id == "" {
		var err error
		if m, _, err = l.resolve(at); err != nil {
			return answer.Spans{}, err
		}
	}
	return answer.SpansOf(ctx, l.r, id, m)
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
	if _, err := os.Stat(name); err != nil && name != standardInput && !strings.ContainsAny(name, "/@") {
		c, signErr := a.client()
		switch {
		case signErr == nil:
			return c.Traces(ctx, name, q)
		case !errors.Is(signErr, client.ErrNotSignedIn):
			return answer.Traces{}, signErr
		}
	}
	e, _, err := a.open(ctx, name)
	if err != nil {
		return answer.Traces{}, err
	}
	return e.Traces(ctx, q)
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
	if len(list.Traces) > 0 && list.Traces[0].Evidence != "" {
		name += "/" + list.Traces[0].Evidence
	}
	fmt.Fprintf(w, "\nwraith trace %s --id TRACE shows the spans of one\n", name)
}

func (a *app) trace() *cobra.Command {
	id := ""
	c := &cobra.Command{
		Use: "trace LOCATOR [--id TRACE]", Short: "Show the spans of a trace, their own time and the critical path",
		Long: "Show the spans of a trace: that of a moment, or the one whose ID begins so. Own time is when no\nchild of a span ran; the critical path leads from the end back over whatever ended last.",
		Args: args(1, 1, "LOCATOR [--id TRACE]"),
		RunE: func(c *cobra.Command, given []string) error {
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
	if n := x.Spans - len(s.Spans); n > 0 {
		fmt.Fprintf(w, "%s more\n", counted(n, "span"))
	}
	fmt.Fprintf(w, "wraith stack %s@MOMENT shows who called whom there\n", name)
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
