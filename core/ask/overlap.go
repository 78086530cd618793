package ask

import (
	"context"
	"time"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
)

var _ = declare[OverlapRequest, OverlapAnswer]("overlap", "Calls of a function on different threads that overlapped in time with the same key")

// OverlapRequest asks for calls of a function that overlapped in time.
type OverlapRequest struct {
	Enter string `json:"enter" required:"true" maxLength:"2000" doc:"the function"`
	By    string `json:"by" maxLength:"2000" doc:"expression of the key, in the calls of the function; without one, all calls have the same key"`
	From  int    `json:"from" minimum:"0" doc:"number of overlaps to skip"`
	Count int    `json:"count" minimum:"1" maximum:"1000" default:"10" flag:"first" doc:"number of overlaps"`
}

// OverlapAnswer are groups of calls that overlapped. Undecided counts the calls without a key; Trouble is the
// reason at the first of them.
type OverlapAnswer struct {
	Total     int       `json:"total"`
	Overlaps  []Overlap `json:"overlaps"`
	Undecided int       `json:"undecided"`
	Trouble   string    `json:"trouble"`
	// Unexamined counts the calls that were not looked at, because there are too many.
	Unexamined int `json:"unexamined"`
}

// Overlap are calls on several threads that overlapped in time and had the same key.
type Overlap struct {
	Key   string            `json:"key"`
	Calls []OverlappingCall `json:"calls"`
	Left  int               `json:"left"` // further calls that are not described
}

// OverlappingCall is one of them, from Moment to End, which is -1 if it did not end. Reads and Writes are those of what
// several of the calls used; Locks are those that its thread held at its beginning or took before its end.
type OverlappingCall struct {
	Moment   event.Moment   `json:"moment"`
	End      event.Moment   `json:"end"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	Reads    []Access       `json:"reads"`
	Writes   []Access       `json:"writes"`
	Left     int            `json:"left"` // further reads and writes that are not listed
	Locks    []Lock         `json:"locks"`
}

// Lock is a lock that a thread held from one moment to another, -1 if it kept it.
type Lock struct {
	Name    string       `json:"name"`
	Address Address      `json:"address"`
	Since   event.Moment `json:"since"`
	Until   event.Moment `json:"until"`
}

// Negative implements Negative: no calls overlapped.
func (o OverlapAnswer) Negative() bool { return o.Total == 0 }

// usualLimit is longer than for other questions: it evaluates the key in all calls.
func (q OverlapRequest) usualLimit() time.Duration { return 30 * time.Second }

func (q OverlapRequest) answer(ctx context.Context, s *Subject) (OverlapAnswer, error) {
	out := OverlapAnswer{Overlaps: []Overlap{}}
	r, err := capability[replay.Racer](s, noHistory("call that overlaps others"))
	if err != nil {
		return out, err
	}
	f, err := finder(s, "call that overlaps others")
	if err != nil {
		return out, err
	}
	at, err := f.Locate(ctx, replay.Checkpoint{Kind: "enter", About: q.Enter})
	if err != nil {
		return out, err
	}
	key := func(event.Moment, event.ThreadID) (string, error) { return "", nil }
	if q.By != "" {
		x, err := question.Parse(q.By)
		if err != nil {
			return out, err
		}
		key = func(m event.Moment, t event.ThreadID) (string, error) {
			got, err := x.Ask(ctx, s.Recording, m, t, 0)
			return got.Text(), err
		}
	}
	list, err := r.Overlaps(ctx, at.About, key, replay.Page{From: q.From, Count: q.Count})
	if err != nil {
		return out, err
	}
	out.Total, out.Undecided, out.Unexamined = list.Total, list.NoKey, list.Unexamined
	if list.Trouble != nil {
		out.Trouble = list.Trouble.Error()
	}
	for _, x := range list.Page {
		o := Overlap{Key: x.Key, Calls: []OverlappingCall{}, Left: x.Left}
		for _, c := range x.Calls {
			call := OverlappingCall{Moment: c.Moment, End: c.Leave, Thread: c.Thread, Function: c.Function, File: c.File, Line: c.Line, Reads: []Access{}, Writes: []Access{}, Left: c.Left, Locks: []Lock{}}
			for _, a := range c.Reads {
				call.Reads = append(call.Reads, accessOf(a))
			}
			for _, a := range c.Writes {
				call.Writes = append(call.Writes, accessOf(a))
			}
			for _, l := range c.Locks {
				call.Locks = append(call.Locks, Lock{l.Name, Address(l.Address), l.Since, l.Until})
			}
			o.Calls = append(o.Calls, call)
		}
		out.Overlaps = append(out.Overlaps, o)
	}
	return out, nil
}
