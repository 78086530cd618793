package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
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

// noBerth starts a service with a case of Ines's, who is signed in.
func noBerth(t *testing.T) (person, *service) {
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth", "--title", "Vessels are sent to anchor")
	return ines, s
}

// received waits until a number of pieces of evidence are ready in a case.
func received(t *testing.T, c *client.Client, caseName string, n int) []api.EvidenceInfo {
	for range 300 {
		list, err := c.ListEvidence(context.Background(), caseName)
		require.NoError(t, err)
		ready := 0
		for _, e := range list {
			if e.State == api.StateReady {
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
	ines, s := noBerth(t)
	sender := parsed[api.Sender](t, ines.fine(t, "--json", "sender", "no-berth", "--label", "harbour"))
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
		traces := parsed[ask.Traces](t, out)
		require.Len(t, traces.Traces, 2)
		x := traces.Traces[0]
		assert.Equal(t, "arrivals arrive error", strings.Join([]string{x.Service, x.Operation, x.Status}, " "))
		spans := parsed[ask.Spans](t, ines.fine(t, "--json", "trace", of, "--id", x.TraceID))
		require.Len(t, spans.Spans, 8, "arrivals, the bar's reading, the berth, and five tries")
		assert.Equal(t, "berths/assign", spans.Spans[2].Operation)
		hits := parsed[ask.Hits](t, ines.fine(t, "--json", "hits", of, "--enter", "berths/assign", "--when", `status == "error" && duration > duration("1us")`, "--show", "quay"))
		require.Equal(t, 2, hits.Total)
		assert.Equal(t, `"Old Salt Stage"`, hits.Hits[0].Shown[0].Value)
		tries := parsed[ask.Hits](t, ines.fine(t, "--json", "hits", of, "--output", "trying again", "--when", "try == 5"))
		assert.Equal(t, 2, tries.Total, "the fifth try of each")
		at := fmt.Sprintf("%s@%d", of, tries.Hits[0].Moment)
		assert.Equal(t, "64", parsed[ask.Expression](t, ines.fine(t, "--json", "ask", at, "wait_ms")).Value)
		writes := parsed[ask.Writes](t, ines.fine(t, "--json", "writes", at, "wait_ms"))
		assert.Equal(t, 10, writes.Total, "a log and an event for each try")
		assert.Equal(t, "retry", parsed[ask.Step](t, ines.fine(t, "--json", "step", at, "--over")).Text)
		ledger := parsed[ask.Ledger](t, ines.fine(t, "--json", "ledger", at, "--call", "--column", "try", "--column", "wait_ms"))
		assert.GreaterOrEqual(t, ledger.Total, 12)
		found := parsed[ask.Search](t, ines.fine(t, "--json", "search", of, `"Skerry Gut "`))
		assert.NotZero(t, found.Total)
		stack := parsed[ask.Stack](t, ines.fine(t, "--json", "stack", of))
		var chain []string
		for _, f := range stack.Threads[0].Frames {
			chain = append(chain, f.Function)
		}
		assert.Equal(t, []string{"tides/reading", "berths/assign", "arrivals/arrive"}, chain[len(chain)-3:])
		assert.Contains(t, chain, "main.(*harbour).reading", "from the exception's traceback")
	}
	both := parsed[ask.Traces](t, ines.fine(t, "--json", "traces", "no-berth", "--first", "3"))
	assert.Equal(t, 120, both.Total)
	assert.Len(t, both.Traces, 3)
}

// Evidence of several kinds is in one case: the same failure is found in another case, the same
// instant in other evidence, and what came to the inbox is moved.
func TestOneCaseManyKinds(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := start(t, ines, tomas)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "no-berth")
	ines.fine(t, "case", "open", "older")
	inbox := parsed[api.Sender](t, ines.fine(t, "--json", "sender", "--inbox"))
	assert.Equal(t, "inbox-ines", inbox.Case)
	r, _ := post(t, s.url+"/v1/traces", inbox.Secret, "application/x-protobuf", "", spansRequest(1, 0x3f))
	require.Equal(t, 200, r.StatusCode)
	e := received(t, s.signedIn(t, ines), "inbox-ines", 1)[0]
	ines.fine(t, "move", "inbox-ines/"+e.Name, "no-berth")
	trace := parsed[ask.Traces](t, ines.fine(t, "--json", "traces", "no-berth")).Traces[0]

	// A log whose lines carry the trace ID, with a clock that is an hour behind and with its own
	// names of fields.
	log := filepath.Join(t.TempDir(), "crane.log")
	var b strings.Builder
	for i := range 10 {
		fmt.Fprintf(&b, "when=%s sev=info what=\"crane moved\" n=%d trace_id=%s\n", trace.Started.Add(-time.Hour+time.Duration(i-5)*time.Second).Format(time.RFC3339Nano), i, []string{trace.TraceID, ""}[i%2])
	}
	require.NoError(t, os.WriteFile(log, []byte(b.String()), 0o600))
	ines.fine(t, "evidence", "add", "no-berth", log, "--as", "structured-log", "--field", "time=when,message=what")
	ines.fine(t, "offset", "no-berth/crane", "1h")
	at := parsed[ask.Instant](t, ines.fine(t, "--json", "instant", fmt.Sprintf("no-berth/%s@%d", e.Name, trace.Moment)))
	require.Len(t, at.Places, 1)
	assert.Equal(t, trace.TraceID, at.TraceID)
	assert.Equal(t, "trace", at.Places[0].By)
	label := parsed[ask.Messages](t, ines.fine(t, "--json", "messages", fmt.Sprintf("no-berth/%s@%d", e.Name, trace.Moment), "--of", "trace"))
	require.Len(t, label.Messages, 5, "the log's lines join their trace")
	for i, m := range label.Messages {
		assert.Equal(t, "crane: crane moved", m.Evidence+": "+m.Text)
		assert.Equal(t, time.Duration(2*i-5)*time.Second, time.Duration(m.TimeNs))
	}
	assert.Equal(t, 2, label.Here)
	assert.Equal(t, "crane moved", at.Places[0].Text)
	assert.LessOrEqual(t, time.Duration(at.Places[0].DifferenceNs).Abs(), 2*time.Second, "its clock was set right")
	back := parsed[ask.Instant](t, ines.fine(t, "--json", "instant", fmt.Sprintf("no-berth/crane@%d", at.Places[0].Moment)))
	assert.Equal(t, e.Name, back.Places[0].Evidence)
	local := parsed[ask.Instant](t, ines.fine(t, "--json", "instant", log, log, "--field", "time=when,message=what"))
	assert.Zero(t, local.Places[0].DifferenceNs, "a file is at the same instant as itself")

	crash := "panic: no licence\n\ngoroutine %d [running]:\nmain.check(0x%d)\n\t/srv/gannet/roster.go:%d +0x1d\n"
	for i, name := range []string{"no-berth", "older"} {
		sent := ines.wraith(t, fmt.Sprintf(crash, i+1, i, 10+i), "evidence", "add", name, "-", "--name", "crash")
		require.Zero(t, sent.code, sent.err)
	}
	alike := parsed[[]api.Alike](t, ines.fine(t, "--json", "alike", "no-berth/crash"))
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
		at := parsed[ask.Instant](t, ines.fine(t, "--json", "instant", from, to))
		assert.Equal(t, trace, at.TraceID)
		require.Len(t, at.Places, 1)
		assert.Equal(t, "trace", at.Places[0].By, "from %s", from)
	}
}

