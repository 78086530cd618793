package ask

import (
	"context"
	"fmt"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

// CheckpointOn describes a checkpoint.
type CheckpointOn struct {
	On       string         `json:"on" required:"false" maxLength:"3000" flag:"-" doc:"what the checkpoint is on: a kind, then what it is about: line FILE:N, enter FUNCTION, return FUNCTION, error [TEXT], output [TEXT], write PATH"`
	When     string         `json:"when" required:"false" maxLength:"2000" doc:"condition on the values there"`
	Nth      string         `json:"nth" required:"false" maxLength:"64" doc:"hits to count: 5, every 100, last, or last before 4711"`
	OnThread event.ThreadID `json:"onThread" required:"false" flag:"thread" doc:"hits on this thread only"`
}

// String writes what the checkpoint is on, for people.
func (c CheckpointOn) String() string {
	kind, about, err := find.Parse(c.On)
	text := kind.Describe(about)
	if err != nil {
		text = c.On
	}
	if c.When != "" {
		text += " when " + c.When
	}
	if c.Nth != "" {
		text += ", " + c.Nth
	}
	return text
}

// Checkpoint parses the description. p is the place from which the path of a checkpoint on writes
// is reached.
func (c CheckpointOn) Checkpoint(r replay.Recording, p Place) (out replay.Checkpoint, err error) {
	if c.On == "" {
		return out, fault.InvalidRequest.New("for example line berth.go:65, or enter clearance", "missing place or event of the checkpoint")
	}
	kind, about, err := find.Parse(c.On)
	if err != nil {
		return out, err
	}
	if kind.Placed {
		if p, err = p.Resolve(r); err != nil {
			return out, err
		}
	}
	out = replay.Checkpoint{Kind: kind.Name, About: about, At: p.Moment, PathThread: p.Thread, Frame: p.Frame, Thread: c.OnThread}
	if c.When != "" {
		if out.When, err = question.Parse(c.When); err != nil {
			return out, err
		}
	}
	out.Number, err = replay.ParseNumber(c.Nth)
	return out, err
}

// CheckExpressions checks the syntax of a checkpoint's condition, hit number and expressions.
func CheckExpressions(when, nth string, show []string) error {
	if _, err := replay.ParseNumber(nth); err != nil {
		return err
	}
	if when != "" {
		show = append([]string{when}, show...)
	}
	_, err := parseAll(show)
	return err
}

// runFrom finds the next or previous hit of any of the stops. found is false if there is none.
func runFrom(ctx context.Context, r replay.Finder, at event.Moment, back bool, stops []Stop) (out Step, found bool, err error) {
	var of []replay.Checkpoint
	for _, x := range stops {
		of = append(of, x.Checkpoint)
	}
	m, which, err := r.NextHit(ctx, at, back, of)
	if err != nil || which < 0 {
		return Step{}, false, err
	}
	out, err = stepAt(ctx, r, m, stops[which].Name)
	return out, true, err
}

// stepAt returns the answer for a step that ended at a moment.
func stepAt(ctx context.Context, r replay.Finder, m event.Moment, reason string) (Step, error) {
	p, err := placeOf(ctx, r.(replay.Recording), m)
	return Step{Moment: m, Thread: p.Thread, Function: p.Function, File: p.File, Line: p.Line, Reason: reason, TimeNs: int64(p.Time), Estimated: p.Estimated, At: p.At, StepNs: int64(p.step), CallNs: int64(p.call), Text: r.Text(m)}, err
}

// noHit returns the error that a checkpoint has no hit in a direction.
func noHit(what string, back bool, at event.Moment) error {
	where := "after"
	if back {
		where = "before"
	}
	return fmt.Errorf("%s: %w %s moment %d", what, fault.NoHit, where, at)
}
