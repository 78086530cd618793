package question_test

import (
	"context"
	"math/big"
	"math/rand/v2"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// frame is a recording with one frame, with the variables of the map.
type frame struct {
	replay.Recording
	values map[string]event.Value
}

func (f frame) Variable(_ context.Context, _ event.Moment, _ event.ThreadID, _ int, name string) (replay.Variable, bool, error) {
	v, ok := f.values[name]
	return replay.Variable{Name: name, Value: replay.Value{Value: v, Memory: memory{}}}, ok, nil
}

func (f frame) Variables(context.Context, event.Moment, event.ThreadID, int) ([]replay.Variable, error) {
	var list []replay.Variable
	for name := range f.values {
		list = append(list, replay.Variable{Name: name})
	}
	return list, nil
}

var (
	float  = &event.Type{ID: 1, Name: "float64", Form: event.Float, Size: 8}
	whole  = &event.Type{ID: 2, Name: "int", Form: event.Int, Size: 8}
	text   = &event.Type{ID: 3, Name: "string", Form: event.Text, Size: 16}
	quay   = &event.Type{ID: 4, Name: "berth.Quay", Form: event.Struct, Size: 24, Fields: []event.Field{{Name: "Name", Type: 3}, {Name: "Sill", Type: 1, Offset: 16}}}
	toQuay = &event.Type{ID: 5, Name: "*berth.Quay", Form: event.Pointer, Size: 8, Elem: 4}
	quays  = &event.Type{ID: 6, Name: "[]berth.Quay", Form: event.Slice, Size: 24, Elem: 4}
	byName = &event.Type{ID: 7, Name: "map[string]int", Form: event.Map, Size: 8, Elem: 2, Key: 3}
)

// memory holds quays at every address, and one map.
type memory struct{}

func (memory) Type(id event.TypeID) *event.Type {
	for _, t := range []*event.Type{float, whole, text, quay, toQuay, quays, byName} {
		if t.ID == id {
			return t
		}
	}
	return nil
}

func (memory) Load(address uint64, t *event.Type) event.Value {
	return event.Value{Type: t, State: event.Known, Items: []event.Value{str("Kelp Quay 3"), number(float64(address) / 1000)}}
}

func (memory) Entries(uint64, *event.Type) ([]event.Value, bool) {
	return []event.Value{str("Osprey Wall"), integer(3)}, true
}

func number(f float64) event.Value { return event.Value{Type: float, State: event.Known, Float: f} }
func integer(i int64) event.Value  { return event.Value{Type: whole, State: event.Known, Int: i} }
func str(s string) event.Value     { return event.Value{Type: text, State: event.Known, Text: s} }

var here = frame{values: map[string]event.Value{
	"water": number(3.5), "draught": number(3.25), "count": integer(7), "name": str("Two Sisters of Ness"),
	"quay": {Type: toQuay, State: event.Known, Address: 3100}, "nobody": {Type: toQuay, State: event.Known, Nil: true},
	"list":  {Type: quays, State: event.Known, Address: 1000, Length: 2, Capacity: 2},
	"given": {Type: byName, State: event.Known, Address: 9, Length: 1},
	"later": {Type: float, State: event.Unassigned}, "hidden": {Type: float, State: event.Unrecorded},
	"tides.Mean": number(1013.25),
}}

func ask(expression string) (question.Answer, error) { return askIn(here, expression) }

// askIn asks about a moment of a recording.
func askIn(r replay.Recording, expression string) (question.Answer, error) {
	q, err := question.Parse(expression)
	if err != nil {
		return question.Answer{}, err
	}
	return q.Ask(context.Background(), r, 0, 1, 0)
}

func TestAnswers(t *testing.T) {
	for expression, want := range map[string]question.Answer{
		"water":                             {Value: "3.5", Type: "float64"},
		"water - draught < 0.5":             {Value: "true", Type: "bool"},
		"water - 2":                         {Value: "1.5", Type: "double"}, // whole and broken numbers mix
		"2 * water > count":                 {Value: "false", Type: "bool"},
		"count / 2":                         {Value: "3", Type: "int"},
		"name.startsWith('Two')":            {Value: "true", Type: "bool"},
		"quay.Name":                         {Value: `"Kelp Quay 3"`, Type: "string"},
		"quay.Sill + 1":                     {Value: "4.1", Type: "double"},
		"deref(quay).Name + '!'":            {Value: `"Kelp Quay 3!"`, Type: "string"},
		"nobody == null":                    {Value: "true", Type: "bool"},
		"quay != null && quay.Sill > 3.0":   {Value: "true", Type: "bool"},
		"list[1].Sill":                      {Value: "1.024", Type: "float64"},
		"size(list)":                        {Value: "2", Type: "int"},
		"list.exists(q, q.Sill > 1.01)":     {Value: "true", Type: "bool"},
		"given['Osprey Wall']":              {Value: "3", Type: "int"},
		"'Osprey Wall' in given":            {Value: "true", Type: "bool"},
		"'Kelp Quay 3' in given":            {Value: "false", Type: "bool"},
		"given['Kelp Quay 3']":              {Value: "0", Type: "int"},
		"hex(count + 248)":                  {Value: `"0xff"`, Type: "string"},
		"binary(count)":                     {Value: `"0b111"`, Type: "string"},
		"character(count + 58)":             {Value: "\"'A'\"", Type: "string"},
		"size_of(count * 600)":              {Value: `"4.2 kB"`, Type: "string"},
		"nanoseconds(3100000000)":           {Value: `"3.1s"`, Type: "string"},
		"unixTime(1900000000)":              {Value: `"2030-03-17T17:46:40Z"`, Type: "string"},
		"typeOf(quay)":                      {Value: `"*berth.Quay"`, Type: "string"},
		"tides.Mean > 1000.0":               {Value: "true", Type: "bool"},
		"count > 100 || later > 1.0 || 1<2": {Value: "true", Type: "bool"},
	} {
		got, err := ask(expression)
		require.NoError(t, err, expression)
		want.State = event.Known
		assert.Equal(t, want, got, expression)
	}
}

func TestErrorsSayWhatIsWrong(t *testing.T) {
	for expression, want := range map[string]struct {
		is   error
		says string
	}{
		"":                 {fault.InvalidExpression, "empty"},
		"water +":          {fault.InvalidExpression, "unexpected end"},
		"water > 250ms":    {fault.InvalidExpression, `a duration is written as duration("250ms")`},
		"watr > 1.0":       {fault.NoName, "did you mean water?"},
		"zebra":            {fault.NoName, "there are"},
		"later > 1.0":      {fault.NoValue, "later has not been assigned yet"},
		"hidden > 1.0":     {fault.NoValue, "hidden is unrecorded"},
		"quay.Depth":       {fault.NoValue, "no field Depth; it has Name, Sill"},
		"list[2]":          {fault.NoValue, "out of range, there are 2"},
		"size(list[0])":    {fault.NoValue, "types of the operands"},
		"tides == null":    {fault.NoName, "tides: name not found, but tides.Mean"},
		"tides.Maen > 1.0": {fault.NoName, "did you mean tides.Mean?"},
		"3 in quay":        {fault.NoValue, "has no elements"},
		"name - 1":         {fault.NoValue, "types of the operands"},
		"[1,2,3,4,5,6,7,8,9,10].all(a, [1,2,3,4,5,6,7,8,9,10].all(b, [1,2,3,4,5,6,7,8,9,10].all(c, [1,2,3,4,5,6,7,8,9,10].all(d, [1,2,3,4,5,6,7,8,9,10].all(e, [1,2,3,4,5,6,7,8,9,10].all(f, true))))))": {fault.CostLimit, "more than 1000000 steps"},
	} {
		_, err := ask(expression)
		require.ErrorIs(t, err, want.is, expression)
		assert.ErrorContains(t, err, want.says, expression)
	}
}

func TestAConditionIsTrueOrFalse(t *testing.T) {
	q, err := question.Parse("count")
	require.NoError(t, err)
	_, err = q.Holds(context.Background(), here, 0, 1)
	require.ErrorIs(t, err, fault.NoValue)
	q, err = question.Parse("count == 7")
	require.NoError(t, err)
	holds, err := q.Holds(context.Background(), here, 0, 1)
	require.NoError(t, err)
	assert.True(t, holds)
}

// Simple conditions do without the language's machinery; what they say must be
// what the machinery says, which a conditional operator around them calls for.
func TestSimpleConditionsAgreeWithTheLanguage(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	leaves := []string{"water", "draught", "count", "name", "later", "hidden", "quay.Sill", "quay.Name", "nobody.Sill", "nothing", "null", "null", "quay", "nobody", "boxed", "3", "7", "3.5", "3.25", "0.0", "'Kelp Quay 3'", "true", "9007199254740993"}
	leaf := func() string { return leaves[random.IntN(len(leaves))] }
	term := func() string {
		if random.IntN(3) == 0 {
			return "(" + leaf() + []string{" + ", " - "}[random.IntN(2)] + leaf() + ")"
		}
		return leaf()
	}
	compare := func() string {
		return term() + []string{" < ", " <= ", " > ", " >= ", " == ", " != "}[random.IntN(6)] + term()
	}
	decided := 0
	for range 5000 {
		text := compare()
		for random.IntN(2) == 0 {
			text = []string{"(" + text + ") && (" + compare() + ")", "(" + text + ") || (" + compare() + ")", "!(" + text + ")"}[random.IntN(3)]
		}
		simple, err := question.Parse(text)
		require.NoError(t, err, text)
		whole, err := question.Parse("(" + text + ") ? true : false")
		require.NoError(t, err, text)
		got, gotErr := simple.Holds(context.Background(), here, 0, 1)
		want, wantErr := whole.Holds(context.Background(), here, 0, 1)
		require.Equal(t, wantErr == nil, gotErr == nil, "%s: %v, %v", text, wantErr, gotErr)
		require.Equal(t, want, got, text)
		if gotErr == nil {
			decided++
		}
	}
	assert.Greater(t, decided, 1000)
}

// What an expression builds is charged by its size, however it is built: nothing takes
// all memory or time, and what is large but allowed is answered.
func TestCostIsBySize(t *testing.T) {
	doubled := func(start, step string, times int) string {
		return start + strings.Repeat(step, times)
	}
	tens := "[" + strings.TrimSuffix(strings.Repeat("1,", 100), ",") + "]"
	for name, x := range map[string]struct {
		expression string
		allowed    bool
	}{
		"a text doubled 10 times":       {doubled("['a']", ".map(s, s + s)", 10), true},
		"a text doubled 40 times":       {doubled("['a']", ".map(s, s + s)", 40), false},
		"a list doubled 10 times":       {doubled("[[1]]", ".map(l, l + l)", 10), true},
		"a list doubled 40 times":       {doubled("[[1]]", ".map(l, l + l)", 40), false},
		"a list shared 40 levels deep":  {doubled("[0]", ".map(a, [a, a])", 40), false},
		"a map shared 40 levels deep":   {doubled("[0]", ".map(a, {1: a, 2: a})", 40), false},
		"as many, compared":             {doubled("[0]", ".map(a, [a, a])", 40) + " == [1]", false},
		"ten thousand steps":            {tens + ".all(a, " + tens + ".all(b, a == b))", true},
		"ten thousand elements":         {"size(" + tens + ".map(a, " + tens + ".map(b, a + b)))", true},
		"a hundred million steps":       {tens + ".all(a, " + tens + ".all(b, " + tens + ".all(c, " + tens + ".all(d, a == d))))", false},
		"a pattern on a long text":      {doubled("['a']", ".map(s, s + s)", 14) + ".all(s, s.matches('" + strings.Repeat("(a|b)*", 15) + "c') == false)", true},
		"many patterns on a long text":  {doubled("['a']", ".map(s, s + s)", 18) + ".all(s, " + tens + ".all(i, s.matches('" + strings.Repeat("(a|b)*", 15) + "c') == false))", false},
		"a long text looked for a lot":  {doubled("['a']", ".map(s, s + s)", 18) + ".all(s, " + tens + ".all(i, " + tens + ".all(j, !s.contains('b'))))", false},
		"bytes doubled 40 times":        {doubled("[b'a']", ".map(s, s + s)", 40), false},
		"a text of a long list, doubly": {doubled("['a']", ".map(s, s + s + string(s.size()))", 40), false},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := ask(x.expression)
			runtime.ReadMemStats(&after)
			if x.allowed {
				require.NoError(t, err)
				return
			}
			require.ErrorIs(t, err, fault.CostLimit)
			assert.Less(t, after.HeapAlloc, before.HeapAlloc+1<<30)
		})
	}
}