// Each kind of evidence is recognised by its bytes, or named by --as.
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
		p := parsed[ask.Peek](t, ines.fine(t, "--json", "peek", path))
		assert.Equal(t, kind, p.Evidence.Kind, path)
	}
	piped := ines.wraith(t, crash, "--json", "peek", "-")
	require.Zero(t, piped.code, piped.err)
	p := parsed[ask.Peek](t, piped.out)
	assert.Equal(t, "gannet.GateStuck: gate 7", p.Failure.Summary)
	assert.Equal(t, []ask.Cause{{Type: "gannet.GateStuck", Message: "gate 7"}, {Type: "java.lang.IllegalStateException", Message: "no level"}}, p.Failure.Causes)
	assert.Equal(t, "gannet.Sluice.open Sluice.java:23", fmt.Sprintf("%s %s:%d", p.Threads[0].Frames[0].Function, p.Threads[0].Frames[0].File, p.Threads[0].Frames[0].Line))

	letter := file("letter", "Dear harbour master,\nthe fog is back.\n")
	refused := ines.wraith(t, "", "peek", letter)
	assert.Equal(t, 3, refused.code)
	assert.Contains(t, refused.err, "--as KIND")
	label := parsed[ask.Hits](t, ines.fine(t, "--json", "hits", letter, "--output", "--as", "structured-log"))
	assert.Equal(t, 2, label.Total, "as a log it has two lines")
	assert.Equal(t, 2, ines.wraith(t, "", "peek", letter, "--as", "letter").code)
	assert.Equal(t, 3, ines.wraith(t, "", "peek", letter, "--as", "runtime-trace").code)
	none := ines.wraith(t, "", "traces", file("more.jsonl", `{"time":"2026-11-25T10:00:00Z","msg":"a"}`+"\n"))
	assert.NotZero(t, none.code)
	assert.Contains(t, none.err, "its kind is structured-log")
}

// In the console the failing trace is chosen from the list, and its spans, messages
// and what is elsewhere are shown.
func TestTracesInTheConsole(t *testing.T) {
	t.Parallel()
	ines, s := noBerth(t)
	file := filepath.Join(t.TempDir(), "spans.jsonl")
	runHarbour(t, "-save", file)
	ines.fine(t, "evidence", "add", "no-berth", file, "--name", "harbour")
	p := newPage(t, browser(t), s, ines, "/cases/no-berth/-/traces")
	p.sees(text("#total"), "60 traces, newest first")
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

	// A crash text is pasted; it is elsewhere in the case, without a clock.
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
