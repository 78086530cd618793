package e2e

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
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

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/replay"
)

// harbour is the demo's four services, built once. They use the real SDK.
var harbour = sync.OnceValues(func() (string, error) {
	path := filepath.Join(work, "harbour")
	out, err := exec.Command("go", "build", "-o", path, "../demo/harbour").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build harbour: %w\n%s", err, out)
	}
	return path, nil
})

func runHarbour(t *testing.T, args ...string) {
	path, err := harbour()
	require.NoError(t, err)
	out, err := exec.Command(path, args...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "60 vessels arrived, 2 got no berth")
}

const tracesShape = `{"total":0,"traces":[{"traceID":"","service":"","operation":"","started":"","durationNs":0,"spans":0,"errors":0,"status":"","moment":0,"end":0}]}`

// received waits until as many pieces of evidence are ready in a case.
func received(t *testing.T, c *client.Client, caseName string, n int) []client.EvidenceInfo {
	for range 300 {
		list, err := c.ListEvidence(context.Background(), caseName)
		require.NoError(t, err)
		ready := 0
		for _, e := range list {
			if e.State == client.StateReady {
				ready++
			}
		}
		if ready >= n {
			return list
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(t, "nothing was received")
	return nil
}

// The real SDK and its exporters send over HTTP and gRPC; what they sent is listed,
// replayed and questioned on the command line, from the service and from a file alike.
func TestHarbourIsReceived(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth", "--title", "Vessels are sent to anchor")
	sender := parsed[client.Sender](t, ines.fine(t, "--json", "sender", "no-berth", "--label", "harbour"))
	c := s.signedIn(t, ines)
	runHarbour(t, "-to", s.url, "-token", sender.Secret)
	received(t, c, "no-berth", 1)
	runHarbour(t, "-to", "grpc://"+s.grpc, "-token", sender.Secret)
	list := received(t, c, "no-berth", 2)
	for _, e := range list {
		assert.Equal(t, "event-trace", e.Kind)
		assert.Equal(t, "error: vessel sent to anchor; because of *fmt.wrapError: \"Skerry Gut \": no such tide station", e.Outcome)
		assert.Zero(t, e.Gaps, "nothing is missing")
	}
	file := filepath.Join(t.TempDir(), "spans.jsonl")
	runHarbour(t, "-save", file)
	for _, of := range []string{"no-berth/" + list[0].Name, file} {
		out := ines.fine(t, "--json", "traces", of, "--when", `status == "error" && duration > duration("50ms")`)
		var got, want any
		require.NoError(t, json.Unmarshal([]byte(out), &got))
		require.NoError(t, json.Unmarshal([]byte(tracesShape), &want))
		sameShape(t, "traces", want, got)
		traces := parsed[answer.Traces](t, out)
		require.Len(t, traces.Traces, 2)
		x := traces.Traces[0]
		assert.Equal(t, "arrivals arrive error", strings.Join([]string{x.Service, x.Operation, x.Status}, " "))
		spans := parsed[answer.Spans](t, ines.fine(t, "--json", "trace", of, "--id", x.TraceID))
		require.Len(t, spans.Spans, 8, "arrivals, the bar's reading, the berth, and five tries")
		assert.Equal(t, "berths/assign", spans.Spans[2].Operation)
		hits := parsed[answer.Hits](t, ines.fine(t, "--json", "hits", of, "--enter", "berths/assign", "--when", `duration > duration("50ms")`, "--show", "quay"))
		require.Equal(t, 2, hits.Total)
		assert.Equal(t, `"Old Salt Stage"`, hits.Hits[0].Shown[0].Value)
		tries := parsed[answer.Hits](t, ines.fine(t, "--json", "hits", of, "--output", "trying again", "--when", "try == 5"))
		assert.Equal(t, 2, tries.Total, "the fifth try of each")
		at := fmt.Sprintf("%s@%d", of, tries.Hits[0].Moment)
		assert.Equal(t, "64", parsed[answer.Ask](t, ines.fine(t, "--json", "ask", at, "wait_ms")).Value)
		writes := parsed[answer.Writes](t, ines.fine(t, "--json", "writes", at, "wait_ms"))
		assert.Equal(t, 10, writes.Total, "a log and an event for each try")
		assert.Equal(t, "retry", parsed[answer.Step](t, ines.fine(t, "--json", "step", at, "--over")).Text)
		ledger := parsed[answer.Ledger](t, ines.fine(t, "--json", "ledger", at, "--call", "--column", "try", "--column", "wait_ms"))
		assert.GreaterOrEqual(t, ledger.Total, 12)
		found := parsed[answer.Search](t, ines.fine(t, "--json", "search", of, `"Skerry Gut "`))
		assert.NotZero(t, found.Total)
		stack := parsed[answer.Stack](t, ines.fine(t, "--json", "stack", of))
		var chain []string
		for _, f := range stack.Threads[0].Frames {
			chain = append(chain, f.Function)
		}
		assert.Equal(t, []string{"tides/reading", "berths/assign", "arrivals/arrive"}, chain[len(chain)-3:])
		assert.Contains(t, chain, "main.(*harbour).reading", "from the exception's traceback")
	}
	both := parsed[answer.Traces](t, ines.fine(t, "--json", "traces", "no-berth", "--first", "3"))
	assert.Equal(t, 120, both.Total)
	assert.Len(t, both.Traces, 3)
}

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

// TestATraceThroughSeveralSenders keeps a trace whole whose services send with tokens of
// their own, and finds all its parts where some come later.
func TestATraceThroughSeveralSenders(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth", "--title", "Vessels are sent to anchor")
	c := s.signedIn(t, ines)
	id := bytes.Repeat([]byte{0xab}, 16)
	begun := time.Now()
	send := func(service string, number, parent byte, links ...*tracepb.Span_Link) {
		sender := parsed[client.Sender](t, ines.fine(t, "--json", "sender", "no-berth", "--label", service))
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
	of := func() answer.Traces { return parsed[answer.Traces](t, ines.fine(t, "--json", "traces", "no-berth")) }
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
			answer.Spans
		}
	}](t, ines.fine(t, "--json", "trace", "no-berth", "--id", "abab"))
	require.Len(t, parts.Parts, 2)
	require.Len(t, parts.Parts[0].Spans.Spans, 2)
	assert.Equal(t, []answer.Link{{TraceID: strings.Repeat("cd", 16), SpanID: strings.Repeat("09", 8)}}, parts.Parts[0].Spans.Spans[0].Links)
	assert.Equal(t, "notices", parts.Parts[1].Spans.Spans[0].Service)
	assert.Contains(t, ines.fine(t, "trace", "no-berth", "--id", "abab"), "links to trace "+strings.Repeat("cd", 16))
	_, err := c.Trace(context.Background(), "no-berth", "ef")
	require.ErrorIs(t, err, replay.ErrNoTraces)
}

