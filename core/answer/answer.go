// Package answer puts what replay finds into the shapes in which the command
// line and the service give it out. The shapes are documented in docs/answers.md
// and are stable: members may be added, none is taken away or changed.
package answer

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Peek says what evidence is, how it ended, where, and what is missing.
type Peek struct {
	Evidence Evidence `json:"evidence"`
	Failure  *Failure `json:"failure"`
	Gaps     []Gap    `json:"gaps"`
	Threads  []Thread `json:"threads"`
}

// Evidence describes a piece of evidence.
type Evidence struct {
	Kind       string    `json:"kind"`
	Program    string    `json:"program"`
	BuildID    string    `json:"buildID"`
	Revision   string    `json:"revision"`
	Host       string    `json:"host"`
	Command    []string  `json:"command"`
	Moments    int64     `json:"moments"`
	Threads    int       `json:"threads"`
	Started    time.Time `json:"started"`
	DurationNs int64     `json:"durationNs"`
}

// Failure is where a program went wrong.
type Failure struct {
	Kind    string `json:"kind"`
	Summary string `json:"summary"`
	Moment  int64  `json:"moment"`
	Thread  string `json:"thread"`
	Frame   int    `json:"frame"`
	// What a core dump knows besides; empty where it does not.
	Signal      string `json:"signal,omitempty"`
	Address     string `json:"address,omitempty"`
	Instruction string `json:"instruction,omitempty"`
	Suspect     string `json:"suspect,omitempty"`
	// Causes are the errors in order, the outermost first, where the evidence tells
	// them apart; Fingerprint is the same for failures of the same kind at the same place.
	Causes      []Cause `json:"causes,omitempty"`
	Fingerprint string  `json:"fingerprint,omitempty"`
}

// Cause is an error that led to another one.
type Cause struct {
	Type    string `json:"type"`
	Message string `json:"message"`
}

// Gap is something that evidence lacks.
type Gap struct {
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Thread is a thread with its stack.
type Thread struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	State   string `json:"state"`
	Creator string `json:"creator"`
	// Deferred lists the calls that are put off to the ends of functions, as far as
	// they are known.
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
}

// Variable is a named value. Children hold its parts as deep as was asked for;
// Count says how many there are in all. Written is the moment of the write that
// gave the value, or -1. Object tells objects apart: two references with the same
// one lead to the same object; it is empty for what refers to none. Why says why a
// value is not known.
type Variable struct {
	Name     string     `json:"name"`
	Scope    string     `json:"scope"`
	Type     string     `json:"type"`
	Value    string     `json:"value"`
	State    string     `json:"state"`
	Count    int        `json:"count"`
	Written  int64      `json:"written"`
	Object   string     `json:"object"`
	Why      string     `json:"why,omitempty"`
	Children []Variable `json:"children"`
}

// Stack is the stack of one thread, or of all of them.
type Stack struct {
	Moment  int64    `json:"moment"`
	Threads []Thread `json:"threads"`
}

// Values are the variables of one frame.
type Values struct {
	Moment    int64      `json:"moment"`
	Thread    string     `json:"thread"`
	Frame     int        `json:"frame"`
	Variables []Variable `json:"variables"`
	Returned  []Returned `json:"returned"`
}

// Ask is the value of an expression.
type Ask struct {
	Value string `json:"value"`
	Type  string `json:"type"`
}

// Hits are the moments at which a checkpoint holds. Undecided counts those at
// which its condition had no answer.
type Hits struct {
	Total     int    `json:"total"`
	Hits      []Hit  `json:"hits"`
	Undecided int    `json:"undecided"`
	Trouble   string `json:"trouble"`
}

// Hit is one hit of a checkpoint.
type Hit struct {
	Moment   int64  `json:"moment"`
	Thread   string `json:"thread"`
	Function string `json:"function"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	TimeNs   int64  `json:"timeNs"`
	// CallNs is how long the call took that the hit lies in, or -1.
	CallNs int64 `json:"callNs"`
	// Text is what an error or output hit says.
	Text  string  `json:"text,omitempty"`
	Shown []Shown `json:"shown,omitempty"`
}

// Shown is an expression's value at a hit. Error says why there is none.
type Shown struct {
	Expression string `json:"expression"`
	Value      string `json:"value"`
	Type       string `json:"type"`
	Error      string `json:"error"`
}

// Step is where a step ended, and why.
type Step struct {
	Moment   int64  `json:"moment"`
	Thread   string `json:"thread"`
	Function string `json:"function"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Reason   string `json:"reason"`
	TimeNs   int64  `json:"timeNs"`
	// StepNs is how long it took from the moment to the next line of its call, and
	// CallNs how long the call took; -1 where it is not known.
	StepNs int64 `json:"stepNs"`
	CallNs int64 `json:"callNs"`
	// Text is what an error or a message at the moment says.
	Text string `json:"text,omitempty"`
}

