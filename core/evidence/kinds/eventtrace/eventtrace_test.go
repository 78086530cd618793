package eventtrace_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	logspb "go.opentelemetry.io/proto/otlp/logs/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/history"
)

func text(key, value string) *commonpb.KeyValue {
	return &commonpb.KeyValue{Key: key, Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: value}}}
}

func number(key string, value int64) *commonpb.KeyValue {
	return &commonpb.KeyValue{Key: key, Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: value}}}
}

func id(n uint64, size int) []byte {
	b := make([]byte, size)
	binary.BigEndian.PutUint64(b[size-8:], n)
	return b
}

// epoch is when the tests' traces begin.
const epoch = uint64(1_790_000_000_000_000_000)

// batch puts spans of a service into a message.
func batch(service string, spans ...*tracepb.Span) *tracepb.ResourceSpans {
	return &tracepb.ResourceSpans{Resource: &resourcepb.Resource{Attributes: []*commonpb.KeyValue{text("service.name", service), text("host.name", "gannet-"+service)}},
		ScopeSpans: []*tracepb.ScopeSpans{{Scope: &commonpb.InstrumentationScope{Name: "gannet", Version: "2"}, Spans: spans}}}
}

func span(trace, n, parent uint64, name string, start, end uint64, attributes ...*commonpb.KeyValue) *tracepb.Span {
	s := &tracepb.Span{TraceId: id(trace, 16), SpanId: id(n, 8), Name: name, StartTimeUnixNano: epoch + start, EndTimeUnixNano: epoch + end, Attributes: attributes, Status: &tracepb.Status{}}
	if parent != 0 {
		s.ParentSpanId = id(parent, 8)
	}
	return s
}

func binaryForm(t *testing.T, list ...*tracepb.ResourceSpans) []byte {
	b, err := proto.Marshal(&tracepb.TracesData{ResourceSpans: list})
	require.NoError(t, err)
	return b
}

var ids = regexp.MustCompile(`"(traceId|spanId|parentSpanId)":\s*"([A-Za-z0-9+/=]*)"`)

// jsonForm writes one line, as the protocol asks: IDs in hexadecimal digits.
func jsonForm(t *testing.T, list ...*tracepb.ResourceSpans) []byte {
	b, err := protojson.Marshal(&tracepb.TracesData{ResourceSpans: list})
	require.NoError(t, err)
	b = ids.ReplaceAllFunc(b, func(m []byte) []byte {
		part := ids.FindSubmatch(m)
		raw, err := base64.StdEncoding.DecodeString(string(part[2]))
		require.NoError(t, err)
		return fmt.Appendf(nil, `"%s":"%s"`, part[1], hex.EncodeToString(raw))
	})
	return append(b, '\n')
}

func write(t *testing.T, b []byte) string {
	path := filepath.Join(t.TempDir(), "spans")
	require.NoError(t, os.WriteFile(path, b, 0o600))
	return path
}

func open(t *testing.T, b []byte) history.Replay {
	r, err := kinds.All.Open(context.Background(), write(t, b), evidence.Options{}, nil)
	require.NoError(t, err)
	return r.(history.Replay)
}

// gap requires that one of the gaps says something.
func gap(t *testing.T, r replay.Recording, what string) {
	t.Helper()
	for _, g := range r.Info().Gaps {
		if strings.Contains(g.What, what) {
			assert.NotEmpty(t, g.Remedy)
			return
		}
	}
	assert.Fail(t, "no gap says "+what, "%v", r.Info().Gaps)
}

