// Package replay defines what evidence can be asked: threads, stacks and values at a moment, steps
// in both directions, hits of checkpoints, and origins of values. Evidence opened for replay is a
// Recording. Everything else is a capability, which a kind of evidence implements or not. The
// packages below implement them for timelines; core dumps and crash texts have their own
// implementations.
package replay

import (
	"context"
	"time"

	"wraithology/core/event"
)

// Recording is evidence opened for replay. All its methods are safe for
// concurrent use.
type Recording interface {
	Info() Info
	// Threads lists the threads that exist at a moment.
	Threads(ctx context.Context, at event.Moment) ([]Thread, error)
	// Frames lists the frames of a thread at a moment, innermost first.
	Frames(ctx context.Context, at event.Moment, t event.ThreadID) ([]Frame, error)
	// Variables lists the variables in scope in a frame, parameters first.
	Variables(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]Variable, error)
	// Variable returns the variable with a name in a frame, and whether there is one.
	Variable(ctx context.Context, at event.Moment, t event.ThreadID, frame int, name string) (Variable, bool, error)
	// Source returns the text of a source file. The error wraps fault.NoSource.
	Source(file string) (string, error)
	// ThreadOf returns the thread of a moment.
	ThreadOf(at event.Moment) (event.ThreadID, error)
}

// Info says what a recording is.
type Info struct {
	Kind     string // as the kind of evidence is registered
	Program  string
	BuildID  string
	Revision string
	Language string
	Host     string
	Command  []string
	Dir      string // of the main module where the program was built; empty if it is not known
	Started  time.Time
	Duration time.Duration
	Moments  int64
	Threads  int
	Failure  *Failure
	Gaps     []Gap
	// Reading says how the lines of a log were read; nil for other evidence.
	Reading *event.Reading
}

// Failure is the place and cause of the program's failure.
type Failure struct {
	Kind    string // "panic", "fatal", "deadlock", "failed-assertion", "error", "signal", "exit"
	Summary string
	Moment  event.Moment
	Thread  event.ThreadID
	Frame   int
	// The following are set for core dumps, if known: the signal, the address and instruction of
	// the access, and the suspected variable, as it is named in Frame.
	Signal      string
	Address     string
	Instruction string
	Suspect     string
	// Causes are the errors, outermost first, if the evidence distinguishes them.
	Causes []Cause
}

// Cause is an error that led to another one.
type Cause struct {
	Type    string
	Message string
}

// Gap is something that is missing in the evidence, with a remedy.
type Gap = event.Gap

// Thread is a thread at a moment.
type Thread struct {
	ID      event.ThreadID
	Name    string
	Kind    string // "goroutine"
	State   string
	Creator string
	// Deferred lists the deferred calls, next one first, if they are known.
	Deferred []string
}

// Frame is one frame of a stack. Line is the current line; for callers it is that of the call.
type Frame struct {
	Index    int
	Function string
	File     string
	Line     int
	Own      bool
	Inlined  bool
	PC       uint64 // program counter; for a caller the return address; 0 if there is none
	Note     string // how the frame was found, if that is not certain, or why the stack ends
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

// Page is a part of a long list: Count entries, beginning with From.
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

// The ways to step. Line goes to the next line of the call like Over, or with AnyThread to the next
// line of any thread. To goes to a given line. Head goes to the first line of the call, or of an
// outer one.
const (
	Into Way = "into"
	Over Way = "over"
	Out  Way = "out"
	Line Way = "line"
	To   Way = "to"
	Head Way = "head"
)

// Step is one step, forward or back. With Everything it can end in foreign code.
type Step struct {
	Way        Way
	Back       bool
	Everything bool
	AnyThread  bool
	File       string // for To
	Line       int
	Outer      int // for Head: how many calls further out
}

// Reason says why a step ended if it did.
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
	// Estimated is set if the time was not read from a clock: it lies between those around it.
	Estimated bool
	// At is the time of day, as reported by evidence without a recorder. It is zero for undated records.
	At   time.Time
	Call event.CallID
}

// Condition is a condition on the innermost frame of a thread at a moment.
type Condition interface {
	Holds(ctx context.Context, r Recording, at event.Moment, t event.ThreadID) (bool, error)
}

// Checkpoint is a place or an event, with an optional condition, hit number and thread.
type Checkpoint struct {
	Kind  string // as the package find registers it: "line", "enter"
	About string // place or event of the kind; empty for any
	// Text is the source text of the line it is on, without spaces around it. The nearest line with this text counts,
	// because other builds can have moved it. Empty if the number alone counts.
	Text string
	// If About is a path, the place from which it is reached.
	At         event.Moment
	PathThread event.ThreadID
	Frame      int
	When       Condition      // nil for always
	Thread     event.ThreadID // 0 for any
	Number     Number
}

// Expected is a condition that should hold at the hits of a checkpoint.
type Expected struct {
	Checkpoint Checkpoint
	That       Condition
}

// Verdict is how often a condition holds at the hits of a checkpoint. Missing wraps fault.NoCode if the recording does not
// have the place of the checkpoint; nil if it has.
type Verdict struct {
	Missing       error
	Holds, Breaks int
	// Unknown counts the hits at which it, or whether the checkpoint holds, has no answer. Trouble is the reason at one
	// of them.
	Unknown      int
	Trouble      error
	First        event.Moment // first break; event.NoMoment if there is none
	FirstUnknown event.Moment // event.NoMoment if there is none
}

// Located is the place of a checkpoint in full: About is the whole path of a file or the whole name
// of a function. File, Line and Text, the source text of the line, are empty for kinds without a line.
type Located struct {
	About string
	File  string
	Line  int
	Text  string
}

// Hits are the moments at which a checkpoint holds: their total and a page of them. Undecided
// counts the moments at which the condition could not be evaluated; Trouble is the reason at the
// first of them.
type Hits struct {
	Total     int
	Page      []event.Moment
	Undecided int
	Trouble   error
}

// Lane is the activity of a thread: the number of moments and the maximum call depth in each
// interval.
type Lane struct {
	Thread event.ThreadID
	Name   string
	Counts []int
	Depths []int
}
