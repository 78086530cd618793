package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	coltrace "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/metadata"
	rpcstatus "google.golang.org/grpc/status"
	"google.golang.org/protobuf/proto"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/fault"
)

func spansRequest(n int, trace byte) []byte {
	spans := make([]*tracepb.Span, n)
	for i := range spans {
		spans[i] = &tracepb.Span{TraceId: bytes.Repeat([]byte{trace + 1}, 16), SpanId: []byte{1, 2, 3, 4, 5, 6, byte(i >> 8), byte(i)}, Name: "assign", StartTimeUnixNano: uint64(time.Now().UnixNano()), EndTimeUnixNano: uint64(time.Now().UnixNano())}
	}
	b, err := proto.Marshal(&coltrace.ExportTraceServiceRequest{ResourceSpans: []*tracepb.ResourceSpans{{
		Resource:   &resourcepb.Resource{Attributes: []*commonpb.KeyValue{{Key: "service.name", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: "berths"}}}}},
		ScopeSpans: []*tracepb.ScopeSpans{{Spans: spans}}}}})
	if err != nil {
		panic(err) // plain messages can be encoded
	}
	return b
}

// TestATraceThroughSeveralSenders keeps a trace whole whose services send with different tokens,
// also if a part of it comes when the others are evidence already.
func TestATraceThroughSeveralSenders(t *testing.T) {
	t.Parallel()
	ines, s := noBerth(t)
	c := s.signedIn(t, ines)
	id := bytes.Repeat([]byte{0xab}, 16)
	begun := time.Now()
	send := func(service string, number, parent byte, links ...*tracepb.Span_Link) {
		sender := parsed[api.Sender](t, ines.fine(t, "--json", "sender", "no-berth", "--label", service))
		x := &tracepb.Span{TraceId: id, SpanId: bytes.Repeat([]byte{number}, 8), Name: "part", StartTimeUnixNano: uint64(begun.UnixNano()) + uint64(number), EndTimeUnixNano: uint64(begun.UnixNano()) + 1000 - uint64(number), Links: links}
		if parent > 0 {
			x.ParentSpanId = bytes.Repeat([]byte{parent}, 8)
		}
		b, err := proto.Marshal(&coltrace.ExportTraceServiceRequest{ResourceSpans: []*tracepb.ResourceSpans{{
			Resource:   &resourcepb.Resource{Attributes: []*commonpb.KeyValue{{Key: "service.name", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: service}}}}},
			ScopeSpans: []*tracepb.ScopeSpans{{Spans: []*tracepb.Span{x}}}}}})
		require.NoError(t, err)
		r, text := post(t, s.url+"/v1/traces", sender.Secret, "application/x-protobuf", "", b)
		require.Equal(t, http.StatusOK, r.StatusCode, text)
	}
	other := &tracepb.Span_Link{TraceId: bytes.Repeat([]byte{0xcd}, 16), SpanId: bytes.Repeat([]byte{9}, 8)}
	send("arrivals", 1, 0, other)
	send("berths", 2, 1)
	list := received(t, c, "no-berth", 1)
	of := func() ask.Traces { return parsed[ask.Traces](t, ines.fine(t, "--json", "traces", "no-berth")) }
	for range 50 { // on a slow machine the two may have come apart
		if of().Total > 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Len(t, of().Traces, 1)
	assert.Equal(t, 2, of().Traces[0].Spans, "%v", list)
	send("notices", 3, 2)
	received(t, c, "no-berth", 2)
	parts := parsed[struct {
		Parts []struct {
			Evidence string
			ask.Spans
		}
	}](t, ines.fine(t, "--json", "trace", "no-berth", "--id", "abab"))
	require.Len(t, parts.Parts, 1)
	require.Len(t, parts.Parts[0].Spans.Spans, 3)
	assert.Equal(t, received(t, c, "no-berth", 2)[0].Name, parts.Parts[0].Evidence)
	assert.Equal(t, []ask.Link{{TraceID: strings.Repeat("cd", 16), SpanID: strings.Repeat("09", 8)}}, parts.Parts[0].Spans.Spans[0].Links)
	assert.Equal(t, "notices", parts.Parts[0].Spans.Spans[2].Service)
	assert.Contains(t, ines.fine(t, "trace", "no-berth", "--id", "abab"), "links to trace "+strings.Repeat("cd", 16))
	_, err := c.Trace(context.Background(), "no-berth", "ef")
	require.ErrorIs(t, err, fault.NoTrace)
}

