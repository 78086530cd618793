package replay

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
)

// somePath makes a path at random.
func somePath(r *rand.Rand, depth int) Path {
	names := []string{"quay", "x1", "_a", "größe", "http.status-code", "two words", `a"b`, "result 2"}
	p := Path{Root: names[r.IntN(len(names))]}
	for range r.IntN(5) {
		var s PathStep
		switch k := r.IntN(6); {
		case k == 0:
			s.Field = names[r.IntN(len(names)-1)]
		case k == 1:
			n := int64(r.IntN(100)) - 1
			s.Number = &n
		case k == 2:
			text := names[r.IntN(len(names))]
			s.Text = &text
		case k == 3 && depth < 3:
			inner := somePath(r, depth+1)
			s.Index = &inner
		case k == 4:
			n := r.IntN(9)
			s.Position = &n
		default:
			s.Any = true
		}
		p.Steps = append(p.Steps, s)
	}
	if r.IntN(4) == 0 {
		p.Steps = append(p.Steps, PathStep{Deref: true})
	}
	return p
}

// A path that is written is read as the same path, also with spaces around its parts.
func TestPathsAreReadAsWritten(t *testing.T) {
	t.Parallel()
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 19))
		want := somePath(r, 0)
		text := want.String()
		got, err := ParsePath(text)
		require.NoError(t, err, text)
		require.Equal(t, text, got.String())
		if strings.HasPrefix(want.Root, "http.") { // dots in a name are quoted or steps
			continue
		}
		require.Equal(t, want, got, text)
		got, err = ParsePath("  " + strings.ReplaceAll(text, "]", " ]") + " ")
		if !strings.Contains(text, `"`) {
			require.NoError(t, err, text)
			require.Equal(t, want, got)
		}
	}
}

func TestInvalidPaths(t *testing.T) {
	t.Parallel()
	for text, says := range map[string]string{
		"": "expected a name", "9": "expected a name", "a.": "expected a field name", "a..b": "expected a field name", "a[": "expected a name", "a[1": "a closing bracket is missing", "(a": "a closing bracket is missing", `["a"`: "a closing bracket is missing",
		`a["b]`: "missing closing quotation mark", "a[#]": "expected a position", "a b": `unexpected "b"`, "a]": `unexpected "]"`, "a[99999999999999999999]": "out of range", "+a": "expected a name",
		strings.Repeat("(", 20) + "a" + strings.Repeat(")", 20): "nested too deeply", "a" + strings.Repeat(".b", 40): "too long",
	} {
		_, err := ParsePath(text)
		require.ErrorIs(t, err, fault.InvalidPath, text)
		assert.Contains(t, err.Error(), says, text)
	}
	p, err := ParsePath("a" + strings.Repeat(".b", maxPathSteps-1))
	require.NoError(t, err)
	assert.Len(t, p.Steps, maxPathSteps-1)
	for text, want := range map[string]string{"&a.b": "a.b", "(*p).x": "p.x", "*p": "*p", "**p": "*p", "( a )": "a", "a[ 3 ]": "a[3]", "a[`x`]": `a["x"]`, `["result 3"]`: "result 3"} {
		p, err := ParsePath(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, p.String(), text)
	}
}

// A further step goes on from a pointer's target, and changes no other path.
func TestWith(t *testing.T) {
	t.Parallel()
	p, err := ParsePath("*quay")
	require.NoError(t, err)
	q := p.With(PathStep{Field: "Depth"})
	assert.Equal(t, "quay.Depth", q.String())
	assert.Equal(t, "*quay", p.String())
	a, b := q.With(PathStep{Field: "A"}), q.With(PathStep{Field: "B"})
	assert.Equal(t, []string{"quay.Depth.A", "quay.Depth.B"}, []string{a.String(), b.String()})
	assert.Equal(t, []string{"Depth", "A", "quay"}, []string{q.Last(), a.Last(), Path{Root: "quay"}.Last()})
}

