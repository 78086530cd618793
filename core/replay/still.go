package replay

import (
	"context"
	"errors"
	"fmt"
	"time"

	"wraithology/core/event"
)

// ErrOneMoment says that evidence has no history.
var ErrOneMoment = errors.New("the evidence has one moment only")

// Still lets a recording of one moment stand where one with a history is
// expected: what needs a history says that there is none.
func Still(r Recording) Replay { return still{r} }

// AsMachine returns the machine that evidence shows, if it does.
func AsMachine(r Recording) (Machine, bool) {
	if s, ok := r.(still); ok {
		r = s.Recording
	}
	m, ok := r.(Machine)
	return m, ok
}

type still struct{ Recording }

func none(what string) error {
	return fmt.Errorf("%w: there is no %s", ErrOneMoment, what)
}

func (still) Step(_ context.Context, at event.Moment, _ event.ThreadID, _ Step) (event.Moment, Reason, error) {
	return at, "", none("step to make")
}

func (still) Hits(context.Context, Checkpoint, Page) (Hits, error) {
	return Hits{}, none("hit to list")
}

func (still) Density(_ context.Context, _ Checkpoint, spans int) ([]int, error) {
	return make([]int, max(spans, 0)), nil
}

func (still) NextHit(_ context.Context, at event.Moment, _ bool, _ []Checkpoint) (event.Moment, int, error) {
	return at, -1, none("hit to go to")
}

func (still) Lines(string) []int { return nil }

func (still) FindLine(file string, line int) (string, error) {
	return "", fmt.Errorf("%s:%d: %w", file, line, none("line to halt at"))
}

func (still) FindFunction(name string) (string, error) {
	return "", fmt.Errorf("%s: %w", name, none("call to halt at"))
}

// Place says where the moment's thread is: at its innermost own frame.
func (s still) Place(at event.Moment) (Place, error) {
	t, err := s.ThreadOf(at)
	if err != nil {
		return Place{}, err
	}
	p := Place{Moment: at, Thread: t, Kind: event.Line}
	frames, err := s.Frames(context.Background(), at, t)
	for _, f := range frames {
		if f.Own || p.Function == "" {
			p.Function, p.File, p.Line = f.Function, f.File, f.Line
		}
		if f.Own {
			break
		}
	}
	return p, err
}

func (still) Text(event.Moment) string { return "" }

func (still) CallLines(context.Context, event.Moment, event.ThreadID, int, Page) (Hits, error) {
	return Hits{}, none("earlier line")
}

func (still) Writes(context.Context, string, event.Moment, event.ThreadID, int, Page) (Writes, error) {
	return Writes{}, none("write to list")
}

func (still) LastWrite(context.Context, string, event.Moment, event.ThreadID, int) (Write, bool, error) {
	return Write{}, false, none("write to find")
}

func (still) Origin(context.Context, string, event.Moment, event.ThreadID, int, int) (Origin, error) {
	return Origin{}, none("write to explain a value by")
}

func (still) Changed(_ context.Context, at event.Moment, _ event.ThreadID, _ int) (Changes, error) {
	return Changes{Previous: event.NoMoment}, nil
}

func (still) ValueBefore(context.Context, string, event.Moment, event.ThreadID, int) (Value, error) {
	return Value{}, none("earlier value")
}

func (still) Returned(context.Context, event.Moment, event.ThreadID, int) ([]Returned, error) {
	return nil, nil
}

func (still) ObjectAt(context.Context, string, event.Moment, event.ThreadID, int) (uint64, uint16, error) {
	return 0, 0, none("recorded object")
}

func (still) Search(context.Context, Search, Page) (Found, error) {
	return Found{}, none("recorded value to search")
}

func (still) Timing(event.Moment) (call, step time.Duration, err error) { return -1, -1, nil }

func (still) Meanwhile(context.Context, event.Moment, event.Moment) ([]Doing, error) {
	return nil, none("meanwhile")
}

func (s still) Activity(ctx context.Context, from, _ event.Moment, spans int) ([]Lane, error) {
	threads, err := s.Threads(ctx, from)
	var out []Lane
	for i, t := range threads {
		if i == maxStillLanes {
			break
		}
		l := Lane{Thread: t.ID, Name: t.Name, Counts: make([]int, max(spans, 1)), Depths: make([]int, max(spans, 1))}
		l.Counts[0] = 1
		out = append(out, l)
	}
	return out, err
}

// maxStillLanes bounds the lanes of a dump with many threads.
const maxStillLanes = 200
