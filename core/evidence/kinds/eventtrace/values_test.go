package eventtrace

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	"google.golang.org/protobuf/proto"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/intake"
)

// anyValue makes a value and what JSON would make of it. The keys of a map are in order.
func anyValue(r *rand.Rand, depth int) (*commonpb.AnyValue, any) {
	kind := r.IntN(7)
	if depth > 3 {
		kind = r.IntN(5)
	}
	switch kind {
	case 0:
		return nil, nil
	case 1:
		s := []string{"", "Kelp Quay", "a \"quoted\" berth", "line\nbreak", "Størte ✓"}[r.IntN(5)]
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: s}}, s
	case 2:
		b := r.IntN(2) == 0
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_BoolValue{BoolValue: b}}, b
	case 3:
		n := r.Int64() - r.Int64()
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: n}}, n
	case 4:
		f := float64(r.IntN(2000)-1000) / 16
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_DoubleValue{DoubleValue: f}}, f
	case 5:
		list, plain := &commonpb.ArrayValue{}, []any{}
		for range r.IntN(4) {
			v, p := anyValue(r, depth+1)
			if v == nil {
				v = &commonpb.AnyValue{}
			}
			list.Values, plain = append(list.Values, v), append(plain, p)
		}
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: list}}, plain
	}
	list, plain := &commonpb.KeyValueList{}, map[string]any{}
	for i := range r.IntN(4) {
		v, p := anyValue(r, depth+1)
		key := fmt.Sprintf("key %d", i)
		list.Values, plain[key] = append(list.Values, &commonpb.KeyValue{Key: key, Value: v}), p
	}
	return &commonpb.AnyValue{Value: &commonpb.AnyValue_KvlistValue{KvlistValue: list}}, plain
}

func parsed(t *testing.T, v *commonpb.AnyValue) otlp.Value {
	b, err := proto.Marshal(v)
	require.NoError(t, err)
	out, err := otlp.ParseValue(b)
	require.NoError(t, err)
	return out
}

// Values that are written as text are JSON, except a text itself.
func TestTextsOfValues(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(6, 6))
	w := &valueWriter{tables: intake.NewTables("event-trace", "service", intake.Input{})}
	for range 2000 {
		v, plain := anyValue(r, 0)
		text := w.text(parsed(t, v), 0)
		if s, ok := plain.(string); ok {
			assert.Equal(t, s, text)
			continue
		}
		want, err := json.Marshal(plain)
		require.NoError(t, err)
		require.JSONEq(t, string(want), text)
	}
	bytes := &commonpb.AnyValue{Value: &commonpb.AnyValue_BytesValue{BytesValue: []byte("ab\x00")}}
	assert.Equal(t, `"ab\x00"`, w.text(parsed(t, bytes), 0))
	deep, text := bytes, `"ab\x00"`
	for level := range 10 {
		deep = &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: &commonpb.ArrayValue{Values: []*commonpb.AnyValue{deep}}}}
		if level < maxNested {
			text = "[" + text + "]"
		}
	}
	assert.Equal(t, strings.Repeat("[", maxNested+1)+"…"+strings.Repeat("]", maxNested+1), w.text(parsed(t, deep), 0))
	eight := deep.GetArrayValue().Values[0].GetArrayValue().Values[0]
	assert.Equal(t, text, w.text(parsed(t, eight), 0))
	long := &commonpb.ArrayValue{}
	for range 3 {
		long.Values = append(long.Values, &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: strings.Repeat("x", intake.DefaultLongest)}})
	}
	cut := w.text(parsed(t, &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: long}}), 0)
	assert.Equal(t, `["`+strings.Repeat("x", intake.DefaultLongest)+`"…]`, cut)
}
