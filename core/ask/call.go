package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/calls"
)

var _ = declare[CallRequest, Call]("call", "The call of a frame: what it was given, what it gave back, and what it changed outside itself")

// CallRequest asks for the call of a frame as a whole.
type CallRequest struct {
	Place
	From  int `json:"from" minimum:"0" doc:"number of changes to skip"`
	Count int `json:"count" minimum:"1" maximum:"10000" default:"40" flag:"first" doc:"number of changes"`
}

// Call is a recorded call. Arguments are as they were at its entry, also if the call has assigned to them since. Changed lists
// what it changed in what it was given and in package variables, with the paths from their names; Total is their number.
type Call struct {
	Moment    event.Moment   `json:"moment"` // its entry
	End       event.Moment   `json:"end"`    // -1 if it does not end in the recording
	Thread    event.ThreadID `json:"thread"`
	Function  string         `json:"function"`
	File      string         `json:"file"`
	Line      int            `json:"line"`
	Outcome   string         `json:"outcome" enum:"returned,panicked,unfinished"`
	Panic     string         `json:"panic,omitempty"`
	Arguments []CallValue    `json:"arguments"`
	Results   []CallValue    `json:"results"`
	Total     int            `json:"total"`
	Changed   []CallChange   `json:"changed"`
}

// CallValue is an argument or a result. Why says why it is not known.
type CallValue struct {
	Name  string      `json:"name"`
	Type  string      `json:"type"`
	Value string      `json:"value"`
	State event.State `json:"state"`
	Why   string      `json:"why,omitempty"`
}

// CallChange is a value that the call changed. Old or New is null if there was, or is, nothing at the path.
type CallChange struct {
	Name string  `json:"name"`
	Old  *string `json:"old"`
	New  *string `json:"new"`
}

// usualLimit is longer than for other questions: it looks at all that the call was given.
func (q CallRequest) usualLimit() time.Duration { return time.Minute }

func (q CallRequest) answer(ctx context.Context, s *Subject) (Call, error) {
	out := Call{Arguments: []CallValue{}, Results: []CallValue{}, Changed: []CallChange{}}
	r, err := capability[replay.Calls](s, noHistory("call to look at"))
	if err != nil {
		return out, err
	}
	p, err := q.resolve(s)
	if err != nil {
		return out, err
	}
	call, err := r.MadeCall(ctx, p.Moment, p.Thread, p.Frame)
	if err != nil {
		return out, err
	}
	out.Moment, out.End, out.Thread, out.Outcome, out.Panic = call.Enter, call.End, call.Thread, string(call.Outcome), call.Panic
	out.Function, out.File, out.Line = call.Function.Name, call.File, call.Function.Line
	for _, v := range call.Parameters {
		out.Arguments = append(out.Arguments, callValue(v))
	}
	for _, v := range call.Results {
		out.Results = append(out.Results, callValue(v))
	}
	changes := changesOf(call)
	out.Total = len(changes)
	from, to := replay.Page{From: q.From, Count: q.Count}.Cut(len(changes))
	out.Changed = append(out.Changed, changes[from:to]...)
	return out, nil
}

func callValue(v replay.Variable) CallValue {
	return CallValue{Name: v.Name, Type: v.Value.TypeName(), Value: v.Value.Text(), State: v.Value.State, Why: v.Value.Why()}
}

// changesOf compares what a call was given with what is there when it ends, leaf by leaf.
func changesOf(call replay.MadeCall) (list []CallChange) {
	if call.Outcome == replay.IsUnfinished {
		return nil
	}
	var names []string
	var before, after []replay.Value
	for i, v := range call.Parameters {
		names, before, after = append(names, v.Name), append(before, v.Value), append(after, call.After[i].Value)
	}
	for _, g := range call.Globals {
		if g.Used {
			names, before, after = append(names, g.Package+"."+g.Name), append(before, g.Before), append(after, g.After)
		}
	}
	was := map[string]string{}
	order, now := calls.LeavesBoth(names, before, after)
	for _, l := range order {
		was[l.Path] = l.Text
	}
	for _, l := range now {
		text := l.Text
		old, ok := was[l.Path]
		delete(was, l.Path)
		switch {
		case !ok:
			list = append(list, CallChange{Name: l.Path, New: &text})
		case old != text:
			list = append(list, CallChange{Name: l.Path, Old: &old, New: &text})
		}
	}
	for _, l := range order {
		if _, gone := was[l.Path]; gone {
			text := l.Text
			list = append(list, CallChange{Name: l.Path, Old: &text})
		}
	}
	return list
}
