package replay

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
)

// heap is a memory of random objects.
type heap struct {
	*rand.Rand
	types   map[event.TypeID]*event.Type
	objects map[uint64]event.Value
	entries map[uint64][]event.Value
}

func (h *heap) Type(id event.TypeID) *event.Type { return h.types[id] }

func (h *heap) Load(address uint64, t *event.Type) event.Value {
	if v, ok := h.objects[address]; ok && v.Type == t {
		return v
	}
	return event.Value{Type: t, State: event.Unrecorded}
}

func (h *heap) Entries(address uint64, _ *event.Type) ([]event.Value, bool) {
	pairs, ok := h.entries[address]
	return pairs, ok
}

func (h *heap) add(t event.Type) *event.Type {
	t.ID = event.TypeID(len(h.types) + 1)
	if t.Size == 0 {
		t.Size = 8
	}
	h.types[t.ID] = &t
	return &t
}

// value makes a value of a random type, and its type.
func (h *heap) value(depth int) event.Value {
	leaf := func() event.Value {
		switch h.IntN(4) {
		case 0:
			return event.Value{Type: h.add(event.Type{Name: "string", Form: event.Text}), State: event.Known, Text: fmt.Sprint("Kelp Quay ", h.IntN(100))}
		case 1:
			return event.Value{Type: h.add(event.Type{Name: "float64", Form: event.Float}), State: event.Known, Float: float64(h.IntN(100)) / 4}
		case 2:
			return event.Value{Type: h.add(event.Type{Name: "int", Form: event.Int}), State: event.Unrecorded}
		}
		return event.Value{Type: h.add(event.Type{Name: "int", Form: event.Int}), State: event.Known, Int: int64(h.IntN(100))}
	}
	if depth > 3 {
		return leaf()
	}
	switch h.IntN(7) {
	case 0: // a struct
		t := event.Type{Name: "main.quay", Form: event.Struct}
		v := event.Value{State: event.Known}
		for i := range 1 + h.IntN(4) {
			part := h.value(depth + 1)
			t.Fields = append(t.Fields, event.Field{Name: string(rune('a' + i)), Type: part.Type.ID})
			v.Items = append(v.Items, part)
		}
		v.Type = h.add(t)
		return v
	case 1: // a pointer to something, or to nothing
		to := h.value(depth + 1)
		at := uint64(0x1000 + 64*len(h.objects))
		h.objects[at] = to
		v := event.Value{Type: h.add(event.Type{Name: "*T", Form: event.Pointer, Elem: to.Type.ID}), State: event.Known, Address: at}
		if h.IntN(4) == 0 {
			v.Nil, v.Address = true, 0
		}
		return v
	case 2: // a list with its elements in memory
		first := h.value(depth + 1)
		n := h.IntN(5)
		at := uint64(0x100000 + 4096*len(h.objects))
		for i := range n {
			x := first
			if x.Type.Form == event.Int {
				x.Int = int64(i)
			}
			h.objects[at+uint64(i)*first.Type.Size] = x
		}
		return event.Value{Type: h.add(event.Type{Name: "[]T", Form: event.Slice, Elem: first.Type.ID}), State: event.Known, Address: at, Length: uint64(n), Capacity: uint64(n)}
	case 3: // an array
		v := event.Value{State: event.Known}
		for range 1 + h.IntN(4) {
			v.Items = append(v.Items, h.value(depth+1))
		}
		v.Length = uint64(len(v.Items))
		v.Type = h.add(event.Type{Name: "[n]T", Form: event.Array, Elem: v.Items[0].Type.ID, Length: v.Length})
		return v
	case 4: // an interface
		return event.Value{Type: h.add(event.Type{Name: "any", Form: event.Interface}), State: event.Known, Items: []event.Value{h.value(depth + 1)}}
	case 5: // a map
		at := uint64(0x10000000 + len(h.entries))
		h.entries[at] = nil // taken
		key := h.add(event.Type{Name: "string", Form: event.Text})
		var pairs []event.Value
		for i := range h.IntN(4) {
			pairs = append(pairs, event.Value{Type: key, State: event.Known, Text: fmt.Sprint("key ", i)}, h.value(depth+1))
		}
		h.entries[at] = pairs
		return event.Value{Type: h.add(event.Type{Name: "map", Form: event.Map, Key: key.ID}), State: event.Known, Address: at, Length: uint64(len(pairs) / 2)}
	}
	return leaf()
}