// A trace that is under way when what was received settles is waited for as long as it
// grows, also when the service is killed meanwhile; one whose parent never comes is not
// waited for long.
func TestATraceUnderWayStaysWhole(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	s.stop(t, syscall.SIGTERM)
	s.settle = 1500 * time.Millisecond // which leaves time for what follows within it
	s.run(t)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth", "--title", "Vessels are sent to anchor")
	sender := parsed[client.Sender](t, ines.fine(t, "--json", "sender", "no-berth", "--label", "berths"))
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
		list, err := filepath.Glob(filepath.Join(s.data, "received", "*"))
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
		traces, err := c.Evidence("no-berth", e.Name).Traces(context.Background(), answer.TracesQuery{Count: 10})
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
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth")
	c := s.signedIn(t, ines)
	sender, err := c.NewSender(context.Background(), "no-berth", "test")
	require.NoError(t, err)
	own, err := client.New(s.url, "").SignIn(context.Background(), client.Credentials{Name: ines.name, Password: ines.password}, "x")
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
		"spans as logs":           {sender.Secret, pb, "", "/v1/logs", good, 400, "of another kind"},
		"no token":                {"", pb, "", "/v1/traces", good, 401, "the token is not known"},
		"another token":           {"wraith-send-none", js, "", "/v1/traces", []byte(jsonBody), 401, `"code":16`},
		"a token without a right": {own.Secret, pb, "", "/v1/traces", good, 403, "may not send"},
		"cut off":                 {sender.Secret, pb, "", "/v1/traces", good[:len(good)-3], 400, "begins no whole field"},
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

	e := received(t, c, "no-berth", 1)
	traces := parsed[answer.Traces](t, ines.fine(t, "--json", "traces", "no-berth/"+e[len(e)-1].Name))
	assert.LessOrEqual(t, traces.Total, 4, "what was refused is not there")
	require.NoError(t, c.DeleteSender(context.Background(), "no-berth", sender.ID))
	r, _ := post(t, s.url+"/v1/traces", sender.Secret, pb, "", good)
	assert.Equal(t, 401, r.StatusCode, "its token was taken away")
}

