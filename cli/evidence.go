package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/locator"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// asked is evidence that can be asked, a local file or in the service. Moments of
// -1 and threads of 0 stand for what a locator leaves off.
type asked interface {
	Peek(ctx context.Context) (answer.Peek, error)
	Stack(ctx context.Context, at client.At, all bool) (answer.Stack, error)
	Values(ctx context.Context, at client.At, depth answer.Depth) (answer.Values, error)
	Ask(ctx context.Context, at client.At, expression string) (answer.Ask, error)
	Hits(ctx context.Context, at client.At, c answer.CheckpointQuery) (answer.Hits, error)
	Run(ctx context.Context, at client.At, c answer.CheckpointQuery, back bool) (answer.Step, error)
	Writes(ctx context.Context, at client.At, path string, last bool, page replay.Page) (answer.Writes, error)
	Origin(ctx context.Context, at client.At, path string, depth int) (answer.Origin, error)
	Ledger(ctx context.Context, at client.At, q answer.LedgerQuery) (answer.Ledger, error)
	Search(ctx context.Context, at client.At, q answer.SearchQuery) (answer.Search, error)
	Changed(ctx context.Context, at client.At) (answer.Changed, error)
	Meanwhile(ctx context.Context, from, to int64) (answer.Meanwhile, error)
	Step(ctx context.Context, at client.At, s replay.Step, count int) (answer.Step, error)
	Source(ctx context.Context, file string) (string, error)
	Traces(ctx context.Context, q answer.TracesQuery) (answer.Traces, error)
	Spans(ctx context.Context, id string, at client.At) (answer.Spans, error)
	Messages(ctx context.Context, at client.At, q answer.MessagesQuery) (answer.Messages, error)
	Groups(ctx context.Context, at client.At) (answer.Groups, error)
	Memory(ctx context.Context, address, count uint64) (answer.Memory, error)
	Holders(ctx context.Context, pointer uint64, page replay.Page) (answer.Holders, error)
	Instructions(ctx context.Context, at client.At, before, after int) (answer.Instructions, error)
}

// open finds what a locator names: a file, else evidence in the service.
func (a *app) open(ctx context.Context, text string) (asked, locator.Locator, error) {
	l, err := locator.Parse(text)
	if err != nil {
		return nil, l, err
	}
	if _, err := os.Stat(l.Evidence); err != nil && l.Evidence != standardInput && strings.Count(l.Evidence, "/") == 1 && !strings.HasPrefix(l.Evidence, ".") && !strings.HasPrefix(l.Evidence, "/") {
		c, err := a.client()
		if err != nil {
			return nil, l, nowhere(l.Evidence, err)
		}
		caseName, name, _ := strings.Cut(l.Evidence, "/")
		return c.Evidence(caseName, name), l, nil
	}
	r, err := a.openFile(ctx, l.Evidence)
	if err != nil {
		return nil, l, err
	}
	return local{r}, l, nil
}

// nowhere says of a name that no file has, and that could be looked for in no service, what
// kept it from that.
func nowhere(name string, err error) error {
	if errors.Is(err, client.ErrNotSignedIn) {
		return fmt.Errorf("%w: there is no file %s, nor a service that might have it: %w", evidence.ErrUnreadable, name, err)
	}
	return err
}

func place(l locator.Locator) client.At {
	return client.At{Moment: int64(l.Moment), Thread: uint32(l.Thread), Frame: l.Frame}
}

// local asks a recording that is open in this process.
type local struct{ r replay.Replay }

// resolve fills in what a locator left off.
func (l local) resolve(at client.At) (event.Moment, event.ThreadID, error) {
	return answer.Resolve(l.r, event.Moment(at.Moment), event.ThreadID(at.Thread))
}

func (l local) Peek(ctx context.Context) (answer.Peek, error) { return answer.PeekAt(ctx, l.r) }

func (l local) Stack(ctx context.Context, at client.At, all bool) (answer.Stack, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Stack{}, err
	}
	if all {
		return answer.StackAt(ctx, l.r, m, 0, t)
	}
	return answer.StackAt(ctx, l.r, m, t, t)
}

func (l local) Values(ctx context.Context, at client.At, depth answer.Depth) (answer.Values, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Values{}, err
	}
	return answer.ValuesAt(ctx, l.r, m, t, at.Frame, depth)
}

func (l local) Ask(ctx context.Context, at client.At, expression string) (answer.Ask, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Ask{}, err
	}
	q, err := question.Parse(expression)
	if err != nil {
		return answer.Ask{}, err
	}
	got, err := q.Ask(ctx, l.r, m, t, at.Frame)
	return answer.Ask(got), err
}

func (l local) Hits(ctx context.Context, at client.At, q answer.CheckpointQuery) (answer.Hits, error) {
	return answer.HitsOf(ctx, l.r, q, event.Moment(at.Moment), event.ThreadID(at.Thread), at.Frame)
}

func (l local) Run(ctx context.Context, at client.At, q answer.CheckpointQuery, back bool) (answer.Step, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Step{}, err
	}
	c, err := q.Checkpoint(l.r, m, t, at.Frame)
	if err != nil {
		return answer.Step{}, err
	}
	s, found, err := answer.RunFrom(ctx, l.r, m, back, []answer.Stop{{Name: q.String(), Checkpoint: c}})
	if err == nil && !found {
		// Where the place itself is wrong, say so rather than that there is no hit.
		if _, err = l.r.Hits(ctx, c, replay.Page{}); err == nil {
			err = fmt.Errorf("%s: %w", q, errNoHit)
		}
	}
	return s, err
}

