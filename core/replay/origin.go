package replay

import (
	"wraithology/core/event"
)

// OriginOptions say how far an origin is followed.
type OriginOptions struct {
	Depth int // computations
	// Objects also follows how objects of other code, such as a request or a context, were passed on.
	Objects bool
	// Lines is how many lines of text the chain may have for people; 0 for any number.
	Lines int
}

// OriginKind says where a value came from.
type OriginKind string

// The kinds of origin.
const (
	FromWrite      OriginKind = "write"      // a line stored it
	FromArgument   OriginKind = "argument"   // a caller passed it
	FromResult     OriginKind = "result"     // a call returned it
	FromConstant   OriginKind = "constant"   // it is in the source
	FromInput      OriginKind = "input"      // code that is not recorded made it
	FromUnrecorded OriginKind = "unrecorded" // nothing says where it came from
	FromRepeat     OriginKind = "repeat"     // it appears elsewhere in the chain
	FromCondition  OriginKind = "condition"  // a condition decided which constant it is
)

// Origin is a value, the write that gave it, and the values that it was computed from. Note adds to
// kind and value. More is set if the chain continues beyond the depth.
type Origin struct {
	Name  string
	Kind  OriginKind
	Value Value
	Place
	Note string
	More bool
	// Left is the number of values of the chain that are missing here, because it would have too many lines.
	Left int
	From []Origin
	// Asked is the place and path at which the value was read. A request for its origin continues
	// the chain.
	Asked Asked
}

// Asked is a path that is reached at a moment from the innermost frame.
type Asked struct {
	At     event.Moment
	Thread event.ThreadID
	Frame  int
	Path   string
}
