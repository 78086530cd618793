package replay

import "context"

// ContrastQuery asks what separates the things for which When holds from the others. The things are traces, the records
// of a log, or with Calls the calls of a function.
type ContrastQuery struct {
	When  Condition
	On    Recording // with which When is evaluated
	Calls string    // name of a function; empty for traces or records
	But   []string  // names that do not count
	Page  Page
}

// Contrast is what separates them, the greatest difference first. Left are names with more than 4,096 values, which
// are rather IDs. Undecided counts the things for which When had no answer, Trouble is the first reason. Cut is set if some
// things or names were not looked at.
type Contrast struct {
	Of            string // trace, record, call
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
