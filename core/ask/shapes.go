package ask

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Gap is something that evidence lacks.
type Gap struct {
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Thread is a thread with its stack.
type Thread struct {
	ID      event.ThreadID `json:"id"`
	Name    string         `json:"name"`
	Kind    string         `json:"kind"`
	State   string         `json:"state"`
	Creator string         `json:"creator"`
	// Deferred lists the deferred calls, if they are known.
	Deferred []string `json:"deferred,omitempty"`
	Frames   []Frame  `json:"frames"`
}

// Frame is one frame of a stack.
type Frame struct {
	Index     int        `json:"index"`
	Function  string     `json:"function"`
	File      string     `json:"file"`
	Line      int        `json:"line"`
	Own       bool       `json:"own"`
	Inlined   bool       `json:"inlined"`
	PC        string     `json:"pc,omitempty"`
	Note      string     `json:"note,omitempty"`
	Variables []Variable `json:"variables"`
	// Folded is the number of frames after this one that are left out. They repeat the Cycle frames up
	// to this one, or, if that is 0, there are too many.
	Folded int `json:"folded,omitempty"`
	Cycle  int `json:"cycle,omitempty"`
}

// Variable is a named value. Path names it in the questions parts, writes and origin. Children hold
// its parts to the depth of the request; Count is their total number. Written is the moment of the
// write that gave the value, or -1. Object identifies an object: two references with the same
// Object refer to the same object. It is empty for values that are not references. Why is the
// reason if a value is not known.
type Variable struct {
	Name     string       `json:"name"`
	Path     string       `json:"path"`
	Scope    string       `json:"scope"`
	Type     string       `json:"type"`
	Value    string       `json:"value"`
	State    string       `json:"state"`
	Count    int          `json:"count"`
	Written  event.Moment `json:"written"`
	Object   string       `json:"object"`
	Why      string       `json:"why,omitempty"`
	Children []Variable   `json:"children"`
}

// Hit is a moment at which a checkpoint holds.
type Hit struct {
	Moment   event.Moment   `json:"moment"`
	Thread   event.ThreadID `json:"thread"`
	Function string         `json:"function"`
	File     string         `json:"file"`
	Line     int            `json:"line"`
	TimeNs   int64          `json:"timeNs"`
	// Estimated is set if the time was not read from a clock: it lies between those around it.
	Estimated bool `json:"estimated"`
	// At is the time of day, as reported by evidence without a recorder. It is missing for undated records.
	At time.Time `json:"at,omitzero"`
	// CallNs is the duration of the moment's call, or -1.
	CallNs int64 `json:"callNs"`
	// Text is the text of an error or output.
	Text   string  `json:"text,omitempty"`
	Shown  []Shown `json:"shown,omitempty"`
	Source string  `json:"source,omitempty"` // the line of the source text
	// Old and New are the values before and after a write.
	Old *string `json:"old,omitempty"`
	New *string `json:"new,omitempty"`
}

// Shown is the value of an expression at a hit. Error is the reason if there is no value.
type Shown struct {
	Expression string `json:"expression"`
	Value      string `json:"value"`
	Type       string `json:"type"`
	Error      string `json:"error"`
}

// frameOf returns the answer for a frame, without its variables.
func frameOf(f folded) Frame {
	out := Frame{Folded: f.left, Cycle: f.cycle, Index: f.Index, Function: f.Function, File: f.File, Line: f.Line, Own: f.Own, Inlined: f.Inlined, Note: f.Note, Variables: []Variable{}}
	if f.PC != 0 {
		out.PC = Address(f.PC).String()
	}
	return out
}

// depth limits composite values in an answer: levels of children, and width children of each value.
// format is the format of whole numbers.
type depth struct {
	levels, width int
	format        replay.Format
}

// variableOf returns the answer for a value.
func variableOf(name string, path replay.Path, typeName string, v replay.Value, d depth) Variable {
	if t := v.TypeName(); t != "" {
		typeName = t
	}
	out := Variable{Name: name, Path: path.String(), Scope: string(event.Local), Type: typeName, Value: v.TextAs(d.format), State: string(v.State), Why: v.Why(), Written: event.NoMoment, Children: []Variable{}}
	children, total := v.Children(replay.Page{Count: d.width})
	out.Count, out.Object = total, objectOf(v.Value)
	if d.levels > 0 {
		for _, c := range children {
			out.Children = append(out.Children, variableOf(c.Name, path.With(c.Step), "", c.Value, depth{d.levels - 1, d.width, d.format}))
		}
	}
	return out
}

// objectOf returns the identity of the object that a value refers to.
func objectOf(v event.Value) string {
	for v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.Items[0]
	}
	switch v.Form() {
	case event.Pointer, event.Slice, event.Map, event.Chan:
		if v.State == event.Known && !v.Nil {
			return Address(v.Address).String()
		}
	}
	return ""
}

