package replay

import (
	"context"

	"wraithology/core/event"
)

// Racer is evidence in which accesses of several threads can be compared.
type Racer interface {
	// Races finds accesses to the same place by two threads, at least one a write, that nothing in the
	// program orders.
	Races(ctx context.Context, page Page) (Races, error)
	// Overlaps finds calls of a function on different threads that overlapped in time and had the same key. key gives
	// the key of the call that is entered at a moment; an empty one matches no other.
	Overlaps(ctx context.Context, function string, key func(at event.Moment, t event.ThreadID) (string, error), page Page) (Overlaps, error)
}

// Races are races, those that lost an update first. Unexamined counts the lines whose reads were not looked at, because
// there are too many.
type Races struct {
	Total      int
	Page       []Race
	Unexamined int
}

// Race is a pair of places in the code whose accesses are not ordered, with its first occurrence. Lost is set
// if a thread read the value, another one wrote it, and the first one then overwrote that: Overwrite is that write.
type Race struct {
	Name          string
	Lost          bool
	First, Second Access
	Overwrite     Access
	Times         int // how often it occurred
}

// Access is a read or a write. Name is how the code there names what it reads or writes; Value is what it read or wrote.
type Access struct {
	Place
	Name  string
	Value Value
	Write bool
}

// Overlaps are groups of calls that overlapped.
type Overlaps struct {
	Total   int
	Page    []Overlap
	Trouble error // why some calls have no key
	NoKey   int   // how many
	// Unexamined is the number of calls that were not looked at, because there are too many.
	Unexamined int
}

// Overlap are calls of a function that overlapped in time and had the same key. Left is the number of further ones that are not
// described.
type Overlap struct {
	Key   string
	Calls []OverlappingCall
	Left  int
}

// OverlappingCall is one of them: Place is its beginning, Leave its end or event.NoMoment. Reads and Writes are the accesses
// to memory that several threads used, without Left further ones; Locks are the locks that it held or took.
type OverlappingCall struct {
	Place
	Leave  event.Moment
	Reads  []Access
	Writes []Access
	Left   int
	Locks  []HeldLock
}

// HeldLock is a lock that a thread held during a call: Name is how the code names it; Since is the moment at which the thread got
// it, Until the one at which it gave it back, event.NoMoment if it did not.
type HeldLock struct {
	Name         string
	Address      uint64
	Since, Until event.Moment
}
