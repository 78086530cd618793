package eventtrace_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	logspb "go.opentelemetry.io/proto/otlp/logs/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"wraithology/core/evidence/kinds/eventtrace"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
)

// requests are some export requests with spans of few traces, and one with log records.
func requests(t *testing.T, random *rand.Rand) (list [][]byte, spans []*tracepb.Span, logs []*logspb.LogRecord) {
	for range 1 + random.IntN(4) {
		var data tracepb.TracesData
		for service := range random.IntN(3) {
			rs := batch([]string{"berths", "tides", "notices"}[service])
			rs.SchemaUrl = fmt.Sprintf("https://gannet.example/%d", random.IntN(3))
			rs.ScopeSpans = append(rs.ScopeSpans, &tracepb.ScopeSpans{Scope: &commonpb.InstrumentationScope{Name: "other"}, SchemaUrl: "https://gannet.example/scope"})
			for range random.IntN(6) {
				ss := rs.ScopeSpans[random.IntN(2)]
				x := span(1+random.Uint64N(5), 1+random.Uint64N(6), random.Uint64N(7), "part", random.Uint64N(1000), 2000, number("n", random.Int64N(9)))
				ss.Spans = append(ss.Spans, x)
				spans = append(spans, x)
			}
			data.ResourceSpans = append(data.ResourceSpans, rs)
		}
		b, err := proto.Marshal(&data)
		require.NoError(t, err)
		list = append(list, b)
	}
	rl := &logspb.ResourceLogs{Resource: &resourcepb.Resource{}, ScopeLogs: []*logspb.ScopeLogs{{}}}
	for range random.IntN(4) {
		x := &logspb.LogRecord{TimeUnixNano: epoch, SeverityText: "INFO"}
		if random.IntN(3) > 0 {
			x.TraceId, x.SpanId = id(1+random.Uint64N(5), 16), id(1+random.Uint64N(6), 8)
		}
		logs = append(logs, x)
	}
	rl.ScopeLogs[0].LogRecords = logs
	b, err := proto.Marshal(&logspb.LogsData{ResourceLogs: []*logspb.ResourceLogs{rl}})
	require.NoError(t, err)
	return append(list, b), spans, logs
}

// TestUnderWayAgainstAnOracle compares the traces whose parents are missing, found in one pass,
// with a comparison of all pairs.
func TestUnderWayAgainstAnOracle(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 1))
	seen := 0
	for range 500 {
		list, spans, logs := requests(t, random)
		want := map[eventtrace.TraceID]int{}
		missing := func(trace, parent []byte) bool {
			return len(parent) > 0 && !slices.ContainsFunc(spans, func(s *tracepb.Span) bool {
				return bytes.Equal(s.TraceId, trace) && bytes.Equal(s.SpanId, parent)
			})
		}
		add := func(trace, parent []byte) {
			if len(spans) == 0 || !missing(trace, parent) || want[eventtrace.TraceID(trace)] > 0 {
				return
			}
			for _, s := range spans {
				if bytes.Equal(s.TraceId, trace) {
					want[eventtrace.TraceID(trace)]++
				}
			}
			for _, l := range logs {
				if bytes.Equal(l.TraceId, trace) {
					want[eventtrace.TraceID(trace)]++
				}
			}
		}
		for _, s := range spans {
			add(s.TraceId, s.ParentSpanId)
		}
		for _, l := range logs {
			if len(l.TraceId) > 0 {
				add(l.TraceId, l.SpanId)
			}
		}
		found, err := eventtrace.UnderWay(context.Background(), func(yield func([]byte) error) error {
			for _, b := range list {
				if err := yield(b); err != nil {
					return err
				}
			}
			return nil
		}, t.TempDir())
		require.NoError(t, err)
		got := map[eventtrace.TraceID]int{}
		for k, v := range found.Open {
			got[k] = v.Records
			assert.Positive(t, v.Bytes)
		}
		require.Equal(t, want, got)
		var all []eventtrace.TraceID
		for _, x := range spans {
			all = append(all, eventtrace.TraceID(x.TraceId))
		}
		for _, x := range logs {
			if len(x.TraceId) > 0 {
				all = append(all, eventtrace.TraceID(x.TraceId))
			}
		}
		slices.SortFunc(all, func(a, b eventtrace.TraceID) int { return bytes.Compare(a[:], b[:]) })
		require.Equal(t, slices.Compact(all), found.All)
		seen += len(want)
	}
	assert.Greater(t, seen, 100)
}

// rows are the records of requests, each with all that it came with, in a set order.
func rows(t *testing.T, list [][]byte) []string {
	out := []string{}
	add := func(m proto.Message) {
		b, err := protojson.MarshalOptions{}.Marshal(m)
		require.NoError(t, err)
		var compact bytes.Buffer
		for _, c := range b {
			if c != ' ' { // with a number that differs between runs
				compact.WriteByte(c)
			}
		}
		out = append(out, compact.String())
	}
	for _, b := range list {
		err := otlp.Walk(b, 0, func(r *otlp.Record) error {
			if r.Kind == otlp.LogRecord {
				var data logspb.LogsData
				require.NoError(t, proto.Unmarshal(b, &data))
				for _, rl := range data.ResourceLogs {
					for _, sl := range rl.ScopeLogs {
						for _, x := range sl.LogRecords {
							add(&logspb.ResourceLogs{Resource: rl.Resource, SchemaUrl: rl.SchemaUrl, ScopeLogs: []*logspb.ScopeLogs{{Scope: sl.Scope, SchemaUrl: sl.SchemaUrl, LogRecords: []*logspb.LogRecord{x}}}})
						}
					}
				}
				return errDone
			}
			var data tracepb.TracesData
			require.NoError(t, proto.Unmarshal(b, &data))
			for _, rs := range data.ResourceSpans {
				for _, ss := range rs.ScopeSpans {
					for _, x := range ss.Spans {
						add(&tracepb.ResourceSpans{Resource: rs.Resource, SchemaUrl: rs.SchemaUrl, ScopeSpans: []*tracepb.ScopeSpans{{Scope: ss.Scope, SchemaUrl: ss.SchemaUrl, Spans: []*tracepb.Span{x}}}})
					}
				}
			}
			return errDone
		}, func(_ int64, err error) error { return err })
		if err != nil {
			require.ErrorIs(t, err, errDone)
		}
	}
	slices.Sort(out)
	return out
}

var errDone = fmt.Errorf("done")

// TestSplitKeepsAll parts requests so that each record is in one part, with its resource,
// scope and schema, and in the part that its trace belongs to.
func TestSplitKeepsAll(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 2))
	for range 500 {
		list, _, _ := requests(t, random)
		apart := map[string]bool{}
		for n := range uint64(6) {
			apart[string(id(n, 16))] = random.IntN(2) == 0
		}
		var rest, taken [][]byte
		for _, b := range list {
			r, k, err := otlp.Split(b, func(id []byte) bool { return apart[string(id)] })
			require.NoError(t, err)
			for which, part := range map[bool][]byte{false: r, true: k} {
				err := otlp.Walk(part, 0, func(r *otlp.Record) error {
					id, err := r.TraceID()
					assert.Equal(t, which, apart[string(id)])
					return err
				}, func(_ int64, err error) error { return err })
				require.NoError(t, err)
			}
			rest, taken = append(rest, r), append(taken, k)
		}
		require.Equal(t, rows(t, list), rows(t, slices.Concat(rest, taken)))
	}
}