// random makes traces with spans that are nested, follow each other, run in parallel, outlive their
// parents and cross services.
func random(seed uint64, traces int) (list []*tracepb.Span, service map[string]string) {
	r := rand.New(rand.NewPCG(seed, 1))
	service = map[string]string{}
	services := []string{"arrivals", "tides", "berths"}
	next := uint64(1)
	for trace := range traces {
		var grow func(parent uint64, of string, from, to uint64, depth int)
		grow = func(parent uint64, of string, from, to uint64, depth int) {
			n := next
			next++
			name := []string{"assign", "reading", "berths/tell"}[r.IntN(3)]
			s := span(uint64(trace+1), n, parent, name, from, to, text("vessel.name", fmt.Sprintf("Halcyon Drift %d", r.IntN(9))))
			if r.IntN(2) == 0 {
				s.Attributes = append(s.Attributes, number("try", int64(r.IntN(5))))
			}
			if r.IntN(6) == 0 {
				s.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_ERROR, Message: "no berth"}
			}
			list = append(list, s)
			service[string(s.SpanId)] = of
			for range r.IntN(4) {
				if depth == 4 || to <= from+2 {
					return
				}
				begin := from + r.Uint64N(to-from)
				end := begin + r.Uint64N(to-begin+1)
				if r.IntN(8) == 0 {
					end += r.Uint64N(500) // it may outlive its parent
				}
				in := of
				if r.IntN(2) == 0 {
					in = services[r.IntN(3)]
				}
				grow(n, in, begin, end, depth+1)
			}
		}
		from := r.Uint64N(20_000)
		grow(0, services[r.IntN(3)], from, from+1000+r.Uint64N(4000), 0)
	}
	r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	return list, service
}

// TestTracesAgainstAnOracle compares every span's call, values, times, stack and own time, and each
// trace's summary, with values computed from the spans themselves.
func TestTracesAgainstAnOracle(t *testing.T) {
	t.Parallel()
	for seed := range uint64(6) {
		list, service := random(seed, 25)
		byID := map[string]*tracepb.Span{}
		var batches []*tracepb.ResourceSpans
		for _, s := range list {
			byID[string(s.SpanId)] = s
			batches = append(batches, batch(service[string(s.SpanId)], s))
		}
		for _, form := range []func(*testing.T, ...*tracepb.ResourceSpans) []byte{binaryForm, jsonForm} {
			check(t, open(t, form(t, batches...)), list, byID, service)
		}
	}
}

func check(t *testing.T, r history.Replay, list []*tracepb.Span, byID map[string]*tracepb.Span, service map[string]string) {
	ctx := context.Background()
	tracer, ok := r.(replay.Tracer)
	require.True(t, ok)
	children := map[string][]*tracepb.Span{}
	traces := map[string][]*tracepb.Span{}
	for _, s := range list {
		children[string(s.ParentSpanId)] = append(children[string(s.ParentSpanId)], s)
		traces[hex.EncodeToString(s.TraceId)] = append(traces[hex.EncodeToString(s.TraceId)], s)
	}
	name := func(s *tracepb.Span) string {
		if of := service[string(s.SpanId)]; !strings.HasPrefix(s.Name, of+"/") {
			return of + "/" + s.Name
		}
		return s.Name
	}
	all, err := tracer.Traces(ctx, nil, replay.Page{Count: 1000})
	require.NoError(t, err)
	require.Equal(t, len(traces), all.Total)
	assert.True(t, slices.IsSortedFunc(all.Page, func(a, b replay.Trace) int { return b.Started.Compare(a.Started) }), "newest first")
	for _, tr := range all.Page {
		spans := traces[tr.ID]
		require.Len(t, spans, tr.Spans)
		start, end, errors := uint64(math.MaxUint64), uint64(0), 0
		for _, s := range spans {
			start, end = min(start, s.StartTimeUnixNano), max(end, s.EndTimeUnixNano)
			if s.Status.Code == tracepb.Status_STATUS_CODE_ERROR {
				errors++
			}
		}
		assert.Equal(t, int64(start), tr.Started.UnixNano())
		assert.Equal(t, time.Duration(end-start), tr.Duration)
		assert.Equal(t, errors, tr.Errors)
		assert.Equal(t, map[bool]string{true: "error", false: "unset"}[errors > 0], tr.Status)
		got, err := tracer.Spans(ctx, tr.ID)
		require.NoError(t, err)
		require.Len(t, got, len(spans))
		critical := time.Duration(0)
		for _, g := range got {
			raw, err := hex.DecodeString(g.SpanID)
			require.NoError(t, err)
			s := byID[string(raw)]
			require.Equal(t, time.Duration(s.EndTimeUnixNano-s.StartTimeUnixNano), g.Duration)
			require.Equal(t, time.Duration(s.StartTimeUnixNano-start), g.Start)
			require.Equal(t, self(s, children[string(s.SpanId)]), g.Self, "own time of %s", g.SpanID)
			critical += g.Critical
			checkSpan(t, r, g, s, byID, name)
		}
		assert.Equal(t, tr.Duration, critical, "the critical path is as long as the trace")
	}
}

