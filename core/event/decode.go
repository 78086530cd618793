package event

import (
	"fmt"
)

// Types resolves type numbers of one process. It returns nil for a number that the log does not
// define; values of such a type are unrecorded.
type Types func(TypeID) *Type

// DecodeValues decodes n values (each a type number and a CBOR item).
func DecodeValues(data []byte, n int, types Types) ([]Value, error) {
	c := &cursor{b: data}
	values := make([]Value, 0, min(n, 64))
	for range n {
		id := TypeID(c.uvarint())
		values = append(values, decodeItem(c, id, types, 0))
		if c.err != nil {
			return nil, fmt.Errorf("decode value %d of %d: %w", len(values), n, c.err)
		}
	}
	return values, nil
}

// DecodeNth decodes value i of n, from 0.
func DecodeNth(data []byte, n, i int, types Types) (Value, error) {
	if i < 0 || i >= n {
		return Value{State: Unrecorded}, nil
	}
	c := cursor{b: data}
	for range i {
		c.uvarint()
		c.skip(0)
	}
	v := decodeItem(&c, TypeID(c.uvarint()), types, 0)
	if c.err != nil {
		return Value{}, fmt.Errorf("decode value %d of %d: %w", i+1, n, c.err)
	}
	return v, nil
}

// DecodeEntries decodes the keys and values of an Entries event: the map's type
// number, then an array of them in turn.
func DecodeEntries(data []byte, types Types) (Value, error) {
	c := &cursor{b: data}
	t := types(TypeID(c.uvarint()))
	v := Value{Type: t, State: Known}
	if t == nil {
		return Value{State: Unrecorded}, c.err
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
func DecodeSpread(data []byte, types Types) (elem *Type, items []Value, err error) {
	c := &cursor{b: data}
	id := TypeID(c.uvarint())
	elem = types(id)
	if elem == nil {
		return nil, nil, c.err
	}
	if c.peek()>>5 == majorBytes {
		_, n, _ := c.head()
		for _, b := range c.take(n) {
			items = append(items, Value{Type: elem, State: Known, Uint: uint64(b)})
		}
		return elem, items, c.err
	}
	n := c.array()
	for i := uint64(0); i < n && c.err == nil; i++ {
		items = append(items, decodeItem(c, id, types, 1))
	}
	return elem, items, c.err
}

func decodeItem(c *cursor, id TypeID, types Types, depth int) Value {
	if depth > maxDepth {
		c.fail()
		return Value{}
	}
	if c.redacted() {
		return Value{Type: types(id), State: Redacted}
	}
	if id == 0 { // the type of the nil interface
		c.skip(depth)
		return Value{State: Known, Nil: true}
	}
	t := types(id)
	isNull, isUndefined := c.null()
	switch {
	case isUndefined:
		return Value{Type: t, State: Unrecorded}
	case isNull:
		return Value{Type: t, State: Known, Nil: true}
	case t == nil:
		c.skip(depth)
		return Value{State: Unrecorded}
	}
	v := Value{Type: t, State: Known}
	begins := c.beginning()
	switch t.Form {
	case Struct, Array, Interface:
		decodeParts(c, &v, types, depth)
	case Pointer, Slice, Chan, Map:
		decodeReference(c, &v)
	case Bool, Int, Uint, Opaque, Float, Complex, Text, Func:
		decodeScalar(c, &v)
	default:
		c.skip(depth)
		v.State = Unrecorded
	}
	if begins {
		v.Whole = c.uint()
	}
	return v
}

// decodeScalar reads a value that has no parts.
func decodeScalar(c *cursor, v *Value) {
	switch v.Type.Form {
	case Bool:
		major, _, info := c.head()
		if major != majorSimple || info != simpleTrue && info != simpleFalse {
			c.fail()
		}
		if info == simpleTrue {
			v.Uint = 1
		}
	case Int:
		major, arg, _ := c.head()
		v.Int = int64(arg)
		if major == majorNegative {
			v.Int = -1 - int64(arg)
		} else if major != majorUint {
			c.fail()
		}
	case Uint, Opaque:
		v.Uint = c.uint()
	case Float:
		v.Float = c.float()
	case Complex:
		if c.array() != 2 {
			c.fail()
		}
		v.Float, v.Imag = c.float(), c.float()
	case Text, Func:
		major, n, _ := c.head()
		if major != majorText && major != majorBytes {
			c.fail()
		}
		v.Text = string(c.take(n))
	}
}

// decodeReference reads the address of contents, with their length and capacity where there are any.
func decodeReference(c *cursor, v *Value) {
	switch v.Type.Form {
	case Pointer:
		v.Address = c.uint()
	case Slice, Chan:
		if c.array() != 3 {
			c.fail()
		}
		v.Address, v.Length, v.Capacity = c.uint(), c.uint(), c.uint()
	case Map:
		if c.array() != 2 {
			c.fail()
		}
		v.Address, v.Length = c.uint(), c.uint()
	}
}

// maxFilled limits the missing fields of an event that are filled in as unrecorded ones.
const maxFilled = 1 << 16

// skipItems skips items.
func (c *cursor) skipItems(n uint64, depth int) {
	for i := uint64(0); i < n && c.err == nil; i++ {
		c.skip(depth)
	}
}

// decodeParts reads a value that consists of others.
func decodeParts(c *cursor, v *Value, types Types, depth int) {
	t := v.Type
	switch t.Form {
	case Struct:
		n := c.array()
		if missing := len(t.Fields) - int(min(n, uint64(len(t.Fields)))); missing > 0 {
			// A few bytes can stand for very many objects of a type with very many fields.
			if c.filled += missing; c.filled > maxFilled {
				c.skipItems(n, depth+1)
				v.State = Unrecorded
				return
			}
		}
		v.Items = make([]Value, 0, len(t.Fields))
		for i := range t.Fields {
			if uint64(i) >= n {
				v.Items = append(v.Items, Value{Type: types(t.Fields[i].Type), State: Unrecorded})
				continue
			}
			v.Items = append(v.Items, decodeItem(c, t.Fields[i].Type, types, depth+1))
		}
		if n > uint64(len(t.Fields)) {
			c.skipItems(n-uint64(len(t.Fields)), depth+1)
		}
	case Array:
		n := c.array()
		for i := uint64(0); i < n && c.err == nil; i++ {
			v.Items = append(v.Items, decodeItem(c, t.Elem, types, depth+1))
		}
		if v.Length = t.Length; v.Length == 0 { // a list has no fixed length
			v.Length = uint64(len(v.Items))
		}
	case Interface:
		if c.array() != 2 {
			c.fail()
		}
		dynamic := TypeID(c.uint())
		v.Items = []Value{decodeItem(c, dynamic, types, depth+1)}
	}
}