// A trace that is incomplete when received data settles is waited for as long as it grows, also if
// the service is killed in the meantime; a trace whose parent never comes is not waited for long.
func TestATraceUnderWayStaysWhole(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth", "--title", "Vessels are sent to anchor")
	sender := parsed[api.Sender](t, ines.fine(t, "--json", "sender", "no-berth", "--label", "berths"))
	begun := uint64(time.Now().UnixNano())
	send := func(trace, number, parent byte) {
		x := &tracepb.Span{TraceId: bytes.Repeat([]byte{trace}, 16), SpanId: bytes.Repeat([]byte{number}, 8), ParentSpanId: bytes.Repeat([]byte{parent}, 8), Name: "part", StartTimeUnixNano: begun + uint64(number), EndTimeUnixNano: begun + 1000 - uint64(number)}
		if parent == 0 {
			x.ParentSpanId = nil
		}
		b, err := proto.Marshal(&coltrace.ExportTraceServiceRequest{ResourceSpans: []*tracepb.ResourceSpans{{ScopeSpans: []*tracepb.ScopeSpans{{Spans: []*tracepb.Span{x}}}}}})
		require.NoError(t, err)
		r, text := post(t, s.url+"/v1/traces", sender.Secret, "application/x-protobuf", "", b)
		require.Equal(t, http.StatusOK, r.StatusCode, text)
	}
	spool := func() string {
		list, err := filepath.Glob(filepath.Join(s.data, "received", "*-*"))
		require.NoError(t, err)
		return strings.Join(list, " ")
	}
	wentAlong := func() { // the spool files that there are give way to others
		before := spool()
		for range 1000 {
			if now := spool(); now != "" && now != before && len(strings.Fields(now)) == 1 {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		require.Fail(t, "nothing went along", "%s", spool())
	}
	send(0xaa, 3, 2)
	wentAlong()
	send(0xaa, 2, 1) // a service with an agent in front of it comes late
	send(0xbb, 1, 0)
	wentAlong() // what has ended does not
	s.stop(t, syscall.SIGKILL)
	s.run(t)
	send(0xaa, 1, 0)
	c := s.signedIn(t, ines)
	received(t, c, "no-berth", 2)
	send(0xcc, 2, 1)
	list := received(t, c, "no-berth", 3)
	require.Len(t, list, 3)
	of := map[string][]int{}
	for _, e := range list {
		traces, err := client.Ask(context.Background(), c.Evidence("no-berth", e.Name), ask.TracesRequest{Count: 10})
		require.NoError(t, err)
		for _, x := range traces.Traces {
			of[x.TraceID[:2]] = append(of[x.TraceID[:2]], x.Spans)
		}
	}
	assert.Equal(t, map[string][]int{"aa": {3}, "bb": {1}, "cc": {1}}, of)
	assert.Empty(t, spool(), "all that was received is evidence")
}

// post sends a body by OTLP over HTTP.
func post(t *testing.T, url, token, kind, packing string, body []byte) (*http.Response, string) {
	q, err := http.NewRequest("POST", url, bytes.NewReader(body))
	require.NoError(t, err)
	q.Header.Set("Content-Type", kind)
	if token != "" {
		q.Header.Set("Authorization", "Bearer "+token)
	}
	if packing != "" {
		q.Header.Set("Content-Encoding", packing)
	}
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r, string(b)
}

func packed(t *testing.T, b []byte) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, err := z.Write(b)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return out.Bytes()
}

// OTLP is answered as its specification says, over both protocols, also where a
// request is wrong.
func TestOTLPIsAnsweredAsSpecified(t *testing.T) {
	t.Parallel()
	ines, s := noBerth(t)
	c := s.signedIn(t, ines)
	sender, err := c.NewSender(context.Background(), "no-berth", "test")
	require.NoError(t, err)
	own, err := client.New(s.url, "").SignIn(context.Background(), api.Credentials{Name: ines.name, Password: ines.password}, "x")
	require.NoError(t, err)
	const pb, js = "application/x-protobuf", "application/json"
	good := spansRequest(3, 0)
	bad := bytes.Replace(spansRequest(2, 9), bytes.Repeat([]byte{10}, 16), make([]byte, 16), 1)
	span := `{"traceId":"5b8efff798038103d269b633813fc60c","spanId":"eee19b7ec3c1b174","name":"assign","startTimeUnixNano":"1790000000000000000","endTimeUnixNano":"1790000000000000001"}`
	jsonBody := `{"resourceSpans":[{"scopeSpans":[{"spans":[` + span + `]}]}]}`
	for name, x := range map[string]struct {
		token, kind, packing, path string
		body                       []byte
		code                       int
		says                       string
	}{
		"protobuf":                {sender.Secret, pb, "", "/v1/traces", good, 200, ""},
		"packed":                  {sender.Secret, pb, "gzip", "/v1/traces", packed(t, spansRequest(2, 1)), 200, ""},
		"JSON":                    {sender.Secret, js, "", "/v1/traces", []byte(jsonBody), 200, "{}"},
		"JSON with a charset":     {sender.Secret, js + "; charset=utf-8", "gzip", "/v1/traces", packed(t, []byte(`{}`)), 200, "{}"},
		"some without IDs":        {sender.Secret, pb, "", "/v1/traces", bad, 200, "spans need a trace ID"},
		"some without IDs, JSON":  {sender.Secret, js, "", "/v1/traces", []byte(strings.Replace(jsonBody, "5b8e", "", 1)), 200, `"rejectedSpans":"1"`},
		"logs":                    {sender.Secret, js, "", "/v1/logs", []byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"gate opens"},"severityNumber":9}]}]}]}`), 200, "{}"},
		"spans as logs":           {sender.Secret, pb, "", "/v1/logs", good, 400, "malformed OTLP"},
		"no token":                {"", pb, "", "/v1/traces", good, 401, "unknown token"},
		"another token":           {"wraith-send-none", js, "", "/v1/traces", []byte(jsonBody), 401, `"code":16`},
		"a token without a right": {own.Secret, pb, "", "/v1/traces", good, 403, "may not send"},
		"cut off":                 {sender.Secret, pb, "", "/v1/traces", good[:len(good)-3], 400, "incomplete field at byte"},
		"malformed JSON":          {sender.Secret, js, "", "/v1/traces", []byte(jsonBody[:40]), 400, `"code":3`},
		"malformed packing":       {sender.Secret, pb, "gzip", "/v1/traces", good, 400, "gzip"},
		"too large":               {sender.Secret, pb, "gzip", "/v1/traces", packed(t, make([]byte, 65<<20)), 413, "send smaller batches"},
		"another form":            {sender.Secret, "text/plain", "", "/v1/traces", good, 415, pb},
		"another packing":         {sender.Secret, pb, "br", "/v1/traces", good, 415, "gzip"},
	} {
		r, body := post(t, s.url+x.path, x.token, x.kind, x.packing, x.body)
		assert.Equal(t, x.code, r.StatusCode, name)
		assert.Contains(t, body, x.says, name)
		if x.code == 200 {
			kind, _, _ := strings.Cut(x.kind, ";")
			assert.Equal(t, kind, r.Header.Get("Content-Type"), name)
		}
	}
	connection, err := grpc.NewClient(s.grpc, grpc.WithTransportCredentials(insecure.NewCredentials()))
	require.NoError(t, err)
	defer connection.Close()
	export := func(token string, b []byte) (*coltrace.ExportTraceServiceResponse, error) {
		var request coltrace.ExportTraceServiceRequest
		require.NoError(t, proto.Unmarshal(b, &request))
		ctx := metadata.AppendToOutgoingContext(context.Background(), "authorization", "Bearer "+token)
		return coltrace.NewTraceServiceClient(connection).Export(ctx, &request)
	}
	answered, err := export(sender.Secret, bad)
	require.NoError(t, err)
	assert.Equal(t, int64(1), answered.PartialSuccess.GetRejectedSpans())
	_, err = export("none", good)
	assert.Equal(t, codes.Unauthenticated, rpcstatus.Code(err))
	_, err = export(own.Secret, good)
	assert.Equal(t, codes.PermissionDenied, rpcstatus.Code(err))

	received(t, c, "no-berth", 1)
	traces := parsed[ask.Traces](t, ines.fine(t, "--json", "traces", "no-berth")) // of all of them: they may have settled in parts
	assert.LessOrEqual(t, traces.Total, 4, "what was refused is not there")
	require.NoError(t, c.DeleteSender(context.Background(), "no-berth", sender.ID))
	r, _ := post(t, s.url+"/v1/traces", sender.Secret, pb, "", good)
	assert.Equal(t, 401, r.StatusCode, "its token was taken away")
}

// Whatever has been acknowledged is there after the service was killed in the midst
// of it, and the evidence that it becomes is made once.
func TestNothingAcknowledgedIsLost(t *testing.T) {
	t.Parallel()
	ines, s := noBerth(t)
	sender, err := s.signedIn(t, ines).NewSender(context.Background(), "no-berth", "test")
	require.NoError(t, err)
	var mu sync.Mutex
	acknowledged := map[byte]bool{}
	var done sync.WaitGroup
	for worker := range 4 {
		done.Go(func() {
			for i := range 40 {
				trace := byte(worker*40 + i)
				q, err := http.NewRequest("POST", s.url+"/v1/traces", bytes.NewReader(spansRequest(20, trace)))
				if err != nil {
					return
				}
				q.Header.Set("Content-Type", "application/x-protobuf")
				q.Header.Set("Authorization", "Bearer "+sender.Secret)
				r, err := http.DefaultClient.Do(q)
				if err != nil {
					return // it was killed
				}
				r.Body.Close()
				if r.StatusCode == 200 {
					mu.Lock()
					acknowledged[trace+1] = true
					n := len(acknowledged)
					mu.Unlock()
					if n == 60 {
						_ = s.cmd.Process.Signal(syscall.SIGKILL)
					}
				}
			}
		})
	}
	done.Wait()
	<-s.ended
	require.GreaterOrEqual(t, len(acknowledged), 60)
	s.run(t)
	c := s.signedIn(t, ines)
	received(t, c, "no-berth", 1)
	time.Sleep(500 * time.Millisecond)
	found := map[string]int{}
	for _, e := range received(t, c, "no-berth", 1) {
		list, err := client.Ask(context.Background(), c.Evidence("no-berth", e.Name), ask.TracesRequest{Count: 1000})
		require.NoError(t, err)
		for _, x := range list.Traces {
			found[x.TraceID] += x.Spans
		}
	}
	for trace := range acknowledged {
		assert.Equal(t, 20, found[strings.Repeat(fmt.Sprintf("%02x", trace), 16)], "trace %d", trace)
	}
}

// counted counts the bytes that are sent over a connection.
type counted struct {
	net.Conn
	sent *atomic.Int64
}

func (c counted) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.sent.Add(int64(n))
	return n, err
}

// Who may not send is refused before the message is read.
func TestTheTokenIsCheckedBeforeTheMessage(t *testing.T) {
	t.Parallel()
	_, s := noBerth(t)
	var sent atomic.Int64
	connection, err := grpc.NewClient(s.grpc, grpc.WithTransportCredentials(insecure.NewCredentials()), grpc.WithContextDialer(func(ctx context.Context, address string) (net.Conn, error) {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
		return counted{c, &sent}, err
	}))
	require.NoError(t, err)
	defer connection.Close()
	big := &coltrace.ExportTraceServiceRequest{ResourceSpans: []*tracepb.ResourceSpans{{SchemaUrl: strings.Repeat("a", 32<<20)}}}
	ctx := metadata.AppendToOutgoingContext(context.Background(), "authorization", "Bearer wraith-send-none")
	_, err = coltrace.NewTraceServiceClient(connection).Export(ctx, big)
	assert.Equal(t, codes.Unauthenticated, rpcstatus.Code(err), "%v", err)
	assert.Less(t, sent.Load(), int64(4<<20))

	read, write := net.Pipe()
	go func() {
		for chunk := make([]byte, 64<<10); ; sent.Add(int64(len(chunk))) {
			if _, err := write.Write(chunk); err != nil {
				return
			}
		}
	}()
	sent.Store(0)
	q, err := http.NewRequest(http.MethodPost, s.url+"/v1/traces", io.LimitReader(read, 32<<20))
	require.NoError(t, err)
	q.Header.Set("Content-Type", "application/x-protobuf")
	q.Header.Set("Authorization", "Bearer wraith-send-none")
	r, err := http.DefaultClient.Do(q)
	if err == nil { // else the service closed the connection while we were sending
		assert.Equal(t, http.StatusUnauthorized, r.StatusCode)
		r.Body.Close()
	}
	read.Close()
	assert.Less(t, sent.Load(), int64(8<<20))
}
