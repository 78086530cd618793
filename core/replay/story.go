package replay

import (
	"context"

	"wraithology/core/event"
)

// Teller is evidence that knows the life of objects and identifiers.
type Teller interface {
	// StoryOfValue follows a text or number.
	StoryOfValue(ctx context.Context, value string, page Page) (Story, error)
	// StoryOfObject follows the object at a path, from a moment of its life.
	StoryOfObject(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page Page) (Story, error)
	// UsesOfObject lists the calls that used the object at a path, as long as its memory is that object: those that it was passed to,
	// and those that returned, stored or changed it. Calls that only read it through another object are not known.
	UsesOfObject(ctx context.Context, path string, at event.Moment, t event.ThreadID, frame int, page Page) (Uses, error)
}

// Uses are calls that used an object, in order of their entries. Unexamined is as in Story.
type Uses struct {
	Total      int
	Page       []Use
	Unexamined int
}

// Use is a call that used an object. Place is that of its entry, First the moment of the first use. Parameter is the name by which it was passed
// to the call, What are the things that happened to the object there, and Times their number. Asked is set for the call of the frame that was
// asked about.
type Use struct {
	Place
	First     event.Moment
	Parameter string
	What      []Happening
	Times     int
	Asked     bool
}

// Story is what happened to an object or identifier, in order.
type Story struct {
	Total int
	Page  []StoryStep
	Lives int // how often its memory was a new object, or came out of a pool
	// Unexamined is the number of places that were not followed: containers, changes, lines that use pools.
	Unexamined int
}

// Happening is what happened to an object or identifier.
type Happening string

// What can happen.
const (
	WasCreated  Happening = "created"
	WasChanged  Happening = "changed"
	WasPassed   Happening = "passed"
	WasStored   Happening = "stored"
	WasRemoved  Happening = "removed"
	WasSent     Happening = "sent"
	WasReceived Happening = "received"
	WasReturned Happening = "returned"
)

// StoryStep is one thing that happened. Name is what it happened to or through: a function, a container, a field.
// Old and New are the values of a change, nil where there is none. Times counts the repetitions that follow on
// the same line. Life numbers the lives, from 1.
type StoryStep struct {
	Place
	What     Happening
	Name     string
	Old, New *Value
	Times    int
	Life     int
}
