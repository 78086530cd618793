package event

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// same compares two values where NaN equals NaN and no items equal none.
func same(t *testing.T, want, got Value, label string) {
	t.Helper()
	require.Equal(t, fmt.Sprintf("%#v", plain(want)), fmt.Sprintf("%#v", plain(got)), label)
}

// plain replaces types by their numbers.
func plain(v Value) any {
	var items, pairs []any
	for _, x := range v.Items {
		items = append(items, plain(x))
	}
	for _, x := range v.Pairs {
		pairs = append(pairs, plain(x))
	}
	id := TypeID(0)
	if v.Type != nil {
		id = v.Type.ID
	}
	v.Type, v.Items, v.Pairs = nil, nil, nil
	return []any{id, v, items, pairs, math.Float64bits(v.Float)}
}

// Values that a CBOR library encoded are read as they were, alone and among others.
func TestDecodeValues(t *testing.T) {
	t.Parallel()
	for seed := range uint64(2000) {
		g := newGenerator(seed)
		n := 1 + g.IntN(5)
		var values []Value
		var data []byte
		var starts []int
		for range n {
			v, b := g.encoded(t)
			starts = append(starts, len(data))
			values, data = append(values, v), append(data, b...)
		}
		label := fmt.Sprintf("seed %d", seed)
		got, err := DecodeValues(data, n, g.lookup)
		require.NoError(t, err, label)
		require.Len(t, got, n)
		for i := range n {
			same(t, values[i], got[i], label)
			one, err := DecodeNth(data, n, i, g.lookup)
			require.NoError(t, err)
			same(t, values[i], one, label)
		}
		for _, i := range []int{-1, n} {
			none, err := DecodeNth(data, n, i, g.lookup)
			require.NoError(t, err)
			assert.Equal(t, Value{State: Unrecorded}, none)
		}
		last, isNil := LastValue(data, n)
		require.Equal(t, data[starts[n-1]:], last, label)
		// Without its type, an unknown value cannot be distinguished from nil.
		require.Equal(t, values[n-1].Nil || values[n-1].State == Unrecorded && values[n-1].Whole == 0 && isMissing(last), isNil, label)
		_, size := binary.Uvarint(data)
		end := len(data)
		if n > 1 {
			end = starts[1]
		}
		require.Equal(t, data[size:end], FirstItem(data), label)

		// Cut short anywhere, the values are an error, never other values.
		cut := g.IntN(len(data))
		_, err = DecodeValues(data[:cut], n, g.lookup)
		require.ErrorIs(t, err, errItem, "%s, cut to %d of %d bytes", label, cut, len(data))
	}
}

// isMissing reports whether an encoded value is undefined.
func isMissing(b []byte) bool {
	_, n := binary.Uvarint(b)
	return b[n] == majorSimple<<5|simpleUndefined
}

// Values of a type that nobody explains are unrecorded, and those behind them are read.
func TestUnknownTypes(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		g := newGenerator(seed)
		v, b := g.encoded(t)
		unknown := append(binary.AppendUvarint(nil, 1<<20), b[len(binary.AppendUvarint(nil, uint64(v.Type.ID))):]...)
		got, err := DecodeValues(append(slices.Clone(unknown), b...), 2, g.lookup)
		require.NoError(t, err)
		if !got[0].Nil {
			require.Equal(t, Unrecorded, got[0].State)
		}
		require.Nil(t, got[0].Type)
		same(t, v, got[1], fmt.Sprint("seed ", seed))
	}
	// Type 0 is that of the nil interface, whatever its item is.
	got, err := DecodeValues([]byte{0, 0x63, 'f', 'o', 'g'}, 1, newGenerator(1).lookup)
	require.NoError(t, err)
	assert.Equal(t, []Value{{State: Known, Nil: true}}, got)
}

