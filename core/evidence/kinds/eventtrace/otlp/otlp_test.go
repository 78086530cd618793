package otlp

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	logspb "go.opentelemetry.io/proto/otlp/logs/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
)

// A maker makes messages at random, with the types that OpenTelemetry publishes.
type maker struct{ *rand.Rand }

func newMaker(seed uint64) maker { return maker{rand.New(rand.NewPCG(seed, 8))} }

func (m maker) text() string {
	return []string{"", "fog", "Kelp Quay 3", "größe", strings.Repeat("swell ", 60)}[m.IntN(5)]
}

func (m maker) id(size int) []byte {
	if m.IntN(10) == 0 {
		size = m.IntN(20)
	}
	b := make([]byte, size)
	if m.IntN(10) > 0 {
		for i := range b {
			b[i] = byte(m.Uint32())
		}
	}
	return b
}

func (m maker) value(depth int) *commonpb.AnyValue {
	kind := m.IntN(8)
	if depth > 3 && kind > 4 {
		kind = 1
	}
	switch kind {
	case 0:
		return &commonpb.AnyValue{}
	case 1:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: m.text()}}
	case 2:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_BoolValue{BoolValue: m.IntN(2) == 0}}
	case 3:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: int64(m.Uint64() >> m.IntN(64))}}
	case 4:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_DoubleValue{DoubleValue: []float64{0, -1.5, math.Inf(1), math.Inf(-1), m.NormFloat64(), 1e300}[m.IntN(6)]}}
	case 5:
		list := &commonpb.ArrayValue{}
		for range m.IntN(4) {
			list.Values = append(list.Values, m.value(depth+1))
		}
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: list}}
	case 6:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_KvlistValue{KvlistValue: &commonpb.KeyValueList{Values: m.attributes(depth + 1)}}}
	}
	return &commonpb.AnyValue{Value: &commonpb.AnyValue_BytesValue{BytesValue: m.id(m.IntN(9))}}
}

func (m maker) attributes(depth int) (list []*commonpb.KeyValue) {
	for range m.IntN(4) {
		list = append(list, &commonpb.KeyValue{Key: m.text(), Value: m.value(depth)})
	}
	return list
}

func (m maker) span() *tracepb.Span {
	s := &tracepb.Span{TraceId: m.id(16), SpanId: m.id(8), ParentSpanId: m.id(8), TraceState: m.text(), Name: m.text(), Kind: tracepb.Span_SpanKind(m.IntN(6)), StartTimeUnixNano: m.Uint64(), EndTimeUnixNano: m.Uint64(),
		Attributes: m.attributes(0), DroppedAttributesCount: m.Uint32() >> m.IntN(32), DroppedEventsCount: m.Uint32() >> m.IntN(32), DroppedLinksCount: m.Uint32() >> m.IntN(32), Flags: m.Uint32()}
	if m.IntN(2) == 0 {
		s.Status = &tracepb.Status{Code: tracepb.Status_StatusCode(m.IntN(3)), Message: m.text()}
	}
	for range m.IntN(3) {
		s.Events = append(s.Events, &tracepb.Span_Event{TimeUnixNano: m.Uint64(), Name: m.text(), Attributes: m.attributes(0), DroppedAttributesCount: uint32(m.IntN(9))})
		s.Links = append(s.Links, &tracepb.Span_Link{TraceId: m.id(16), SpanId: m.id(8), TraceState: m.text(), Attributes: m.attributes(0)})
	}
	return s
}

func (m maker) log() *logspb.LogRecord {
	return &logspb.LogRecord{TimeUnixNano: m.Uint64(), ObservedTimeUnixNano: 1 + m.Uint64()>>1, SeverityNumber: logspb.SeverityNumber(m.IntN(25)), SeverityText: m.text(), Body: m.value(0), Attributes: m.attributes(0),
		DroppedAttributesCount: uint32(m.IntN(9)), Flags: m.Uint32(), TraceId: m.id(16), SpanId: m.id(8), EventName: m.text()}
}

func (m maker) resource() *resourcepb.Resource {
	if m.IntN(4) == 0 {
		return nil
	}
	return &resourcepb.Resource{Attributes: m.attributes(0)}
}

func (m maker) scope() *commonpb.InstrumentationScope {
	if m.IntN(4) == 0 {
		return nil
	}
	return &commonpb.InstrumentationScope{Name: m.text(), Version: m.text(), Attributes: m.attributes(0)}
}

