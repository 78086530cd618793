package state_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/executionlog/logtest"
	"wraithology/core/execlog"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
	"wraithology/core/timeline"
)

// The types of the memory of these tests. All of it consists of numbers of 8 bytes.
const (
	typeNumber = iota + 1
	typePair
	typeTriple
	typeWhole
	typeWrapped
	typeSingle
	typeNested
)

var memoryTypes = map[event.TypeID]event.Type{
	typeNumber:  {Name: "int", Form: event.Int, Size: 8},
	typePair:    {Name: "pair", Form: event.Struct, Size: 16, Fields: []event.Field{{Name: "A", Type: typeNumber}, {Name: "B", Type: typeNumber, Offset: 8}}},
	typeTriple:  {Name: "[3]pair", Form: event.Array, Size: 48, Elem: typePair, Length: 3},
	typeWhole:   {Name: "whole", Form: event.Struct, Size: 88, Fields: []event.Field{{Name: "N", Type: typeNumber}, {Name: "P", Type: typePair, Offset: 8}, {Name: "L", Type: typeTriple, Offset: 24}, {Name: "W", Type: typeWrapped, Offset: 72}, {Name: "S", Type: typeNested, Offset: 80}}},
	typeWrapped: {Name: "wrapped", Form: event.Struct, Size: 8, Fields: []event.Field{{Name: "X", Type: typeNumber}}},
	typeSingle:  {Name: "[1]int", Form: event.Array, Size: 8, Elem: typeNumber, Length: 1},
	typeNested:  {Name: "nested", Form: event.Struct, Size: 8, Fields: []event.Field{{Name: "Y", Type: typeSingle}}},
}

// A part is a place within an object: its type and its first number.
type part struct {
	of    event.TypeID
	first int
}

const numbers = 11 // of one object

var parts = []part{{typeWhole, 0}, {typeNumber, 0}, {typePair, 1}, {typeNumber, 1}, {typeNumber, 2}, {typeTriple, 3}, {typePair, 3}, {typePair, 5}, {typePair, 7},
	{typeNumber, 3}, {typeNumber, 4}, {typeNumber, 5}, {typeNumber, 6}, {typeNumber, 7}, {typeNumber, 8}, {typeWrapped, 9}, {typeNumber, 9}, {typeNested, 10}, {typeSingle, 10}, {typeNumber, 10}}

func (p part) numbers() int { return int(memoryTypes[p.of].Size / 8) }

// encoded is the encoding of a value of a type, whose numbers are values.
func encoded(of event.TypeID, values []byte) []byte {
	t := memoryTypes[of]
	switch t.Form {
	case event.Struct:
		b := []byte{0x80 | byte(len(t.Fields))}
		for _, f := range t.Fields {
			b = append(b, encoded(f.Type, values[f.Offset/8:])...)
		}
		return b
	case event.Array:
		b := []byte{0x80 | byte(t.Length)}
		for i := range t.Length {
			b = append(b, encoded(t.Elem, values[i*memoryTypes[t.Elem].Size/8:])...)
		}
		return b
	}
	return values[:1]
}

// doubtful is added to a number that may have changed.
const doubtful = 1000

// flat lists the numbers of a value; -1 stands for one that is not known.
func flat(t *testing.T, of event.TypeID, v event.Value) (list []int) {
	typ := memoryTypes[of]
	if v.State == event.MayHaveChanged {
		require.Equal(t, event.Int, typ.Form, "only plain values change")
		require.Equal(t, "a.Gauge, line 2", v.Text)
		return []int{doubtful + int(v.Last.Int)}
	}
	if v.State != event.Known {
		for range typ.Size / 8 {
			list = append(list, -1)
		}
		return list
	}
	require.Equal(t, typ.Name, v.Type.Name)
	elem := func(i int) event.TypeID { return typ.Elem }
	n := int(typ.Length)
	switch typ.Form {
	case event.Int:
		return []int{int(v.Int)}
	case event.Struct:
		n = len(typ.Fields)
		elem = func(i int) event.TypeID { return typ.Fields[i].Type }
	}
	for i := range n {
		item := event.Value{State: event.Unrecorded} // the end of an array may be missing
		if i < len(v.Items) {
			item = v.Items[i]
		}
		list = append(list, flat(t, elem(i), item)...)
	}
	return list
}

