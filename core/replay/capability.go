package replay

import (
	"context"
	"time"

	"wraithology/core/event"
)

// Placer is evidence whose moments have a place in the program and a text.
type Placer interface {
	// Place returns the place of a moment.
	Place(at event.Moment) (Place, error)
	// Text returns the text of an error or output moment: the error's type and message with those
	// of the errors that it wraps, or the output.
	Text(at event.Moment) string
}

// Stepper is evidence with a history that supports steps.
type Stepper interface {
	Placer
	// Step goes from a moment to another one on the same thread.
	Step(ctx context.Context, at event.Moment, t event.ThreadID, s Step) (event.Moment, Reason, error)
	// Timing returns the duration of a moment's call, and the time to the next line of its call;
	// negative if not known.
	Timing(at event.Moment) (call, step time.Duration, err error)
	// CallLines lists the moments at which the call of a frame reached a line.
	CallLines(ctx context.Context, at event.Moment, t event.ThreadID, frame int, page Page) (Hits, error)
	// Meanwhile describes the activity of each thread between two moments.
	Meanwhile(ctx context.Context, from, to event.Moment) ([]Doing, error)
	// Activity counts moments for each thread in equal intervals.
	Activity(ctx context.Context, from, to event.Moment, spans int) ([]Lane, error)
}

// Finder is evidence that finds hits of checkpoints and values.
type Finder interface {
	Stepper
	// Hits lists the moments at which a checkpoint holds.
	Hits(ctx context.Context, c Checkpoint, page Page) (Hits, error)
	// Expect evaluates conditions at the hits of their checkpoints, and returns a verdict for each.
	Expect(ctx context.Context, of []Expected) ([]Verdict, error)
	// Density counts a checkpoint's hits in equal intervals of the recording.
	Density(ctx context.Context, c Checkpoint, spans int) ([]int, error)
	// NextHit finds the next or previous hit of any of the checkpoints. which is the index of that
	// checkpoint, -1 for none.
	NextHit(ctx context.Context, at event.Moment, back bool, of []Checkpoint) (m event.Moment, which int, err error)
	// Lines lists the lines of a source file that can hold a checkpoint.
	Lines(file string) []int
	// Locate returns the full name of a checkpoint's place. If the recording does not have it, the
	// error lists similar ones.
	Locate(ctx context.Context, c Checkpoint) (Located, error)
	// ObjectAt returns the address of the object at a path, and its process.
	ObjectAt(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (address uint64, process uint16, err error)
	// Search finds a value among all recorded values.
	Search(ctx context.Context, s Search, page Page) (Found, error)
}

// History is evidence with the writes of its values.
type History interface {
	// Writes lists the writes of a variable, field or element, oldest first.
	Writes(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page Page) (Writes, error)
	// LastWrite returns the write that gave a variable, field or element its value at a moment, and
	// whether there is one.
	LastWrite(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (Write, bool, error)
	// Origin explains a value by the writes that led to it.
	Origin(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, how OriginOptions) (Origin, error)
	// Changed compares a frame's variables with those at its previous moment.
	Changed(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (Changes, error)
	// Returned lists the calls that returned before a moment, with their results.
	Returned(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]Returned, error)
	Past
}

// Past is evidence that knows earlier values.
type Past interface {
	// ValueBefore returns the value of a path at the frame's previous moment.
	ValueBefore(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (Value, error)
}

// Records is evidence that consists of records with fields.
type Records interface {
	// Latest returns the variable with a name as the last record of a frame's call that had it says, up
	// to a moment. Written is the record. The error wraps fault.NoValue if none had it.
	Latest(ctx context.Context, at event.Moment, t event.ThreadID, frame int, name string) (Variable, error)
}

// Clock is evidence whose moments have a time of day.
type Clock interface {
	// InstantOf returns the time of day of a moment.
	InstantOf(at event.Moment) (time.Time, error)
	// MomentAt returns the last moment at or before a time of day, or the first moment.
	MomentAt(t time.Time) event.Moment
	// MomentOfTrace returns the moment of a trace nearest to a time of day, and whether there is
	// one.
	MomentOfTrace(ctx context.Context, trace string, t time.Time) (event.Moment, bool)
	// TraceOn returns the ID of a moment's trace, or "".
	TraceOn(ctx context.Context, at event.Moment) string
}

// Messages is evidence that holds messages.
type Messages interface {
	// MessagesAround lists the moments of messages and errors: up to before of them at or before a
	// moment, and up to after of them later.
	MessagesAround(at event.Moment, of MessageFilter, before, after int) ([]event.Moment, error)
}

// MessageFilter selects messages: those of a thread, of a trace, or all.
type MessageFilter struct {
	Thread event.ThreadID
	Trace  string
}

// Lined is evidence whose steps are lines of source text. In other evidence, steps go from message
// to message and to beginnings and ends of calls.
type Lined interface{ HasLines() bool }

// Traits say what evidence can do.
type Traits struct {
	History  bool `json:"history"`  // more than one moment
	Lines    bool `json:"lines"`    // its steps are lines of source text
	Memory   bool `json:"memory"`   // memory and instructions
	Traces   bool `json:"traces"`   // traces of spans
	Messages bool `json:"messages"` // messages and errors that services logged
	Clock    bool `json:"clock"`    // a time of day
}

// TraitsOf returns what a recording can do.
func TraitsOf(r Recording) Traits {
	_, history := r.(Finder)
	_, memory := r.(Machine)
	_, traces := r.(Tracer)
	_, messages := r.(Messages)
	_, clock := r.(Clock)
	lines := !history
	if l, ok := r.(Lined); ok {
		lines = l.HasLines()
	}
	return Traits{History: history, Lines: lines, Memory: memory, Traces: traces, Messages: messages, Clock: clock}
}

// PlaceOf returns the place of a moment. For evidence without places it is the innermost own frame.
func PlaceOf(ctx context.Context, r Recording, at event.Moment) (Place, error) {
	if p, ok := r.(Placer); ok {
		return p.Place(at)
	}
	t, err := r.ThreadOf(at)
	if err != nil {
		return Place{}, err
	}
	p := Place{Moment: at, Thread: t, Kind: event.Line}
	frames, err := r.Frames(ctx, at, t)
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

// TextOf returns what a moment says, or nothing.
func TextOf(r Recording, at event.Moment) string {
	if p, ok := r.(Placer); ok {
		return p.Text(at)
	}
	return ""
}