func (m maker) traces() *tracepb.TracesData {
	d := &tracepb.TracesData{}
	for range 1 + m.IntN(3) {
		r := &tracepb.ResourceSpans{Resource: m.resource(), SchemaUrl: m.text()}
		for range 1 + m.IntN(3) {
			s := &tracepb.ScopeSpans{Scope: m.scope(), SchemaUrl: m.text()}
			for range m.IntN(4) {
				s.Spans = append(s.Spans, m.span())
			}
			r.ScopeSpans = append(r.ScopeSpans, s)
		}
		d.ResourceSpans = append(d.ResourceSpans, r)
	}
	return d
}

func (m maker) logs() *logspb.LogsData {
	d := &logspb.LogsData{}
	for range 1 + m.IntN(3) {
		r := &logspb.ResourceLogs{Resource: m.resource()}
		for range 1 + m.IntN(3) {
			s := &logspb.ScopeLogs{Scope: m.scope()}
			for range m.IntN(4) {
				s.LogRecords = append(s.LogRecords, m.log())
			}
			r.ScopeLogs = append(r.ScopeLogs, s)
		}
		d.ResourceLogs = append(d.ResourceLogs, r)
	}
	return d
}

func marshal(t testing.TB, m proto.Message) []byte {
	b, err := proto.Marshal(m)
	require.NoError(t, err)
	return b
}

// fromValue builds the message of a value that was read.
func fromValue(t *testing.T, b []byte) *commonpb.AnyValue {
	v, err := ParseValue(b)
	require.NoError(t, err)
	switch v.Kind {
	case StringValue:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: string(v.Bytes)}}
	case BoolValue:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_BoolValue{BoolValue: v.Plain != 0}}
	case IntValue:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: v.Int()}}
	case DoubleValue:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_DoubleValue{DoubleValue: v.Double()}}
	case BytesValue:
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_BytesValue{BytesValue: v.Bytes}}
	case ArrayValue:
		list := &commonpb.ArrayValue{}
		items, err := v.Items()
		require.NoError(t, err)
		for _, x := range items {
			list.Values = append(list.Values, fromValue(t, x))
		}
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_ArrayValue{ArrayValue: list}}
	case MapValue:
		items, err := v.Items()
		require.NoError(t, err)
		return &commonpb.AnyValue{Value: &commonpb.AnyValue_KvlistValue{KvlistValue: &commonpb.KeyValueList{Values: fromAttributes(t, items)}}}
	}
	return &commonpb.AnyValue{}
}

func fromAttributes(t *testing.T, list [][]byte) (out []*commonpb.KeyValue) {
	for _, b := range list {
		key, value, err := ParseAttribute(b)
		require.NoError(t, err)
		out = append(out, &commonpb.KeyValue{Key: string(key), Value: fromValue(t, value)})
	}
	return out
}

func equal(t *testing.T, want, got proto.Message, label string) {
	t.Helper()
	require.True(t, proto.Equal(want, got), "%s:\nwant %v\ngot  %v", label, want, got)
}

