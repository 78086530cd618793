package event

import (
	"fmt"
)

// Walk goes through the events of one block's payload:
//
//	walk := event.NewWalk(payload, block.Base)
//	for walk.Next() {
//		e := walk.Event()
//	}
//	err := walk.Err()
//
// The events before a malformed one are good.
type Walk struct {
	c     cursor
	whole int
	time  int64
	e     Event
	n     int
	start int
}

// NewWalk returns a walk over a payload whose times count from base.
func NewWalk(payload []byte, base int64) *Walk {
	return &Walk{c: cursor{b: payload}, whole: len(payload), time: base}
}

// Next moves to the next event and reports whether there is one.
func (w *Walk) Next() bool {
	if w.c.err != nil || len(w.c.b) == 0 {
		return false
	}
	c := &w.c
	w.start = w.whole - len(c.b)
	kind := c.byte()
	e := Event{Kind: Kind(kind &^ (Untimed | Estimated)), Estimated: kind&(Untimed|Estimated) != 0}
	if kind&Untimed == 0 {
		w.time += int64(c.uvarint())
	}
	e.Time = w.time
	switch e.Kind {
	case Enter, Leave:
		if e.Kind == Enter {
			e.ID = uint32(c.uvarint())
		}
		e.Args = int(c.byte())
	case Line, Resume, Unwind, Exit:
		e.ID = uint32(c.uvarint())
	case Write:
		e.ID, e.Args = uint32(c.uvarint()), 1
	case Cell:
		e.ID, e.Address, e.Args = uint32(c.uvarint()), c.uvarint(), 1
	case Memory, Delete, Spread, Entries, Store, Send, Receive:
		e.Address, e.Args = c.uvarint(), 1
	case Element:
		e.Address, e.Args = c.uvarint(), 2
	case Wait, Pass, Release:
		e.ID, e.Address = uint32(c.uvarint()), c.uvarint()
	case Snapshot:
		e.ID, e.Address, e.Args = uint32(c.uvarint()), c.uvarint(), 1
	case Panic, Recover, Failure, Output:
		e.Args = int(c.byte())
	case Fields, Message, Error:
		e.ID = uint32(c.uvarint())
		e.Args = int(c.byte())
	case Move, Open, Exposed, Made: // their fields are part of their data
	default:
		if c.err == nil {
			c.err = fmt.Errorf("unknown event kind %d", e.Kind)
		}
	}
	start := c.b
	switch e.Kind {
	case Move:
		e.Address = c.uvarint()
		start = c.b
		c.uvarint()
		c.uvarint()
	case Open:
		e.ID = uint32(c.uvarint())
		start = c.b
		c.uvarint()
		c.uvarint()
	case Made:
		e.Address = c.uvarint()
		start = c.b
		c.uvarint()
	case Exposed:
		e.Address = c.uvarint()
		start = c.b
		c.uvarint()
		c.take(c.uvarint())
	}
	for i := 0; i < e.Args && c.err == nil; i++ {
		c.uvarint()
		c.skip(0)
	}
	if c.err != nil {
		c.err = fmt.Errorf("event %d of the block, at byte %d: %w", w.n, w.whole-len(start), c.err)
		return false
	}
	e.Data = start[:len(start)-len(c.b)]
	w.e = e
	w.n++
	return true
}

// Event returns the current event. Its Data is a part of the payload.
func (w *Walk) Event() Event { return w.e }

// Start returns the offset of the current event in the payload.
func (w *Walk) Start() int { return w.start }

// Raw returns the bytes of the current event in the payload.
func (w *Walk) Raw(payload []byte) []byte { return payload[w.start : w.whole-len(w.c.b)] }

// TypeOf returns the type number at the beginning of an event's data, and the length of the list or
// byte string after it.
func TypeOf(data []byte) (id TypeID, n uint64) {
	c := &cursor{b: data}
	id = TypeID(c.uvarint())
	if major, arg, _ := c.head(); major == majorArray || major == majorBytes {
		n = arg
	}
	return id, n
}

// Err returns the error that ended the walk early, or nil.
func (w *Walk) Err() error { return w.c.err }

// EventAt decodes the event at the beginning of b and returns its size in bytes. The caller knows
// its time.
func EventAt(b []byte) (e Event, size int, err error) {
	w := NewWalk(b, 0)
	w.Next()
	return w.e, len(b) - len(w.c.b), w.Err()
}

// FirstItem returns the bytes of the first value's item, without its type.
func FirstItem(data []byte) []byte {
	c := &cursor{b: data}
	c.uvarint()
	from := c.b
	c.skip(0)
	if c.err != nil {
		return nil
	}
	return from[:len(from)-len(c.b)]
}

// LastValue returns the bytes of the last of n values with its type, and whether it is nil. It
// returns nil, true if the bytes are malformed.
func LastValue(data []byte, n int) (value []byte, isNil bool) {
	c := &cursor{b: data}
	for range n - 1 {
		c.uvarint()
		c.skip(0)
	}
	value = c.b
	if id := c.uvarint(); c.err != nil || len(c.b) == 0 {
		return nil, true
	} else if id == 0 {
		return value, true
	}
	return value, c.b[0] == majorSimple<<5|simpleNull || c.b[0] == majorSimple<<5|simpleUndefined
}

// DecodeOpen returns the depth of the call of an Open event, from 1, and its function.
func DecodeOpen(data []byte) (depth uint64, function FunctionID) {
	c := &cursor{b: data}
	depth, function = c.uvarint(), FunctionID(c.uvarint())
	if c.err != nil {
		return 0, 0
	}
	return depth, function
}

// DecodeExposed returns the number of bytes of an Exposed event, 0 for the entries of a map, and the
// name of the code that may have changed them.
func DecodeExposed(data []byte) (size uint64, by string) {
	c := &cursor{b: data}
	size = c.uvarint()
	by = string(c.take(c.uvarint()))
	if c.err != nil {
		return 0, ""
	}
	return size, by
}

// DecodeMade returns the number of bytes of a Made event.
func DecodeMade(data []byte) (size uint64) {
	c := &cursor{b: data}
	return c.uvarint()
}

// DecodeMove returns the source of a Move event, 0 if it is not known, and the number of bytes.
func DecodeMove(data []byte) (from, size uint64) {
	c := &cursor{b: data}
	from, size = c.uvarint(), c.uvarint()
	if c.err != nil {
		return 0, 0
	}
	return from, size
}
