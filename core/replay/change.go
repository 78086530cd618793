package replay

import (
	"wraithology/core/event"
)

// Change is a variable whose value differs from the frame's previous moment. Old is nil if it had
// no value.
type Change struct {
	Name string
	Old  *Value
	New  Value
}

// Changes are the differences between a frame at a moment and at the previous line of its call, or
// its beginning.
type Changes struct {
	Moment, Previous event.Moment
	Changes          []Change
}

// Returned is a call that returned, with its results in order.
type Returned struct {
	Function string
	At       event.Moment
	Values   []Value
}

// Doing is the activity of a thread between two moments: the number of its moments, and its first
// and last place.
type Doing struct {
	Thread      Thread
	Moments     int64
	First, Last Place
}
