package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[InstantRequest, Instant]("instant", "What is at the same instant in the case's other evidence")

// InstantRequest asks for the same instant in other evidence.
type InstantRequest struct{ Place }

// Instant is a moment of one piece of evidence and the same instant in others. At is absent if the
// evidence has no time.
type Instant struct {
	At      time.Time     `json:"at,omitzero"`
	TraceID string        `json:"traceID,omitempty"`
	Places  []OtherMoment `json:"places"`
}

// OtherMoment is the same instant in another piece of evidence. By says how it was found: "trace"
// by the trace that both contain, "clock" by the time of day, "one-moment" for evidence without a
// time, which has no At, and "unknown" if the asked evidence has no time; then it is the moment of
// the failure, or the last one. DifferenceNs is how much later its moment is than the instant.
// OffsetNs is its clock offset.
type OtherMoment struct {
	Evidence     string         `json:"evidence"`
	Kind         string         `json:"kind"`
	Moment       event.Moment   `json:"moment"`
	Thread       event.ThreadID `json:"thread"`
	Function     string         `json:"function"`
	File         string         `json:"file"`
	Line         int            `json:"line"`
	Text         string         `json:"text,omitempty"`
	At           time.Time      `json:"at,omitzero"`
	By           string         `json:"by"`
	DifferenceNs int64          `json:"differenceNs"`
	OffsetNs     int64          `json:"offsetNs"`
}

func (q InstantRequest) answer(ctx context.Context, s *Subject) (Instant, error) {
	out := Instant{Places: []OtherMoment{}}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	if clock, ok := s.Recording.(replay.Clock); ok {
		t, err := clock.InstantOf(p.Moment)
		if err != nil {
			return out, err
		}
		out.At, out.TraceID = t.Add(s.Offset), clock.TraceOn(ctx, p.Moment)
	} else if s.Offset != 0 { // the offset that was set
		out.At = time.Unix(0, 0).UTC().Add(s.Offset)
	}
	others, err := s.others(ctx)
	if err != nil {
		return out, err
	}
	for _, o := range others {
		m, err := momentIn(ctx, o, out.At, out.TraceID)
		if err != nil {
			return out, err
		}
		out.Places = append(out.Places, m)
	}
	return out, nil
}

func (s *Subject) others(ctx context.Context) ([]Other, error) {
	if s.Others == nil {
		return nil, nil
	}
	return s.Others(ctx)
}

func momentIn(ctx context.Context, o Other, at time.Time, trace string) (OtherMoment, error) {
	p := OtherMoment{Evidence: o.Name, Kind: o.Recording.Info().Kind, By: "clock", OffsetNs: int64(o.Offset)}
	m := event.Moment(0)
	if clock, ok := o.Recording.(replay.Clock); ok && at.IsZero() {
		place, err := Place{Moment: event.NoMoment}.Resolve(o.Recording)
		if err != nil {
			return p, err
		}
		t, err := clock.InstantOf(place.Moment)
		if err != nil {
			return p, err
		}
		m, p.By, p.At = place.Moment, "unknown", t.Add(o.Offset)
	} else if ok {
		theirs := at.Add(-o.Offset)
		var found bool
		if m, found = clock.MomentOfTrace(ctx, trace, theirs); found {
			p.By = "trace"
		} else {
			m = clock.MomentAt(theirs)
		}
		t, err := clock.InstantOf(m)
		if err != nil {
			return p, err
		}
		p.At = t.Add(o.Offset)
		p.DifferenceNs = int64(p.At.Sub(at))
	} else {
		p.By = "one-moment"
		if o.Offset != 0 && !at.IsZero() {
			p.By, p.At = "clock", time.Unix(0, 0).UTC().Add(o.Offset)
			p.DifferenceNs = int64(p.At.Sub(at))
		}
	}
	where, err := replay.PlaceOf(ctx, o.Recording, m)
	if err != nil {
		return p, err
	}
	p.Moment, p.Thread, p.Function, p.File, p.Line, p.Text = m, where.Thread, where.Function, where.File, where.Line, replay.TextOf(o.Recording, m)
	return p, nil
}
