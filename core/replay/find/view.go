package find

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// view is a recording for many conditions at one moment after the other. It keeps the variables of the innermost frame at the
// moment, and what was loaded from memory. It is used by one goroutine.
type view struct {
	Finder
	kept *state.Kept
	at   event.Moment
	seen []seenVariable
	when whenHeld
}

// whenHeld is what the last condition for hits was at the moment.
type whenHeld struct {
	condition replay.Condition
	holds     bool
	err       error
}

type seenVariable struct {
	name string
	replay.Variable
	exists bool
	err    error
}

func (v *view) moveTo(m event.Moment) { v.at, v.seen, v.when = m, v.seen[:0], whenHeld{} }

// applies reports whether a condition for hits holds at the moment; nil always does. Several expectations can have the same one.
func (v *view) applies(ctx context.Context, when replay.Condition) (bool, error) {
	if when == nil {
		return true, nil
	}
	if v.when.condition != when {
		holds, err := when.Holds(ctx, v, v.at, v.T.Thread(v.at))
		v.when = whenHeld{when, holds, err}
	}
	return v.when.holds, v.when.err
}

// Variable implements replay.Recording.
func (v *view) Variable(ctx context.Context, at event.Moment, t event.ThreadID, frame int, name string) (replay.Variable, bool, error) {
	if at != v.at || frame != 0 || t != v.T.Thread(at) {
		return v.Finder.Variable(ctx, at, t, frame, name)
	}
	x := v.variable(ctx, name)
	return x.Variable, x.exists, x.err
}

func (v *view) variable(ctx context.Context, name string) *seenVariable {
	for i := range v.seen {
		if v.seen[i].name == name {
			return &v.seen[i]
		}
	}
	x := seenVariable{name: name}
	x.Variable, x.exists, x.err = v.Finder.Variable(ctx, v.at, v.T.Thread(v.at), 0, name)
	x.Value.Memory = v.kept.In(x.Value.Memory)
	v.seen = append(v.seen, x)
	return &v.seen[len(v.seen)-1]
}

// Scalar returns the value of a variable of the innermost frame, if it is a number, text or boolean.
func (v *view) Scalar(at event.Moment, name string) (event.Value, bool) {
	if at != v.at {
		return v.Finder.Scalar(at, name)
	}
	x := v.variable(context.Background(), name)
	if !x.exists || x.err != nil || x.Value.State != event.Known {
		return event.Value{}, false
	}
	switch x.Value.Form() {
	case event.Bool, event.Int, event.Uint, event.Float, event.Text:
		return x.Value.Value, true
	}
	return event.Value{}, false
}