// self is the time of a span in which no child ran, computed nanosecond by nanosecond.
func self(s *tracepb.Span, children []*tracepb.Span) time.Duration {
	n := time.Duration(0)
	for at := s.StartTimeUnixNano; at < s.EndTimeUnixNano; at++ {
		if !slices.ContainsFunc(children, func(c *tracepb.Span) bool { return c.StartTimeUnixNano <= at && at < c.EndTimeUnixNano }) {
			n++
		}
	}
	return n
}

// checkSpan looks at the moment at which a span begins: its stack is the chain of its
// parents, and its values are its attributes.
func checkSpan(t *testing.T, r history.Replay, g replay.Span, s *tracepb.Span, byID map[string]*tracepb.Span, name func(*tracepb.Span) string) {
	ctx := context.Background()
	frames, err := r.Frames(ctx, g.Moment, g.Thread)
	require.NoError(t, err)
	var want []string
	for x := s; x != nil; x = byID[string(x.ParentSpanId)] {
		want = append(want, name(x))
	}
	var got []string
	for _, f := range frames {
		got = append(got, f.Function)
	}
	require.Equal(t, want, got, "the stack at the beginning of %s", g.SpanID)
	for _, a := range s.Attributes {
		v, ok, err := r.Variable(ctx, g.Moment, g.Thread, 0, a.Key)
		require.NoError(t, err)
		require.True(t, ok)
		switch x := a.Value.Value.(type) {
		case *commonpb.AnyValue_StringValue:
			require.Equal(t, x.StringValue, v.Value.Value.Text)
		case *commonpb.AnyValue_IntValue:
			require.Equal(t, x.IntValue, v.Value.Int)
		}
	}
	place, err := r.Place(g.End)
	require.NoError(t, err)
	require.Equal(t, event.Leave, place.Kind)
	require.Equal(t, g.Call, place.Call)
}

// TestConditions lists the traces and hits that conditions choose, also by dotted names
// and durations, and by names that only some have.
func TestConditions(t *testing.T) {
	t.Parallel()
	list, service := random(3, 60)
	var batches []*tracepb.ResourceSpans
	for _, s := range list {
		batches = append(batches, batch(service[string(s.SpanId)], s))
	}
	r := open(t, binaryForm(t, batches...))
	count := func(holds func(*tracepb.Span) bool) (n int) {
		for _, s := range list {
			if holds(s) {
				n++
			}
		}
		return n
	}
	for when, want := range map[string]int{
		`duration > duration("1us")`: count(func(s *tracepb.Span) bool { return s.EndTimeUnixNano-s.StartTimeUnixNano > 1000 }),
		`vessel.name == "Halcyon Drift 3" || status == "error"`: count(func(s *tracepb.Span) bool {
			return s.Attributes[0].Value.GetStringValue() == "Halcyon Drift 3" || s.Status.Code == tracepb.Status_STATUS_CODE_ERROR
		}),
		`try == null`: count(func(s *tracepb.Span) bool { return len(s.Attributes) == 1 }),
		`named("vessel.name").endsWith("7") && service.name == "tides"`: count(func(s *tracepb.Span) bool {
			return strings.HasSuffix(s.Attributes[0].Value.GetStringValue(), "7") && service[string(s.SpanId)] == "tides"
		}),
	} {
		q, err := question.Parse(when)
		require.NoError(t, err)
		total := 0
		for _, f := range functions(t, r, list, service) {
			h, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: f, When: q}, replay.Page{})
			require.NoError(t, err, when)
			total += h.Total
		}
		assert.Equal(t, want, total, when)
	}
	tracer, _ := r.(replay.Tracer)
	failing := map[string]bool{}
	for _, s := range list {
		if s.Status.Code == tracepb.Status_STATUS_CODE_ERROR {
			failing[string(s.TraceId)] = true
		}
	}
	q, err := question.Parse(`status == "error"`)
	require.NoError(t, err)
	got, err := tracer.Traces(context.Background(), q, replay.Page{Count: 3})
	require.NoError(t, err)
	assert.Equal(t, len(failing), got.Total)
	q, err = question.Parse(`vesel == "x"`)
	require.NoError(t, err)
	_, err = tracer.Traces(context.Background(), q, replay.Page{Count: 3})
	require.ErrorIs(t, err, fault.NoName)
}