// valueText formats a value for an answer; for a value that is not known it is the state.
func valueText(v replay.Value) string {
	if v.State == event.Known {
		return v.Text()
	}
	if v.State == event.MayHaveChanged {
		return "<may have changed: " + v.Why() + ">"
	}
	return "<" + string(v.State) + ">"
}

// optionalText is valueText for a value that can be missing.
func optionalText(v *replay.Value) *string {
	if v == nil {
		return nil
	}
	text := valueText(*v)
	return &text
}

// Address is a memory address. In JSON and text it is hexadecimal with 0x.
type Address uint64

// String writes the address.
func (a Address) String() string { return "0x" + strconv.FormatUint(uint64(a), 16) }

// MarshalText implements encoding.TextMarshaler.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler: decimal, or hexadecimal with 0x.
func (a *Address) UnmarshalText(text []byte) error {
	n, err := strconv.ParseUint(string(text), 0, 64)
	if err != nil {
		return fault.InvalidRequest.New("", "invalid address %q: write it as 0x7ffe1c40", cut(string(text)))
	}
	*a = Address(n)
	return nil
}

// placed is a moment with its place and times.
type placed struct {
	replay.Place
	call, step time.Duration
}

func placeOf(ctx context.Context, r replay.Recording, m event.Moment) (p placed, err error) {
	if p.Place, err = replay.PlaceOf(ctx, r, m); err != nil {
		return p, err
	}
	p.call, p.step = -1, -1
	if s, ok := r.(replay.Stepper); ok {
		p.call, p.step, err = s.Timing(m)
	}
	return p, err
}

func hitAt(ctx context.Context, r replay.Recording, m event.Moment) (Hit, error) {
	p, err := placeOf(ctx, r, m)
	return Hit{Moment: m, Thread: p.Thread, Function: p.Function, File: p.File, Line: p.Line, TimeNs: int64(p.Time), Estimated: p.Estimated, At: p.At, CallNs: int64(p.call)}, err
}

// maxThreads limits the threads of one answer.
const maxThreads = 200

// threadsAt returns the stack of a thread at a moment, or of all threads for thread 0. The
// frames of thread withValues have their variables, without parts. At most most frames of a stack are
// shown.
func threadsAt(ctx context.Context, s *Subject, at event.Moment, thread, withValues event.ThreadID, most int) ([]Thread, error) {
	list := []Thread{}
	threads, err := s.Recording.Threads(ctx, at)
	if err != nil {
		return list, err
	}
	for _, th := range threads {
		if thread != 0 && th.ID != thread || len(list) >= maxThreads && th.ID != withValues {
			continue
		}
		frames, err := s.Recording.Frames(ctx, at, th.ID)
		if err != nil {
			return list, err
		}
		out := Thread{ID: th.ID, Name: th.Name, Kind: th.Kind, State: th.State, Creator: th.Creator, Deferred: th.Deferred, Frames: []Frame{}}
		for _, f := range foldFrames(frames, most) {
			frame := frameOf(f)
			if th.ID == withValues {
				if frame.Variables, err = variablesAt(ctx, s, Place{at, th.ID, f.Index}, depth{}); err != nil {
					return list, err
				}
				frame.Variables = slices.DeleteFunc(frame.Variables, func(x Variable) bool { return x.Scope == string(event.Register) })
			}
			out.Frames = append(out.Frames, frame)
		}
		list = append(list, out)
	}
	if thread != 0 && len(list) == 0 {
		return list, fmt.Errorf("thread %d at moment %d: %w: it begins later", thread, at, fault.NoThread)
	}
	return list, nil
}

// variablesAt returns the variables of a frame.
func variablesAt(ctx context.Context, s *Subject, p Place, d depth) ([]Variable, error) {
	out := []Variable{}
	list, err := s.Recording.Variables(ctx, p.Moment, p.Thread, p.Frame)
	for _, v := range list {
		x := variableOf(v.Name, replay.Path{Root: v.Name}, v.Type, v.Value, d)
		x.Scope, x.Written = string(v.Scope), v.Written
		out = append(out, x)
	}
	return out, err
}
