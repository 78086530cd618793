package question

import (
	"context"
	"fmt"
	"math"
	"testing"

	"cel.dev/cel-go/common/types"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// aFrame is a recording of one frame with values of all plain types, at their edges too.
type aFrame struct {
	replay.Recording
	values map[string]event.Value
}

func (f aFrame) Variable(_ context.Context, _ event.Moment, _ event.ThreadID, _ int, name string) (replay.Variable, bool, error) {
	v, ok := f.values[name]
	return replay.Variable{Name: name, Value: replay.Value{Value: v}}, ok, nil
}

func (f aFrame) Variables(context.Context, event.Moment, event.ThreadID, int) ([]replay.Variable, error) {
	return nil, nil
}

var edges = func() aFrame {
	of := func(form event.Form, name string) *event.Type {
		return &event.Type{ID: 1, Name: name, Form: form, Size: 8}
	}
	f := aFrame{values: map[string]event.Value{}}
	add := func(name string, v event.Value) { v.State = event.Known; f.values[name] = v }
	for i, n := range []int64{0, 1, -1, 7, 1 << 53, 1<<53 + 1, math.MaxInt64, math.MinInt64} {
		add(fmt.Sprintf("i%d", i), event.Value{Type: of(event.Int, "int"), Int: n})
		add(fmt.Sprintf("d%d", i), event.Value{Type: of(event.Int, event.DurationType), Int: n})
		add(fmt.Sprintf("u%d", i), event.Value{Type: of(event.Uint, "uint64"), Uint: uint64(n)})
	}
	for i, n := range []float64{0, math.Copysign(0, -1), 1, 0.1, math.NaN(), math.Inf(1), math.Inf(-1), 1e300, 1 << 53, 7} {
		add(fmt.Sprintf("f%d", i), event.Value{Type: of(event.Float, "float64"), Float: n})
	}
	for i, s := range []string{"", "a", "b", "é", "\xff", "ab"} {
		add(fmt.Sprintf("s%d", i), event.Value{Type: of(event.Text, "string"), Text: s})
	}
	for i := range uint64(2) {
		add(fmt.Sprintf("b%d", i), event.Value{Type: of(event.Bool, "bool"), Uint: i})
	}
	f.values["list"] = event.Value{Type: &event.Type{Name: event.ObjectType, Form: event.Text}, State: event.Known, Text: `[{"number": 7, "text": "a"}, {"text": "b"}]`}
	f.values["later"] = event.Value{Type: of(event.Int, "int"), State: event.Unassigned}
	return f
}()

// expressionOf makes an expression of the quick kind from bytes.
func expressionOf(b *[]byte, depth int) string {
	take := func(n int) int {
		if len(*b) == 0 {
			return 0
		}
		x := int((*b)[0]) % n
		*b = (*b)[1:]
		return x
	}
	leaf := func() string {
		switch take(9) {
		case 8:
			return "list[" + fmt.Sprint(take(3)) + "]" + []string{"", ".number", ".text", ".missing", ".text.more"}[take(5)]
		case 0:
			return fmt.Sprintf("i%d", take(8))
		case 1:
			return fmt.Sprintf("f%d", take(10))
		case 2:
			return fmt.Sprintf("u%d", take(8))
		case 3:
			return fmt.Sprintf("s%d", take(6))
		case 4:
			return fmt.Sprintf("d%d", take(8))
		case 5:
			return []string{"b0", "b1", "true", "false", "later", "missing"}[take(6)]
		case 6:
			return []string{"0", "1", "-1", "7", "9007199254740992", "9007199254740993", "9223372036854775807"}[take(7)]
		}
		return []string{"0.0", "1.0", "0.5", "1e300", `"a"`, `""`, `duration("1ns")`, `duration("-7ns")`}[take(8)]
	}
	if depth == 0 || take(4) == 0 {
		return leaf()
	}
	if take(6) == 0 {
		return "!(" + expressionOf(b, depth-1) + ")"
	}
	op := []string{"<", "<=", ">", ">=", "==", "!=", "-", "+", "&&", "||"}[take(10)]
	return "(" + expressionOf(b, depth-1) + " " + op + " " + expressionOf(b, depth-1) + ")"
}

// FuzzQuick holds the quick form of conditions against the language itself: where it gives a
// truth value, the language gives the same one, and no error.
func FuzzQuick(f *testing.F) {
	for i := range 256 {
		f.Add([]byte{byte(i), 1, byte(i / 7), byte(i / 3), 2, byte(i), 3, byte(i * 5), byte(i * 11), 4, byte(i * 3), 9, byte(i)})
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		text := expressionOf(&b, 3)
		q, err := Parse(text)
		require.NoError(t, err, text)
		if q.quick == nil {
			return
		}
		v := q.quick(&scope{ctx: context.Background(), r: edges})
		if v.kind != plainBool {
			return
		}
		out, err := q.eval(context.Background(), &scope{ctx: context.Background(), r: edges})
		require.NoError(t, err, "%s is %t by the quick form", text, v.whole != 0)
		require.Equal(t, types.Bool(v.whole != 0), out, text)
	})
}