// Spans are read in place as the published types read them.
func TestSpans(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		d := newMaker(seed).traces()
		data := marshal(t, d)
		var s Span
		var e Event
		at := [3]int{} // resource, scope, span
		n, bad := 0, 0
		const base = 1 << 40
		err := Walk(data, base, func(r *Record) error {
			for at[2] == len(d.ResourceSpans[at[0]].ScopeSpans[at[1]].Spans) {
				if at[1], at[2] = at[1]+1, 0; at[1] == len(d.ResourceSpans[at[0]].ScopeSpans) {
					at[0], at[1] = at[0]+1, 0
				}
			}
			resource, scope := d.ResourceSpans[at[0]].Resource, d.ResourceSpans[at[0]].ScopeSpans[at[1]].Scope
			want := d.ResourceSpans[at[0]].ScopeSpans[at[1]].Spans[at[2]]
			at[2]++
			n++
			label := fmt.Sprintf("seed %d, span %d", seed, n)
			require.Equal(t, marshal(t, want), r.Message, label)
			require.Equal(t, r.Message, data[r.At-base:][:len(r.Message)], label)
			if len(r.Message) > 0 && (len(want.TraceId) > 0 || len(want.SpanId) > 0 || want.StartTimeUnixNano > 0) {
				require.Equal(t, SpanRecord, r.Kind, label)
			}
			attributes, err := ParseResource(r.Resource)
			require.NoError(t, err)
			if resource != nil {
				equal(t, resource, &resourcepb.Resource{Attributes: fromAttributes(t, attributes)}, label)
			} else {
				require.Empty(t, attributes)
			}
			x, err := ParseScope(r.Scope)
			require.NoError(t, err)
			if scope != nil {
				equal(t, scope, &commonpb.InstrumentationScope{Name: string(x.Name), Version: string(x.Version), Attributes: fromAttributes(t, x.Attributes)}, label)
			}
			require.NoError(t, s.Parse(r.Message))
			got := &tracepb.Span{TraceId: s.TraceID, SpanId: s.SpanID, ParentSpanId: s.ParentID, TraceState: string(s.State), Name: string(s.Name), Kind: tracepb.Span_SpanKind(s.Kind), StartTimeUnixNano: s.Start, EndTimeUnixNano: s.End,
				Attributes: fromAttributes(t, s.Attributes)}
			require.EqualValues(t, uint64(want.DroppedAttributesCount)+uint64(want.DroppedEventsCount)+uint64(want.DroppedLinksCount), s.Dropped, label)
			if want.Status != nil {
				got.Status = &tracepb.Status{Code: tracepb.Status_StatusCode(s.Status), Message: string(s.StatusMessage)}
			} else {
				require.Zero(t, s.Status)
				require.Empty(t, s.StatusMessage)
			}
			for _, b := range s.Events {
				require.NoError(t, e.Parse(b))
				got.Events = append(got.Events, &tracepb.Span_Event{TimeUnixNano: e.Time, Name: string(e.Name), Attributes: fromAttributes(t, e.Attributes), DroppedAttributesCount: uint32(e.Dropped)})
			}
			for i, b := range s.Links {
				trace, span, err := ParseLink(b)
				require.NoError(t, err)
				got.Links = append(got.Links, &tracepb.Span_Link{TraceId: trace, SpanId: span, TraceState: want.Links[i].TraceState, Attributes: want.Links[i].Attributes})
			}
			got.Flags, got.DroppedAttributesCount, got.DroppedEventsCount, got.DroppedLinksCount = want.Flags, want.DroppedAttributesCount, want.DroppedEventsCount, want.DroppedLinksCount
			equal(t, want, got, label)
			if len(want.TraceId) != 16 || len(want.SpanId) != 8 || bytes.Count(want.TraceId, []byte{0}) == 16 || bytes.Count(want.SpanId, []byte{0}) == 8 {
				bad++
			}
			id, err := r.TraceID()
			require.NoError(t, err)
			require.True(t, bytes.Equal(want.TraceId, id))
			return nil
		}, func(at int64, err error) error { return err })
		require.NoError(t, err)
		counts, err := Check(data)
		require.NoError(t, err)
		require.Equal(t, Counts{Spans: n, BadSpans: bad}, counts, "seed %d", seed)
	}
}

// Log records are read in place as the published types read them.
func TestLogs(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		d := newMaker(seed).logs()
		var want []*logspb.LogRecord
		for _, r := range d.ResourceLogs {
			for _, s := range r.ScopeLogs {
				want = append(want, s.LogRecords...)
			}
		}
		data := marshal(t, d)
		var l Log
		n := 0
		err := Walk(data, 0, func(r *Record) error {
			w := want[n]
			n++
			label := fmt.Sprintf("seed %d, record %d", seed, n)
			require.Equal(t, LogRecord, r.Kind, label)
			require.NoError(t, l.Parse(r.Message))
			equal(t, w, &logspb.LogRecord{TimeUnixNano: l.Time, ObservedTimeUnixNano: l.Observed, SeverityNumber: logspb.SeverityNumber(l.Severity), SeverityText: string(l.SeverityText), Body: fromValue(t, l.Body), EventName: string(l.EventName),
				Attributes: fromAttributes(t, l.Attributes), TraceId: l.TraceID, SpanId: l.SpanID, DroppedAttributesCount: uint32(l.Dropped), Flags: w.Flags}, label)
			return nil
		}, func(_ int64, err error) error { return err })
		require.NoError(t, err)
		require.Len(t, want, n)
		counts, err := Check(data)
		require.NoError(t, err)
		require.Equal(t, Counts{Logs: n}, counts)
	}
}