// Whatever has been acknowledged is there after the service was killed in the midst
// of it, and the evidence that it becomes is made once.
func TestNothingAcknowledgedIsLost(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth")
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
		list, err := c.Evidence("no-berth", e.Name).Traces(context.Background(), answer.TracesQuery{Count: 1000})
		require.NoError(t, err)
		for _, x := range list.Traces {
			found[x.TraceID] += x.Spans
		}
	}
	for trace := range acknowledged {
		assert.Equal(t, 20, found[strings.Repeat(fmt.Sprintf("%02x", trace), 16)], "trace %d", trace)
	}
}

// Evidence of several kinds lies in one case: the same failure is found in another
// case, the same instant in other evidence, and what came to the inbox is moved.
func TestOneCaseManyKinds(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := start(t, ines, tomas)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth")
	ines.fine(t, "case", "open", "older")
	inbox := parsed[client.Sender](t, ines.fine(t, "--json", "sender", "--inbox"))
	assert.Equal(t, "inbox-ines", inbox.Case)
	r, _ := post(t, s.url+"/v1/traces", inbox.Secret, "application/x-protobuf", "", spansRequest(1, 0x3f))
	require.Equal(t, 200, r.StatusCode)
	e := received(t, s.signedIn(t, ines), "inbox-ines", 1)[0]
	ines.fine(t, "move", "inbox-ines/"+e.Name, "no-berth")
	trace := parsed[answer.Traces](t, ines.fine(t, "--json", "traces", "no-berth")).Traces[0]

	// A log whose lines carry the trace ID, by a clock that is an hour behind; its fields have names of their own.
	log := filepath.Join(t.TempDir(), "crane.log")
	var b strings.Builder
	for i := range 10 {
		fmt.Fprintf(&b, "when=%s sev=info what=\"crane moved\" n=%d trace_id=%s\n", trace.Started.Add(-time.Hour+time.Duration(i-5)*time.Second).Format(time.RFC3339Nano), i, []string{trace.TraceID, ""}[i%2])
	}
	require.NoError(t, os.WriteFile(log, []byte(b.String()), 0o600))
	ines.fine(t, "evidence", "add", "no-berth", log, "--as", "structured-log", "--field", "time=when,message=what")
	ines.fine(t, "offset", "no-berth/crane", "1h")
	at := parsed[answer.Instant](t, ines.fine(t, "--json", "instant", fmt.Sprintf("no-berth/%s@%d", e.Name, trace.Moment)))
	require.Len(t, at.Places, 1)
	assert.Equal(t, trace.TraceID, at.TraceID)
	assert.Equal(t, "trace", at.Places[0].By)
	said := parsed[answer.Messages](t, ines.fine(t, "--json", "messages", fmt.Sprintf("no-berth/%s@%d", e.Name, trace.Moment), "--of", "trace"))
	require.Len(t, said.Messages, 5, "the log's lines join their trace")
	for i, m := range said.Messages {
		assert.Equal(t, "crane: crane moved", m.Evidence+": "+m.Text)
		assert.Equal(t, time.Duration(2*i-5)*time.Second, time.Duration(m.TimeNs))
	}
	assert.Equal(t, 2, said.Here)
	assert.Equal(t, "crane moved", at.Places[0].Text)
	assert.LessOrEqual(t, time.Duration(at.Places[0].DifferenceNs).Abs(), 2*time.Second, "its clock was set right")
	back := parsed[answer.Instant](t, ines.fine(t, "--json", "instant", fmt.Sprintf("no-berth/crane@%d", at.Places[0].Moment)))
	assert.Equal(t, e.Name, back.Places[0].Evidence)
	local := parsed[answer.Instant](t, ines.fine(t, "--json", "instant", log, log, "--field", "time=when,message=what"))
	assert.Zero(t, local.Places[0].DifferenceNs, "a file is at the same instant as itself")

	crash := "panic: no licence\n\ngoroutine %d [running]:\nmain.check(0x%d)\n\t/srv/gannet/roster.go:%d +0x1d\n"
	for i, name := range []string{"no-berth", "older"} {
		sent := ines.wraith(t, fmt.Sprintf(crash, i+1, i, 10+i), "evidence", "add", name, "-", "--name", "crash")
		require.Zero(t, sent.code, sent.err)
	}
	alike := parsed[[]client.Alike](t, ines.fine(t, "--json", "alike", "no-berth/crash"))
	require.Len(t, alike, 1)
	assert.Equal(t, "older/crash", alike[0].Case+"/"+alike[0].Evidence.Name)

	// Tomas belongs to none of it.
	tomas.signIn(t, s.url)
	for _, args := range [][]string{{"traces", "no-berth"}, {"sender", "no-berth"}, {"alike", "no-berth/crash"}, {"move", "no-berth/crash", "older"}, {"instant", "no-berth/crash"}} {
		refused := tomas.wraith(t, "", args...)
		assert.NotZero(t, refused.code, "%v", args)
		assert.Contains(t, refused.err, "not found", "%v", args)
	}
}

