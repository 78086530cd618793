package ask

import (
	"context"
	"fmt"
	"slices"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[MessagesRequest, Messages]("messages", "The messages, outputs and errors around a moment")

// MessagesRequest asks for messages: up to Before of them at or before the moment, and up to After
// of them later.
type MessagesRequest struct {
	Place
	Of     string `json:"of" enum:"all,thread,trace" default:"all" doc:"messages of: all, thread or trace; messages of a trace come from all evidence of the case"`
	Before int    `json:"before" minimum:"0" maximum:"10000" default:"30" flagDefault:"10" doc:"number of messages that are not after the moment"`
	After  int    `json:"after" minimum:"0" maximum:"10000" default:"30" flagDefault:"10" doc:"number of messages after the moment"`
}

// Messages are the messages around a moment in order of time. Here is the index of the last one at
// or before the moment, or -1. TraceID is the trace of the messages.
type Messages struct {
	TraceID  string    `json:"traceID,omitempty"`
	Here     int       `json:"here"`
	Messages []Message `json:"messages"`
}

// Message is one message. Evidence is its evidence if that is not the asked one. TimeNs counts from
// the start of the asked evidence.
type Message struct {
	Hit
	Evidence string `json:"evidence,omitempty"`
}

// Negative implements Negative: there is no message.
func (m Messages) Negative() bool { return len(m.Messages) == 0 }

func (q MessagesRequest) answer(ctx context.Context, s *Subject) (Messages, error) {
	out := Messages{Messages: []Message{}, Here: -1}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	r, ok := s.Recording.(replay.Messages)
	if !ok {
		return out, nil
	}
	var of replay.MessageFilter
	switch q.Of {
	case "thread":
		of.Thread = p.Thread
	case "trace":
		if of.Trace = traceOn(ctx, s.Recording, p); of.Trace == "" {
			return out, fmt.Errorf("moment %d: %w: thread %d is in none there", p.Moment, fault.NoTrace, p.Thread)
		}
	}
	list, err := r.MessagesAround(p.Moment, of, q.Before, q.After)
	if err != nil {
		return out, err
	}
	if out.Messages, err = messagesOf(ctx, s.Recording, list, "", 0); err != nil {
		return out, err
	}
	if out.TraceID = of.Trace; of.Trace != "" {
		if err := out.gather(ctx, s, p, q); err != nil {
			return out, err
		}
	}
	here, err := replay.PlaceOf(ctx, s.Recording, p.Moment)
	if err != nil {
		return out, err
	}
	for i := range out.Messages { // at the same instant, the order of the asked evidence decides
		m := &out.Messages[i]
		if m.Evidence == "" && m.Moment <= p.Moment || m.Evidence != "" && m.TimeNs <= int64(here.Time) {
			out.Here = i
		}
	}
	from, to := max(out.Here+1-q.Before, 0), min(out.Here+1+q.After, len(out.Messages))
	out.Messages, out.Here = out.Messages[from:to], out.Here-from
	return out, nil
}

// traceOn returns the ID of a thread's trace at a moment, or "".
func traceOn(ctx context.Context, r replay.Recording, p Place) string {
	if t, ok := r.(replay.Tracer); ok {
		x, err := t.TraceAt(ctx, p.Moment, p.Thread)
		if err != nil {
			return ""
		}
		return x.ID
	}
	if c, ok := r.(replay.Clock); ok {
		return c.TraceOn(ctx, p.Moment)
	}
	return ""
}

// gather adds the messages of the trace in other evidence.
func (m *Messages) gather(ctx context.Context, s *Subject, p Place, q MessagesRequest) error {
	clock, ok := s.Recording.(replay.Clock)
	if !ok {
		return nil
	}
	now, err := clock.InstantOf(p.Moment)
	if err != nil {
		return err
	}
	others, err := s.others(ctx)
	if err != nil {
		return err
	}
	now = now.Add(s.Offset)
	began := s.Recording.Info().Started.Add(s.Offset)
	for _, o := range others {
		theirs, clocked := o.Recording.(replay.Clock)
		r, ok := o.Recording.(replay.Messages)
		if !clocked || !ok {
			continue
		}
		at, found := theirs.MomentOfTrace(ctx, m.TraceID, now.Add(-o.Offset))
		if !found {
			continue
		}
		list, err := r.MessagesAround(at, replay.MessageFilter{Trace: m.TraceID}, q.Before, q.After)
		if err != nil {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
		more, err := messagesOf(ctx, o.Recording, list, o.Name, o.Recording.Info().Started.Add(o.Offset).Sub(began))
		if err != nil {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
		m.Messages = append(m.Messages, more...)
	}
	slices.SortStableFunc(m.Messages, func(a, b Message) int { return int(min(max(a.TimeNs-b.TimeNs, -1), 1)) })
	return nil
}

// messagesOf returns the answers for messages; later is how much later their evidence started.
func messagesOf(ctx context.Context, r replay.Recording, list []event.Moment, evidence string, later time.Duration) ([]Message, error) {
	out := make([]Message, 0, len(list))
	for _, m := range list {
		p, err := replay.PlaceOf(ctx, r, m)
		if err != nil {
			return nil, err
		}
		out = append(out, Message{Hit{Moment: m, Thread: p.Thread, Function: p.Function, File: p.File, Line: p.Line, TimeNs: int64(p.Time + later), Estimated: p.Estimated, At: p.At, CallNs: -1, Text: replay.TextOf(r, m)}, evidence})
	}
	return out, nil
}
