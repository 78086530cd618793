package event

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/require"
)

// A generator makes types and values at random. Values are encoded by a CBOR library, not by
// the code under test.
type generator struct {
	*rand.Rand
	types map[TypeID]*Type
}

func newGenerator(seed uint64) *generator {
	return &generator{rand.New(rand.NewPCG(seed, 77)), map[TypeID]*Type{}}
}

func (g *generator) lookup(id TypeID) *Type { return g.types[id] }

// aType makes a type of any form, with the types that it is made of.
func (g *generator) aType(depth int) *Type {
	t := &Type{ID: TypeID(len(g.types) + 1), Name: fmt.Sprint("T", len(g.types)), Form: Form(1 + g.IntN(15))}
	g.types[t.ID] = t
	if depth > 3 && (t.Form == Struct || t.Form == Array || t.Form == Interface) {
		t.Form = Int
	}
	switch t.Form {
	case Struct:
		for i := range g.IntN(5) {
			t.Fields = append(t.Fields, Field{Name: fmt.Sprint("f", i), Type: g.aType(depth + 1).ID, Offset: uint64(8 * i)})
		}
	case Array:
		t.Elem = g.aType(depth + 1).ID
		t.Length = uint64(g.IntN(4)) // 0 is a list
	case Map:
		t.Key, t.Elem = g.aType(4).ID, g.aType(4).ID
	}
	return t
}

// number is one at a boundary of the encoding, or any.
func (g *generator) number() uint64 {
	edges := []uint64{0, 1, 23, 24, 255, 256, math.MaxUint16, math.MaxUint16 + 1, math.MaxUint32, math.MaxUint32 + 1, math.MaxInt64, math.MaxUint64}
	if g.IntN(2) == 0 {
		return edges[g.IntN(len(edges))]
	}
	return g.Uint64()
}

func (g *generator) text() string {
	b := make([]byte, []int{0, 1, 23, 24, 255, 256, 300}[g.IntN(7)])
	for i := range b {
		b[i] = byte('a' + g.IntN(26))
	}
	if g.IntN(4) == 0 { // with what a rule may look for
		return string(b) + []string{"osprey-wall-7", " Bearer abcdefghijkl", "{\"pin\":7}"}[g.IntN(3)]
	}
	return string(b)
}

// value makes a value of a type, and what the CBOR library is to encode for it.
func (g *generator) value(t *Type, depth int) (Value, any) {
	switch g.IntN(12) {
	case 0:
		return Value{Type: t, State: Unrecorded}, cbor.SimpleValue(simpleUndefined)
	case 1:
		return Value{Type: t, State: Known, Nil: true}, nil
	}
	v := Value{Type: t, State: Known}
	var item any
	switch t.Form {
	case Bool:
		v.Uint = g.Uint64N(2)
		item = v.Uint == 1
	case Int:
		v.Int = int64(g.number())
		item = v.Int
	case Uint, Opaque:
		v.Uint = g.number()
		item = v.Uint
	case Float:
		v.Float = []float64{0, math.Copysign(0, -1), 1.5, -math.MaxFloat64, math.SmallestNonzeroFloat64, math.Inf(1), math.Inf(-1), g.Float64()}[g.IntN(8)]
		item = v.Float
		if g.IntN(3) == 0 {
			v.Float = float64(float32(v.Float))
			item = float32(v.Float)
		}
	case Complex:
		v.Float, v.Imag = g.NormFloat64(), g.NormFloat64()
		item = []float64{v.Float, v.Imag}
	case Text, Func:
		if v.Text = g.text(); t.Form == Func {
			v.Text = strings.NewReplacer("osprey", "main.", "Bearer abcdefghijkl", "main.f").Replace(v.Text) // a name is no secret
		}
		item = v.Text
		if g.IntN(3) == 0 {
			item = []byte(v.Text)
		}
	case Struct:
		list := []any{}
		n := len(t.Fields) - g.IntN(2)
		for i, f := range t.Fields {
			if i >= n { // an older log has fewer fields
				v.Items = append(v.Items, Value{Type: g.types[f.Type], State: Unrecorded})
				continue
			}
			x, y := g.value(g.types[f.Type], depth+1)
			v.Items, list = append(v.Items, x), append(list, y)
		}
		if n == len(t.Fields) && g.IntN(3) == 0 { // a newer one has more
			list = append(list, []any{1, "later", map[string]int{"x": 1}})
		}
		item = list
	case Array:
		n := int(t.Length)
		if n == 0 {
			n = g.IntN(30)
		}
		list := []any{}
		for range n {
			x, y := g.value(g.types[t.Elem], depth+1)
			v.Items, list = append(v.Items, x), append(list, y)
		}
		item, v.Length = list, uint64(n)
	case Pointer:
		v.Address = g.number()
		item = v.Address
	case Slice, Chan:
		v.Address, v.Length, v.Capacity = g.number(), g.number(), g.number()
		item = []uint64{v.Address, v.Length, v.Capacity}
	case Map:
		v.Address, v.Length = g.number(), g.number()
		item = []uint64{v.Address, v.Length}
	case Interface:
		if depth > 4 || g.IntN(5) == 0 {
			v.Items = []Value{{State: Known, Nil: true}} // of the type of nothing
			item = []any{0, nil}
			break
		}
		dynamic := g.aType(depth + 1)
		x, y := g.value(dynamic, depth+1)
		v.Items = []Value{x}
		item = []any{uint32(dynamic.ID), y}
	}
	if g.IntN(8) == 0 {
		v.Whole = g.number()
		item = cbor.Tag{Number: TagBeginning, Content: []any{item, v.Whole}}
	}
	return v, item
}