// A request is parted by trace; both parts together hold each record once, with its resource
// and scope.
func TestSplit(t *testing.T) {
	t.Parallel()
	list := func(b []byte) (out []string) {
		err := Walk(b, 0, func(r *Record) error {
			out = append(out, fmt.Sprintf("%x %x %x", r.Resource, r.Scope, r.Message))
			return nil
		}, func(_ int64, err error) error { return err })
		require.NoError(t, err)
		return out
	}
	for seed := range uint64(200) {
		m := newMaker(seed)
		data := append(marshal(t, m.traces()), marshal(t, m.logs())...)
		apart := func(id []byte) bool { return id[15]%2 == 0 }
		rest, other, err := Split(data, apart)
		require.NoError(t, err)
		var wantRest, wantOther []string
		require.NoError(t, Walk(data, 0, func(r *Record) error {
			id, err := r.TraceID()
			require.NoError(t, err)
			x := fmt.Sprintf("%x %x %x", r.Resource, r.Scope, r.Message)
			if len(id) == 16 && bytes.Count(id, []byte{0}) < 16 && apart(id) {
				wantOther = append(wantOther, x)
			} else {
				wantRest = append(wantRest, x)
			}
			return nil
		}, func(_ int64, err error) error { return err }))
		require.Equal(t, wantRest, list(rest), "seed %d", seed)
		require.Equal(t, wantOther, list(other), "seed %d", seed)
		all, none, err := Split(data, func([]byte) bool { return false })
		require.NoError(t, err)
		require.Empty(t, none)
		require.Len(t, list(all), len(wantRest)+len(wantOther))
		_, _, err = Split(data[:len(data)-1], apart)
		if err != nil {
			require.ErrorIs(t, err, ErrMalformed)
		}
	}
}

// idMembers are written in base64 by the library, and in hexadecimal by OTLP.
var idMembers = regexp.MustCompile(`"(traceId|spanId|parentSpanId|trace_id|span_id|parent_span_id)":\s*"([^"]*)"`)

func otlpJSON(t *testing.T, m proto.Message, o protojson.MarshalOptions) string {
	b, err := o.Marshal(m)
	require.NoError(t, err)
	return idMembers.ReplaceAllStringFunc(string(b), func(s string) string {
		parts := idMembers.FindStringSubmatch(s)
		id, err := base64.StdEncoding.DecodeString(parts[2])
		require.NoError(t, err)
		return fmt.Sprintf(`"%s":"%s"`, parts[1], strings.ToUpper(hex.EncodeToString(id)))
	})
}

// JSON in each of its spellings becomes the message that it represents.
func TestJSON(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		m := newMaker(seed)
		o := protojson.MarshalOptions{UseProtoNames: m.IntN(2) == 0, UseEnumNumbers: true, EmitUnpopulated: m.IntN(2) == 0, Multiline: m.IntN(2) == 0}
		traces, logs := m.traces(), m.logs()
		text := otlpJSON(t, traces, o) + "\n" + otlpJSON(t, logs, o)
		require.True(t, IsJSON([]byte(text)))
		var out bytes.Buffer
		x := NewTranscoder(iotest.HalfReader(strings.NewReader(text)), &out)
		require.NoError(t, x.Next(), "seed %d: %s", seed, text)
		var gotTraces tracepb.TracesData
		require.NoError(t, proto.Unmarshal(out.Bytes(), &gotTraces))
		out.Reset()
		require.NoError(t, x.Next(), "seed %d: %s", seed, text)
		var gotLogs logspb.LogsData
		require.NoError(t, proto.Unmarshal(out.Bytes(), &gotLogs))
		require.ErrorIs(t, x.Next(), io.EOF)
		require.EqualValues(t, len(text), x.At())

		// Scopes without records and parts without scopes are left out, and so are schemas.
		for _, r := range traces.ResourceSpans {
			r.SchemaUrl = ""
			r.Resource = proto.ValueOrDefault(r.Resource)
			kept := r.ScopeSpans[:0]
			for _, s := range r.ScopeSpans {
				if s.SchemaUrl = ""; len(s.Spans) > 0 {
					s.Scope = proto.ValueOrDefault(s.Scope)
					for _, span := range s.Spans {
						if o.EmitUnpopulated && span.Status == nil {
							continue
						}
					}
					kept = append(kept, s)
				}
			}
			r.ScopeSpans = kept
		}
		want := &tracepb.TracesData{}
		for _, r := range traces.ResourceSpans {
			if len(r.ScopeSpans) > 0 {
				want.ResourceSpans = append(want.ResourceSpans, r)
			}
		}
		got := mergeTraces(&gotTraces)
		equal(t, mergeTraces(want), got, fmt.Sprint("seed ", seed))
		records := 0
		for _, r := range logs.ResourceLogs {
			for _, s := range r.ScopeLogs {
				for _, l := range s.LogRecords {
					equal(t, l, logAt(t, &gotLogs, records), fmt.Sprint("seed ", seed))
					records++
				}
			}
		}
	}
}