// What an item of one form is encoded as does not pass for another form.
func TestWrongForms(t *testing.T) {
	t.Parallel()
	forms := map[Form]any{Bool: true, Int: -5, Uint: uint(7), Float: 1.5, Complex: []float64{1, 2}, Text: "fog", Struct: []any{1}, Array: []any{1},
		Pointer: uint(9), Slice: []uint{1, 2, 3}, Map: []uint{1, 2}, Interface: []any{1, 2}}
	// Some forms are encoded alike.
	alike := map[string]bool{"Int Uint": true, "Int Pointer": true, "Uint Pointer": true, "Pointer Uint": true, "Array Struct": true, "Struct Array": true, "Array Slice": true, "Struct Slice": true,
		"Array Map": true, "Struct Map": true, "Struct Interface": true, "Array Interface": true, "Map Interface": true, "Interface Map": true, "Struct Complex": false}
	names := map[Form]string{Bool: "Bool", Int: "Int", Uint: "Uint", Float: "Float", Complex: "Complex", Text: "Text", Struct: "Struct", Array: "Array", Pointer: "Pointer", Slice: "Slice", Map: "Map", Interface: "Interface"}
	types := map[TypeID]*Type{1: {ID: 1, Form: Int}, 2: {ID: 2, Form: Int}}
	for form := range forms {
		x := &Type{ID: 50 + TypeID(form), Form: form, Elem: 1}
		if form == Struct {
			x.Fields = []Field{{Name: "a", Type: 1}}
		}
		types[x.ID] = x
	}
	for form := range forms {
		for other, item := range forms {
			b, err := floats.Marshal(item)
			require.NoError(t, err)
			_, err = DecodeValues(append(binary.AppendUvarint(nil, 50+uint64(form)), b...), 1, func(id TypeID) *Type { return types[id] })
			name := names[form] + " " + names[other]
			if form == other || alike[name] {
				require.NoError(t, err, name)
			} else {
				require.ErrorIs(t, err, errItem, name)
			}
		}
	}
}

// Nesting is bounded, for values of known types and for those that are skipped.
func TestNestingIsBounded(t *testing.T) {
	t.Parallel()
	nested := func(n int) []byte {
		b := make([]byte, 0, n+2)
		b = append(b, 1)
		for range n {
			b = append(b, 0x81)
		}
		return append(b, 0)
	}
	list := &Type{ID: 1, Form: Array, Elem: 1}
	known := func(TypeID) *Type { return list }
	unknown := func(TypeID) *Type { return nil }
	for _, types := range []Types{known, unknown} {
		_, err := DecodeValues(nested(100_000), 1, types)
		require.ErrorIs(t, err, errItem)
	}
	_, err := DecodeValues(nested(maxDepth), 1, unknown)
	require.NoError(t, err)
	_, err = DecodeValues(nested(maxDepth+1), 1, unknown)
	require.ErrorIs(t, err, errItem)
	// A list that says to be longer than its bytes allocates nothing.
	for _, b := range [][]byte{{1, 0x9b, 0x7f, 255, 255, 255, 255, 255, 255, 255}, {1, 0xbb, 0x7f, 255, 255, 255, 255, 255, 255, 255}, {1, 0x5b, 255, 255, 255, 255, 255, 255, 255, 255}} {
		_, err := DecodeValues(b, 1, unknown)
		require.ErrorIs(t, err, errItem)
	}
}