var floats = func() cbor.EncMode {
	mode, err := cbor.EncOptions{ShortestFloat: cbor.ShortestFloatNone, NaNConvert: cbor.NaNConvertNone, InfConvert: cbor.InfConvertNone}.EncMode()
	if err != nil {
		panic(err)
	}
	return mode
}()

// encoded is a value with its type, as in an event.
func (g *generator) encoded(t testing.TB) (Value, []byte) {
	x := g.aType(0)
	v, item := g.value(x, 0)
	b, err := floats.Marshal(item)
	require.NoError(t, err)
	return v, append(binary.AppendUvarint(nil, uint64(x.ID)), b...)
}

// An event made at random, and its bytes as docs/formats/execution-log.md specifies them. Its
// time counts from the event before.
func (g *generator) event(t testing.TB, before int64) (Event, []byte) {
	e := Event{Kind: Kind(1 + g.IntN(int(Made))), Time: before + int64(g.number()%(1<<40))}
	b := binary.AppendUvarint([]byte{byte(e.Kind)}, uint64(e.Time-before))
	switch e.Estimated = g.IntN(4) == 0; {
	case e.Estimated && g.IntN(2) == 0:
		e.Time, b = before, []byte{byte(e.Kind) | Untimed}
	case e.Estimated:
		b[0] |= Estimated
	}
	id := func() { e.ID = uint32(g.number()); b = binary.AppendUvarint(b, uint64(e.ID)) }
	address := func() { e.Address = g.number(); b = binary.AppendUvarint(b, e.Address) }
	count := func() { e.Args = g.IntN(4); b = append(b, byte(e.Args)) }
	from := 0
	switch e.Kind {
	case Leave, Panic, Recover, Failure, Output:
		count()
	case Enter, Fields, Message, Error:
		id()
		count()
	case Line, Resume, Unwind, Exit:
		id()
	case Write:
		id()
		e.Args = 1
	case Cell, Snapshot:
		id()
		address()
		e.Args = 1
	case Memory, Delete, Spread, Entries, Store, Send, Receive:
		address()
		e.Args = 1
	case Element:
		address()
		e.Args = 2
	case Wait, Pass, Release:
		id()
		address()
	case Exposed:
		address()
		from = len(b)
		name := g.text()
		b = binary.AppendUvarint(binary.AppendUvarint(b, g.number()), uint64(len(name)))
		b = append(b, name...)
		e.Data = b[from:]
		return e, b
	case Made:
		address()
		from = len(b)
		b = binary.AppendUvarint(b, g.number())
		e.Data = b[from:]
		return e, b
	case Move, Open:
		if e.Kind == Move {
			address()
		} else {
			id()
		}
		from = len(b)
		b = binary.AppendUvarint(binary.AppendUvarint(b, g.number()), g.number())
		e.Data = b[from:]
		return e, b
	}
	from = len(b)
	for range e.Args {
		_, value := g.encoded(t)
		b = append(b, value...)
	}
	e.Data = b[from:]
	return e, b
}
