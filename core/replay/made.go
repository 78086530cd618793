package replay

import (
	"context"

	"wraithology/core/event"
)

// Calls reads recorded calls as a whole: what they were given, what they gave back and what they changed.
type Calls interface {
	// MadeCall returns the call of a frame.
	MadeCall(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (MadeCall, error)
	// MadeCalls lists the calls of a function, oldest first, and their total number.
	MadeCalls(ctx context.Context, function string, page Page) (list []MadeCall, total int, err error)
	// SourceFiles lists the source files of which the recording has the text.
	SourceFiles() []string
}

// Outcome is how a call ended.
type Outcome string

// The outcomes of a call.
const (
	DidReturn    Outcome = "returned"
	DidPanic     Outcome = "panicked"
	IsUnfinished Outcome = "unfinished" // the recording, or its thread, ended before it did
)

// MadeCall is a recorded call. Parameters have the values of the call's entry. After are the same values, but what they refer
// to is as it was at the end of the call. Both leave out parameters without a name.
type MadeCall struct {
	Call       event.CallID
	Function   event.Function
	File       string // path of the source file, relative to the module
	Thread     event.ThreadID
	Enter, End event.Moment // End is event.NoMoment if it is unfinished
	Outcome    Outcome
	Parameters []Variable
	After      []Variable
	Results    []Variable // all of them, in order; empty unless it returned
	Panic      string     // what its panic prints; empty if that is not known
	// Globals are the package variables that the call and its inner calls name, and all that hold errors or pointers.
	Globals []MadeGlobal
	// Held are the locks that its thread held at the entry and that the call gives back.
	Held []OuterLock
	// Inner are the calls that it made, and those that they made, on its thread, in order.
	Inner []InnerCall
	// More is set if there are more inner calls than are listed.
	More bool
	// Reached are the lines that it and its inner calls reached, by the path of their file and their number.
	Reached map[string]map[int]LineRun
}

// LineRun is how often a line was reached, and the first moment.
type LineRun struct {
	Hits  int
	First event.Moment
}

// OuterLock is a lock at an address, taken to read or to write. IsCertain is set if the recording has how the thread took it; else the call
// gives back a lock of which that is not known.
type OuterLock struct {
	Address         uint64
	Read, IsCertain bool
}

// MadeGlobal is a package variable before and after a call. Package is the import path, or only the last part of it if
// the variable is of another package than the functions that name it. Used is set if the call or an inner call names
// it. IsFresh reports whether it was, with all that it refers to, as the program's initialisation left it.
type MadeGlobal struct {
	Package, Name string
	Before, After Value
	Used          bool
	IsFresh       func() bool
}

// InnerCall is a call inside a MadeCall.
// Receiver is that of a method at its entry; it has no type if the call is not of a method, or the receiver has no name.
type InnerCall struct {
	Call     event.CallID
	Parent   event.CallID
	Function string
	Receiver Value
	Outcome  Outcome
	Results  []Variable
}