// The entries of a map and the elements of a list, whole and in part.
func TestEntriesAndSpread(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		g := newGenerator(seed)
		m := g.aType(0)
		m.Form, m.Key, m.Elem, m.Fields = Map, g.aType(3).ID, g.aType(3).ID, nil
		want := Value{Type: m, State: Known}
		list := []any{}
		for range g.IntN(6) {
			for _, id := range []TypeID{m.Key, m.Elem} {
				v, item := g.value(g.types[id], 3)
				want.Pairs, list = append(want.Pairs, v), append(list, item)
			}
		}
		var item any = list
		if g.IntN(2) == 0 {
			want.Whole = uint64(len(list)) + 5
			item = cbor.Tag{Number: TagBeginning, Content: []any{list, want.Whole}}
		}
		b, err := floats.Marshal(item)
		require.NoError(t, err)
		data := append(binary.AppendUvarint(nil, uint64(m.ID)), b...)
		got, err := DecodeEntries(data, g.lookup)
		require.NoError(t, err)
		same(t, want, got, fmt.Sprint("seed ", seed))
		got, err = DecodeEntries(data, func(TypeID) *Type { return nil })
		require.NoError(t, err)
		require.Equal(t, Value{State: Unrecorded}, got)

		elem := g.aType(2)
		var items []Value
		list = []any{}
		for range g.IntN(40) {
			v, item := g.value(elem, 2)
			items, list = append(items, v), append(list, item)
		}
		b, err = floats.Marshal(list)
		require.NoError(t, err)
		data = append(binary.AppendUvarint(nil, uint64(elem.ID)), b...)
		of, gotItems, err := DecodeSpread(data, g.lookup)
		require.NoError(t, err)
		require.Same(t, elem, of)
		require.Len(t, gotItems, len(items))
		for i := range items {
			same(t, items[i], gotItems[i], fmt.Sprint("seed ", seed))
		}
		id, n := TypeOf(data)
		require.Equal(t, elem.ID, id)
		require.EqualValues(t, len(items), n)
	}
	octet := &Type{ID: 1, Form: Uint, Size: 1}
	of, items, err := DecodeSpread([]byte{1, 0x43, 5, 0, 255}, func(TypeID) *Type { return octet })
	require.NoError(t, err)
	assert.Same(t, octet, of)
	assert.Equal(t, []Value{{Type: octet, State: Known, Uint: 5}, {Type: octet, State: Known}, {Type: octet, State: Known, Uint: 255}}, items)
	id, n := TypeOf([]byte{1, 0x43, 5, 0, 255})
	assert.EqualValues(t, 1, id)
	assert.EqualValues(t, 3, n)
}

// What the Append functions write is what a CBOR library reads.
func TestAppend(t *testing.T) {
	t.Parallel()
	g := newGenerator(1)
	back := func(b []byte, into any) {
		id, n := binary.Uvarint(b)
		require.EqualValues(t, 300, id)
		require.NoError(t, cbor.Unmarshal(b[n:], into))
	}
	for range 2000 {
		n, text, x, truth := int64(g.number()), g.text(), g.NormFloat64(), g.IntN(2) == 0
		var gotN int64
		back(AppendInt(nil, 300, n), &gotN)
		require.Equal(t, n, gotN)
		var gotText string
		back(AppendText(nil, 300, text), &gotText)
		require.Equal(t, text, gotText)
		var gotX float64
		back(AppendFloat(nil, 300, x), &gotX)
		require.Equal(t, x, gotX)
		var gotTruth bool
		back(AppendBool(nil, 300, truth), &gotTruth)
		require.Equal(t, truth, gotTruth)
		var tag cbor.RawTag
		back(AppendBeginning(nil, 300, text, len(text)+7), &tag)
		require.EqualValues(t, TagBeginning, tag.Number)
		var parts []any
		require.NoError(t, cbor.Unmarshal(tag.Content, &parts))
		require.Equal(t, []any{text, uint64(len(text) + 7)}, parts)
		list := AppendList(nil, 300, 2)
		list = AppendElement(list, AppendText(nil, 5, text))
		list = AppendElement(list, AppendInt(nil, 6, n))
		var elements []struct {
			_    struct{} `cbor:",toarray"`
			Type uint64
			Item any
		}
		back(list, &elements)
		require.Len(t, elements, 2)
		require.EqualValues(t, 5, elements[0].Type)
		require.Equal(t, text, elements[0].Item)
		require.EqualValues(t, 6, elements[1].Type)
	}
	var nothing any = 5
	back(AppendNil(nil, 300), &nothing)
	assert.Nil(t, nothing)
	var unknown cbor.RawMessage
	back(AppendUnknown(nil, 300), &unknown)
	assert.Equal(t, []byte{0xf7}, []byte(unknown))
}

