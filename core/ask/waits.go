package ask

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = declare[WaitsRequest, Waits]("waits", "What each thread waits for, who holds it, and deadlocks")

// WaitsRequest asks for the threads that wait at a moment.
type WaitsRequest struct {
	Place
	From  int `json:"from" minimum:"0" doc:"number of waits to skip"`
	Count int `json:"count" minimum:"1" maximum:"10000" default:"200" flag:"first" doc:"number of waits"`
}

// Waits lists the threads that wait. Cycles are deadlocks: each thread waits for what the next one holds.
type Waits struct {
	Total  int         `json:"total"`
	Waits  []Wait      `json:"waits"`
	Cycles []WaitCycle `json:"cycles"`
}

// Wait is a thread that waits. Holders are threads that hold what it waits for, as far as that is certain; Note says more.
type Wait struct {
	Moment   event.Moment     `json:"moment"`
	Thread   event.ThreadID   `json:"thread"`
	Function string           `json:"function"`
	File     string           `json:"file"`
	Line     int              `json:"line"`
	On       string           `json:"on"`
	Name     string           `json:"name"`
	Holders  []event.ThreadID `json:"holders"`
	Note     string           `json:"note,omitempty"`
}

// WaitCycle is threads that wait for each other.
type WaitCycle struct {
	Kind    string           `json:"kind"`
	Threads []event.ThreadID `json:"threads"`
	On      []string         `json:"on"` // what each thread waits for
}

// Negative implements Negative: no thread waits.
func (w Waits) Negative() bool { return w.Total == 0 }

func (q WaitsRequest) answer(ctx context.Context, s *Subject) (Waits, error) {
	p, err := q.resolve(s)
	if err != nil {
		return Waits{}, err
	}
	r, err := capability[replay.WaitGraph](s, fault.NoWaits)
	if err != nil {
		return Waits{}, err
	}
	list, err := r.Waits(ctx, p.Moment)
	if err != nil {
		return Waits{}, err
	}
	out := Waits{Total: len(list), Waits: []Wait{}, Cycles: cyclesOf(list)}
	from, to := replay.Page{From: q.From, Count: q.Count}.Cut(len(list))
	for _, w := range list[from:to] {
		out.Waits = append(out.Waits, Wait{Moment: w.Moment, Thread: w.Thread, Function: w.Function, File: w.File, Line: w.Line, On: w.On, Name: w.Name, Holders: append([]event.ThreadID{}, w.Holders...), Note: w.Note})
	}
	return out, nil
}

func cyclesOf(list []replay.Wait) []WaitCycle {
	out := []WaitCycle{}
	for _, c := range replay.Cycles(list) {
		out = append(out, WaitCycle(c))
	}
	return out
}
