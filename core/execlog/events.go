package execlog

import (
	"fmt"

	"wraithology/core/event"
)

// Events walks the events of one block's payload. It is used as
//
//	for walk := log.Events(header, payload); walk.Next(); {
//		e := walk.Event()
//	}
//
// and then asked for Err: what stands before a malformed event is good.
type Events struct {
	c     cursor
	whole int
	time  int64
	e     event.Event
	n     int
	start int
}

// WalkEvents returns a walk over a payload whose times count from base.
func WalkEvents(payload []byte, base int64) *Events {
	return &Events{c: cursor{b: payload}, whole: len(payload), time: base}
}

// Next moves to the next event and reports whether there is one.
func (w *Events) Next() bool {
	if w.c.err != nil || len(w.c.b) == 0 {
		return false
	}
	c := &w.c
	w.start = w.whole - len(c.b)
	e := event.Event{Kind: event.Kind(c.byte())}
	w.time += int64(c.uvarint())
	e.Time = w.time
	switch e.Kind {
	case event.Enter, event.Leave:
		if e.Kind == event.Enter {
			e.ID = uint32(c.uvarint())
		}
		e.Args = int(c.byte())
	case event.Line, event.Resume, event.Unwind, event.Exit:
		e.ID = uint32(c.uvarint())
	case event.Write:
		e.ID, e.Args = uint32(c.uvarint()), 1
	case event.Cell:
		e.ID, e.Address, e.Args = uint32(c.uvarint()), c.uvarint(), 1
	case event.Memory, event.Delete, event.Spread, event.Entries, event.Store, event.Send, event.Receive:
		e.Address, e.Args = c.uvarint(), 1
	case event.Element:
		e.Address, e.Args = c.uvarint(), 2
	case event.Wait, event.Pass, event.Release:
		e.ID, e.Address = uint32(c.uvarint()), c.uvarint()
	case event.Panic, event.Recover, event.Failure, event.Output:
		e.Args = int(c.byte())
	case event.Fields, event.Message, event.Error:
		e.ID = uint32(c.uvarint())
		e.Args = int(c.byte())
	case event.Move, event.Open: // their fields are their data
	default:
		if c.err == nil {
			c.err = fmt.Errorf("event kind %d is not known", e.Kind)
		}
	}
	start := c.b
	switch e.Kind {
	case event.Move:
		e.Address = c.uvarint()
		start = c.b
		c.uvarint()
		c.uvarint()
	case event.Open:
		e.ID = uint32(c.uvarint())
		start = c.b
		c.uvarint()
		c.uvarint()
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

// Event returns the event that Next moved to. Its Data lies in the payload.
func (w *Events) Event() event.Event { return w.e }

// Start returns where in the payload the event begins.
func (w *Events) Start() int { return w.start }

// Raw returns the bytes of the event that Next moved to, in the payload.
func (w *Events) Raw(payload []byte) []byte { return payload[w.start : w.whole-len(w.c.b)] }

// TypeOf returns the type number that an event's data begins with and, where a
// list or a byte string follows, how long that is.
func TypeOf(data []byte) (id event.TypeID, n uint64) {
	c := &cursor{b: data}
	id = event.TypeID(c.uvarint())
	if major, arg, _ := c.head(); major == majorArray || major == majorBytes {
		n = arg
	}
	return id, n
}

// Err returns what ended the walk early, or nil.
func (w *Events) Err() error { return w.c.err }

// EventAt decodes the event that bytes begin with. Its time is left to the
// caller, who knows where it stands.
func EventAt(b []byte) (event.Event, error) {
	w := WalkEvents(b, 0)
	w.Next()
	return w.e, w.Err()
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

// LastValue returns the bytes of the last of n values with its type, and whether
// it is nil. It returns nothing where the bytes are malformed.
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

// DecodeOpen returns how deep the call of an Open event lies, from 1, and its function.
func DecodeOpen(data []byte) (depth uint64, function event.FunctionID) {
	c := &cursor{b: data}
	depth, function = c.uvarint(), event.FunctionID(c.uvarint())
	if c.err != nil {
		return 0, 0
	}
	return depth, function
}

// DecodeMove returns where the bytes of a Move event came from, 0 where nobody
// knows, and how many they are.
func DecodeMove(data []byte) (from, size uint64) {
	c := &cursor{b: data}
	from, size = c.uvarint(), c.uvarint()
	if c.err != nil {
		return 0, 0
	}
	return from, size
}