func (l local) Writes(ctx context.Context, at client.At, path string, last bool, page replay.Page) (answer.Writes, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Writes{}, err
	}
	return answer.WritesTo(ctx, l.r, path, m, t, at.Frame, last, page)
}

func (l local) Origin(ctx context.Context, at client.At, path string, depth int) (answer.Origin, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Origin{}, err
	}
	return answer.OriginOf(ctx, l.r, path, m, t, at.Frame, depth)
}

func (l local) Ledger(ctx context.Context, at client.At, q answer.LedgerQuery) (answer.Ledger, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Ledger{}, err
	}
	return answer.LedgerAt(ctx, l.r, q, m, t, at.Frame)
}

func (l local) Search(ctx context.Context, at client.At, q answer.SearchQuery) (answer.Search, error) {
	return answer.SearchFor(ctx, l.r, q, event.Moment(at.Moment), event.ThreadID(at.Thread), at.Frame)
}

func (l local) Changed(ctx context.Context, at client.At) (answer.Changed, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Changed{}, err
	}
	return answer.ChangedAt(ctx, l.r, m, t, at.Frame)
}

func (l local) Meanwhile(ctx context.Context, from, to int64) (answer.Meanwhile, error) {
	return answer.MeanwhileBetween(ctx, l.r, event.Moment(from), event.Moment(to))
}

func (l local) Step(ctx context.Context, at client.At, s replay.Step, count int) (answer.Step, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Step{}, err
	}
	return answer.StepFrom(ctx, l.r, m, t, s, count, nil)
}

func (l local) Source(_ context.Context, file string) (string, error) { return l.r.Source(file) }

func (a *app) peek() *cobra.Command {
	return &cobra.Command{
		Use: "peek EVIDENCE", Short: "Say what evidence is, how it ended, where, and what is missing",
		Args: args(1, 1, "EVIDENCE"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			p, err := e.Peek(c.Context())
			if err != nil {
				return err
			}
			return a.print(p, func(w io.Writer) { printPeek(w, l.Evidence, p, a.sourceLine(c.Context(), e)) })
		},
	}
}

func (a *app) stack() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "stack LOCATOR", Short: "Show the stack at a moment, innermost frame first",
		Args: args(1, 1, "LOCATOR [--all]"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			s, err := e.Stack(c.Context(), place(l), all)
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { printStack(w, s, a.sourceLine(c.Context(), e)) })
		},
	}
	c.Flags().BoolVar(&all, "all", false, "show every thread")
	return c
}

func (a *app) values() *cobra.Command {
	depth := answer.Depth{}
	format := ""
	c := &cobra.Command{
		Use: "values LOCATOR", Short: "Show the values of a frame",
		Args: args(1, 1, "LOCATOR"),
		RunE: func(c *cobra.Command, given []string) error {
			var err error
			if depth.Format, err = replay.ParseFormat(format); err != nil {
				return usageError{err.Error(), "for example --format hex"}
			}
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			v, err := e.Values(c.Context(), place(l), depth)
			if err != nil {
				return err
			}
			return a.print(v, func(w io.Writer) { printValues(w, v) })
		},
	}
	c.Flags().StringVar(&format, "format", "", "how whole numbers are written: decimal, hex, binary, character, bytes, nanoseconds or time")
	c.Flags().IntVar(&depth.Levels, "depth", 1, "how deep composite values are opened")
	c.Flags().IntVar(&depth.Width, "width", 16, "how many parts of a composite value are shown")
	return c
}

func (a *app) ask() *cobra.Command {
	return &cobra.Command{
		Use: "ask LOCATOR EXPRESSION", Short: "Evaluate an expression in a frame",
		Long: "Evaluate an expression of the Common Expression Language over the names of a frame.\nBesides what the language has: deref(pointer), typeOf(value), old(name) for what a name was at\nthe frame's previous moment, changed(name), and to write whole numbers hex(n), binary(n),\ncharacter(n), size_of(n), nanoseconds(n), unixTime(n). In a core dump also cast(address, \"struct gate\"),\nglobal(\"gate.c\", \"chain\") and registers: reg.rip, reg.sp.",
		Args: args(2, 2, "LOCATOR EXPRESSION"),
		RunE: func(c *cobra.Command, given []string) error {
			e, l, err := a.open(c.Context(), given[0])
			if err != nil {
				return err
			}
			v, err := e.Ask(c.Context(), place(l), given[1])
			if err != nil {
				return err
			}
			if err := a.print(v, func(w io.Writer) { fmt.Fprintf(w, "%s  (%s)\n", v.Value, v.Type) }); err != nil {
				return err
			}
			if v.Type == "bool" && v.Value == "false" {
				return errNo
			}
			return nil
		},
	}
}

func parseLine(s string) (file string, line int, err error) {
	file, number, ok := strings.Cut(s, ":")
	if ok {
		line, err = strconv.Atoi(number)
	}
	if !ok || err != nil || file == "" || line < 1 {
		return "", 0, usageError{fmt.Sprintf("%q is no line", s), "name it as FILE:N, for example --line berth.go:65"}
	}
	return file, line, nil
}

// sourceLine returns a function that reads one line of source text, or "".
func (a *app) sourceLine(ctx context.Context, e asked) func(file string, line int) string {
	texts := map[string][]string{}
	return func(file string, line int) string {
		lines, ok := texts[file]
		if !ok {
			text, err := e.Source(ctx, file)
			if err == nil {
				lines = strings.Split(text, "\n")
			}
			texts[file] = lines
		}
		if line < 1 || line > len(lines) {
			return ""
		}
		return strings.TrimSpace(lines[line-1])
	}
}
