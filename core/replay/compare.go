package replay

import (
	"context"
	"regexp"

	"wraithology/core/event"
)

// Aligner compares the recording with another one of the same program. The error wraps fault.NoHistory unless both are
// execution logs or both are event traces.
type Aligner interface {
	Align(ctx context.Context, other Recording, how AlignOptions) (Comparison, error)
}

// Relater compares the recording with several others of the same program, in which nothing failed.
type Relater interface {
	// Relate lists relations that hold in all of the others and break in this one, at most most. more is set if not all
	// candidates were checked.
	Relate(ctx context.Context, passing []Recording, most int) (list []Relation, more bool, err error)
}

// Relation is a relation between values at a checkpoint. Held counts the hits at which it held in the others. IsExpression is set if That is an
// expression over the names of the frame.
type Relation struct {
	Checkpoint, That string
	Text             string // source text of a line, by which other versions have it; else empty
	Held, Breaks     int
	Broken           event.Moment // the first break
	IsExpression     bool
}

// AlignOptions say how recordings are compared.
type AlignOptions struct {
	Ignore *regexp.Regexp // names of variables, parameters, results and fields that are not compared; nil for none
	Causes int            // number of causes at most
	// Trace and WithTrace are the IDs of the traces of event traces; by default the failed one, and one of the same operation
	// without an error.
	Trace, WithTrace string
}

// Ignores reports whether values with a name are not compared.
func (o AlignOptions) Ignores(name string) bool {
	return o.Ignore != nil && o.Ignore.MatchString(name)
}

// Comparison is how two recordings of a program relate: the left one, which failed, and the right one.
type Comparison struct {
	Of        string // what is aligned: call, span, frame
	Aligned   int    // those with a counterpart
	OnlyLeft  int    // calls without
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
	// LeftPlace and RightPlace are set where the moment alone does not say the place: of frames.
	LeftPlace, RightPlace *Place
	Why                   string
}
