package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var _ = declare[StepRequest, Step]("step", "A step from a place, forward or back")

// StepRequest asks for a step. File and Line are for the way to, Outer for the way head.
type StepRequest struct {
	Place
	Way        string `json:"way" required:"true" enum:"into,over,out,line,to,head" flag:"-" doc:"kind of step: into, over, out, line, to or head"`
	Back       bool   `json:"back" doc:"step backward"`
	Count      int    `json:"count" minimum:"1" maximum:"100000" default:"1" doc:"number of steps"`
	Everything bool   `json:"everything" doc:"end in foreign code too"`
	AnyThread  bool   `json:"anyThread" flag:"any-thread" doc:"end on another thread too"`
	File       string `json:"file" maxLength:"1024" flag:"-" doc:"file of the line to step to"`
	Line       int    `json:"line" minimum:"0" flag:"-" doc:"line to step to"`
	Outer      int    `json:"outer" minimum:"0" maximum:"1000" flag:"-" doc:"for head: number of calls further out"`
	Stop       bool   `json:"stop" default:"true" flag:"-" doc:"end at the enabled checkpoints of the case"`
}

// Step is the place where a step ended, with the reason.
type Step struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Reason   string         `json:"reason"`
	TimeNs   int64          `json:"timeNs"`
	// StepNs is the time from the moment to the next line of its call, and CallNs the duration of
	// the call; -1 if not known.
	StepNs int64 `json:"stepNs"`
	// Estimated is set if the moment's time was not read from a clock: it lies between those around it.
	Estimated bool `json:"estimated"`
	// At is the time of day, as reported by evidence without a recorder. It is missing for undated records.
	At     time.Time `json:"at,omitzero"`
	CallNs int64     `json:"callNs"`
	// Text is the text of an error or a message at the moment.
	Text string `json:"text,omitempty"`
}

// Negative implements Negative: the thread ends or begins here.
func (s Step) Negative() bool {
	return s.Reason == string(replay.AtEnd) || s.Reason == string(replay.AtBeginning)
}

func (q StepRequest) answer(ctx context.Context, s *Subject) (Step, error) {
	r, err := finder(s, "step to make")
	if err != nil {
		return Step{}, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return Step{}, err
	}
	step := replay.Step{Way: replay.Way(q.Way), Back: q.Back, Everything: q.Everything, AnyThread: q.AnyThread, File: q.File, Line: q.Line, Outer: q.Outer}
	var stops []Stop
	if q.Stop && s.Stops != nil && (step.Way == replay.Over || step.Way == replay.Out) {
		if stops, err = s.Stops(ctx); err != nil {
			return Step{}, err
		}
	}
	at, t, why := p.Moment, p.Thread, replay.Reason("")
	for range q.Count {
		next, reason, err := r.Step(ctx, at, t, step)
		if err != nil {
			return Step{}, err
		}
		if hit, found, err := meets(ctx, r, at, next, t, step, stops); err != nil || found {
			return hit, err
		}
		at, why = next, reason
		if reason != replay.AtBeginning { // the call may come from another thread
			if t, err = s.Recording.ThreadOf(at); err != nil {
				return Step{}, err
			}
		}
		if reason == replay.AtEnd || reason == replay.AtBeginning {
			break
		}
	}
	out, err := stepAt(ctx, r, at, string(why))
	out.Thread = t
	return out, err
}

// meets finds the first stop between two moments of a step.
func meets(ctx context.Context, r replay.Finder, at, next event.Moment, t event.ThreadID, s replay.Step, stops []Stop) (Step, bool, error) {
	if len(stops) == 0 {
		return Step{}, false, nil
	}
	own := make([]Stop, 0, len(stops))
	for _, x := range stops {
		if x.Checkpoint.Thread != 0 && x.Checkpoint.Thread != t {
			continue
		}
		x.Checkpoint.Thread = t
		own = append(own, x)
	}
	hit, found, err := runFrom(ctx, r, at, s.Back, own)
	if err != nil || !found || (hit.Moment >= next) != s.Back && hit.Moment != next {
		return Step{}, false, err
	}
	return hit, true, nil
}
