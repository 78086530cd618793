package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/locator"
	"wraithology/core/replay"
)

func (a *app) instant() *cobra.Command {
	var offsets map[string]string
	c := &cobra.Command{
		Use: "instant LOCATOR [FILE …]", Short: "Show what is at the same instant in other evidence",
		Long: "Show what is at the same instant in other evidence: of the case, or in the files that are named. A\ntrace that both belong to is followed; else the time of day counts. --offset FILE=1.5s takes the clock\nof a file to be so much behind; wraith offset does that for evidence of a case.",
		Args: args(1, 64, "LOCATOR [FILE …]"),
		RunE: func(c *cobra.Command, given []string) error {
			l, err := locator.Parse(given[0])
			if err != nil {
				return err
			}
			out, err := a.instantAt(c.Context(), l, given[1:], offsets)
			if err != nil {
				return err
			}
			return a.print(out, func(w io.Writer) { printInstant(w, l.Evidence, out) })
		},
	}
	c.Flags().StringToStringVar(&offsets, "offset", nil, "FILE=DURATION, how far the clock of a file is behind")
	return c
}

func (a *app) instantAt(ctx context.Context, l locator.Locator, files []string, offsets map[string]string) (answer.Instant, error) {
	if len(files) == 0 {
		s, err := a.inCase(l.Evidence)
		if err != nil {
			return answer.Instant{}, err
		}
		return s.Instant(ctx, place(l))
	}
	x, err := a.beside(ctx, l, files, offsets)
	if err != nil {
		return answer.Instant{}, err
	}
	return answer.InstantOf(ctx, x.r, x.at, x.offset, x.others)
}

// together is evidence of this machine, at a moment, with other evidence beside it.
type together struct {
	r      replay.Replay
	at     event.Moment
	thread event.ThreadID
	offset time.Duration
	others []answer.Beside
}

// beside opens evidence of this machine, and other files beside it.
func (a *app) beside(ctx context.Context, l locator.Locator, files []string, offsets map[string]string) (x together, err error) {
	offset := func(name string) (time.Duration, error) {
		if offsets[name] == "" {
			return 0, nil
		}
		d, err := time.ParseDuration(offsets[name])
		if err != nil {
			return 0, usageError{fmt.Sprintf("%q is no duration", offsets[name]), "for example --offset sluiced.log=-1.5s"}
		}
		return d, nil
	}
	if x.r, err = a.openFile(ctx, l.Evidence); err != nil {
		return x, err
	}
	if x.offset, err = offset(l.Evidence); err != nil {
		return x, err
	}
	for _, f := range files {
		r, err := a.openFile(ctx, f)
		if err != nil {
			return x, err
		}
		d, err := offset(f)
		if err != nil {
			return x, err
		}
		x.others = append(x.others, answer.Beside{Name: f, Replay: r, Offset: d})
	}
	x.at, x.thread, err = answer.Resolve(x.r, l.Moment, l.Thread)
	return x, err
}