// A walk yields each event as it was written, and the bytes of each are its own.
func TestWalk(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		g := newGenerator(seed)
		const base = 1 << 50
		var want []Event
		var payload []byte
		starts := []int{0}
		at := int64(base)
		for range g.IntN(30) {
			e, b := g.event(t, at)
			at = e.Time
			want, payload = append(want, e), append(payload, b...)
			starts = append(starts, len(payload))
		}
		label := fmt.Sprintf("seed %d", seed)
		n := 0
		w := NewWalk(payload, base)
		for ; w.Next(); n++ {
			require.Equal(t, want[n], w.Event(), "%s, event %d", label, n)
			require.Equal(t, starts[n], w.Start(), label)
			require.Equal(t, payload[starts[n]:starts[n+1]], w.Raw(payload), label)
			e, size, err := EventAt(payload[starts[n]:])
			require.NoError(t, err)
			require.Equal(t, starts[n+1]-starts[n], size)
			e.Time = want[n].Time
			require.Equal(t, want[n], e)
		}
		require.NoError(t, w.Err(), label)
		require.Len(t, want, n)

		// Cut short, the events before the cut are as they were.
		if len(payload) == 0 {
			continue
		}
		cut := g.IntN(len(payload))
		whole := 0
		for whole+1 < len(starts) && starts[whole+1] <= cut {
			whole++
		}
		w = NewWalk(payload[:cut], base)
		for n = 0; w.Next(); n++ {
			require.Equal(t, want[n], w.Event())
		}
		require.Equal(t, whole, n, "%s, cut to %d bytes", label, cut)
		require.Equal(t, cut != starts[whole], w.Err() != nil, label)
	}
	for _, kind := range []byte{0, byte(Made) + 1, 255} {
		w := NewWalk([]byte{kind, 0, 0, 0, 0, 0}, 0)
		assert.False(t, w.Next())
		assert.ErrorContains(t, w.Err(), fmt.Sprintf("unknown event kind %d", kind&^(Untimed|Estimated)))
	}
}

// The heads that intake appends are read as they were meant.
func TestAppendEvent(t *testing.T) {
	t.Parallel()
	for _, k := range []Kind{Enter, Fields, Message, Error, Leave} {
		b := AppendEvent(nil, k, 70_000, 2)
		b = AppendInt(AppendText(b, 1, "fog"), 2, -7)
		e, size, err := EventAt(b)
		require.NoError(t, err)
		assert.Equal(t, len(b), size)
		assert.Equal(t, k, e.Kind)
		assert.Equal(t, 2, e.Args)
		assert.Zero(t, e.Time)
		if k == Leave {
			assert.Zero(t, e.ID)
		} else {
			assert.EqualValues(t, 70_000, e.ID)
		}
	}
	for _, k := range []Kind{Line, Resume, Unwind, Exit} {
		e, _, err := EventAt(AppendPlain(nil, k, 70_000))
		require.NoError(t, err)
		assert.Equal(t, Event{Kind: k, ID: 70_000, Data: []byte{}}, e)
	}
	for _, k := range []Kind{Wait, Pass, Release} {
		e, _, err := EventAt(AppendWaiting(nil, k, OpLock, 1<<63))
		require.NoError(t, err)
		assert.Equal(t, Event{Kind: k, ID: uint32(OpLock), Address: 1 << 63, Data: []byte{}}, e)
	}
	open := binary.AppendUvarint(binary.AppendUvarint(nil, 3), 70_000)
	depth, function := DecodeOpen(open)
	assert.EqualValues(t, 3, depth)
	assert.EqualValues(t, 70_000, function)
	from, size := DecodeMove(open)
	assert.EqualValues(t, 3, from)
	assert.EqualValues(t, 70_000, size)
	exposed := append(binary.AppendUvarint(nil, 70_000), append([]byte{4}, "tide"...)...)
	size, by := DecodeExposed(exposed)
	assert.EqualValues(t, 70_000, size)
	assert.Equal(t, "tide", by)
	size, by = DecodeExposed(exposed[:len(exposed)-1])
	assert.Zero(t, size)
	assert.Empty(t, by)
	depth, function = DecodeOpen(open[:2])
	assert.Zero(t, depth)
	assert.Zero(t, function)
	from, size = DecodeMove(nil)
	assert.Zero(t, from)
	assert.Zero(t, size)
}