// A number among the hits, against picking them one by one.
func TestNumbers(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 20))
		held := make([]event.Moment, r.IntN(12))
		for i := range held {
			held[i] = event.Moment(r.IntN(40))
		}
		slices.Sort(held)
		held = slices.Compact(held)
		n := 1 + r.IntN(14)
		pick := func(keep func(i int, m event.Moment) bool) []event.Moment {
			out := []event.Moment{}
			for i, m := range held {
				if keep(i, m) {
					out = append(out, m)
				}
			}
			return out
		}
		lastBefore := sort.Search(len(held), func(i int) bool { return held[i] >= event.Moment(n) }) - 1
		for text, want := range map[string][]event.Moment{
			"":                              held,
			fmt.Sprint(n):                   pick(func(i int, _ event.Moment) bool { return i == n-1 }),
			fmt.Sprint("every ", n):         pick(func(i int, _ event.Moment) bool { return (i+1)%n == 0 }),
			"last":                          pick(func(i int, _ event.Moment) bool { return i == len(held)-1 }),
			fmt.Sprint(" last  before ", n): pick(func(i int, _ event.Moment) bool { return i == lastBefore }),
		} {
			number, err := ParseNumber(text)
			require.NoError(t, err, text)
			require.Equal(t, text == "", number.All())
			require.ElementsMatch(t, want, number.Choose(held), "%q of %v", text, held)
		}
	}
	for _, text := range []string{"0", "-1", "x", "every", "every 0", "every x", "last before", "last before 0", "last after 3", "1 2", "99999999999999999999"} {
		_, err := ParseNumber(text)
		require.ErrorIs(t, err, fault.InvalidNumber, text)
	}
}

func TestFormats(t *testing.T) {
	t.Parallel()
	for f, cases := range map[Format]map[int64]string{
		Decimal:     {-7: "-7", math.MaxInt64: "9223372036854775807"},
		Hex:         {255: "0xff", -1: "0xffffffffffffffff"},
		Binary:      {5: "0b101", 0: "0b0"},
		Character:   {'a': "'a'", '\n': `'\n'`, -1: "-1", 0x110000: "1114112", 0x10ffff: "'\\U0010ffff'"},
		Bytes:       {0: "0 B", 999: "999 B", 1000: "1.0 kB", -1500: "-1.5 kB", 4_200_000: "4.2 MB", 7e18: "7.0 EB"},
		Nanoseconds: {1_500_000_000: "1.5s", -3: "-3ns"},
		UnixTime: {0: "1970-01-01T00:00:00Z", 1_790_000_000: "2026-09-21T14:13:20Z", 1_790_000_000_123: "2026-09-21T14:13:20.123Z", 1_790_000_000_123_456: "2026-09-21T14:13:20.123456Z",
			1_790_000_000_123_456_789: "2026-09-21T14:13:20.123456789Z", 1<<36 - 1: "4147-08-20T07:32:15Z"},
	} {
		for n, want := range cases {
			assert.Equal(t, want, f.Write(n), "%s of %d", f, n)
		}
		got, err := ParseFormat(string(f))
		require.NoError(t, err)
		assert.Equal(t, f, got)
	}
	f, err := ParseFormat("")
	require.NoError(t, err)
	assert.Equal(t, Decimal, f)
	_, err = ParseFormat("octal")
	require.Error(t, err)
}

func TestPages(t *testing.T) {
	t.Parallel()
	for page, want := range map[Page][2]int{{0, 5}: {0, 5}, {8, 5}: {8, 10}, {20, 5}: {10, 10}, {-3, 5}: {0, 5}, {2, -1}: {2, 2}, {3, 0}: {3, 3}, {0, math.MaxInt32}: {0, 10}} {
		from, to := page.Cut(10)
		assert.Equal(t, want, [2]int{from, to}, "%+v", page)
	}
}

// noMemory is memory of which nothing is known.
type noMemory map[event.TypeID]*event.Type

func (noMemory) Load(_ uint64, t *event.Type) event.Value {
	return event.Value{Type: t, State: event.Unrecorded}
}
func (noMemory) Entries(uint64, *event.Type) ([]event.Value, bool) { return nil, false }
func (m noMemory) Type(id event.TypeID) *event.Type                { return m[id] }