// The memory at each moment is what was stored last in each place, however large the pieces were in
// which it was stored, told, and copied.
func TestMemoryAgainstAnOracle(t *testing.T) {
	t.Parallel()
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 3))
		const objects = 3
		start := func(object int) uint64 { return 0x1000 + 0x100*uint64(object) }
		now := make([]int, objects*numbers)
		for i := range now {
			now[i] = -1
		}
		var payload []byte
		states := [][]int{}
		emit := func(k event.Kind, rest ...byte) {
			payload = append(append(payload, byte(k), 1), rest...)
			states = append(states, append([]int(nil), now...))
		}
		emit(event.Enter, 0, 0)
		emit(event.Line, 0)
		for range 80 {
			object := r.IntN(objects)
			p := parts[r.IntN(len(parts))]
			if r.IntN(3) > 0 {
				p = parts[1+r.IntN(len(parts)-1)] // mostly not all of it
			}
			at := object*numbers + p.first
			address := start(object) + 8*uint64(p.first)
			values := make([]byte, p.numbers())
			for i := range values {
				values[i] = byte(r.IntN(24))
			}
			set := func(from int, values []byte) {
				for i, v := range values {
					now[from+i] = int(v)
				}
			}
			switch r.IntN(8) {
			case 0:
				set(at, values)
				emit(event.Memory, append(append(binary.AppendUvarint(nil, address), byte(p.of)), encoded(p.of, values)...)...)
			case 1, 2:
				set(at, values)
				emit(event.Store, append(append(binary.AppendUvarint(nil, address), byte(p.of)), encoded(p.of, values)...)...)
			case 3: // consecutive elements of the array
				first := r.IntN(3)
				n := 1 + r.IntN(3-first)
				at, address = object*numbers+3+2*first, start(object)+24+16*uint64(first)
				rest := append(binary.AppendUvarint(nil, address), typePair, 0x80|byte(n))
				for i := range n {
					pair := []byte{byte(r.IntN(24)), byte(r.IntN(24))}
					set(at+2*i, pair)
					rest = append(rest, encoded(typePair, pair)...)
				}
				emit(event.Spread, rest...)
			case 4: // a copy of the same part of another object, or of what is not known
				from := r.IntN(objects + 1)
				source := uint64(0)
				if from < objects {
					source = start(from) + 8*uint64(p.first)
				}
				for i := range values {
					if now[at+i] = -1; from < objects {
						now[at+i] = states[len(states)-1][from*numbers+p.first+i]
					}
				}
				rest := binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint(nil, address), source), uint64(8*len(values)))
				emit(event.Move, rest...)
			case 5: // code that is not recorded may have changed it
				for i := range values {
					if x := &now[at+i]; *x >= 0 && *x < doubtful {
						*x += doubtful
					}
				}
				rest := binary.AppendUvarint(binary.AppendUvarint(nil, address), uint64(8*len(values)))
				emit(event.Exposed, append(append(rest, 7), "a.Gauge"...)...)
			case 6: // a new object
				for i := range values {
					now[at+i] = -1
				}
				emit(event.Made, binary.AppendUvarint(binary.AppendUvarint(nil, address), uint64(8*len(values)))...)
			default:
				emit(event.Line, 0)
			}
		}
		check(t, seed, payload, states, start)
	}
}

// written makes a timeline of one thread's events.
func written(t *testing.T, payload []byte, types map[event.TypeID]event.Type) *timeline.Timeline {
	var out bytes.Buffer
	w, err := execlog.NewWriter(&out, event.Header{Program: "memory"}, execlog.Zstd)
	require.NoError(t, err)
	require.NoError(t, w.File(event.File{ID: 0, Path: "a/memory.go", Text: "package a"}))
	require.NoError(t, w.Function(event.Function{ID: 0, Name: "a", Own: true, Line: 1, EndLine: 9}))
	require.NoError(t, w.Site(event.Site{ID: 0, Function: 0, Line: 2}))
	require.NoError(t, w.Process(event.Process{ID: 0, PID: 1}))
	for id := event.TypeID(1); int(id) <= len(types); id++ {
		typ := types[id]
		typ.ID = id
		require.NoError(t, w.Type(0, typ))
	}
	require.NoError(t, w.Events(0, 1, 100, payload))
	require.NoError(t, w.End(event.End{}))
	require.NoError(t, w.Flush())
	log, err := execlog.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	return logtest.Timeline(t, log)
}