// A recording that was made within a trace is found from the trace's spans, and back.
func TestARecordingWithinATrace(t *testing.T) {
	t.Parallel()
	const trace = "4bf92f3577b34da6a3ce929d0e0e4736"
	dir := t.TempDir()
	run := filepath.Join(dir, "run.wraith")
	cmd := exec.Command(filepath.Join(work, "wraith"), "record", "-o", run, "--", "go", "run", ".", "-notices", "0412")
	cmd.Dir = "../demo/berthing"
	cmd.Env = append(os.Environ(), "TRACEPARENT=00-"+trace+"-00f067aa0ba902b7-01")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	spans := filepath.Join(dir, "spans.json")
	require.NoError(t, os.WriteFile(spans, []byte(`{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"`+trace+`","spanId":"00f067aa0ba902b7","name":"berth vessels","startTimeUnixNano":"`+
		fmt.Sprint(time.Now().Add(-time.Hour).UnixNano())+`","endTimeUnixNano":"`+fmt.Sprint(time.Now().UnixNano())+`"}]}]}]}`), 0o600))
	ines := somebody(t, "Ines")
	for from, to := range map[string]string{spans: run, run: spans} {
		at := parsed[answer.Instant](t, ines.fine(t, "--json", "instant", from, to))
		assert.Equal(t, trace, at.TraceID)
		require.Len(t, at.Places, 1)
		assert.Equal(t, "trace", at.Places[0].By, "from %s", from)
	}
}

