package eventtrace_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	logspb "go.opentelemetry.io/proto/otlp/logs/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// The failure is where the last error began: from each error to the last one before it in a span
// that the failed one had called, and so on.
func TestFailuresOfGeneratedTraces(t *testing.T) {
	t.Parallel()
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 12))
		type failed struct {
			at   uint64
			span int
			text string
		}
		var spans []*tracepb.Span
		var parents []int
		var errors []failed
		now := uint64(0)
		tick := func() uint64 { now += 10; return now }
		var grow func(parent, depth int)
		grow = func(parent, depth int) {
			n := len(spans)
			above := uint64(0)
			if parent >= 0 {
				above = uint64(parent) + 1
			}
			s := span(1, uint64(n)+1, above, fmt.Sprint("step", n), tick(), 0)
			spans, parents = append(spans, s), append(parents, parent)
			fail := func() {
				if r.IntN(3) > 0 {
					return
				}
				text := fmt.Sprint("no water ", len(errors))
				errors = append(errors, failed{tick(), n, text})
				s.Events = append(s.Events, &tracepb.Span_Event{TimeUnixNano: epoch + now, Name: "exception", Attributes: []*commonpb.KeyValue{kv("exception.type", "gannet.Dry"), kv("exception.message", text)}})
			}
			fail()
			for range r.IntN(4) {
				if depth < 5 {
					grow(n, depth+1)
				}
				fail()
			}
			s.EndTimeUnixNano = epoch + tick()
		}
		grow(-1, 0)
		rec := open(t, binaryForm(t, batch("berths", spans...)))
		f := rec.Info().Failure
		if len(errors) == 0 {
			assert.Nil(t, f, "seed %d", seed)
			continue
		}
		require.NotNil(t, f, "seed %d", seed)

		within := func(inner, outer int) bool { // a span that another called, directly or not
			for p := parents[inner]; p >= 0; p = parents[p] {
				if p == outer {
					return true
				}
			}
			return false
		}
		chain := []failed{errors[len(errors)-1]}
		for i := len(errors) - 2; i >= 0; i-- {
			if last := chain[len(chain)-1]; within(errors[i].span, last.span) {
				chain = append(chain, errors[i])
			}
		}
		var want, got []string
		for _, e := range chain {
			want = append(want, e.text)
		}
		for _, c := range f.Causes {
			assert.Equal(t, "gannet.Dry", c.Type)
			got = append(got, c.Message)
		}
		assert.Equal(t, want, got, "seed %d", seed)
		assert.Equal(t, "exception", f.Kind)
		p, err := rec.Place(f.Moment)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("berths/step", chain[len(chain)-1].span), p.Function, "seed %d", seed)
	}
}

func kv(key, value string) *commonpb.KeyValue {
	return &commonpb.KeyValue{Key: key, Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: value}}}
}

