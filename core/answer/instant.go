package answer

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Instant is a moment of one piece of evidence, and what is at the same instant in
// others.
type Instant struct {
	At      time.Time `json:"at"`
	TraceID string    `json:"traceID,omitempty"`
	Places  []Beheld  `json:"places"`
}

// Beheld is where another piece of evidence is at that instant. By says how it was
// found: "trace" by the trace that both belong to, "clock" by the time of day,
// "one-moment" for what has no time. DifferenceNs is how far its moment lies after
// the instant. OffsetNs is how far its clock counts as behind.
type Beheld struct {
	Evidence     string    `json:"evidence"`
	Kind         string    `json:"kind"`
	Moment       int64     `json:"moment"`
	Thread       string    `json:"thread"`
	Function     string    `json:"function"`
	File         string    `json:"file"`
	Line         int       `json:"line"`
	Text         string    `json:"text,omitempty"`
	At           time.Time `json:"at"`
	By           string    `json:"by"`
	DifferenceNs int64     `json:"differenceNs"`
	OffsetNs     int64     `json:"offsetNs"`
}

// Beside is other evidence, with how far its clock is behind.
type Beside struct {
	Name   string
	Replay replay.Replay
	Offset time.Duration
}

// InstantOf finds what is at the same instant as a moment of evidence in others. offset
// is how far the evidence's own clock is behind.
func InstantOf(ctx context.Context, r replay.Replay, at event.Moment, offset time.Duration, others []Beside) (Instant, error) {
	out := Instant{Places: []Beheld{}}
	clock, ok := replay.AsClocked(r)
	if ok {
		t, err := clock.InstantOf(at)
		if err != nil {
			return out, err
		}
		out.At, out.TraceID = t.Add(offset), clock.TraceOn(ctx, at)
	} else { // what has no clock lies where it was put
		out.At = time.Unix(0, 0).UTC().Add(offset)
	}
	for _, o := range others {
		p, err := placeAt(ctx, o, out.At, out.TraceID)
		if err != nil {
			return out, err
		}
		out.Places = append(out.Places, p)
	}
	return out, nil
}

func placeAt(ctx context.Context, o Beside, at time.Time, trace string) (Beheld, error) {
	p := Beheld{Evidence: o.Name, Kind: o.Replay.Info().Kind, By: "clock", OffsetNs: int64(o.Offset)}
	m := event.Moment(0)
	clock, ok := replay.AsClocked(o.Replay)
	if ok {
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
		p.By, p.At = "one-moment", time.Unix(0, 0).UTC().Add(o.Offset)
		if o.Offset != 0 {
			p.By, p.DifferenceNs = "clock", int64(p.At.Sub(at))
		}
	}
	where, err := o.Replay.Place(m)
	if err != nil {
		return p, err
	}
	p.Moment, p.Thread, p.Function, p.File, p.Line, p.Text = int64(m), ThreadID(where.Thread), where.Function, where.File, where.Line, o.Replay.Text(m)
	return p, nil
}
