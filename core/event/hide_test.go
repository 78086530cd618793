package event

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/mask"
)

// secretive gives some fields and types names that are masked.
func (g *generator) secretive() {
	names := []string{"password", "name", "pin", "token", "count", "depth"}
	for _, t := range g.types {
		if g.IntN(8) == 0 {
			t.Name = []string{"auth.Secret", "duration", ObjectType}[g.IntN(3)]
		}
		for i := range t.Fields {
			t.Fields[i].Name = names[g.IntN(len(names))]
		}
	}
}

// Encoded values are masked as decoded ones are, whatever their types; what is not secret stays as it is, byte by byte; and no secret is left.
func TestHiddenValues(t *testing.T) {
	t.Parallel()
	changes := 0
	for seed := range uint64(3000) {
		g := newGenerator(seed)
		n := 1 + g.IntN(4)
		var values []Value
		var data []byte
		var levels []mask.Level
		for range n {
			v, b := g.encoded(t)
			values, data, levels = append(values, v), append(data, b...), append(levels, mask.Level(max(0, g.IntN(6)-3)))
		}
		g.secretive()
		label := fmt.Sprintf("seed %d", seed)
		before := bytes.Clone(data)
		hider := func() *Hider {
			secrets := mask.NewSecrets()
			secrets.Add("osprey-wall-7")
			return NewHider(mask.Default, secrets, g.lookup)
		}
		h := hider()
		masked, changed := h.Values(data, n, func(i int) mask.Level { return levels[i] })
		require.Equal(t, before, data, label)
		require.Equal(t, changed, h.Count > 0, label)
		if !changed {
			require.Equal(t, data, masked, label)
		} else {
			changes++
		}
		got, err := DecodeValues(masked, n, g.lookup)
		require.NoError(t, err, label)
		oracle := hider()
		for i, v := range values {
			same(t, withoutWhole(oracle.Value(v, levels[i])), withoutWhole(got[i]), label)
		}
		assert.NotContains(t, string(masked), "osprey-wall-7", label)
		assert.NotContains(t, string(masked), "abcdefghijkl", label)
		again, changed := h.Values(masked, n, func(i int) mask.Level { return levels[i] })
		assert.False(t, changed, "%s: what is masked stays", label)
		assert.Equal(t, masked, again, label)
		for range 5 { // malformed bytes are no trouble
			hider().Values(data[:g.IntN(len(data)+1)], n, func(i int) mask.Level { return levels[i] })
		}
	}
	assert.Greater(t, changes, 500)
}

// withoutWhole leaves out how long a text was before it was cut: a text that is masked has no length.
func withoutWhole(v Value) Value {
	if v.State == Redacted {
		v.Whole = 0
	}
	return v
}

// Entries of maps are masked by their keys, elements one by one, bytes as a text, and contents by the name of what refers to them.
func TestHiddenContents(t *testing.T) {
	t.Parallel()
	types := map[TypeID]*Type{1: {ID: 1, Name: "string", Form: Text}, 2: {ID: 2, Name: "map[string]string", Form: Map, Key: 1, Elem: 1}, 3: {ID: 3, Name: "uint8", Form: Uint, Size: 1}, 4: {ID: 4, Name: "[]uint8", Form: Slice, Elem: 3}}
	lookup := func(id TypeID) *Type { return types[id] }
	secrets := mask.NewSecrets()
	h := NewHider(mask.Default, secrets, lookup)
	text := func(s string) []byte { return AppendText(nil, 1, s)[1:] }
	entries := append(appendHead(binary.AppendUvarint(nil, 2), majorArray, 4), text("Authorization")...)
	entries = append(append(append(entries, text("Basic osprey")...), text("Accept")...), text("text/html")...)
	data, changed := h.Entries(entries, mask.Nothing)
	require.True(t, changed)
	v, err := DecodeEntries(data, lookup)
	require.NoError(t, err)
	assert.Equal(t, []State{Known, Redacted, Known, Known}, []State{v.Pairs[0].State, v.Pairs[1].State, v.Pairs[2].State, v.Pairs[3].State})
	assert.Equal(t, "text/html", v.Pairs[3].Text)
	element := append(AppendText(nil, 1, "api_key"), AppendText(nil, 1, "curlew-bank")...)
	data, changed = h.Element(element, mask.Nothing)
	require.True(t, changed)
	pair, err := DecodeValues(data, 2, lookup)
	require.NoError(t, err)
	assert.Equal(t, []State{Known, Redacted}, []State{pair[0].State, pair[1].State})
	assert.True(t, secrets.Is("curlew-bank"))

	spread := append(appendHead(binary.AppendUvarint(nil, 3), majorBytes, 17), "curlew-bank-again"...)
	data, changed = h.Spread(spread, mask.Nothing)
	require.True(t, changed, "a secret in bytes")
	_, items, err := DecodeSpread(data, lookup)
	require.NoError(t, err)
	require.Len(t, items, 17)
	for _, x := range items {
		assert.Equal(t, Redacted, x.State)
	}
	plainBytes := append(appendHead(binary.AppendUvarint(nil, 3), majorBytes, 4), "fog!"...)
	_, changed = h.Spread(plainBytes, mask.Nothing)
	assert.False(t, changed)
	references := map[uint64]mask.Level{}
	h.Follow(references)
	slice := appendHead(appendHead(appendHead(appendHead(binary.AppendUvarint(nil, 4), majorArray, 3), majorUint, 0x1000), majorUint, 4), majorUint, 4)
	_, changed = h.Values(slice, 1, func(int) mask.Level { return mask.Texts })
	assert.False(t, changed, "an address is no secret")
	assert.Equal(t, mask.Texts, h.Contents(0x1000))
	_, changed = h.Spread(plainBytes, h.Contents(0x1000))
	assert.True(t, changed)
}
