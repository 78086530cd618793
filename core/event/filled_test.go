package event

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A few bytes that stand for many objects with very many fields do not take much memory: what is beyond the limit is
// unrecorded as a whole.
func TestMissingFieldsTakeLittleMemory(t *testing.T) {
	t.Parallel()
	number := &Type{ID: 1, Name: "int", Form: Int, Size: 8}
	wide := &Type{ID: 2, Name: "wide", Form: Struct}
	for range 60_000 {
		wide.Fields = append(wide.Fields, Field{Name: "n", Type: 1})
	}
	list := &Type{ID: 3, Name: "list", Form: Array, Elem: 2}
	types := func(id TypeID) *Type { return map[TypeID]*Type{1: number, 2: wide, 3: list}[id] }
	b := AppendList(nil, 3, 100)
	for range 100 {
		b = append(b, majorArray<<5) // an object without any field
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	v, err := DecodeNth(b, 1, 0, types)
	runtime.ReadMemStats(&after)
	require.NoError(t, err)
	require.Len(t, v.Items, 100)
	assert.Equal(t, Known, v.Items[0].State)
	assert.Len(t, v.Items[0].Items, 60_000)
	assert.Equal(t, Unrecorded, v.Items[1].State)
	assert.Equal(t, Unrecorded, v.Items[99].State)
	const most = 256 << 20 // other tests run at the same time
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(most))
}
