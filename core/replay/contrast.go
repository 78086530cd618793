package replay

import (
	"context"

	"wraithology/core/event"
)

// ContrastQuery asks what separates the things for which When holds from the others. The things are traces, the records
// of a log, with Calls the calls of a function, or Pairs, which have the property or not.
type ContrastQuery struct {
	When  Condition
	On    Recording // with which When is evaluated
	Calls string    // name of a function; empty for traces or records
	Pairs []ContrastPair
	But   []string // names that do not count
	Page  Page
}

// ContrastPair are two moments that belong together. Right is event.NoMoment if the second one is of another recording.
type ContrastPair struct {
	Left, Right event.Moment
	Has         bool // has the property
}

// Contrast is what separates them, the greatest difference first. Left are names with more than 4,096 values, which
// are rather IDs. Undecided counts the things for which When had no answer, Trouble is the first reason. Cut is set if some
// things or names were not looked at.
type Contrast struct {
	Of            string // trace, record, call, pair
	With, Without int
	Total         int
	Differences   []Difference
	Left          []string
	Undecided     int
	Trouble       error
	Cut           bool
}

// Difference is a feature that separates. With of the things with the property have it, and Without of the others. Score
// is the difference of these shares, from 0 to 1.
type Difference struct {
	What          string // attribute, operation, missing, duration, message
	Name          string
	Value         string
	With, Without int
	Score         float64
}

// Contraster is evidence that can compare what a condition separates.
type Contraster interface {
	Contrast(ctx context.Context, q ContrastQuery) (Contrast, error)
}