func functions(t *testing.T, r history.Replay, list []*tracepb.Span, service map[string]string) []string {
	names := map[string]bool{}
	for _, s := range list {
		full := service[string(s.SpanId)] + "/" + strings.TrimPrefix(s.Name, service[string(s.SpanId)]+"/")
		found, err := r.Locate(context.Background(), replay.Checkpoint{Kind: "enter", About: full})
		require.NoError(t, err)
		require.Equal(t, full, found.About)
		names[full] = true
	}
	var out []string
	for n := range names {
		out = append(out, n)
	}
	return out
}

// TestWhatLiesBetween puts events, exceptions and logs where they belong, with their
// levels and values.
func TestWhatLiesBetween(t *testing.T) {
	t.Parallel()
	outer := span(1, 1, 0, "assign", 0, 1000)
	outer.Events = []*tracepb.Span_Event{{TimeUnixNano: epoch + 500, Name: "retry", Attributes: []*commonpb.KeyValue{number("try", 2)}}}
	inner := span(1, 2, 1, "reading", 400, 600)
	inner.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_ERROR, Message: "no such station"}
	inner.Events = []*tracepb.Span_Event{{TimeUnixNano: epoch + 550, Name: "exception", Attributes: []*commonpb.KeyValue{text("exception.type", "gannet.NoStation"), text("exception.message", "Skerry Gut"),
		text("exception.stacktrace", "goroutine 1 [running]:\nmain.reading(0x1)\n\t/srv/gannet/tides.go:31 +0x1d\nmain.main()\n\t/srv/gannet/main.go:9 +0x2\n")}}}
	b := binaryForm(t, batch("berths", outer, inner))
	logs, err := proto.Marshal(&logspb.LogsData{ResourceLogs: []*logspb.ResourceLogs{{Resource: batch("berths").Resource, ScopeLogs: []*logspb.ScopeLogs{{Scope: &commonpb.InstrumentationScope{Name: "gannet"}, LogRecords: []*logspb.LogRecord{
		{TimeUnixNano: epoch + 410, SeverityNumber: 13, Body: text("", "slow").Value, TraceId: id(1, 16), SpanId: id(2, 8), Attributes: []*commonpb.KeyValue{number("wait_ms", 7)}},
		{TimeUnixNano: epoch + 10, SeverityNumber: 9, SeverityText: "INFO", Body: text("", "outside of all spans").Value},
		{TimeUnixNano: epoch + 2000, SeverityNumber: 9, Body: text("", "after its span").Value, TraceId: id(1, 16), SpanId: id(1, 8)},
	}}}}}})
	require.NoError(t, err)
	r := open(t, append(b, logs...)) // messages one after the other are one message
	ctx := context.Background()
	hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "output"}, replay.Page{Count: 10})
	require.NoError(t, err)
	var label []string
	for _, m := range hits.Page {
		p, err := r.Place(m)
		require.NoError(t, err)
		label = append(label, p.Function+": "+r.Text(m))
	}
	assert.Equal(t, []string{"berths/log: outside of all spans", "berths/reading: slow", "berths/assign: retry", "berths/reading: gannet.NoStation: Skerry Gut", "berths/assign: after its span"}, label)
	value := func(m event.Moment, name string) string {
		th, err := r.ThreadOf(m)
		require.NoError(t, err)
		v, ok, err := r.Variable(ctx, m, th, 0, name)
		require.NoError(t, err)
		require.True(t, ok, name)
		return v.Value.Text()
	}
	assert.Equal(t, "7", value(hits.Page[1], "wait_ms"))
	assert.Equal(t, `"WARN"`, value(hits.Page[1], "level"))
	assert.Equal(t, "2", value(hits.Page[2], "try"))
	assert.Equal(t, time.Unix(0, int64(epoch+2000)).UTC().Format(time.RFC3339Nano), value(hits.Page[4], "time"), "its own time is kept")
	gap(t, r, "outside of the time of their span")
	f := r.Info().Failure
	require.NotNil(t, f)
	assert.Equal(t, hits.Page[3], f.Moment)
	assert.Equal(t, []replay.Cause{{Type: "gannet.NoStation", Message: "Skerry Gut"}}, f.Causes)
	frames, err := r.Frames(ctx, f.Moment, f.Thread)
	require.NoError(t, err)
	var names []string
	for _, x := range frames {
		names = append(names, fmt.Sprint(x.Function, ":", x.Line))
	}
	assert.Equal(t, []string{"main.reading:31", "main.main:9", "berths/reading:0", "berths/assign:0"}, names)
	assert.True(t, frames[0].Own)
	// The retry was said by the outer span while the inner one was open.
	th, err := r.ThreadOf(hits.Page[2])
	require.NoError(t, err)
	at, why, err := r.Step(ctx, hits.Page[2], th, replay.Step{Way: replay.Out})
	require.NoError(t, err)
	assert.NotEqual(t, hits.Page[2], at, why)
	writes, err := r.Writes(ctx, "exception.type", f.Moment, f.Thread, 0, replay.Page{Count: 5})
	require.NoError(t, err)
	assert.Equal(t, 1, writes.Total)
}