// someTables makes tables with all members set.
func someTables(g *generator) *Tables {
	t := NewTables()
	t.Header = Header{Kind: "event-trace"}
	id := func() uint32 { return uint32(g.IntN(maxTable)) }
	ids := func() (out []VariableID) {
		for range g.IntN(4) {
			out = append(out, VariableID(g.Uint32()))
		}
		return out
	}
	texts := func() (out []string) {
		for range g.IntN(3) {
			out = append(out, g.text())
		}
		return out
	}
	outer := func() (out []Named) {
		for range g.IntN(3) {
			out = append(out, Named{g.text(), []byte(g.text())})
		}
		return out
	}
	for range g.IntN(10) {
		f := File{FileID(id()), g.text(), g.text()}
		t.Files[f.ID] = f
		fn := Function{ID: FunctionID(id()), Name: g.text(), File: f.ID, Line: g.IntN(1e6), EndLine: g.IntN(1e6), Own: g.IntN(2) == 0, Parameters: ids(), Results: ids(), Outer: outer()}
		for range g.IntN(4) {
			fn.Variables = append(fn.Variables, Variable{g.text(), Local, g.text(), g.IntN(1e6), g.IntN(1e6)})
		}
		t.Functions[fn.ID] = fn
		s := Site{ID: SiteID(id()), Function: fn.ID, Line: g.IntN(1e6), Reads: texts(), Writes: texts()}
		if s.Values = ids(); s.Values != nil {
			s.File = FileID(g.Uint32())
		}
		for range g.IntN(3) {
			s.Flows = append(s.Flows, Flow{FlowKind(1 + g.IntN(7)), g.text(), g.text(), g.text(), texts(), texts(), texts(), texts()})
		}
		t.Sites[s.ID] = s
		p := uint16(g.IntN(3))
		t.Ends[p] = End{p, g.IntN(256) - 1, g.text(), g.text(), g.text(), int64(g.number())}
		t.Gaps = append(t.Gaps, Gap{g.text(), g.text()})
		x := g.aType(0)
		t.AddType(*x)
	}
	t.Processes = []Process{{ID: 0, PID: 4711, Program: "harbour", Args: texts(), BuildID: g.text(), Host: g.text(), Compiler: g.text(), Started: int64(g.number()), Outer: outer()}}
	return t
}

// Tables are read as they were written, and damage to any byte is noticed.
func TestTables(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		g := newGenerator(seed)
		want := someTables(g)
		b, err := want.Encode()
		require.NoError(t, err)
		got, err := DecodeTables(b)
		require.NoError(t, err)
		require.Equal(t, want.Header, got.Header)
		require.Equal(t, want.Files, got.Files)
		require.Equal(t, want.Functions, got.Functions)
		require.Equal(t, len(want.Sites), len(got.Sites))
		for id, s := range want.Sites {
			have := got.Sites[id]
			require.Equal(t, fmt.Sprintf("%+v", s), fmt.Sprintf("%+v", have)) // no names equal no names
		}
		require.Equal(t, want.Ends, got.Ends)
		require.Equal(t, want.Gaps, got.Gaps)
		require.Equal(t, fmt.Sprintf("%+v", want.Processes), fmt.Sprintf("%+v", got.Processes))
		require.Equal(t, want.types, got.types)
		i := g.IntN(len(b))
		b[i] ^= byte(1 + g.IntN(255))
		_, err = DecodeTables(b)
		require.ErrorIs(t, err, errTables)
		_, err = DecodeTables(b[:g.IntN(len(b))])
		require.Error(t, err)
	}
}