func logAt(t *testing.T, d *logspb.LogsData, n int) *logspb.LogRecord {
	for _, r := range d.ResourceLogs {
		for _, s := range r.ScopeLogs {
			if n < len(s.LogRecords) {
				return s.LogRecords[n]
			}
			n -= len(s.LogRecords)
		}
	}
	require.FailNow(t, "a record is missing")
	return nil
}

// mergeTraces joins parts of the same resource: if a resource follows its scopes, all of them come
// as one part, else each scope comes as its own part.
func mergeTraces(d *tracepb.TracesData) *tracepb.TracesData {
	out := &tracepb.TracesData{}
	for _, r := range d.ResourceSpans {
		for _, s := range r.ScopeSpans {
			out.ResourceSpans = append(out.ResourceSpans, &tracepb.ResourceSpans{Resource: r.Resource, ScopeSpans: []*tracepb.ScopeSpans{s}})
		}
	}
	return out
}

func TestJSONSpellings(t *testing.T) {
	t.Parallel()
	transcode := func(text string) (*tracepb.TracesData, *Transcoder, error) {
		var out bytes.Buffer
		x := NewTranscoder(strings.NewReader(text), &out)
		err := x.Next()
		var d tracepb.TracesData
		require.NoError(t, proto.Unmarshal(out.Bytes(), &d))
		return &d, x, err
	}
	span := func(members string) string {
		return `{"resourceSpans":[{"resource":{},"scopeSpans":[{"scope":{},"spans":[{` + members + `}]}]}]}`
	}
	for members, want := range map[string]*tracepb.Span{
		`"kind":"SPAN_KIND_SERVER"`:                                        {Kind: 2},
		`"kind":"SPAN_KIND_UNSPECIFIED"`:                                   {},
		`"kind":3`:                                                         {Kind: 3},
		`"startTimeUnixNano":"18446744073709551615"`:                       {StartTimeUnixNano: math.MaxUint64},
		`"startTimeUnixNano":1.5e18`:                                       {StartTimeUnixNano: 15e17},
		`"status":{"code":"STATUS_CODE_ERROR"}`:                            {Status: &tracepb.Status{Code: 2}},
		`"status":null,"name":null,"attributes":null,"later":{"a":[1,{}]}`: {},
		`"attributes":[{"key":"x","value":{"doubleValue":"NaN"}}]`:         {Attributes: []*commonpb.KeyValue{{Key: "x", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_DoubleValue{DoubleValue: math.NaN()}}}}},
		`"attributes":[{"key":"x","value":{"bytesValue":"_-8"}}]`:          {Attributes: []*commonpb.KeyValue{{Key: "x", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_BytesValue{BytesValue: []byte{0xff, 0xef}}}}}},
		`"attributes":[{"key":"x","value":{"intValue":-7}}]`:               {Attributes: []*commonpb.KeyValue{{Key: "x", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: -7}}}}},
	} {
		d, _, err := transcode(span(members))
		require.NoError(t, err, members)
		equal(t, want, d.ResourceSpans[0].ScopeSpans[0].Spans[0], members)
	}
	// The resource and the scope may come after what belongs to them.
	d, _, err := transcode(`{"resourceSpans":[{"scopeSpans":[{"spans":[{"name":"a"}],"scope":{"name":"s"}},{"spans":[{"name":"b"}]}],"resource":{"attributes":[{"key":"k"}]}}]}`)
	require.NoError(t, err)
	require.Len(t, d.ResourceSpans, 1)
	assert.Equal(t, "k", d.ResourceSpans[0].Resource.Attributes[0].Key)
	assert.Equal(t, "s", d.ResourceSpans[0].ScopeSpans[0].Scope.Name)
	assert.Empty(t, d.ResourceSpans[0].ScopeSpans[1].Scope.GetName())
	_, x, err := transcode(`{"resourceMetrics":[{"a":1}]}`)
	require.NoError(t, err)
	assert.Equal(t, 1, x.Others)
	_, _, err = transcode(`{"tide":"high"}`)
	require.ErrorIs(t, err, ErrOther)

	for _, text := range []string{`{`, `{"resourceSpans":[`, `{"resourceSpans":{}}`, `{"resourceSpans":"x"}`, `[1]`, span(`"traceId":"xyz"`), span(`"traceId":5`), span(`"name":5`), span(`"kind":"TEA"`), span(`"kind":true`),
		span(`"startTimeUnixNano":"1.5"`), span(`"startTimeUnixNano":1e30`), span(`"attributes":[{"value":{"boolValue":"true"}}]`), span(`"attributes":[{"value":{"bytesValue":"?"}}]`), span(`"attributes":[{"value":{"doubleValue":"x"}}]`),
		span(`"attributes":[{"value":` + strings.Repeat(`{"arrayValue":{"values":[`, 60) + strings.Repeat(`]}}`, 60) + `}]`), "{\x00}"} {
		_, _, err := transcode(text)
		require.ErrorIs(t, err, ErrMalformed, "%.80s", text)
	}
	full := errors.New("the disk is full")
	x = NewTranscoder(strings.NewReader(span(`"name":"a"`)), failingWriter{full})
	require.ErrorIs(t, x.Next(), full)
}