// Severities without a text have the names of the specification (logs data model, SeverityNumber);
// from ERROR on a log is an error, and so is one with an exception.
func TestSeverities(t *testing.T) {
	t.Parallel()
	names := []string{"TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}
	var records []*logspb.LogRecord
	for n := range 27 {
		records = append(records, &logspb.LogRecord{TimeUnixNano: epoch + uint64(10*n), SeverityNumber: logspb.SeverityNumber(n), Body: kv("", fmt.Sprint("message ", n)).Value})
	}
	records = append(records,
		&logspb.LogRecord{TimeUnixNano: epoch + 500, SeverityNumber: 9, SeverityText: "notice", Body: kv("", "with a text").Value},
		&logspb.LogRecord{TimeUnixNano: epoch + 510, SeverityNumber: 5, Body: kv("", "with an exception").Value, Attributes: []*commonpb.KeyValue{kv("exception.type", "gannet.Dry"), kv("exception.message", "no water")}},
		&logspb.LogRecord{TimeUnixNano: epoch + 520, EventName: "ebb"})
	b, err := proto.Marshal(&logspb.LogsData{ResourceLogs: []*logspb.ResourceLogs{{Resource: batch("tides").Resource, ScopeLogs: []*logspb.ScopeLogs{{LogRecords: records}}}}})
	require.NoError(t, err)
	r := open(t, b)
	ctx := context.Background()
	output, err := r.Hits(ctx, replay.Checkpoint{Kind: "output"}, replay.Page{Count: 100})
	require.NoError(t, err)
	failed, err := r.Hits(ctx, replay.Checkpoint{Kind: "error"}, replay.Page{Count: 100})
	require.NoError(t, err)
	moments := slices.Concat(output.Page, failed.Page)
	slices.Sort(moments)
	moments = slices.Compact(moments)
	require.Len(t, moments, len(records))
	for n, m := range moments {
		x := records[n]
		v, known, err := r.Variable(ctx, m, 1, 0, "level")
		require.NoError(t, err)
		want := x.SeverityText
		if number := int(x.SeverityNumber); want == "" && number >= 1 && number <= 24 {
			want = names[(number-1)/4]
		}
		if want != "" {
			require.True(t, known)
			assert.Equal(t, want, v.Value.Value.Text, "severity %d", x.SeverityNumber)
		}
		isError := x.SeverityNumber >= 17 || len(x.Attributes) > 0
		assert.Equal(t, isError, slices.Contains(failed.Page, m), "severity %d", x.SeverityNumber)
		if x.EventName != "" {
			assert.Equal(t, "ebb", r.Text(m), "the name stands for a message")
		}
	}
}

// Lists, maps and bytes of any depth are kept up to their limits, and what is left out is counted.
func TestNestedAttributes(t *testing.T) {
	t.Parallel()
	list := func(n int) *commonpb.AnyValue {
		var items []*commonpb.AnyValue
		for i := range n {
			items = append(items, number("", int64(i)).Value)
		}
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: &commonpb.ArrayValue{Values: items}}}
	}
	nested := func(depth int) *commonpb.AnyValue {
		v := number("", 7).Value
		for range depth {
			v = &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: &commonpb.ArrayValue{Values: []*commonpb.AnyValue{v}}}}
		}
		return v
	}
	s := span(1, 1, 0, "assign", 0, 100)
	for name, v := range map[string]*commonpb.AnyValue{
		"empty": list(0), "three": list(3), "deep": nested(4), "bytes": {Value: &commonpb.AnyValue_BytesValue{BytesValue: []byte{0xde, 0xad}}}, "nothing": {},
		"yes": {Value: &commonpb.AnyValue_BoolValue{BoolValue: true}}, "no": {Value: &commonpb.AnyValue_BoolValue{}}, "half": {Value: &commonpb.AnyValue_DoubleValue{DoubleValue: -0.5}},
		"least": number("", -1<<63).Value,
		"table": {Value: &commonpb.AnyValue_KvlistValue{KvlistValue: &commonpb.KeyValueList{Values: []*commonpb.KeyValue{kv("name", "Kelp Quay"), number("depth", 4)}}}},
	} {
		s.Attributes = append(s.Attributes, &commonpb.KeyValue{Key: name, Value: v})
	}
	r := open(t, binaryForm(t, batch("berths", s)))
	value := func(name string) replay.Value {
		v, ok, err := r.Variable(context.Background(), 0, 1, 0, name)
		require.NoError(t, err)
		require.True(t, ok, name)
		return v.Value
	}
	assert.Empty(t, value("empty").Items)
	require.Len(t, value("three").Items, 3)
	for i := range 3 {
		assert.EqualValues(t, i, value("three").Element(uint64(i)).Settled().Int)
	}
	deep := value("deep")
	for range 4 {
		deep = deep.Settled()
		require.Equal(t, event.Array, deep.Form())
		deep = deep.Element(0)
	}
	assert.EqualValues(t, 7, deep.Settled().Int)
	assert.Equal(t, "dead", value("bytes").Value.Text)
	assert.EqualValues(t, 1, value("yes").Uint)
	assert.Zero(t, value("no").Uint)
	assert.Equal(t, -0.5, value("half").Float)
	assert.EqualValues(t, -1<<63, value("least").Int)
	assert.Equal(t, "Kelp Quay", value("table.name").Value.Text)
	assert.EqualValues(t, 4, value("table.depth").Int)
}
