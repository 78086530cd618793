package find

import (
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"wraithology/core/event"
	"wraithology/core/replay"
)

var (
	whole    = &event.Type{ID: 1, Name: "int64", Form: event.Int, Size: 8}
	natural  = &event.Type{ID: 2, Name: "uint64", Form: event.Uint, Size: 8}
	broken   = &event.Type{ID: 3, Name: "float64", Form: event.Float, Size: 8}
	single   = &event.Type{ID: 4, Name: "float32", Form: event.Float, Size: 4}
	text     = &event.Type{ID: 5, Name: "string", Form: event.Text, Size: 16}
	truth    = &event.Type{ID: 6, Name: "bool", Form: event.Bool, Size: 1}
	pointer  = &event.Type{ID: 7, Name: "*harbour.Quay", Form: event.Pointer, Size: 8, Elem: 8}
	quay     = &event.Type{ID: 8, Name: "harbour.Quay", Form: event.Struct, Size: 24, Fields: []event.Field{{Name: "Depth", Type: 1}, {Name: "Marks", Type: 9, Offset: 8}}}
	pair     = &event.Type{ID: 9, Name: "[2]int64", Form: event.Array, Size: 16, Elem: 1, Length: 2}
	list     = &event.Type{ID: 10, Name: "[]int64", Form: event.Slice, Size: 24, Elem: 1}
	table    = &event.Type{ID: 11, Name: "map[string]int64", Form: event.Map, Size: 8, Elem: 1, Key: 5}
	function = &event.Type{ID: 12, Name: "func()", Form: event.Func, Size: 8}
)

func known(t *event.Type, items ...event.Value) event.Value {
	return event.Value{Type: t, State: event.Known, Items: items}
}

func integer(n int64) event.Value { return event.Value{Type: whole, State: event.Known, Int: n} }
func said(s string) event.Value   { return event.Value{Type: text, State: event.Known, Text: s} }

// Which values a search finds: numbers are compared exactly, whatever form they have.
func TestMatches(t *testing.T) {
	t.Parallel()
	at := func(typ *event.Type, address uint64) event.Value {
		return event.Value{Type: typ, State: event.Known, Address: address}
	}
	u := func(n uint64) event.Value { return event.Value{Type: natural, State: event.Known, Uint: n} }
	f := func(typ *event.Type, n float64) event.Value {
		return event.Value{Type: typ, State: event.Known, Float: n}
	}
	yes := event.Value{Type: truth, State: event.Known, Uint: 1}
	for _, x := range []struct {
		text, typeName string
		value          event.Value
		want           bool
	}{
		{"7", "", integer(7), true}, {"7", "", integer(8), false}, {"7.0", "", integer(7), true}, {"7.5", "", integer(7), false}, {"1e3", "", integer(1000), true}, {"-7", "", integer(-7), true},
		{"9007199254740993", "", integer(9007199254740993), true}, {"9007199254740993", "", integer(9007199254740992), false}, {"9007199254740992", "", integer(9007199254740993), false},
		{"-9223372036854775808", "", integer(math.MinInt64), true}, {"9223372036854775807", "", integer(math.MaxInt64), true}, {"9223372036854775807", "", integer(math.MaxInt64 - 1), false},
		{"18446744073709551615", "", u(math.MaxUint64), true}, {"18446744073709551615", "", u(math.MaxUint64 - 1), false}, {"-1", "", u(math.MaxUint64), false}, {"7", "", u(7), true}, {"7", "", u(6), false},
		{"1.25", "", f(broken, 1.25), true}, {"1.25", "", f(broken, 1.5), false}, {"7", "", f(broken, 7), true}, {"0.1", "", f(single, float64(float32(0.1))), true}, {"0.1", "", f(broken, float64(float32(0.1))), false}, {"x", "", f(broken, 0), false},
		{"Kelp", "", said("at Kelp Quay"), true}, {"kelp", "", said("at Kelp Quay"), false}, {"7", "", said("berth 7"), true}, {`"7"`, "", said("berth 7"), true}, {`"7"`, "", integer(7), false}, {"", "string", said(""), true}, {"", "string", said("a"), true}, {"", "float64", f(broken, 2), true}, {"", "float64", integer(2), false}, {"NaN", "", f(broken, math.NaN()), true}, {"NaN", "", f(broken, 1), false}, {"+Inf", "", f(broken, math.Inf(1)), true}, {"-Inf", "", f(broken, math.Inf(1)), false},
		{"true", "", yes, true}, {"false", "", yes, false}, {"false", "", event.Value{Type: truth, State: event.Known}, true},
		{"7", "int64", integer(7), true}, {"7", "int", integer(7), false}, {"7", "64", integer(7), false}, {"", "Quay", known(quay), true}, {"", "harbour.Quay", known(quay), true}, {"", "uay", known(quay), false}, {"", "[]int64", known(list), true},
		{"x", "harbour.Quay", known(quay), false}, {"x", "", known(quay), false}, {"", "func()", known(function), true}, {"7", "", event.Value{State: event.Known, Int: 7}, false},
	} {
		assert.Equal(t, x.want, matches(replay.NewSearch(x.text, x.typeName), x.value), "%q %q in %+v", x.text, x.typeName, x.value)
	}
	for _, typ := range []*event.Type{pointer, list, table} {
		assert.True(t, matches(replay.Search{Object: 0x100}, at(typ, 0x100)), typ.Name)
		assert.False(t, matches(replay.Search{Object: 0x100}, at(typ, 0x108)), typ.Name)
		assert.False(t, matches(replay.Search{Object: 0x100, Type: "other"}, at(typ, 0x100)), typ.Name)
	}
	assert.False(t, matches(replay.Search{Object: 0x100}, at(function, 0x100)))
	r := rand.New(rand.NewPCG(8, 8))
	for range 1000 { // a number finds itself, and not its neighbour
		n := int64(r.Uint64()) >> r.IntN(63)
		s := replay.NewSearch(strconv.FormatInt(n, 10), "")
		assert.True(t, matches(s, integer(n)), "%d", n)
		assert.False(t, matches(s, integer(n+1)), "%d", n)
	}
}

// The parts of a value are searched, each by its name.
func TestLook(t *testing.T) {
	t.Parallel()
	unknown := event.Value{Type: whole, State: event.Unrecorded, Int: 7}
	v := known(quay, integer(7), known(pair, integer(1), integer(7)))
	m := known(table)
	m.Pairs = []event.Value{said("seven"), integer(7), said("7"), integer(8)}
	deep := integer(7)
	for range maxSearchDepth {
		deep = known(list, deep)
	}
	for _, x := range []struct {
		value event.Value
		want  string
	}{
		{v, "q.Depth q.Marks[1]"}, {known(list, integer(7), unknown, integer(7)), "q[0] q[2]"}, {m, "q[] q key"}, {unknown, ""}, {integer(7), "q"},
		{deep, "q" + strings.Repeat("[0]", maxSearchDepth)}, {known(list, deep), ""}, {known(pointer, integer(7)), "q"}, {known(pair, known(pair, integer(7))), "q[0][0]"},
	} {
		var found []string
		look(replay.NewSearch("7", ""), "q", x.value, 0, func(name string, v event.Value) { found = append(found, name) })
		assert.Equal(t, x.want, strings.Join(found, " "))
	}
}