// TestSharedNames takes an operation that several services name alike as all of theirs.
func TestSharedNames(t *testing.T) {
	t.Parallel()
	r := open(t, binaryForm(t, batch("arrivals", span(1, 1, 0, "POST /berths", 0, 100)), batch("berths", span(1, 2, 1, "POST /berths", 10, 90), span(1, 3, 2, "assign", 20, 30)), batch("tides", span(1, 4, 3, "assign", 22, 28))))
	for name, want := range map[string]int{"POST /berths": 2, "arrivals/POST /berths": 1, "assign": 2, "tides/assign": 1} {
		h, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: name}, replay.Page{})
		require.NoError(t, err, name)
		assert.Equal(t, want, h.Total, name)
	}
	_, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: "notices/assign"}, replay.Page{})
	require.ErrorIs(t, err, fault.NoCode)
}

// TestSkew shifts what a clock that is behind lets begin before its caller, and says so.
func TestSkew(t *testing.T) {
	t.Parallel()
	caller := span(1, 1, 0, "assign", 10_000, 20_000)
	called := span(1, 2, 1, "reading", 2_000, 6_000) // by a clock that is 8 µs and more behind
	within := span(1, 3, 2, "look up", 3_000, 5_000)
	r := open(t, binaryForm(t, batch("berths", caller), batch("tides", called, within)))
	gap(t, r, "the clock of tides is behind that of berths")
	tracer, _ := r.(replay.Tracer)
	spans, err := tracer.Spans(context.Background(), fmt.Sprintf("%032x", 1))
	require.NoError(t, err)
	assert.Equal(t, []time.Duration{0, 3000, 4000}, []time.Duration{spans[0].Start, spans[1].Start, spans[2].Start}, "in the middle of the caller")
	assert.Equal(t, time.Duration(4000), spans[1].Duration)
}

