package replay

import (
	"wraithology/core/event"
)

// Change is a name whose value differs from the previous moment of its frame. Old is nil if the
// name had no value.
type Change struct {
	Name string
	Old  *Value
	New  Value
}

// Changes compare a frame at a moment with the line that its call reached before,
// or with its beginning.
type Changes struct {
	Moment, Previous event.Moment
	Changes          []Change
}

// Returned is a call that has returned, and what it returned, in order.
type Returned struct {
	Function string
	At       event.Moment
	Values   []Value
}

// Doing is what a thread did between two moments: how many moments it had, and
// its first and last place there.
type Doing struct {
	Thread      Thread
	Moments     int64
	First, Last Place
}
