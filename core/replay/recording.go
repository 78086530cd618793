// Package replay answers what people ask of evidence: the threads, the stack and
// the values at a moment, steps from one moment to another in both directions,
// and all the hits of a checkpoint. What it stands on, an execution log's
// timeline or a core dump, is behind the interfaces Recording and Replay.
package replay

import (
	"context"
	"errors"
	"time"

	"wraithology/core/event"
)

// Recording is evidence opened for replay. All its methods are safe for
// concurrent use.
type Recording interface {
	Info() Info
	// Threads lists the threads that exist at a moment: they have begun, and not
	// ended before it.
	Threads(ctx context.Context, at event.Moment) ([]Thread, error)
	// Frames lists the frames of a thread at a moment, innermost first.
	Frames(ctx context.Context, at event.Moment, t event.ThreadID) ([]Frame, error)
	// Variables lists the variables in scope in a frame, parameters first.
	Variables(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]Variable, error)
	// Variable returns the variable that a name means in a frame, and whether
	// there is one.
	Variable(ctx context.Context, at event.Moment, t event.ThreadID, frame int, name string) (Variable, bool, error)
	// Source returns the text of a source file, or ErrNoSource.
	Source(file string) (string, error)
	// ThreadOf returns the thread on which a moment lies.
	ThreadOf(at event.Moment) (event.ThreadID, error)
}