// TestBadSpans opens contradictory spans, keeps the correct parts, and checks the gaps.
func TestBadSpans(t *testing.T) {
	t.Parallel()
	circle := []*tracepb.Span{span(1, 1, 3, "a", 0, 10), span(1, 2, 1, "b", 0, 10), span(1, 3, 2, "c", 0, 10), span(1, 4, 4, "d", 0, 10)}
	backwards := span(2, 1, 0, "assign", 500, 100)
	many := span(3, 1, 0, "many", 0, 10)
	for i := range 1_000_000 {
		many.Attributes = append(many.Attributes, number(fmt.Sprintf("key%d", i), int64(i)))
	}
	invalid := span(4, 1, 0, "assign", 0, 10, &commonpb.KeyValue{Key: "name", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_BytesValue{BytesValue: []byte("x")}}})
	future := span(5, 1, 0, "assign", 0, 10)
	future.StartTimeUnixNano, future.EndTimeUnixNano = math.MaxUint64-5, math.MaxUint64
	noTrace := span(6, 1, 0, "assign", 0, 10)
	noTrace.TraceId = []byte{1, 2}
	for what, x := range map[string]struct {
		spans []*tracepb.Span
		gap   string
		total int
	}{
		"a circle":            {circle, "their own ancestors", 1},
		"end before start":    {[]*tracepb.Span{backwards}, "end before they start", 1},
		"no parent":           {[]*tracepb.Span{span(1, 2, 9, "assign", 0, 10)}, "without their parent in this evidence", 1},
		"many attributes":     {[]*tracepb.Span{many}, "attributes beyond the 16384", 1},
		"the far future":      {[]*tracepb.Span{future, span(7, 1, 0, "now", 0, 10)}, "beyond the year 2262", 2},
		"twice":               {[]*tracepb.Span{span(8, 1, 0, "a", 0, 10), span(8, 1, 0, "a", 0, 10)}, "arrived more than once", 1},
		"the same ID":         {[]*tracepb.Span{span(8, 1, 0, "a", 0, 10), span(8, 1, 0, "b", 5, 30)}, "have another one's ID", 1},
		"no trace ID":         {[]*tracepb.Span{noTrace}, "without a valid trace ID", 1},
		"bytes and no times":  {[]*tracepb.Span{invalid, {TraceId: id(4, 16), SpanId: id(2, 8), ParentSpanId: id(1, 8), Name: "timeless"}}, "without a time", 1},
		"after its parent":    {[]*tracepb.Span{span(9, 1, 0, "a", 0, 10), span(9, 2, 1, "b", 50, 60)}, "begin after their parent has ended", 1},
		"before its own kind": {[]*tracepb.Span{span(9, 1, 0, "a", 20, 30), span(9, 2, 1, "b", 5, 60)}, "by the same clock", 1},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			r := open(t, binaryForm(t, batch("berths", x.spans...)))
			gap(t, r, x.gap)
			tracer, ok := r.(replay.Tracer)
			require.True(t, ok)
			list, err := tracer.Traces(context.Background(), nil, replay.Page{Count: 10})
			require.NoError(t, err)
			assert.Equal(t, x.total, list.Total)
			for _, tr := range list.Page {
				_, err := tracer.Spans(context.Background(), tr.ID)
				require.NoError(t, err)
				th, err := r.ThreadOf(tr.Moment)
				require.NoError(t, err)
				frames, err := r.Frames(context.Background(), tr.Moment, th)
				require.NoError(t, err)
				assert.NotEmpty(t, frames)
			}
		})
	}
}

// TestDamage cuts a file off everywhere and spoils its bytes: what is whole is read,
// and the rest is a gap.
func TestDamage(t *testing.T) {
	t.Parallel()
	var batches []*tracepb.ResourceSpans
	for i := range uint64(12) {
		batches = append(batches, batch("berths", span(i+1, 1, 0, "assign", i*10, i*10+5, text("quay", "Kelp Quay"))))
	}
	whole := binaryForm(t, batches...)
	one := len(whole) / len(batches)
	for cut := one; cut < len(whole); cut += 7 {
		r, err := kinds.All.Open(context.Background(), write(t, whole[:cut]), evidence.Options{As: "event-trace"}, nil)
		require.NoError(t, err)
		if cut%one != 0 {
			gap(t, r, "incomplete field at byte")
		}
		assert.GreaterOrEqual(t, r.Info().Moments, int64(2*(cut/one)))
	}
	random := rand.New(rand.NewPCG(2, 2))
	for range 300 {
		spoiled := bytes.Clone(whole)
		for range 1 + random.IntN(4) {
			spoiled[random.IntN(len(spoiled))] = byte(random.Uint32())
		}
		if r, err := kinds.All.Open(context.Background(), write(t, spoiled), evidence.Options{As: "event-trace"}, nil); err == nil {
			r.Info()
		}
	}
	lines := append(append(jsonForm(t, batches[0]), []byte("{\"resourceSpans\":[{\"scopeSpans\":[{\"spans\":[{\"traceId\":\"zz\"}]}]}]}\n{\"resourceMetrics\":[]}\n{\"other\":1}\n{\"broken\n")...), jsonForm(t, batches[1])...)
	r := open(t, lines)
	assert.Equal(t, int64(4), r.Info().Moments, "both good lines are there")
	gap(t, r, "unexpected type of the value that ends at byte")
	gap(t, r, "batches of metrics")
	gap(t, r, "not OTLP traces or logs")
	gap(t, r, "at byte")
}