type failingWriter struct{ err error }

func (w failingWriter) Write([]byte) (int, error) { return 0, w.err }

// Malformed parts of a request are reported, and the others are read.
func TestWalkGoesOn(t *testing.T) {
	t.Parallel()
	part := func(b []byte) []byte {
		return protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), b)
	}
	good := part(marshal(t, &tracepb.ResourceSpans{ScopeSpans: []*tracepb.ScopeSpans{{Spans: []*tracepb.Span{{Name: "a", SpanId: []byte{1}}}}}}))
	bad := part([]byte{0x12, 0x7f, 1})
	data := bytes.Join([][]byte{good, bad, {0x78, 1}, good}, nil)
	n := 0
	var troubles []int64
	err := Walk(data, 100, func(*Record) error { n++; return nil }, func(at int64, err error) error {
		require.ErrorIs(t, err, ErrMalformed)
		troubles = append(troubles, at)
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Equal(t, []int64{int64(100 + len(good) + 2)}, troubles)
	enough := errors.New("enough")
	require.ErrorIs(t, Walk(data, 0, func(*Record) error { return enough }, nil), enough)
	require.ErrorIs(t, Walk(bad, 0, nil, func(int64, error) error { return enough }), enough)
	require.ErrorIs(t, Walk([]byte{0x0a}, 0, nil, func(_ int64, err error) error { return err }), ErrMalformed)
	for _, b := range [][]byte{{0x00, 1}, {0x0a, 5, 1}, {0x09, 1}, {0x0d, 1}, {0x08}, {0x80}, {0x0f, 1}} {
		_, err := Check(b)
		require.ErrorIs(t, err, ErrMalformed, "%x", b)
	}
	for _, b := range [][]byte{{0x08, 1}, {0x12, 0}, {0x1a, 0}, {0x20, 0}} { // values of the wrong type
		_, err := ParseValue(b)
		require.ErrorIs(t, err, ErrMalformed, "%x", b)
	}
}

func TestIs(t *testing.T) {
	t.Parallel()
	for seed := range uint64(100) {
		m := newMaker(seed)
		for _, d := range []proto.Message{m.traces(), m.logs()} {
			b := marshal(t, d)
			if len(b) > 2 && b[1] > 0 {
				require.True(t, Is(b), "seed %d: %x", seed, b[:min(len(b), 40)])
				require.True(t, Is(b[:min(len(b), 40)]), "its beginning alone")
			}
		}
	}
	for _, b := range []string{"", "\n", "\n\n\n\n\n", "fog", "{", "\x0a\x00", "\x12\x02\x0a\x00", "\x0a\x02\x22\x00", "\x0a\x02\x08\x00"} {
		assert.False(t, Is([]byte(b)), "%q", b)
	}
	for _, text := range []string{`{"resourceSpans": [`, `{"x":1,"resource_logs":[]}`} {
		assert.True(t, IsJSON([]byte(text)), text)
	}
	assert.False(t, IsJSON([]byte(`{"resource":"spans"}`)))
	assert.True(t, ValidID([]byte{0, 1}, 2))
	assert.False(t, ValidID([]byte{0, 0}, 2))
	assert.False(t, ValidID([]byte{1}, 2))
}