// Of a text that is known in part, only what follows from the part is answered.
func TestTextsThatAreKnownInPart(t *testing.T) {
	t.Parallel()
	for expression, want := range map[string]string{
		"size(long)": "2000", `long == "fog"`: "false", `long != "fog"`: "true", `long == "` + strings.Repeat("x", 2000) + `"`: "", `long.contains("x")`: "", `long.endsWith("x")`: "", `long + "x"`: "", `long < "y"`: "", `long.matches("x*")`: "",
	} {
		q, err := question.Parse(expression)
		require.NoError(t, err, expression)
		f := frame{values: map[string]event.Value{"long": {Type: &event.Type{Name: "string", Form: event.Text}, State: event.Known, Text: strings.Repeat("x", 1000), Whole: 2000}}}
		got, err := q.Ask(context.Background(), f, 0, 1, 0)
		if want == "" {
			require.ErrorIs(t, err, fault.NoValue, expression)
			assert.Contains(t, err.Error(), "1000 of the text's 2000 bytes", expression)
			continue
		}
		require.NoError(t, err, expression)
		assert.Equal(t, want, got.Value, expression)
	}
}

// Integers of 128 bits and numbers with a long significand are compared and calculated exactly.
func TestExactNumbers(t *testing.T) {
	t.Parallel()
	wide := &event.Type{Name: "__int128", Form: event.Opaque, Size: 16}
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 6))
		a := new(big.Int).Lsh(big.NewInt(r.Int64()-1<<62), uint(r.IntN(60)))
		a.Add(a, big.NewInt(r.Int64()))
		b := big.NewInt(r.Int64() >> r.IntN(60))
		f := frame{values: map[string]event.Value{
			"a": {Type: wide, State: event.Known, Uint: a.Uint64(), Text: a.String()}, "b": {Type: whole, State: event.Known, Int: b.Int64()},
		}}
		if a.IsInt64() {
			f.values["a"] = event.Value{Type: wide, State: event.Known, Uint: uint64(a.Int64()), Text: a.String()}
		}
		for expression, want := range map[string]string{
			"a": a.String(), "a + a": new(big.Int).Add(a, a).String(), "a < b": strconv.FormatBool(a.Cmp(b) < 0), "b <= a": strconv.FormatBool(b.Cmp(a) <= 0), "a > b": strconv.FormatBool(a.Cmp(b) > 0), "a == a": "true", "a == b": strconv.FormatBool(a.Cmp(b) == 0),
			"a - a": "0", `string(a) == "` + a.String() + `"`: "true",
		} {
			q, err := question.Parse(expression)
			require.NoError(t, err)
			got, err := q.Ask(context.Background(), f, 0, 1, 0)
			if a.IsInt64() && err != nil {
				continue // the sum of two whole numbers of 64 bits has no value if it is longer
			}
			require.NoError(t, err, expression)
			require.Equal(t, want, got.Value, "%s, seed %d", expression, seed)
		}
	}
	long := frame{values: map[string]event.Value{"x": {Type: &event.Type{Name: "long double", Form: event.Float, Size: 16}, State: event.Known, Float: 3.141592653589793, Text: "3.1415926535897932385"}, "y": {Type: float, State: event.Known, Float: 3.141592653589793}}}
	for expression, want := range map[string]string{"x": "3.1415926535897932385", "x == y": "false", "x > y": "true", "double(x) == y": "true", "x - x == 0.0": "true", "int(x)": "3"} {
		q, err := question.Parse(expression)
		require.NoError(t, err)
		got, err := q.Ask(context.Background(), long, 0, 1, 0)
		require.NoError(t, err, expression)
		assert.Equal(t, want, got.Value, expression)
	}
}