// TestInvalidUTF8 shows the valid part of invalid texts.
func TestInvalidUTF8(t *testing.T) {
	t.Parallel()
	b := binaryForm(t, batch("berths", span(1, 1, 0, "assign", 0, 10, text("quay", "Kelp Quay"))))
	b = bytes.ReplaceAll(b, []byte("Kelp"), []byte("K\xff\xfep"))
	b = bytes.ReplaceAll(b, []byte("assign"), []byte("as\xffign"))
	r := open(t, b)
	v, ok, err := r.Variable(context.Background(), 0, 1, 0, "quay")
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, "K\ufffdp Quay", v.Value.Value.Text)
	p, err := r.Place(0)
	require.NoError(t, err)
	assert.Equal(t, "berths/as\ufffdign", p.Function)
}

// TestHugeText keeps the beginning of a text of 100 MB, in either form.
func TestHugeText(t *testing.T) {
	t.Parallel()
	huge := strings.Repeat("x", 100<<20)
	s := span(1, 1, 0, "assign", 0, 10, text("letter", huge))
	for _, b := range [][]byte{binaryForm(t, batch("berths", s)), jsonForm(t, batch("berths", s))} {
		r := open(t, b)
		v, ok, err := r.Variable(context.Background(), 0, 1, 0, "letter")
		require.NoError(t, err)
		require.True(t, ok)
		assert.Equal(t, uint64(len(huge)), v.Value.Whole)
		assert.LessOrEqual(t, len(v.Value.Value.Text), 1<<20)
	}
}

// TestSameInstant finds the moment of the same trace, or of the same time, in other evidence.
func TestSameInstant(t *testing.T) {
	t.Parallel()
	r := open(t, binaryForm(t, batch("berths", span(7, 1, 0, "assign", 1_000_000, 9_000_000), span(8, 1, 0, "assign", 2_000_000, 3_000_000))))
	clock, ok := r.(replay.Clock)
	require.True(t, ok)
	at := time.Unix(0, int64(epoch+2_500_000))
	m := clock.MomentAt(at)
	got, err := clock.InstantOf(m)
	require.NoError(t, err)
	assert.Equal(t, int64(epoch+2_000_000), got.UnixNano())
	assert.Equal(t, fmt.Sprintf("%032x", 8), clock.TraceOn(context.Background(), m))
	m, ok = clock.MomentOfTrace(context.Background(), fmt.Sprintf("%032x", 8), time.Unix(0, int64(epoch+8_000_000)))
	require.True(t, ok)
	got, err = clock.InstantOf(m)
	require.NoError(t, err)
	assert.Equal(t, int64(epoch+3_000_000), got.UnixNano(), "not after the trace's end")
	_, ok = clock.MomentOfTrace(context.Background(), fmt.Sprintf("%032x", 9), at)
	assert.False(t, ok)
}

// link returns a link with attributes.
func link(traceID, spanID byte, attributes ...*commonpb.KeyValue) *tracepb.Span_Link {
	return &tracepb.Span_Link{TraceId: bytes.Repeat([]byte{traceID}, 16), SpanId: bytes.Repeat([]byte{spanID}, 8), TraceState: "vendor=1", Attributes: attributes}
}

// What a span says beside its attributes is kept and found: the attributes of its links, its trace state, and the
// attributes of its resource and scope, also those of log records.
func TestEverythingThatASpanSays(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := span(1, 1, 0, "assign", 0, 100, text("quay", "Kelp"))
	s.TraceState = "rojo=00f067aa0ba902b7"
	s.Links = []*tracepb.Span_Link{link(7, 8, text("reason", "retry of a batch")), link(7, 9, text("reason", "split"))}
	b := batch("berths", s)
	b.ScopeSpans[0].Scope = &commonpb.InstrumentationScope{Name: "gannet/berths", Version: "1.4", Attributes: []*commonpb.KeyValue{text("team", "harbour watch")}}
	b.Resource.Attributes = append(b.Resource.Attributes, text("deployment.environment", "outer sound"))
	r := open(t, binaryForm(t, b))
	spans, err := r.(replay.Tracer).Spans(ctx, fmt.Sprintf("%032x", 1))
	require.NoError(t, err)
	require.Len(t, spans, 1)
	require.Len(t, spans[0].Links, 2)
	for i, want := range []string{"retry of a batch", "split"} {
		values := map[string]string{}
		for _, a := range spans[0].Links[i].Attributes {
			values[a.Name] = a.Value.Value.Text
		}
		assert.Equal(t, map[string]string{"reason": want, "traceState": "vendor=1"}, values)
	}
	for _, wanted := range []string{"retry of a batch", "split", "rojo=00f067aa0ba902b7", "harbour watch", "outer sound"} {
		found, err := r.Search(ctx, replay.Search{Text: wanted}, replay.Page{Count: 5})
		require.NoError(t, err)
		assert.Equal(t, 1, found.Total, wanted)
	}
	for _, condition := range []string{`link.reason == "retry of a batch"`, `link2.reason == "split"`, `traceState.startsWith("rojo")`, `scope.team == "harbour watch"`, `deployment.environment == "outer sound"`} {
		q, err := question.Parse(condition)
		require.NoError(t, err)
		list, err := r.(replay.Tracer).Traces(ctx, q, replay.Page{Count: 5})
		require.NoError(t, err, condition)
		assert.Equal(t, 1, list.Total, condition)
	}
}

