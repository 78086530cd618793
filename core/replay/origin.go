package replay

import (
	"wraithology/core/event"
)

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
)

// Origin is a value and the write that gave it, with the values that it was computed from. Note
// says in words what kind and value do not. More is set if there is more to explain than the depth
// asked for.
type Origin struct {
	Name  string
	Kind  OriginKind
	Value Value
	Place
	Note string
	More bool
	From []Origin
	// Asked is where, and by which path, the value was read: from there the chain
	// can be asked for again.
	Asked Asked
}

// Asked is a path as it is reached at a moment from the innermost frame.
type Asked struct {
	At     event.Moment
	Thread event.ThreadID
	Frame  int
	Path   string
}