// The step of each part leads back to the part; pages together are the whole; the number of parts is
// that of the value.
func TestPartsAndTheirSteps(t *testing.T) {
	t.Parallel()
	visited := map[event.Form]int{}
	for seed := range uint64(400) {
		h := &heap{Rand: rand.New(rand.NewPCG(seed, 41)), types: map[event.TypeID]*event.Type{}, objects: map[uint64]event.Value{}, entries: map[uint64][]event.Value{}}
		var visit func(v Value, depth int)
		visit = func(v Value, depth int) {
			visited[v.Form()]++
			parts, total := v.Children(Page{Count: 100})
			require.Len(t, parts, total)
			if v.Nil || v.State != event.Known {
				assert.Empty(t, parts)
				return
			}
			switch v.Form() {
			case event.Struct:
				assert.Len(t, parts, len(v.Type.Fields))
			case event.Array, event.Slice, event.Map:
				assert.EqualValues(t, v.Length, total)
				assert.EqualValues(t, v.Length, v.Count())
			case event.Pointer:
				if to := v.Deref(); to.Form() == event.Struct {
					assert.Equal(t, len(to.Items), total, "the fields of what it points to")
				} else if to.State == event.Known {
					assert.Equal(t, 1, total)
				} else {
					assert.Zero(t, total)
				}
			case event.Int, event.Text, event.Float:
				assert.Zero(t, total)
			}
			for n := 1; n <= 3; n++ {
				var together []Child
				for from := 0; from < total; from += n {
					page, all := v.Children(Page{From: from, Count: n})
					assert.Equal(t, total, all)
					assert.LessOrEqual(t, len(page), n)
					together = append(together, page...)
				}
				assert.Equal(t, len(parts), len(together))
				for i := range together {
					assert.Equal(t, parts[i].Name, together[i].Name)
				}
			}
			for _, p := range parts {
				got, ok := v.step(p.Step)
				if assert.True(t, ok, "%s of %s", p.Name, v.Type.Name) {
					assert.Equal(t, p.Value.Value, got.Value, "%s of %s", p.Name, v.Type.Name)
				}
				if depth < 5 {
					visit(p.Value, depth+1)
				}
			}
		}
		visit(Value{h.value(0), h}, 0)
	}
	for _, f := range []event.Form{event.Struct, event.Pointer, event.Slice, event.Array, event.Interface, event.Map, event.Int, event.Text, event.Float} {
		assert.Greater(t, visited[f], 20, "form %d", f)
	}
}

// A field is found through pointers, interfaces and embedded structs; the outer one hides the inner.
func TestFields(t *testing.T) {
	t.Parallel()
	h := &heap{types: map[event.TypeID]*event.Type{}, objects: map[uint64]event.Value{}}
	number := h.add(event.Type{Name: "int", Form: event.Int})
	n := func(i int64) event.Value { return event.Value{Type: number, State: event.Known, Int: i} }
	inner := h.add(event.Type{Name: "main.moored", Form: event.Struct, Fields: []event.Field{{Name: "lines", Type: number.ID}, {Name: "depth", Type: number.ID}}})
	outer := h.add(event.Type{Name: "main.vessel", Form: event.Struct, Fields: []event.Field{{Name: "depth", Type: number.ID}, {Name: "moored", Type: inner.ID, Inner: true}}})
	vessel := event.Value{Type: outer, State: event.Known, Items: []event.Value{n(5), {Type: inner, State: event.Known, Items: []event.Value{n(4), n(9)}}}}
	h.objects[64] = vessel
	pointer := event.Value{Type: h.add(event.Type{Name: "*main.vessel", Form: event.Pointer, Elem: outer.ID}), State: event.Known, Address: 64}
	boxed := event.Value{Type: h.add(event.Type{Name: "any", Form: event.Interface}), State: event.Known, Items: []event.Value{pointer}}
	for _, v := range []event.Value{vessel, pointer, boxed} {
		x := Value{v, h}
		assert.EqualValues(t, 5, x.Field("depth").Int, "the outer one")
		assert.EqualValues(t, 4, x.Field("lines").Int)
		assert.EqualValues(t, 9, x.Field("moored").Field("depth").Int)
		assert.Nil(t, x.Field("water").Type)
		assert.Equal(t, []string{"depth", "moored", "lines", "depth"}, x.Fields())
	}
	pointer.Nil = true
	assert.Nil(t, Value{pointer, h}.Field("depth").Type)
	assert.Empty(t, Value{n(3), h}.Fields())
}