// Depth bounds how much of composite values is given out: Levels of children,
// and Width children of each. Format is how whole numbers are written.
type Depth struct {
	Levels int
	Width  int
	Format replay.Format // of whole numbers; empty for decimal
}

// maxThreads bounds the threads of one answer.
const maxThreads = 200

// ThreadID writes a thread's number as answers do.
func ThreadID(t event.ThreadID) string { return strconv.FormatUint(uint64(t), 10) }

// ParseThread reads a thread's number.
func ParseThread(s string) (event.ThreadID, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil || n == 0 {
		return 0, fmt.Errorf("%q: %w: a thread is named by a whole number from 1 on", s, replay.ErrNoThread)
	}
	return event.ThreadID(n), nil
}

// PeekAt describes a recording and its failure.
func PeekAt(ctx context.Context, r replay.Recording) (Peek, error) {
	info := r.Info()
	p := Peek{
		Evidence: Evidence{Kind: info.Kind, Program: info.Program, BuildID: info.BuildID, Revision: info.Revision, Host: info.Host, Command: info.Command,
			Moments: info.Moments, Threads: info.Threads, Started: info.Started, DurationNs: int64(info.Duration)},
		Gaps: []Gap{}, Threads: []Thread{},
	}
	for _, g := range info.Gaps {
		p.Gaps = append(p.Gaps, Gap(g))
	}
	if info.Moments == 0 {
		return p, nil
	}
	at := event.Moment(info.Moments - 1)
	failing := event.ThreadID(0)
	if f := info.Failure; f != nil {
		p.Failure = &Failure{Kind: f.Kind, Summary: f.Summary, Moment: int64(f.Moment), Thread: ThreadID(f.Thread), Frame: f.Frame,
			Signal: f.Signal, Address: f.Address, Instruction: f.Instruction, Suspect: f.Suspect}
		if len(f.Causes) > 0 { // what says so much of its errors is compared by them
			var err error
			if p.Failure.Fingerprint, err = FingerprintOf(ctx, r); err != nil {
				return p, err
			}
		}
		for _, c := range f.Causes {
			p.Failure.Causes = append(p.Failure.Causes, Cause(c))
		}
		at, failing = f.Moment, f.Thread
	}
	threads, err := StackAt(ctx, r, at, 0, failing)
	p.Threads = threads.Threads
	return p, err
}

// StackAt gives the stack of a thread at a moment, or with thread 0 those of all
// threads. The variables of withValues' frames are given, without their parts.
func StackAt(ctx context.Context, r replay.Recording, at event.Moment, thread, withValues event.ThreadID) (Stack, error) {
	s := Stack{Moment: int64(at), Threads: []Thread{}}
	threads, err := r.Threads(ctx, at)
	if err != nil {
		return s, err
	}
	for _, th := range threads {
		if thread != 0 && th.ID != thread {
			continue
		}
		if len(s.Threads) == maxThreads && th.ID != withValues {
			continue
		}
		frames, err := r.Frames(ctx, at, th.ID)
		if err != nil {
			return s, err
		}
		out := Thread{ID: ThreadID(th.ID), Name: th.Name, Kind: th.Kind, State: th.State, Creator: th.Creator, Deferred: th.Deferred, Frames: []Frame{}}
		for _, f := range frames {
			frame := frame(f)
			if th.ID == withValues {
				v, err := ValuesAt(ctx, r, at, th.ID, f.Index, Depth{})
				if err != nil {
					return s, err
				}
				frame.Variables = slices.DeleteFunc(v.Variables, func(x Variable) bool { return x.Scope == string(event.Register) })
			}
			out.Frames = append(out.Frames, frame)
		}
		s.Threads = append(s.Threads, out)
	}
	if thread != 0 && len(s.Threads) == 0 {
		return s, fmt.Errorf("thread %d at moment %d: %w: it has not begun by then", thread, at, replay.ErrNoThread)
	}
	return s, nil
}

