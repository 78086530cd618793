package answer

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Messages are what was said around a moment, in the order of time. Here is the index of
// the last one that is not after the moment, or -1. TraceID is the trace whose messages
// they are.
type Messages struct {
	TraceID  string `json:"traceID,omitempty"`
	Here     int    `json:"here"`
	Messages []Said `json:"messages"`
}

// Said is one of them. Evidence is where it was said, if not in the evidence that was
// asked; TimeNs counts from the beginning of that which was asked.
type Said struct {
	Hit
	Evidence string `json:"evidence,omitempty"`
}

// MessagesQuery says which messages are meant: Of "all", "thread" or "trace"; up to Before
// of them that are not after the moment, and up to After that are.
type MessagesQuery struct {
	Of            string
	Before, After int
}

// ErrWhose says that it is not known whose messages are meant.
var ErrWhose = errors.New("messages are of all, of the thread, or of the trace")

// MessagesAround gives the messages around a moment. Those of a trace are gathered from
// other evidence too; offset is how far the evidence's own clock is behind.
func MessagesAround(ctx context.Context, r replay.Replay, at event.Moment, thread event.ThreadID, q MessagesQuery, offset time.Duration, others []Beside) (Messages, error) {
	out := Messages{Messages: []Said{}, Here: -1}
	s, ok := replay.AsSpeaker(r)
	if !ok {
		return out, nil
	}
	var of replay.Whose
	switch q.Of {
	case "all", "":
	case "thread":
		of.Thread = thread
	case "trace":
		if of.Trace = traceOn(ctx, r, at, thread); of.Trace == "" {
			return out, fmt.Errorf("moment %d: %w: thread %d is in none there", at, replay.ErrNoTraces, thread)
		}
	default:
		return out, fmt.Errorf("%q: %w", q.Of, ErrWhose)
	}
	list, err := s.MessagesAround(at, of, q.Before, q.After)
	if err != nil {
		return out, err
	}
	if out.Messages, err = said(r, list, "", 0); err != nil {
		return out, err
	}
	if out.TraceID = of.Trace; of.Trace != "" {
		if err := out.gather(ctx, r, at, q, offset, others); err != nil {
			return out, err
		}
	}
	here, err := r.Place(at)
	if err != nil {
		return out, err
	}
	for i := range out.Messages { // of those at the very instant, those of the evidence itself say whether they are after it
		m := &out.Messages[i]
		if m.Evidence == "" && m.Moment <= int64(at) || m.Evidence != "" && m.TimeNs <= int64(here.Time) {
			out.Here = i
		}
	}
	from, to := max(out.Here+1-q.Before, 0), min(out.Here+1+q.After, len(out.Messages))
	out.Messages, out.Here = out.Messages[from:to], out.Here-from
	return out, nil
}

// traceOn returns the trace that a thread is in at a moment, or nothing.
func traceOn(ctx context.Context, r replay.Replay, at event.Moment, thread event.ThreadID) string {
	if t, ok := replay.AsTracer(r); ok {
		x, err := t.TraceAt(ctx, at, thread)
		if err != nil {
			return ""
		}
		return x.ID
	}
	if c, ok := replay.AsClocked(r); ok {
		return c.TraceOn(ctx, at)
	}
	return ""
}

// gather adds what other evidence has of the trace.
func (x *Messages) gather(ctx context.Context, r replay.Replay, at event.Moment, q MessagesQuery, offset time.Duration, others []Beside) error {
	clock, ok := replay.AsClocked(r)
	if !ok {
		return nil
	}
	now, err := clock.InstantOf(at)
	if err != nil {
		return err
	}
	now = now.Add(offset)
	began := r.Info().Started.Add(offset)
	for _, o := range others {
		theirs, clocked := replay.AsClocked(o.Replay)
		s, speaks := replay.AsSpeaker(o.Replay)
		if !clocked || !speaks {
			continue
		}
		m, found := theirs.MomentOfTrace(ctx, x.TraceID, now.Add(-o.Offset))
		if !found {
			continue
		}
		list, err := s.MessagesAround(m, replay.Whose{Trace: x.TraceID}, q.Before, q.After)
		if err != nil {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
		more, err := said(o.Replay, list, o.Name, o.Replay.Info().Started.Add(o.Offset).Sub(began))
		if err != nil {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
		x.Messages = append(x.Messages, more...)
	}
	slices.SortStableFunc(x.Messages, func(a, b Said) int { return int(min(max(a.TimeNs-b.TimeNs, -1), 1)) })
	return nil
}

// said describes messages; later is how much later their evidence began.
func said(r replay.Replay, list []event.Moment, evidence string, later time.Duration) ([]Said, error) {
	out := make([]Said, 0, len(list))
	for _, m := range list {
		p, err := r.Place(m)
		if err != nil {
			return nil, err
		}
		out = append(out, Said{Hit{Moment: int64(m), Thread: ThreadID(p.Thread), Function: p.Function, File: p.File, Line: p.Line, TimeNs: int64(p.Time + later), CallNs: -1, Text: r.Text(m)}, evidence})
	}
	return out, nil
}
