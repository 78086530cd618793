package state

import (
	"context"
	"fmt"
	"slices"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Evidence without a recorder consists of records: a log line, a span, an event of a span. A record
// is a Message or Error event and the Fields events that follow it at once with the rest of its
// values. A name means the value of this record, or of the call that it is in: what Enter, the Fields
// events after it and Leave carry. It never means a value of an earlier record.

// recordAt returns the moments of the record that a moment is part of. ok is false if it is part of
// none.
func (r *Log) recordAt(at event.Moment) (first, last event.Moment, ok bool) {
	first = r.runBegins(at)
	if k := r.T.Kind(first); k != event.Message && k != event.Error {
		return 0, 0, false
	}
	return first, r.runEnds(first), true
}

// runBegins returns the event whose values the Fields event at a moment continues, or the moment itself.
func (r *Log) runBegins(at event.Moment) event.Moment {
	for c := r.T.CallOf(at); at > 0 && r.T.Kind(at) == event.Fields && r.T.CallOf(at-1) == c; at-- {
		if k := r.T.Kind(at - 1); k != event.Fields && k != event.Message && k != event.Error && k != event.Enter {
			break
		}
	}
	return at
}

// runEnds returns the last of the Fields events that follow a moment at once, or the moment itself.
func (r *Log) runEnds(at event.Moment) event.Moment {
	for c := r.T.CallOf(at); at+1 < r.T.Len() && r.T.Kind(at+1) == event.Fields && r.T.CallOf(at+1) == c; {
		at++
	}
	return at
}

// lastWrite returns the moment that gave a variable of a call its value at a moment, or
// event.NoMoment.
func (r *Log) lastWrite(c event.CallID, id event.VariableID, at event.Moment) event.Moment {
	if r.Recorded() {
		return r.T.LastWrite(c, id, at)
	}
	end := at
	if r.T.CallOf(at) == c {
		if first, last, ok := r.recordAt(at); ok {
			for m := first; m <= last; m++ {
				if slices.Contains(r.T.Site(m).Values, id) {
					return m
				}
			}
			at = first
		} else if r.T.Kind(at) == event.Enter {
			end = r.runEnds(at)
		}
	}
	m := r.T.LastWrite(c, id, end)
	if m == event.NoMoment || r.T.Kind(m) == event.Enter || r.T.Kind(m) == event.Leave {
		return m
	}
	if _, _, isRecord := r.recordAt(m); !isRecord {
		return m
	}
	enter := r.T.Call(c).Enter
	for m := enter + 1; m <= r.runEnds(enter) && m <= at; m++ {
		if slices.Contains(r.T.Site(m).Values, id) {
			return m
		}
	}
	if slices.Contains(r.T.FunctionOf(c).Parameters, id) && enter <= at {
		return enter
	}
	return event.NoMoment
}

// Latest implements replay.Records.
func (r *Log) Latest(_ context.Context, at event.Moment, t event.ThreadID, frame int, name string) (replay.Variable, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return replay.Variable{}, err
	}
	if _, last, ok := r.recordAt(at); ok && r.T.CallOf(at) == c {
		at = last
	}
	return r.LatestOf(c, at, name)
}

// LatestOf is Latest for a call.
func (r *Log) LatestOf(c event.CallID, at event.Moment, name string) (replay.Variable, error) {
	f := r.T.FunctionOf(c)
	for i := len(f.Variables) - 1; i >= 0; i-- {
		v, id := f.Variables[i], event.VariableID(i)
		if v.Name != name {
			continue
		}
		if written := r.T.LastWrite(c, id, at); written != event.NoMoment {
			return r.variableWritten(v, id, f, c, at, written), nil
		}
	}
	return replay.Variable{}, fmt.Errorf("latest(%s): %w: no record of the call had it up to here", name, fault.NoValue)
}