// ValuesAt gives the variables of a frame.
func ValuesAt(ctx context.Context, r replay.Recording, at event.Moment, t event.ThreadID, frame int, depth Depth) (Values, error) {
	out := Values{Moment: int64(at), Thread: ThreadID(t), Frame: frame, Variables: []Variable{}, Returned: []Returned{}}
	list, err := r.Variables(ctx, at, t, frame)
	if err != nil {
		return out, err
	}
	for _, v := range list {
		x := variable(v.Name, v.Type, v.Value, depth)
		x.Scope, x.Written = string(v.Scope), int64(v.Written)
		out.Variables = append(out.Variables, x)
	}
	if past, ok := r.(replay.Replay); ok && depth != (Depth{}) {
		out.Returned, err = returnedAt(ctx, past, at, t, frame)
	}
	return out, err
}

func variable(name, typeName string, v replay.Value, depth Depth) Variable {
	if t := v.TypeName(); t != "" {
		typeName = t
	}
	out := Variable{Name: name, Scope: string(event.Local), Type: typeName, Value: v.TextAs(depth.Format), State: string(v.State), Why: v.Why(), Written: -1, Children: []Variable{}}
	children, total := v.Children(replay.Page{Count: depth.Width})
	out.Count, out.Object = total, objectOf(v.Value)
	if depth.Levels > 0 {
		for _, c := range children {
			out.Children = append(out.Children, variable(c.Name, "", c.Value, Depth{depth.Levels - 1, depth.Width, depth.Format}))
		}
	}
	return out
}

// objectOf names the object that a value refers to.
func objectOf(v event.Value) string {
	for v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.Items[0]
	}
	switch v.Form() {
	case event.Pointer, event.Slice, event.Map, event.Chan:
		if v.State == event.Known && !v.Nil {
			return "0x" + strconv.FormatUint(v.Address, 16)
		}
	}
	return ""
}

// PartsAt gives a page of the parts of a value: the variable that path[0] names,
// and from there the parts that the rest of the path names.
func PartsAt(ctx context.Context, r replay.Recording, at event.Moment, t event.ThreadID, frame int, path []string, page replay.Page) (Variable, error) {
	if len(path) == 0 {
		return Variable{}, fmt.Errorf("a path is wanted: %w", replay.ErrOutOfRange)
	}
	v, ok, err := r.Variable(ctx, at, t, frame, path[0])
	if err != nil {
		return Variable{}, err
	}
	if !ok {
		return Variable{}, fmt.Errorf("%s: %w: no such name in the frame", path[0], replay.ErrOutOfRange)
	}
	value := v.Value
	for _, name := range path[1:] {
		if value, ok = part(value, name); !ok {
			return Variable{}, fmt.Errorf("%s: %w: no such part", name, replay.ErrOutOfRange)
		}
	}
	out := variable(path[len(path)-1], v.Type, value, Depth{})
	children, _ := value.Children(page)
	for _, c := range children {
		out.Children = append(out.Children, variable(c.Name, "", c.Value, Depth{}))
	}
	return out, nil
}

func part(v replay.Value, name string) (replay.Value, bool) {
	var i int
	if n, err := fmt.Sscanf(name, "[%d]", &i); n == 1 && err == nil && v.Form() != event.Map {
		list, _ := v.Children(replay.Page{From: i, Count: 1})
		if len(list) == 1 {
			return list[0].Value, true
		}
		return replay.Value{}, false
	}
	const most = 1 << 16
	list, _ := v.Children(replay.Page{Count: most})
	for _, c := range list {
		if c.Name == name {
			return c.Value, true
		}
	}
	return replay.Value{}, false
}

// Resolve fills in what a locator leaves off: for event.NoMoment the failure's
// moment, or the last one where nothing failed; for thread 0 the moment's thread.
func Resolve(r replay.Recording, at event.Moment, t event.ThreadID) (event.Moment, event.ThreadID, error) {
	info := r.Info()
	if at == event.NoMoment {
		at = event.Moment(info.Moments - 1)
		if info.Failure != nil {
			at = info.Failure.Moment
			if t == 0 {
				t = info.Failure.Thread
			}
		}
	}
	if t != 0 {
		return at, t, nil
	}
	t, err := r.ThreadOf(at)
	return at, t, err
}