// Values are written in the notation of their language.
func TestTexts(t *testing.T) {
	t.Parallel()
	m := noMemory{}
	known := func(x *event.Type, v event.Value) Value {
		v.Type, v.State = x, event.Known
		return Value{v, m}
	}
	number := &event.Type{ID: 1, Name: "int", Form: event.Int, Size: 8}
	m[1] = number
	point := &event.Type{ID: 2, Name: "main.point", Form: event.Struct, Size: 16, Fields: []event.Field{{Name: "x", Type: 1}, {Name: "y", Type: 1, Offset: 8}}}
	list := &event.Type{ID: 3, Name: "[]int", Form: event.Array, Elem: 1}
	item := func(n int64) event.Value { return event.Value{Type: number, State: event.Known, Int: n} }
	items := func(n int) (out []event.Value) {
		for i := range n {
			out = append(out, item(int64(i)))
		}
		return out
	}
	for want, v := range map[string]Value{
		"-7":                           known(number, event.Value{Int: -7}),
		"1.5s":                         known(&event.Type{Name: "time.Duration", Form: event.Int}, event.Value{Int: int64(1500 * time.Millisecond)}),
		"2026-09-21T14:13:20Z":         known(&event.Type{Name: event.TimestampType, Form: event.Int}, event.Value{Int: 1_790_000_000e9}),
		"EBB (3)":                      known(number, event.Value{Int: 3, Text: "EBB"}),
		"true":                         known(&event.Type{Form: event.Bool}, event.Value{Uint: 1}),
		"0x2a":                         known(&event.Type{Form: event.Opaque}, event.Value{Uint: 42}),
		"0.1":                          known(&event.Type{Form: event.Float, Size: 4}, event.Value{Float: float64(float32(0.1))}),
		"0.30000000000000004":          known(&event.Type{Form: event.Float, Size: 8}, event.Value{Float: math.Nextafter(0.3, 1)}),
		"(1-2i)":                       known(&event.Type{Form: event.Complex, Size: 16}, event.Value{Float: 1, Imag: -2}),
		"(1+2i)":                       known(&event.Type{Form: event.Complex, Size: 16}, event.Value{Float: 1, Imag: 2}),
		"(1+Infi)":                     known(&event.Type{Form: event.Complex, Size: 16}, event.Value{Float: 1, Imag: math.Inf(1)}),
		`"fog\n"`:                      known(&event.Type{Form: event.Text}, event.Value{Text: "fog\n"}),
		`"fo"… (3000 bytes)`:           known(&event.Type{Form: event.Text}, event.Value{Text: "fo", Whole: 3000}),
		"main.point{x: 3, y: 4}":       known(point, event.Value{Items: []event.Value{item(3), item(4)}}),
		"main.point{x: 3, y: ?}":       known(point, event.Value{Items: []event.Value{item(3), {Type: number, State: event.Unrecorded}}}),
		"[]int{0, 1, 2, 3, 4, 5}":      known(list, event.Value{Length: 6, Items: items(6)}),
		"[]int{0, 1, 2, 3, 4, 5, …}":   known(list, event.Value{Length: 7, Items: items(7)}),
		"chan int with 2 of 3 waiting": known(&event.Type{Name: "chan int", Form: event.Chan}, event.Value{Length: 2, Capacity: 3}),
		"nil":                          known(&event.Type{Name: "*int", Form: event.Pointer}, event.Value{Nil: true}),
		"null":                         known(&event.Type{Name: "int *", Form: event.Pointer}, event.Value{Nil: true}),
		"0x10":                         known(&event.Type{Name: "*int", Form: event.Pointer, Elem: 1}, event.Value{Address: 16}),
		"":                             {event.Value{Type: number, State: event.Unrecorded}, m},
	} {
		assert.Equal(t, want, v.Text())
	}
	long := known(&event.Type{Form: event.Text}, event.Value{Text: strings.Repeat("ö", 200)}).Text()
	assert.True(t, strings.HasSuffix(long, "…"))
	assert.LessOrEqual(t, len(long), maxTextLength+len("…"))
	assert.True(t, strings.HasPrefix(long, `"öööö`))
	assert.Equal(t, "0x7", known(number, event.Value{Int: 7}).TextAs(Hex))
	assert.Equal(t, "true", known(&event.Type{Form: event.Bool}, event.Value{Uint: 1}).TextAs(Hex))

	// Keys of a map are the same where all that makes them up is.
	assert.Equal(t, Identity(item(3)), Identity(item(3)))
	different := []event.Value{item(3), item(4), {State: event.Known, Text: "3"}, {State: event.Known, Uint: 3}, {State: event.Known, Nil: true}, {State: event.Known, Float: 3}, {State: event.Known, Address: 3},
		{State: event.Known, Items: []event.Value{item(3)}}, {State: event.Known, Items: []event.Value{item(3), item(4)}}}
	seen := map[string]bool{}
	for _, v := range different {
		assert.False(t, seen[Identity(v)], "%+v", v)
		seen[Identity(v)] = true
	}
}
