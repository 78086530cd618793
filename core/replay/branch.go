package replay

import (
	"context"

	"wraithology/core/event"
)

// Brancher is evidence that knows which conditions decided what ran.
type Brancher interface {
	// Reached lists the conditions that decided that the line of a frame was reached, innermost first:
	// branches, loops and returns in its call, then those in up to callers of its callers.
	Reached(ctx context.Context, at event.Moment, t event.ThreadID, frame, callers int) (Decisions, error)
	// Missed lists the conditions that turned away from a place in the call of a frame and in the calls
	// that it made, nearest first.
	Missed(ctx context.Context, at event.Moment, t event.ThreadID, frame int, target Target) (Decisions, error)
	// Listing returns the source of a frame's function with what ran of it in the frame's call.
	Listing(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (Listing, error)
}

// Target is a place that may not have been reached: a line of a file, the writes of a path from the frame, or
// the beginning of a function. One of the three is set.
type Target struct {
	File     string
	Line     int
	Write    string
	Function string
}

// Decisions are conditions. Note says what they cannot: that a line has no condition, was reached after
// all, or that no call came near it.
type Decisions struct {
	List []Decision
	Note string
	// Happened is set to the last moment at which the target was reached after all; event.NoMoment otherwise.
	Happened event.Moment
}

// Decision is a condition with its value at a moment. Times is the number of moments at which it was
// evaluated in its call, where that is more than once.
type Decision struct {
	Expression string
	Value      bool
	Place
	Role     Role
	Times    int
	Operands []Operand
}

// Role is how a condition decides what runs.
type Role string

// The roles of a condition.
const (
	Branching Role = "branch" // an if, or a case
	Looping   Role = "loop"   // the head of a loop
	Leaving   Role = "exit"   // a branch that would have left, or has left
)

// Operand is a value that a condition uses. Written is the moment of the write that gave it, or the
// return of the call; event.NoMoment if it is not known. Path is the operand's path, empty for a call.
type Operand struct {
	Name    string
	Path    string
	Value   Value
	Written event.Moment
	// At is a moment at which the path leads to the value from the call's frame; event.NoMoment if there is none.
	At event.Moment
}

// Listing is the source of a function with what ran of it in one call.
type Listing struct {
	Function string
	File     string
	Lines    []ListedLine
}

// ListedLine is a line of a listing. Hits is the number of times at which it was reached in the
// call, -1 if it cannot be reached: it has no statement. Values are those that it read and wrote when it was
// last reached.
type ListedLine struct {
	Line   int
	Text   string
	Hits   int
	Last   event.Moment // event.NoMoment if it was not reached
	Values []Operand
}