// Records of a later version are skipped; rows beyond the bound and malformed ones are errors that
// name the record.
func TestTakeRecords(t *testing.T) {
	t.Parallel()
	encode := func(rows ...any) (b []byte) {
		for _, row := range rows {
			x, err := cbor.Marshal(row)
			require.NoError(t, err)
			b = append(b, x...)
		}
		return b
	}
	tables := NewTables()
	require.NoError(t, tables.Take(encode([]any{99, "of a later version"}, fileRecord{Kind: recordFile, ID: 3, Path: "berth.go"}), 0))
	assert.Equal(t, "berth.go", tables.Files[3].Path)
	// The parts of a site may come in any order.
	site := Site{ID: 5, Function: 2, Line: 7, Reads: []string{"a"}, Writes: []string{"b"}, Values: []VariableID{1}, Flows: []Flow{{Kind: FlowAssign, Target: "b"}}}
	rows := site.rows(0)
	slices.Reverse(rows)
	require.NoError(t, tables.Take(encode(rows...), 0))
	assert.Equal(t, site, tables.Sites[5])

	for name, b := range map[string][]byte{
		"a row beyond the bound": encode(functionRecord{Kind: recordFunction, ID: maxTable}),
		"a site beyond it":       encode(siteRecord{Kind: recordSite, ID: math.MaxUint32}),
		"no array":               encode("fog"),
		"no kind":                encode([]any{"fog"}),
		"the wrong fields":       encode([]any{recordFile, "x"}),
		"cut short":              encode(fileRecord{Kind: recordFile, Path: "berth.go"})[:5],
	} {
		err := NewTables().Take(append(encode([]any{99}), b...), 0)
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), "table record 1", name)
	}
	require.NoError(t, NewTables().Take(encode(functionRecord{Kind: recordFunction, ID: maxTable - 1}), 0))
}

// Types belong to a process, except for evidence that no recorder made.
func TestTypesOfProcesses(t *testing.T) {
	t.Parallel()
	for kind, shared := range map[string]bool{"": false, "event-trace": true} {
		tables := NewTables()
		tables.Header.Kind = kind
		tables.AddType(Type{ID: 1, Name: "shared"})
		b, err := AppendRecords(nil, 2, Type{ID: 1, Name: "own", Form: Int})
		require.NoError(t, err)
		require.NoError(t, tables.Take(b, 2))
		want := "own"
		if shared {
			want = "shared"
		}
		assert.Equal(t, want, tables.Types(2)(1).Name)
		assert.Equal(t, "shared", tables.Types(0)(1).Name)
		assert.Nil(t, tables.Types(0)(2))
		seen := map[string]uint16{}
		tables.EachType(func(p uint16, x *Type) { seen[x.Name] = p })
		assert.Equal(t, map[string]uint16{"shared": 0, "own": 2}, seen)
	}
}

func TestThreadID(t *testing.T) {
	t.Parallel()
	for _, id := range []ThreadID{1, 42, math.MaxUint32} {
		b, err := json.Marshal(id)
		require.NoError(t, err)
		assert.Equal(t, strconv.Quote(id.String()), string(b))
		var back ThreadID
		require.NoError(t, json.Unmarshal(b, &back))
		assert.Equal(t, id, back)
	}
	var id ThreadID = 5
	require.NoError(t, id.UnmarshalText(nil))
	assert.Zero(t, id)
	for _, text := range []string{"x", "-1", "4294967296", "1.5", " 1"} {
		require.ErrorIs(t, id.UnmarshalText([]byte(text)), fault.NoThread, text)
	}
}

// Each kind and operation has its own name.
func TestNames(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for k := Enter; k <= Made; k++ {
		assert.False(t, seen[k.String()] || k.String() == "unknown", "kind %d", k)
		seen[k.String()] = true
	}
	for o := OpReceive; o <= OpWake; o++ {
		assert.False(t, seen[o.String()] || o.String() == "something", "operation %d", o)
		seen[o.String()] = true
	}
	assert.Equal(t, "unknown", Kind(0).String())
	assert.Equal(t, "unknown", (Made + 1).String())
	assert.Equal(t, "something", Op(0).String())
	assert.Equal(t, "something", (OpWake + 1).String())
	assert.Equal(t, "leave", Leave.String())
	assert.Equal(t, "a lock", OpLock.String())
}
