package replay

import (
	"context"
	"regexp"

	"wraithology/core/event"
)

// Aligner compares the recording with another one of the same program. The error wraps fault.NoHistory unless both are
// execution logs.
type Aligner interface {
	Align(ctx context.Context, other Recording, how AlignOptions) (Comparison, error)
}

// AlignOptions say how recordings are compared.
type AlignOptions struct {
	Ignore *regexp.Regexp // names of variables, parameters, results and fields that are not compared; nil for none
	Causes int            // number of causes at most
}

// Comparison is how two recordings of a program relate: the left one, which failed, and the right one.
type Comparison struct {
	Aligned   int // calls with a counterpart
	OnlyLeft  int // calls without
	OnlyRight int
	First     *Parting // the first place where they part; nil if there is none
	Causes    []Parting
	// Unexamined is set if there are more places where they part than are examined.
	Unexamined bool
}

// PartingKind says how two recordings part.
type PartingKind string

// The kinds of partings.
const (
	ByPath  PartingKind = "path"  // what runs next is not the same
	ByValue PartingKind = "value" // a value is not the same
)

// Parting is a place where recordings part. By path, Name is the line that decided, and the values are what it read;
// Left and Right are moments of that line, event.NoMoment if there is none.
type Parting struct {
	Kind                  PartingKind
	Name                  string
	LeftValue, RightValue string
	Left, Right           event.Moment
	Why                   string
}
