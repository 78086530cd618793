package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

var _ = declare[ReachedRequest, Conditions]("reached", "Why a line was reached: the conditions that decided it, innermost first")

var _ = declare[MissedRequest, Conditions]("missed", "Why something did not happen in a call: the conditions that turned away from it")

// ReachedRequest asks for the conditions that decided that the line of a frame was reached.
type ReachedRequest struct {
	Place
	Callers int `json:"callers" minimum:"0" maximum:"64" default:"2" doc:"number of callers whose conditions are listed too"`
}

// MissedRequest asks why a line, the write of a path, or a call of a function did not happen in the
// call of a frame, or in the calls that it made.
type MissedRequest struct {
	Place
	Line  string `json:"line" maxLength:"3000" doc:"the line, FILE:N"`
	Write string `json:"write" maxLength:"2000" doc:"the write of what this path leads to"`
	Enter string `json:"enter" maxLength:"2000" doc:"a call of this function"`
}

// Conditions are conditions with their values. Note says what they cannot. Happened is the moment at which what was
// asked for happened after all, else -1.
type Conditions struct {
	Conditions []Condition  `json:"conditions"`
	Note       string       `json:"note"`
	Happened   event.Moment `json:"happened"`
}

// Condition is a condition at the moment at which it was evaluated. Role is "branch", "loop" or "exit":
// a branch that leaves. Times is how often it was evaluated in its call up to then.
type Condition struct {
	Expression string             `json:"expression"`
	Value      string             `json:"value"`
	Moment     event.Moment       `json:"moment"`
	Thread     event.ThreadID     `json:"thread"`
	Function   string             `json:"function"`
	File       string             `json:"file"`
	Line       int                `json:"line"`
	Role       string             `json:"role"`
	Times      int                `json:"times"`
	Operands   []ConditionOperand `json:"operands"`
}

// ConditionOperand is a value that a condition uses. Written is the moment of the write that gave it, or of the
// return that did, -1 if it is not known.
type ConditionOperand struct {
	Name    string       `json:"name"`
	Value   string       `json:"value"`
	Path    string       `json:"path"`
	Written event.Moment `json:"written"`
	At      event.Moment `json:"at"` // where the path leads to the value; -1 if nowhere
}

// Negative implements Negative: no condition is known.
func (c Conditions) Negative() bool { return len(c.Conditions) == 0 && c.Happened == event.NoMoment }

func (q ReachedRequest) answer(ctx context.Context, s *Subject) (Conditions, error) {
	r, err := capability[replay.Brancher](s, noHistory("line that was reached"))
	if err != nil {
		return Conditions{}, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return Conditions{}, err
	}
	d, err := r.Reached(ctx, p.Moment, p.Thread, p.Frame, q.Callers)
	out := conditionsOf(d)
	if len(out.Conditions) == 0 && out.Note == "" {
		out.Note = "no condition decided it"
	}
	return out, err
}

func (q MissedRequest) answer(ctx context.Context, s *Subject) (Conditions, error) {
	r, err := capability[replay.Brancher](s, noHistory("line that was missed"))
	if err != nil {
		return Conditions{}, err
	}
	target, err := q.target(ctx, s)
	if err != nil {
		return Conditions{}, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return Conditions{}, err
	}
	d, err := r.Missed(ctx, p.Moment, p.Thread, p.Frame, target)
	return conditionsOf(d), err
}

// target checks what was asked for.
func (q MissedRequest) target(ctx context.Context, s *Subject) (replay.Target, error) {
	target := replay.Target{Write: q.Write, Function: q.Enter}
	n := 0
	for _, x := range []string{q.Line, q.Write, q.Enter} {
		if x != "" {
			n++
		}
	}
	if n != 1 {
		return target, fault.InvalidRequest.New("for example --line berth.go:65, or --enter clearance", "missed needs exactly one of line, write and enter")
	}
	on := replay.Checkpoint{Kind: "enter", About: q.Enter}
	if q.Line != "" {
		on = replay.Checkpoint{Kind: "line", About: q.Line}
		var err error
		if target.File, target.Line, err = find.ParseLine(q.Line); err != nil {
			return target, err
		}
	}
	if q.Write != "" {
		return target, nil
	}
	f, err := finder(s, "line that was missed")
	if err == nil {
		_, err = f.Locate(ctx, on) // its error lists similar places
	}
	return target, err
}

func conditionsOf(d replay.Decisions) Conditions {
	out := Conditions{Conditions: []Condition{}, Note: d.Note, Happened: d.Happened}
	for _, x := range d.List {
		c := Condition{Expression: x.Expression, Value: "false", Moment: x.Moment, Thread: x.Thread, Function: x.Function, File: x.File, Line: x.Line,
			Role: string(x.Role), Times: x.Times, Operands: []ConditionOperand{}}
		if x.Value {
			c.Value = "true"
		}
		for _, o := range x.Operands {
			c.Operands = append(c.Operands, ConditionOperand{o.Name, valueText(o.Value), o.Path, o.Written, o.At})
		}
		out.Conditions = append(out.Conditions, c)
	}
	return out
}