// Replay is a recording with a history.
type Replay interface {
	Recording
	// Step goes from a moment to another one on the same thread.
	Step(ctx context.Context, at event.Moment, t event.ThreadID, s Step) (event.Moment, Reason, error)
	// Hits lists the moments at which a checkpoint holds.
	Hits(ctx context.Context, c Checkpoint, page Page) (Hits, error)
	// Density counts a checkpoint's hits in equal spans of the recording.
	Density(ctx context.Context, c Checkpoint, spans int) ([]int, error)
	// NextHit goes from a moment to the next or previous hit of any of the
	// checkpoints. which is the index of the one that holds there, -1 for none.
	NextHit(ctx context.Context, at event.Moment, back bool, of []Checkpoint) (m event.Moment, which int, err error)
	// Lines lists the lines of a source file that can hold a checkpoint.
	Lines(file string) []int
	// FindLine returns the full path of the file that a name fits, if the line
	// can hold a checkpoint; else its error names the nearest that can.
	FindLine(file string, line int) (string, error)
	// FindFunction returns the full name of the function that a name means; else
	// its error lists those that it may mean.
	FindFunction(name string) (string, error)
	// Place says where a moment lies.
	Place(at event.Moment) (Place, error)
	// Text says what an error or output moment is: the error's type and message with
	// those of the errors that it wraps, or the text that was put out; else nothing.
	Text(at event.Moment) string
	// CallLines lists the moments at which the call of a frame reached a line.
	CallLines(ctx context.Context, at event.Moment, t event.ThreadID, frame int, page Page) (Hits, error)
	// Writes lists what was written to a variable, field or element, oldest first.
	Writes(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page Page) (Writes, error)
	// LastWrite returns the write that gave a variable, field or element the value
	// that it has at a moment, and whether there is one.
	LastWrite(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (Write, bool, error)
	// Origin explains a value by the writes that it came from.
	Origin(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, depth int) (Origin, error)
	// Changed compares a frame's variables with those at its previous moment.
	Changed(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (Changes, error)
	// ValueBefore returns what a path led to at the frame's previous moment.
	ValueBefore(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (Value, error)
	// Returned lists the calls that returned on the way to a moment, with what
	// they returned.
	Returned(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]Returned, error)
	// ObjectAt returns where the object lies that a path leads to.
	ObjectAt(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int) (address uint64, process uint16, err error)
	// Search finds a value among all that were recorded.
	Search(ctx context.Context, s Search, page Page) (Found, error)
	// Timing says how long the call that a moment belongs to took, and the step
	// from the moment to the next line of it; a negative duration is not known.
	Timing(at event.Moment) (call, step time.Duration, err error)
	// Meanwhile says what each thread did between two moments.
	Meanwhile(ctx context.Context, from, to event.Moment) ([]Doing, error)
	// Activity counts moments for each thread in equal spans of a stretch of moments.
	Activity(ctx context.Context, from, to event.Moment, spans int) ([]Lane, error)
}

// Errors that callers tell apart. Each comes wrapped with what and where.
var (
	ErrOutOfRange = errors.New("out of range")
	ErrNoCode     = errors.New("no code there")
	ErrNoSource   = errors.New("no source text")
	ErrNoThread   = errors.New("no such thread")
	ErrNoFrame    = errors.New("no such frame")
	ErrNoMachine  = errors.New("the evidence has no memory or instructions")
)

// Info says what a recording is.
type Info struct {
	Kind     string // "execution-log", "core-dump", "event-trace", "structured-log", "crash-text", "runtime-trace"
	Program  string
	BuildID  string
	Revision string
	Language string
	Host     string
	Command  []string
	Started  time.Time
	Duration time.Duration
	Moments  int64
	Threads  int
	Failure  *Failure
	Gaps     []Gap
}

// Failure is where and how the recorded program went wrong.
type Failure struct {
	Kind    string // "panic", "fatal", "failed-assertion", "error", "signal", "exit"
	Summary string
	Moment  event.Moment
	Thread  event.ThreadID
	Frame   int
	// What a core dump knows besides, each empty where it does not: the signal, the
	// address that was used, the instruction that used it, and the variable that is
	// suspected, as it is named in Frame.
	Signal      string
	Address     string
	Instruction string
	Suspect     string
	// Causes are the errors in order, the outermost first, where the evidence tells
	// them apart.
	Causes []Cause
}

// Cause is an error that led to another one.
type Cause struct {
	Type    string
	Message string
}

// Gap is something that the evidence lacks, with what can be done about it.
type Gap = event.Gap

// Thread is a thread at a moment.
type Thread struct {
	ID      event.ThreadID
	Name    string
	Kind    string // "goroutine"
	State   string
	Creator string
	// Deferred lists the calls that are put off to the ends of functions, the next
	// one first, as far as they are known.
	Deferred []string
}

// Frame is one frame of a stack. Line is the line that the frame has reached,
// for callers that of the call.
type Frame struct {
	Index    int
	Function string
	File     string
	Line     int
	Own      bool
	Inlined  bool
	PC       uint64 // the program counter, for a caller the return address; 0 where there is none
	Note     string // how the frame was found, where that is not certain, or why the stack ends
	Call     event.CallID
}

// Variable is a named value in a frame. Written is the moment of the write that
// gave the value, or event.NoMoment.
type Variable struct {
	Name    string
	Scope   event.Scope
	Type    string
	Value   Value
	Written event.Moment
}

// Page is a part of a long list: Count entries from From on.
type Page struct {
	From  int
	Count int
}

// Cut returns the bounds of the page in a list of n.
func (p Page) Cut(n int) (from, to int) {
	from = min(max(p.From, 0), n)
	return from, min(from+max(p.Count, 0), n)
}

// Way is the kind of a step.
type Way string

// The ways to step. Line goes to the next line of the call like Over, or with
// AnyThread to the next line that any thread reaches; To goes to a given line;
// Head to the first line of the call, or of one further out.
const (
	Into Way = "into"
	Over Way = "over"
	Out  Way = "out"
	Line Way = "line"
	To   Way = "to"
	Head Way = "head"
)

// Step is one step, forward or back. Everything lets it end in foreign code too.
type Step struct {
	Way        Way
	Back       bool
	Everything bool
	AnyThread  bool
	File       string // for To
	Line       int
	Outer      int // for Head: how many calls further out
}

// Reason says why a step ended where it did.
type Reason string

// The reasons of a step.
const (
	ReachedLine    Reason = "line"
	ReachedAsked   Reason = "the line asked for"
	ReachedCall    Reason = "entered a call"
	ReachedCaller  Reason = "returned to the caller"
	BackInCaller   Reason = "back at the call"
	BackInCallee   Reason = "back in a call"
	AtHead         Reason = "head of the call"
	Unwound        Reason = "a panic left the call"
	Recovered      Reason = "a panic was recovered here"
	ReachedPanic   Reason = "panic"
	ReachedFail    Reason = "test failure"
	ReachedLeave   Reason = "end of the call"
	ReachedMessage Reason = "message"
	ReachedError   Reason = "error"
	AtEnd          Reason = "end of the thread"
	AtBeginning    Reason = "beginning of the thread"
)

// Place is a moment's place in program and time.
type Place struct {
	Moment   event.Moment
	Thread   event.ThreadID
	Kind     event.Kind
	Function string
	File     string
	Line     int
	Time     time.Duration
	Call     event.CallID
}

// Condition says whether something holds in the innermost frame of a thread at
// a moment.
type Condition interface {
	Holds(ctx context.Context, r Recording, at event.Moment, t event.ThreadID) (bool, error)
}

// CheckpointKind says what a checkpoint is on.
type CheckpointKind string

// The kinds of checkpoint.
const (
	OnLine   CheckpointKind = "line"
	OnEnter  CheckpointKind = "enter"
	OnReturn CheckpointKind = "return"
	OnError  CheckpointKind = "error"
	OnWrite  CheckpointKind = "write"
	OnOutput CheckpointKind = "output"
)

// Checkpoint is a place or an event, with an optional condition, hit number and
// thread. Which members count depends on its kind; the zero kind is OnLine.
type Checkpoint struct {
	Kind     CheckpointKind
	File     string // a path, or the end of one
	Line     int
	Function string // a name, or its last parts
	Text     string // that an error or an output must have in it; empty for any
	// A path, as it is reached from a frame at a moment; writes to what it leads
	// to there are meant, whichever way they come.
	Path       string
	At         event.Moment
	PathThread event.ThreadID
	Frame      int
	When       Condition      // nil for always
	Thread     event.ThreadID // 0 for any
	Number     Number
}

// Hits are the moments at which a checkpoint holds: how many there are, and a
// page of them. Undecided counts the moments at which the condition had no
// answer, and Trouble says why at the first of them.
type Hits struct {
	Total     int
	Page      []event.Moment
	Undecided int
	Trouble   error
}

// Lane is what a thread did over time: moments and the greatest call depth in
// each span.
type Lane struct {
	Thread event.ThreadID
	Name   string
	Counts []int
	Depths []int
}