// Each kind of evidence is told by its bytes, or by --as, and says what it is.
func TestKindsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	spans := filepath.Join(dir, "spans.jsonl")
	runHarbour(t, "-save", spans)
	traced := filepath.Join(dir, "moor.trace")
	out, err := exec.Command("go", "test", "-run", "^$", "-trace", traced, "wraithology/core/locator").CombinedOutput()
	require.NoError(t, err, "%s", out)
	crash := "Exception in thread \"main\" gannet.GateStuck: gate 7\n\tat gannet.Sluice.open(Sluice.java:23)\nCaused by: java.lang.IllegalStateException: no level\n\tat gannet.Sensor.level(Sensor.java:11)\n\t... 1 more\n"
	for path, kind := range map[string]string{
		failingRun(t): "execution-log", spans: "event-trace", traced: "runtime-trace", file("crash.txt", crash): "crash-text",
		file("log.jsonl", `{"time":"2026-11-25T10:00:00Z","msg":"a"}`+"\n"): "structured-log", file("syslog", "<34>1 2026-11-25T10:00:00Z gannet sluiced 1 - - a\n"): "structured-log",
	} {
		p := parsed[answer.Peek](t, ines.fine(t, "--json", "peek", path))
		assert.Equal(t, kind, p.Evidence.Kind, path)
	}
	piped := ines.wraith(t, crash, "--json", "peek", "-")
	require.Zero(t, piped.code, piped.err)
	p := parsed[answer.Peek](t, piped.out)
	assert.Equal(t, "gannet.GateStuck: gate 7", p.Failure.Summary)
	assert.Equal(t, []answer.Cause{{Type: "gannet.GateStuck", Message: "gate 7"}, {Type: "java.lang.IllegalStateException", Message: "no level"}}, p.Failure.Causes)
	assert.Equal(t, "gannet.Sluice.open Sluice.java:23", fmt.Sprintf("%s %s:%d", p.Threads[0].Frames[0].Function, p.Threads[0].Frames[0].File, p.Threads[0].Frames[0].Line))

	letter := file("letter", "Dear harbour master,\nthe fog is back.\n")
	refused := ines.wraith(t, "", "peek", letter)
	assert.Equal(t, 3, refused.code)
	assert.Contains(t, refused.err, "--as KIND")
	said := parsed[answer.Hits](t, ines.fine(t, "--json", "hits", letter, "--output", "--as", "structured-log"))
	assert.Equal(t, 2, said.Total, "as a log it has two lines")
	assert.Equal(t, 2, ines.wraith(t, "", "peek", letter, "--as", "letter").code)
	assert.Equal(t, 3, ines.wraith(t, "", "peek", letter, "--as", "runtime-trace").code)
	none := ines.wraith(t, "", "traces", file("more.jsonl", `{"time":"2026-11-25T10:00:00Z","msg":"a"}`+"\n"))
	assert.NotZero(t, none.code)
	assert.Contains(t, none.err, "it is of the kind structured-log")
}

// In the console the failing trace is chosen from the list, and its spans, messages
// and what is elsewhere are shown.
func TestTracesInTheConsole(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth", "--title", "Vessels are sent to anchor")
	file := filepath.Join(t.TempDir(), "spans.jsonl")
	runHarbour(t, "-save", file)
	ines.fine(t, "evidence", "add", "no-berth", file, "--name", "harbour")
	p := newPage(t, browser(t), s, ines, "/cases/no-berth/traces")
	p.sees(text("#total"), "60 traces, the newest first")
	p.accessible("traces")
	p.do(chromedp.SendKeys("#when", "status == \"error\"\r"))
	p.sees(text("#total"), "2 traces")
	p.do(chromedp.Click("tbody tr a"))
	p.sees(text("[aria-label='Spans of the trace']"), "berths/assign")
	p.sees("document.querySelectorAll('.spans button.row').length", "8")
	p.do(chromedp.Click("#to-failure"))
	p.sees(text("[data-name='station']"), "Skerry Gut ")
	p.accessible("sitting of an event trace")
	p.do(chromedp.Click("#tab-messages"))
	p.sees(text("[aria-label='Messages around the moment']"), "no reading, trying again")

	linked := strings.TrimSpace(p.js(text(".links .link code")))
	p.do(chromedp.Click(".links .link")) // the vessel before at this quay
	p.sees(text(".about code"), linked)
	p.sees(text("[data-name='traceID']"), linked)

	// A crash text is pasted; it lies elsewhere in the case, without a clock.
	p.do(chromedp.Navigate(s.url+"/cases/no-berth"), chromedp.WaitVisible("#pasted"), chromedp.SendKeys(`[aria-label="name of the pasted text"]`, "pasted"))
	p.js(`(() => {
		const field = document.querySelector('#pasted')
		field.value = "panic: no licence\n\ngoroutine 1 [running]:\nmain.check(0x1)\n\t/srv/gannet/roster.go:19 +0x1d\n"
		field.dispatchEvent(new Event('input'))
	})()`)
	p.do(chromedp.Click(".paste button:enabled"))
	p.sees(text("tbody"), "panic: no licence")
	p.accessible("evidence of many kinds")
	p.do(chromedp.Click(`a[href="/cases/no-berth/pasted"]`))
	p.sees(text("[data-frame='0']"), "main.check")
	p.do(chromedp.Click("#tab-elsewhere"))
	p.sees(text("#pane-elsewhere"), "harbour@")
	p.accessible("sitting of a crash text")
}