func printInstant(w io.Writer, name string, x answer.Instant) {
	fmt.Fprintf(w, "%s is at %s", name, x.At.Format(time.RFC3339Nano))
	if x.TraceID != "" {
		fmt.Fprintf(w, ", in trace %s", plain(x.TraceID))
	}
	fmt.Fprintln(w)
	words := map[string]string{"trace": "by the trace", "clock": "by the clock", "one-moment": "it has one moment, and no clock"}
	for _, p := range x.Places {
		fmt.Fprintf(w, "  %s@%d#%s  %s%s\n", p.Evidence, p.Moment, p.Thread, plain(p.Function), inFile(p.File, p.Line))
		how := words[p.By]
		if p.By != "one-moment" {
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
		fmt.Fprintln(w, "  there is no other evidence that is ready")
	}
}

func (a *app) offset() *cobra.Command {
	return &cobra.Command{
		Use: "offset CASE/NAME DURATION", Short: "Say how far the clock of evidence is behind the case's", Args: args(2, 2, "CASE/NAME DURATION, for example 1.5s or -200ms"),
		RunE: func(c *cobra.Command, given []string) error {
			d, err := time.ParseDuration(given[1])
			if err != nil {
				return usageError{fmt.Sprintf("%q is no duration", given[1]), "for example 1.5s, or -- -200ms"}
			}
			s, err := a.inCase(given[0])
			if err != nil {
				return err
			}
			if err := s.SetOffset(c.Context(), d); err != nil {
				return err
			}
			return a.print(map[string]int64{"offsetNs": int64(d)}, func(w io.Writer) { fmt.Fprintf(w, "the clock of %s counts as %s behind\n", given[0], d) })
		},
	}
}

func (a *app) messages() *cobra.Command {
	var q answer.MessagesQuery
	var offsets map[string]string
	c := &cobra.Command{
		Use: "messages LOCATOR [FILE …] [--of all|thread|trace]", Short: "Show what was said around a moment",
		Long: "Show the messages, outputs and errors around a moment: of all threads, of the locator's thread, or\nof the trace that it is in. Those of a trace are gathered from all evidence of the case, or from the\nfiles that are named.",
		Args: args(1, 64, "LOCATOR [FILE …] [--of all|thread|trace]"),
		RunE: func(c *cobra.Command, given []string) error {
			if q.Of != "all" && q.Of != "thread" && q.Of != "trace" {
				return usageError{fmt.Sprintf("--of %s: %v", q.Of, answer.ErrWhose), "give --of all, --of thread or --of trace"}
			}
			if len(given) > 1 && q.Of != "trace" {
				return usageError{"other files are looked into for the messages of a trace", "add --of trace"}
			}
			l, err := locator.Parse(given[0])
			if err != nil {
				return err
			}
			list, err := a.messagesAt(c.Context(), l, given[1:], offsets, q)
			if err != nil {
				return err
			}
			if err := a.print(list, func(w io.Writer) { printMessages(w, l, list) }); err != nil {
				return err
			}
			return foundSome(len(list.Messages))
		},
	}
	c.Flags().StringVar(&q.Of, "of", "all", "whose: of all, of the thread, or of the trace")
	c.Flags().IntVar(&q.Before, "before", 10, "show so many that are not after the moment")
	c.Flags().IntVar(&q.After, "after", 10, "show so many that are after it")
	c.Flags().StringToStringVar(&offsets, "offset", nil, "FILE=DURATION, how far the clock of a file is behind")
	return c
}

func (a *app) messagesAt(ctx context.Context, l locator.Locator, files []string, offsets map[string]string, q answer.MessagesQuery) (answer.Messages, error) {
	if len(files) == 0 {
		e, _, err := a.open(ctx, l.String())
		if err != nil {
			return answer.Messages{}, err
		}
		return e.Messages(ctx, place(l), q)
	}
	x, err := a.beside(ctx, l, files, offsets)
	if err != nil {
		return answer.Messages{}, err
	}
	return answer.MessagesAround(ctx, x.r, x.at, x.thread, q, x.offset, x.others)
}

func (l local) Messages(ctx context.Context, at client.At, q answer.MessagesQuery) (answer.Messages, error) {
	m, t, err := l.resolve(at)
	if err != nil {
		return answer.Messages{}, err
	}
	return answer.MessagesAround(ctx, l.r, m, t, q, 0, nil)
}

func printMessages(w io.Writer, l locator.Locator, list answer.Messages) {
	if list.TraceID != "" {
		fmt.Fprintf(w, "of trace %s\n", plain(list.TraceID))
	}
	if len(list.Messages) == 0 {
		fmt.Fprintln(w, "nothing was said around this moment")
		return
	}
	t := newTable(w, "", "since the beginning", "moment", "in", "said")
	for i, x := range list.Messages {
		mark := ""
		if i == list.Here {
			mark = ">"
		}
		at := fmt.Sprintf("@%d#%s", x.Moment, x.Thread)
		if x.Evidence != "" {
			at = plain(x.Evidence) + at
		}
		t.AppendRow([]any{mark, micro(x.TimeNs), at, plain(x.Function), plain(x.Text)})
	}
	t.Render()
	if list.Here >= 0 {
		fmt.Fprintln(w, "> the last one that is not after the moment")
	}
}