func check(t *testing.T, seed uint64, payload []byte, states [][]int, start func(int) uint64) {
	tl := written(t, payload, memoryTypes)
	require.EqualValues(t, len(states), tl.Len())
	replayed := state.New(tl, func(*state.Log, *replay.Info) {})
	known := 0
	for at, want := range states {
		memory := replayed.MemoryUntil(0, event.Moment(at))
		for object := range len(want) / numbers {
			for _, p := range parts {
				got := flat(t, p.of, memory.Load(start(object)+8*uint64(p.first), tl.Types(0)(p.of)))
				from := object*numbers + p.first
				require.Equal(t, want[from:from+p.numbers()], got, "seed %d, moment %d (%s), object %d, %s from number %d", seed, at, tl.Kind(event.Moment(at)), object, memoryTypes[p.of].Name, p.first)
				known += len(got)
			}
		}
	}
	require.NotZero(t, known, fmt.Sprint(seed))
}

// Types that a damaged log makes contain themselves end.
func TestMemoryOfTypesThatContainThemselves(t *testing.T) {
	t.Parallel()
	var payload []byte
	for _, b := range [][]byte{{byte(event.Enter), 1, 0, 0}, append(binary.AppendUvarint([]byte{byte(event.Store), 1}, 0x1000), typeNumber, 7), binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint([]byte{byte(event.Move), 1}, 0x1008), 0), 8)} {
		payload = append(payload, b...)
	}
	var list []event.Field
	for range 300 {
		list = append(list, event.Field{Name: "again", Type: 2})
	}
	tl := written(t, payload, map[event.TypeID]event.Type{typeNumber: memoryTypes[typeNumber], 2: {Name: "endless", Form: event.Struct, Size: 16, Fields: list}, 3: {Name: "[]endless", Form: event.Array, Size: 16, Elem: 3, Length: 1}})
	replayed := state.New(tl, func(*state.Log, *replay.Info) {})
	for id := event.TypeID(2); id <= 3; id++ {
		v := replayed.MemoryUntil(0, 2).Load(0x1000, tl.Types(0)(id))
		require.Equal(t, event.Unrecorded, v.State)
	}
	require.EqualValues(t, 7, replayed.MemoryUntil(0, 2).Load(0x1000, tl.Types(0)(typeNumber)).Int)
}

// The unexported fields of a foreign struct with locks are never known, wherever a value begins in it;
// what is known since is.
func TestVolatileFields(t *testing.T) {
	t.Parallel()
	const typeServer = typeNumber + 3
	list := map[event.TypeID]event.Type{typeNumber: memoryTypes[typeNumber], typePair: memoryTypes[typePair], 3: memoryTypes[typePair],
		typeServer: {Name: "http.Server", Form: event.Struct, Size: 32, Volatile: true, Fields: []event.Field{{Name: "Port", Type: typeNumber}, {Name: "calls", Type: typePair, Offset: 8}, {Name: "Done", Type: typeNumber, Offset: 24}}}}
	var payload []byte
	for _, b := range [][]byte{{byte(event.Enter), 1, 0, 0}, append(binary.AppendUvarint([]byte{byte(event.Memory), 1}, 0x1000), typeServer, 0x83, 1, 0x82, 2, 3, 4), append(binary.AppendUvarint([]byte{byte(event.Store), 1}, 0x1010), typeNumber, 7)} {
		payload = append(payload, b...)
	}
	tl := written(t, payload, list)
	replayed := state.New(tl, func(*state.Log, *replay.Info) {})
	load := func(at event.Moment, address uint64, of event.TypeID) event.Value {
		return replayed.MemoryUntil(0, at).Load(address, tl.Types(0)(of))
	}
	server := load(1, 0x1000, typeServer)
	require.EqualValues(t, 1, server.Items[0].Int)
	require.Equal(t, event.Known, server.Items[0].State)
	for i, last := range []int64{2, 3} {
		field := server.Items[1].Items[i]
		require.Equal(t, event.MayHaveChanged, field.State)
		require.Equal(t, "other threads", field.Text)
		require.Equal(t, last, field.Last.Int)
	}
	require.EqualValues(t, 4, server.Items[2].Int)
	require.Equal(t, event.MayHaveChanged, load(1, 0x1010, typeNumber).State)
	require.Equal(t, event.Known, load(1, 0x1018, typeNumber).State)
	after := load(2, 0x1000, typeServer).Items[1].Items
	require.Equal(t, event.MayHaveChanged, after[0].State)
	require.EqualValues(t, 7, after[1].Int)
}
