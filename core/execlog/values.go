package execlog

import (
	"fmt"

	"wraithology/core/event"
)

// Types resolves type numbers of one process. A number that the log does not
// explain yields nil; its values are then unrecorded rather than guessed.
type Types func(event.TypeID) *event.Type

// DecodeValues decodes n values (each a type number and a CBOR item).
func DecodeValues(data []byte, n int, types Types) ([]event.Value, error) {
	c := &cursor{b: data}
	values := make([]event.Value, 0, min(n, 64))
	for range n {
		id := event.TypeID(c.uvarint())
		values = append(values, decodeItem(c, id, types, 0))
		if c.err != nil {
			return nil, fmt.Errorf("decode value %d of %d: %w", len(values), n, c.err)
		}
	}
	return values, nil
}

// DecodeNth decodes the ith of n values.
func DecodeNth(data []byte, n, i int, types Types) (event.Value, error) {
	if i < 0 || i >= n {
		return event.Value{State: event.Unrecorded}, nil
	}
	c := cursor{b: data}
	for range i {
		c.uvarint()
		c.skip(0)
	}
	v := decodeItem(&c, event.TypeID(c.uvarint()), types, 0)
	if c.err != nil {
		return event.Value{}, fmt.Errorf("decode value %d of %d: %w", i+1, n, c.err)
	}
	return v, nil
}

// DecodeEntries decodes the keys and values of an Entries event: the map's type
// number, then an array of them in turn.
func DecodeEntries(data []byte, types Types) (event.Value, error) {
	c := &cursor{b: data}
	t := types(event.TypeID(c.uvarint()))
	v := event.Value{Type: t, State: event.Known}
	if t == nil {
		return event.Value{State: event.Unrecorded}, c.err
	}
	begins := c.beginning()
	n := c.array()
	for i := uint64(0); i < n && c.err == nil; i++ {
		of := t.Elem
		if i%2 == 0 {
			of = t.Key
		}
		v.Pairs = append(v.Pairs, decodeItem(c, of, types, 1))
	}
	if begins {
		v.Whole = c.uint()
	}
	return v, c.err
}

// DecodeSpread decodes the elements of a Spread event: the element type's
// number, then an array of them, or a byte string for bytes.
func DecodeSpread(data []byte, types Types) (elem *event.Type, items []event.Value, err error) {
	c := &cursor{b: data}
	id := event.TypeID(c.uvarint())
	elem = types(id)
	if elem == nil {
		return nil, nil, c.err
	}
	if c.peek()>>5 == majorBytes {
		_, n, _ := c.head()
		for _, b := range c.take(n) {
			items = append(items, event.Value{Type: elem, State: event.Known, Uint: uint64(b)})
		}
		return elem, items, c.err
	}
	n := c.array()
	for i := uint64(0); i < n && c.err == nil; i++ {
		items = append(items, decodeItem(c, id, types, 1))
	}
	return elem, items, c.err
}

func decodeItem(c *cursor, id event.TypeID, types Types, depth int) event.Value {
	if depth > maxDepth {
		c.fail()
		return event.Value{}
	}
	if id == 0 { // the type of the nil interface
		c.skip(depth)
		return event.Value{State: event.Known, Nil: true}
	}
	t := types(id)
	isNull, isUndefined := c.null()
	switch {
	case isUndefined:
		return event.Value{Type: t, State: event.Unrecorded}
	case isNull:
		return event.Value{Type: t, State: event.Known, Nil: true}
	case t == nil:
		c.skip(depth)
		return event.Value{State: event.Unrecorded}
	}
	v := event.Value{Type: t, State: event.Known}
	begins := c.beginning()
	switch t.Form {
	case event.Bool:
		major, arg, _ := c.head()
		if major != majorSimple {
			c.fail()
		}
		if arg == simpleTrue {
			v.Uint = 1
		}
	case event.Int:
		major, arg, _ := c.head()
		v.Int = int64(arg)
		if major == majorNegative {
			v.Int = -1 - int64(arg)
		} else if major != majorUint {
			c.fail()
		}
	case event.Uint, event.Opaque:
		v.Uint = c.uint()
	case event.Float:
		v.Float = c.float()
	case event.Complex:
		if c.array() != 2 {
			c.fail()
		}
		v.Float, v.Imag = c.float(), c.float()
	case event.Text, event.Func:
		major, n, _ := c.head()
		if major != majorText && major != majorBytes {
			c.fail()
		}
		v.Text = string(c.take(n))
	case event.Struct:
		n := c.array()
		for i := range t.Fields {
			if uint64(i) >= n {
				v.Items = append(v.Items, event.Value{Type: types(t.Fields[i].Type), State: event.Unrecorded})
				continue
			}
			v.Items = append(v.Items, decodeItem(c, t.Fields[i].Type, types, depth+1))
		}
		for i := uint64(len(t.Fields)); i < n && c.err == nil; i++ {
			c.skip(depth + 1)
		}
	case event.Array:
		n := c.array()
		for i := uint64(0); i < n && c.err == nil; i++ {
			v.Items = append(v.Items, decodeItem(c, t.Elem, types, depth+1))
		}
		if v.Length = t.Length; v.Length == 0 { // a list is as long as it is
			v.Length = uint64(len(v.Items))
		}
	case event.Pointer:
		v.Address = c.uint()
	case event.Slice, event.Chan:
		if c.array() != 3 {
			c.fail()
		}
		v.Address, v.Length, v.Capacity = c.uint(), c.uint(), c.uint()
	case event.Map:
		if c.array() != 2 {
			c.fail()
		}
		v.Address, v.Length = c.uint(), c.uint()
	case event.Interface:
		if c.array() != 2 {
			c.fail()
		}
		dynamic := event.TypeID(c.uint())
		v.Items = []event.Value{decodeItem(c, dynamic, types, depth+1)}
	default:
		c.skip(depth)
		v.State = event.Unrecorded
	}
	if begins {
		v.Whole = c.uint()
	}
	return v
}