// A condition on a trace holds if it holds for one of its spans, with the values of this one.
func TestConditionsOnAnySpan(t *testing.T) {
	t.Parallel()
	r := open(t, binaryForm(t, batch("berths", span(1, 1, 0, "assign", 0, 100, text("quay", "Kelp")), span(1, 2, 1, "read", 10, 30, text("table", "tides"))), batch("cranes", span(1, 3, 1, "lift", 40, 90, text("crane", "Old Salt")))))
	for condition, want := range map[string]int{
		`operation == "lift"`: 1, `operation == "lift" && crane == "Old Salt"`: 1, `operation == "lift" && quay == "Kelp"`: 0, `operation == "read" && table == "tides"`: 1,
		`service == "cranes"`: 1, `service == "cranes" && operation == "read"`: 0, `duration == duration("100ns")`: 1, `duration == duration("20ns")`: 1, `operation == "lift" && duration < duration("20ns")`: 0,
	} {
		q, err := question.Parse(condition)
		require.NoError(t, err)
		list, err := r.(replay.Tracer).Traces(context.Background(), q, replay.Page{Count: 5})
		require.NoError(t, err, condition)
		assert.Equal(t, want, list.Total, condition)
	}
}

// A clock that is ahead is corrected like one that is behind: what a service did is within the call of it. The time that
// was sent stays known. A step into the call enters it.
func TestClocksThatAreAhead(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for name, shift := range map[string]int64{"ahead": 5000, "behind": -5000} {
		caller, callee := span(1, 1, 0, "assign", 100_000, 101_000), span(1, 2, 1, "lift", uint64(100_200+shift), uint64(100_700+shift))
		caller.Kind, callee.Kind = tracepb.Span_SPAN_KIND_CLIENT, tracepb.Span_SPAN_KIND_SERVER
		r := open(t, binaryForm(t, batch("berths", caller), batch("cranes", callee)))
		spans, err := r.(replay.Tracer).Spans(ctx, fmt.Sprintf("%032x", 1))
		require.NoError(t, err)
		require.Len(t, spans, 2, name)
		assert.Equal(t, time.Duration(250), spans[1].Start, name)
		assert.Equal(t, time.Duration(500), spans[1].Duration, name)
		started, ok, err := r.Variable(ctx, spans[1].Moment, spans[1].Thread, 0, "startTime")
		require.NoError(t, err)
		require.True(t, ok)
		assert.EqualValues(t, 100_200+shift, started.Value.Int-int64(epoch), name)
		assert.Contains(t, fmt.Sprint(r.Info().Gaps), "the clock of cranes is "+name)
		m, why, err := r.(replay.Stepper).Step(ctx, spans[0].Moment, spans[0].Thread, replay.Step{Way: replay.Into})
		require.NoError(t, err)
		assert.Equal(t, spans[1].Moment, m)
		assert.Equal(t, replay.ReachedCall, why)
		m, _, err = r.(replay.Stepper).Step(ctx, spans[1].Moment, spans[1].Thread, replay.Step{Way: replay.Into, Back: true})
		require.NoError(t, err)
		assert.Equal(t, spans[0].Moment, m)
	}
}
