package ask

import (
	"context"
	"errors"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Bounds of what an overview adds to the failure.
const (
	lastOutputs   = 3
	mostNext      = 3
	mostToCompare = 1_000_000 // moments of a recording in which lost updates are looked for
	timeToCompare = time.Second
	callersOfFail = 1 // whose conditions count as the failing check
)

// lead adds what leads on from the failure: the last outputs, the check that failed, and questions.
func (p *Peek) lead(ctx context.Context, s *Subject, at event.Moment) error {
	if err := p.addOutputs(ctx, s, at); err != nil {
		return err
	}
	if err := p.addDeadlocks(ctx, s, at); err != nil {
		return err
	}
	f := p.Failure
	r, ok := s.Recording.(replay.Brancher)
	if !ok || !p.Evidence.Traits.Lines || !p.Evidence.Traits.History {
		return nil
	}
	if f == nil {
		p.propose("hits", Place{Moment: at}, "--error", "errors that were returned and handled")
		return nil
	}
	here := Place{Moment: f.Moment, Thread: f.Thread, Frame: f.Frame}
	if f.Suspect != "" {
		p.propose("origin", here, f.Suspect, "where the bad operand came from")
	}
	d, err := r.Reached(ctx, here.Moment, here.Thread, here.Frame, callersOfFail)
	if err != nil && !errors.Is(err, fault.NoSource) && !errors.Is(err, fault.NoFrame) {
		return err
	}
	if c := failedCheck(conditionsOf(d).Conditions); c != nil {
		p.Condition = c
		p.addLost(ctx, s)
		for _, o := range c.Operands {
			if o.Path != "" && o.At != event.NoMoment && o.Path != f.Suspect {
				p.propose("origin", Place{Moment: o.At, Thread: c.Thread}, o.Path, "where an operand of the failed check came from")
			}
		}
	}
	if len(d.List) > 0 {
		p.propose("reached", here, "", "all conditions that led to the failing line")
	}
	p.propose("source", here, "", "what ran of the function, with its values")
	return nil
}

// addDeadlocks adds the deadlocks at the failure, and proposes to look at what the threads wait for.
func (p *Peek) addDeadlocks(ctx context.Context, s *Subject, at event.Moment) error {
	r, ok := s.Recording.(replay.WaitGraph)
	if !ok || p.Failure == nil || p.Evidence.Threads > mostWaiting {
		return nil
	}
	list, err := r.Waits(ctx, at)
	if err != nil {
		return err
	}
	p.Deadlocks = cyclesOf(list)
	if len(p.Deadlocks) > 0 || p.Failure.Kind == "deadlock" {
		p.propose("waits", Place{Moment: at, Thread: p.Failure.Thread, Frame: p.Failure.Frame}, "", "what each thread waits for, and who holds it")
	}
	return nil
}

// mostWaiting limits the threads of evidence whose deadlocks are looked for in an overview.
const mostWaiting = 10_000

// failedCheck returns the condition that comes nearest to a check that failed: the innermost branch around the failing
// line, else the last one before it that would have left, else one of a caller.
func failedCheck(list []Condition) *Condition {
	for _, role := range []replay.Role{replay.Branching, replay.Leaving} {
		for i := range list {
			if list[i].Role == string(role) && list[i].Function == list[0].Function {
				return &list[i]
			}
		}
	}
	for i := range list {
		if list[i].Role == string(replay.Branching) {
			return &list[i]
		}
	}
	return nil
}

// propose adds a question, if there are not enough yet.
func (p *Peek) propose(question string, at Place, argument, why string) {
	if len(p.Next) < mostNext {
		p.Next = append(p.Next, Next{question, at.Moment, at.Thread, at.Frame, argument, why})
	}
}

// addOutputs adds the last outputs at or before a moment.
func (p *Peek) addOutputs(ctx context.Context, s *Subject, at event.Moment) error {
	r, ok := s.Recording.(replay.Finder)
	if !ok {
		return nil
	}
	outputs := replay.Checkpoint{Kind: "output"}
	for range lastOutputs {
		m, which, err := r.NextHit(ctx, at, true, []replay.Checkpoint{outputs})
		if err != nil || which < 0 {
			return ignoreNoHit(err)
		}
		h, err := hitAt(ctx, s.Recording, m)
		if err != nil {
			return err
		}
		h.Text = r.Text(m)
		p.Outputs = append([]Hit{h}, p.Outputs...)
		at = m
	}
	return nil
}

func ignoreNoHit(err error) error {
	if errors.Is(err, fault.NoHit) {
		return nil
	}
	return err
}

// addLost adds a lost update of something that the failed check uses, if one is found in a short time.
func (p *Peek) addLost(ctx context.Context, s *Subject) {
	r, ok := s.Recording.(replay.Racer)
	if !ok || p.Evidence.Threads < 2 || p.Evidence.Moments > mostToCompare {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, timeToCompare)
	defer cancel()
	races, err := r.Races(ctx, replay.Page{Count: 1000})
	if err != nil {
		return // it takes too long: wraith races has more time
	}
	for _, race := range races.Page {
		for _, o := range p.Condition.Operands {
			if race.Lost && lastPart(race.Name) == lastPart(o.Path) {
				lost := raceOf(race)
				p.Lost = &lost
				p.propose("races", Place{Moment: race.Second.Moment}, "", "an update of "+race.Name+" was lost")
				return
			}
		}
	}
}

// lastPart is the last name of a path that is not an index.
func lastPart(path string) string {
	path, _, _ = strings.Cut(path, "[")
	return path[strings.LastIndexByte(path, '.')+1:]
}
