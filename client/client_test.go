package client_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/e2e/servicetest"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

const crash = "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n"

// aLog returns a structured log: one record a second, every fifth an error.
func aLog(n int) string {
	var text strings.Builder
	for i := range n {
		level := "info"
		if i%5 == 4 {
			level = "error"
		}
		fmt.Fprintf(&text, `{"time":"2026-03-01T06:%02d:%02dZ","level":%q,"msg":"gate opens","berth":%d}`+"\n", i/60, i%60, level, i)
	}
	return text.String()
}

// spans returns n traces of one span each in OTLP, as a file holds them.
func spans(t *testing.T, first byte, n int, name string) string {
	var list []*tracepb.Span
	for i := range n {
		start := time.Date(2026, 3, 1, 6, int(first)+i, 0, 0, time.UTC)
		list = append(list, &tracepb.Span{TraceId: bytes.Repeat([]byte{first + byte(i)}, 16), SpanId: bytes.Repeat([]byte{1}, 8), Name: name,
			StartTimeUnixNano: uint64(start.UnixNano()), EndTimeUnixNano: uint64(start.Add(time.Second).UnixNano())})
	}
	b, err := proto.Marshal(&tracepb.TracesData{ResourceSpans: []*tracepb.ResourceSpans{{
		Resource:   &resourcepb.Resource{Attributes: []*commonpb.KeyValue{{Key: "service.name", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: "berths"}}}}},
		ScopeSpans: []*tracepb.ScopeSpans{{Spans: list}}}}})
	require.NoError(t, err)
	return string(b)
}

// uploaded adds evidence and waits until it can be asked.
func uploaded(t *testing.T, c *client.Client, caseName, name, text string, r api.Reading) api.EvidenceInfo {
	_, err := c.Upload(t.Context(), caseName, name, strings.NewReader(text), r)
	require.NoError(t, err)
	e, err := c.Await(t.Context(), caseName, name, nil)
	require.NoError(t, err)
	return e
}

func TestACase(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines, tomas := servicetest.Person(t, s, "Ines"), servicetest.Person(t, s, "Tomas")

	me, err := tomas.Me(ctx)
	require.NoError(t, err)
	assert.Equal(t, api.Person{Name: "Tomas"}, me)
	list, err := ines.Cases(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
	c, err := ines.NewCase(ctx, api.NewCase{Name: "fog", Title: "Fog at Kelp Quay"})
	require.NoError(t, err)
	assert.Equal(t, "lead", c.Role)
	assert.Equal(t, []api.Member{{Name: "Ines", Role: "lead", Unmasks: true}}, c.Members)
	_, err = ines.NewCase(ctx, api.NewCase{Name: "fog"})
	require.ErrorIs(t, err, fault.Exists)
	_, err = ines.NewCase(ctx, api.NewCase{Name: "Not A Name"})
	require.ErrorIs(t, err, fault.InvalidRequest)

	// A stranger does not see the case; a viewer can read but not write; a lead can do everything.
	_, err = tomas.Case(ctx, "fog")
	require.ErrorIs(t, err, fault.NotFound)
	require.ErrorIs(t, ines.SetMember(ctx, "fog", api.Member{Name: "Wren", Role: "member"}), fault.NotFound)
	require.NoError(t, ines.SetMember(ctx, "fog", api.Member{Name: "Tomas", Role: "viewer"}))
	c, err = tomas.Case(ctx, "fog")
	require.NoError(t, err)
	assert.Equal(t, "viewer", c.Role)
	assert.Len(t, c.Members, 2)
	_, err = tomas.Upload(ctx, "fog", "crash", strings.NewReader(crash), api.Reading{})
	require.ErrorIs(t, err, fault.PermissionDenied)
	_, err = tomas.AddArtifact(ctx, "fog", "binary", strings.NewReader(crash))
	require.ErrorIs(t, err, fault.PermissionDenied)
	require.ErrorIs(t, tomas.SetMember(ctx, "fog", api.Member{Name: "Tomas", Role: "lead"}), fault.PermissionDenied)
	require.NoError(t, ines.SetMember(ctx, "fog", api.Member{Name: "Tomas", Role: "lead"}))
	require.NoError(t, tomas.SetMember(ctx, "fog", api.Member{Name: "Ines", Role: "member"}))
	require.ErrorIs(t, ines.SetMember(ctx, "fog", api.Member{Name: "Tomas", Role: "member"}), fault.PermissionDenied)
	list, err = tomas.Cases(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "fog", list[0].Name)
	_, err = client.New(s.URL, "wraith-wrong").Cases(ctx)
	require.ErrorIs(t, err, fault.NotSignedIn)
}

func TestEvidenceAndArtifacts(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines := servicetest.Person(t, s, "Ines")
	for _, name := range []string{"fog", "swell"} {
		_, err := ines.NewCase(ctx, api.NewCase{Name: name})
		require.NoError(t, err)
	}
	sent, err := ines.Upload(ctx, "fog", "crash", strings.NewReader(crash), api.Reading{})
	require.NoError(t, err)
	assert.Equal(t, "indexing", sent.State)
	assert.EqualValues(t, len(crash), sent.Bytes)
	assert.Equal(t, "Ines", sent.By)
	var states []string
	e, err := ines.Await(ctx, "fog", "crash", func(e api.EvidenceInfo) { states = append(states, e.State) })
	require.NoError(t, err)
	assert.Equal(t, "crash-text", e.Kind)
	assert.Equal(t, "panic: fog", e.Outcome)
	assert.Equal(t, sent.SHA256, e.SHA256)
	assert.Equal(t, "ready", states[len(states)-1])
	same, err := ines.Upload(ctx, "fog", "crash", strings.NewReader(crash), api.Reading{})
	require.NoError(t, err, "the same again")
	assert.WithinDuration(t, sent.Uploaded, same.Uploaded, time.Millisecond)
	_, err = ines.Upload(ctx, "fog", "crash", strings.NewReader(crash+"\n"), api.Reading{})
	require.ErrorIs(t, err, fault.Exists)
	_, err = ines.Upload(ctx, "fog", "-", strings.NewReader(crash), api.Reading{})
	require.ErrorIs(t, err, fault.InvalidName)
	_, err = ines.Upload(ctx, "fog", "empty", strings.NewReader(""), api.Reading{})
	require.ErrorIs(t, err, fault.InvalidRequest)
	_, err = ines.Upload(ctx, "fog", "other", strings.NewReader(crash), api.Reading{As: "letter"})
	require.Error(t, err)
	_, err = ines.Upload(ctx, "fog", "other", strings.NewReader(crash), api.Reading{Fields: map[string]string{"colour": "c"}})
	require.Error(t, err)

	// What the bytes do not say, the person does.
	log := strings.ReplaceAll(aLog(10), `"msg"`, `"was"`)
	uploaded(t, ines, "fog", "log", log, api.Reading{As: "structured-log", Fields: map[string]string{"message": "was"}})
	found, err := client.Ask(ctx, ines.Evidence("fog", "log"), ask.MessagesRequest{Of: "all", After: 100})
	require.NoError(t, err)
	require.Len(t, found.Messages, 10)
	assert.Equal(t, "gate opens", found.Messages[0].Text)
	_, err = ines.Upload(ctx, "fog", "noise", bytes.NewReader(bytes.Repeat([]byte{7, 0, 255}, 500)), api.Reading{})
	require.NoError(t, err)
	_, err = ines.Await(ctx, "fog", "noise", nil)
	require.ErrorIs(t, err, fault.Unreadable)
	_, err = ines.Await(ctx, "fog", "none", nil)
	require.ErrorIs(t, err, fault.NotFound)
	all, err := ines.ListEvidence(ctx, "fog")
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, "noise", all[0].Name)

	// The same failure is found in another case; evidence moves there, with its clock.
	uploaded(t, ines, "swell", "again", crash, api.Reading{})
	alike, err := ines.Evidence("fog", "crash").Alike(ctx)
	require.NoError(t, err)
	require.Len(t, alike, 1)
	assert.Equal(t, "swell", alike[0].Case)
	assert.Equal(t, "again", alike[0].Evidence.Name)
	alike, err = ines.Evidence("fog", "log").Alike(ctx)
	require.NoError(t, err)
	assert.Empty(t, alike)
	require.NoError(t, ines.Evidence("fog", "log").SetOffset(ctx, -1500*time.Millisecond))
	moved, err := ines.Evidence("fog", "log").Move(ctx, "swell")
	require.NoError(t, err)
	assert.EqualValues(t, -1.5e9, moved.ClockOffsetNs)
	_, err = ines.Await(ctx, "fog", "log", nil)
	require.ErrorIs(t, err, fault.NotFound)
	_, err = ines.Evidence("swell", "log").Move(ctx, "mist")
	require.ErrorIs(t, err, fault.NotFound)

	_, err = ines.AddArtifact(ctx, "fog", "letter", strings.NewReader("Dear harbour master"))
	require.ErrorIs(t, err, fault.NotELF)
	artifacts, err := ines.ArtifactsPage(ctx, "fog", client.Page{})
	require.NoError(t, err)
	assert.Empty(t, artifacts)
}

// A checkpoint is found by its ID, changes in part, and deletes alone.
func TestCheckpoints(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines := servicetest.Person(t, s, "Ines")
	_, err := ines.NewCase(ctx, api.NewCase{Name: "fog"})
	require.NoError(t, err)
	_, err = ines.SetCheckpoint(ctx, "fog", api.NewCheckpoint{On: "error"})
	require.ErrorIs(t, err, fault.NoCode, "there is no evidence to look in")
	uploaded(t, ines, "fog", "log", aLog(20), api.Reading{})

	first, err := ines.SetCheckpoint(ctx, "fog", api.NewCheckpoint{On: "error", When: "berth > 5", Nth: "every 2", Show: []string{"berth"}})
	require.NoError(t, err)
	assert.True(t, first.Enabled)
	assert.Equal(t, "error", first.Kind)
	assert.Equal(t, "Ines", first.By)
	second, err := ines.SetCheckpoint(ctx, "fog", api.NewCheckpoint{On: "output gate", Listing: true})
	require.NoError(t, err)
	assert.Equal(t, "gate", second.About)
	for on, want := range map[string]*fault.Kind{"tea": fault.InvalidRequest, "": fault.InvalidRequest} {
		_, err = ines.SetCheckpoint(ctx, "fog", api.NewCheckpoint{On: on})
		assert.ErrorIs(t, err, want, on)
	}
	_, err = ines.SetCheckpoint(ctx, "fog", api.NewCheckpoint{On: "error", When: "berth >"})
	require.ErrorIs(t, err, fault.InvalidExpression)

	off, when := false, "berth > 7"
	changed, err := ines.ChangeCheckpoint(ctx, "fog", first.ID, api.CheckpointChange{Enabled: &off, When: &when})
	require.NoError(t, err)
	first.Enabled, first.When = false, when
	first.Created, changed.Created = time.Time{}, time.Time{}
	assert.Equal(t, first, changed, "the rest stays")
	bad := "first of all"
	_, err = ines.ChangeCheckpoint(ctx, "fog", first.ID, api.CheckpointChange{Nth: &bad})
	require.Error(t, err)
	nth, listing, show := "last", true, []string{"berth", "msg"}
	changed, err = ines.ChangeCheckpoint(ctx, "fog", first.ID, api.CheckpointChange{Nth: &nth, Listing: &listing, Show: &show})
	require.NoError(t, err)
	assert.Equal(t, []any{nth, listing, show, when, false}, []any{changed.Nth, changed.Listing, changed.Show, changed.When, changed.Enabled})
	list, err := ines.CheckpointsPage(ctx, "fog", client.Page{})
	require.NoError(t, err)
	assert.Len(t, list, 2)
	require.NoError(t, ines.DeleteCheckpoint(ctx, "fog", first.ID))
	require.ErrorIs(t, ines.DeleteCheckpoint(ctx, "fog", first.ID), fault.NotFound)
	list, err = ines.CheckpointsPage(ctx, "fog", client.Page{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, second.ID, list[0].ID)
}

// Enabled checkpoints are where a run along the case's checkpoints halts.
func TestQuestionsKnowTheCase(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines := servicetest.Person(t, s, "Ines")
	_, err := ines.NewCase(ctx, api.NewCase{Name: "fog"})
	require.NoError(t, err)
	uploaded(t, ines, "fog", "log", aLog(20), api.Reading{})
	evidence := ines.Evidence("fog", "log")
	for _, n := range []api.NewCheckpoint{{On: "error", When: "berth == 14"}, {On: "error", Listing: true}} {
		_, err = ines.SetCheckpoint(ctx, "fog", n)
		require.NoError(t, err)
	}
	run, err := client.Ask(ctx, evidence, ask.RunRequest{})
	require.NoError(t, err)
	assert.EqualValues(t, 15, run.Moment, "of the record with berth 14")
	evidence.Within = time.Hour
	_, err = client.Ask(ctx, evidence, ask.RunRequest{})
	require.ErrorIs(t, err, fault.InvalidRequest)
	evidence.Within = time.Second
	_, err = client.Ask(ctx, evidence, ask.ValuesRequest{Place: ask.Place{Moment: 1 << 50}})
	require.ErrorIs(t, err, fault.OutOfRange)
}

// Traces of several pieces of evidence are listed together, newest first.
func TestTracesOfACase(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines := servicetest.Person(t, s, "Ines")
	_, err := ines.NewCase(ctx, api.NewCase{Name: "fog"})
	require.NoError(t, err)
	_, err = ines.Traces(ctx, "fog", ask.TracesRequest{Count: 5})
	require.ErrorIs(t, err, fault.NoTraces)
	uploaded(t, ines, "fog", "log", aLog(5), api.Reading{})
	uploaded(t, ines, "fog", "early", spans(t, 1, 3, "assign"), api.Reading{})
	uploaded(t, ines, "fog", "late", spans(t, 11, 4, "release"), api.Reading{})
	got, err := ines.Traces(ctx, "fog", ask.TracesRequest{From: 1, Count: 5})
	require.NoError(t, err)
	assert.Equal(t, 7, got.Total)
	var names []string
	for _, x := range got.Traces {
		names = append(names, x.Evidence+" "+x.TraceID[:2])
	}
	assert.Equal(t, []string{"late 0d", "late 0c", "late 0b", "early 03", "early 02"}, names)
	got, err = ines.Traces(ctx, "fog", ask.TracesRequest{When: `operation == "assign"`, Count: 5})
	require.NoError(t, err)
	assert.Equal(t, 3, got.Total)
	got, err = ines.Trace(ctx, "fog", "0b0b")
	require.NoError(t, err)
	require.Len(t, got.Traces, 1)
	assert.Equal(t, "late", got.Traces[0].Evidence)
	_, err = ines.Trace(ctx, "fog", "ffff")
	require.ErrorIs(t, err, fault.NoTrace)
}

// A sitting is joined, moved and watched; the watch ends with its context or its function.
func TestSitting(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines, tomas := servicetest.Person(t, s, "Ines"), servicetest.Person(t, s, "Tomas")
	_, err := ines.NewCase(ctx, api.NewCase{Name: "fog"})
	require.NoError(t, err)
	require.NoError(t, ines.SetMember(ctx, "fog", api.Member{Name: "Tomas", Role: "viewer"}))
	uploaded(t, ines, "fog", "log", aLog(20), api.Reading{})
	x, err := ines.JoinSitting(ctx, "fog", "log", "")
	require.NoError(t, err)
	assert.Equal(t, "fog", x.Case)
	assert.Equal(t, "log", x.Evidence)
	_, err = tomas.JoinSitting(ctx, "fog", "log", "lead")
	require.ErrorIs(t, err, fault.PermissionDenied)
	_, err = tomas.ChangeSitting(ctx, x.ID, api.SittingChange{Mode: "roam"})
	require.ErrorIs(t, err, fault.NotInSitting)
	y, err := tomas.JoinSitting(ctx, "fog", "log", "")
	require.NoError(t, err)
	assert.Equal(t, x.ID, y.ID)
	assert.Equal(t, []string{"Ines lead", "Tomas follow"}, here(y))

	watching, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	states := make(chan api.Sitting, 100)
	ended := make(chan error, 1)
	go func() {
		ended <- tomas.WatchSitting(watching, x.ID, func(s api.Sitting) error { states <- s; return nil })
	}()
	<-states
	_, err = ines.ChangeSitting(ctx, x.ID, api.SittingChange{Place: &api.Place{Moment: 7, Thread: x.Place.Thread}})
	require.NoError(t, err)
	for s := range states {
		if s.Place.Moment == 7 {
			assert.Greater(t, s.Version, x.Version)
			break
		}
	}
	_, err = ines.ChangeSitting(ctx, x.ID, api.SittingChange{Place: &api.Place{Moment: 1 << 40, Thread: x.Place.Thread}})
	require.ErrorIs(t, err, fault.OutOfRange)
	stop()
	require.ErrorIs(t, <-ended, context.Canceled)
	enough := errors.New("enough")
	require.ErrorIs(t, tomas.WatchSitting(ctx, x.ID, func(api.Sitting) error { return enough }), enough)
	require.ErrorIs(t, tomas.WatchSitting(ctx, 4711, nil), fault.NotFound)
	wren := servicetest.Person(t, s, "Wren")
	require.ErrorIs(t, wren.WatchSitting(ctx, x.ID, nil), fault.NotFound, "a sitting of others does not exist")
}

func here(s api.Sitting) (out []string) {
	for _, a := range s.Here {
		out = append(out, a.Name+" "+a.Mode)
	}
	return out
}

// Programs send with their own tokens, which can be revoked one by one.
func TestSenders(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines := servicetest.Person(t, s, "Ines")
	_, err := ines.NewCase(ctx, api.NewCase{Name: "fog"})
	require.NoError(t, err)
	one, err := ines.NewSender(ctx, "fog", "pilotd")
	require.NoError(t, err)
	two, err := ines.NewSender(ctx, "fog", "harbour")
	require.NoError(t, err)
	assert.NotEqual(t, one.Secret, two.Secret)
	inbox, err := ines.NewSender(ctx, "", "laptop")
	require.NoError(t, err)
	assert.Equal(t, "inbox-ines", inbox.Case)
	again, err := ines.NewSender(ctx, "", "phone")
	require.NoError(t, err)
	assert.Equal(t, inbox.Case, again.Case)
	list, err := ines.Senders(ctx, "fog")
	require.NoError(t, err)
	require.Len(t, list, 2)
	for i, label := range []string{"harbour", "pilotd"} {
		assert.Equal(t, label, list[i].Label)
		assert.Empty(t, list[i].Secret, "it is given out once")
		assert.Equal(t, "Ines", list[i].By)
	}
	send := func(secret string) int {
		r, err := http.NewRequest("POST", s.URL+"/v1/traces", strings.NewReader(spans(t, 1, 1, "assign")))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/x-protobuf")
		r.Header.Set("Authorization", "Bearer "+secret)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		return answer.StatusCode
	}
	assert.Equal(t, http.StatusOK, send(one.Secret))
	require.NoError(t, ines.DeleteSender(ctx, "fog", one.ID))
	require.ErrorIs(t, ines.DeleteSender(ctx, "fog", one.ID), fault.NotFound)
	assert.Equal(t, http.StatusUnauthorized, send(one.Secret))
	assert.Equal(t, http.StatusOK, send(two.Secret))
	_, err = client.New(s.URL, two.Secret).Cases(ctx)
	require.ErrorIs(t, err, fault.NotSignedIn, "a sender may do nothing else")
}

// What is between client and service may answer anything: the error means that the service is not
// available, and what was answered.
func TestWhatIsNotTheService(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	for _, c := range []struct {
		status int
		body   string
		kind   *fault.Kind
		says   string
	}{
		{502, "<html>bad gateway</html>", fault.Unavailable, "bad gateway"},
		{200, "<html>welcome</html>", fault.Unavailable, "unreadable answer"},
		{200, `{"name": 5}`, fault.Unavailable, "unreadable answer"},
		{404, "", fault.NotFound, ""},
		{401, "null", fault.NotSignedIn, ""},
		{418, `{"type":"case.of.tea","title":"Tea","detail":"out of tea","remedy":"brew some"}`, fault.InvalidRequest, "out of tea"},
		{409, `{"type":"not-found","title":"Gone","errors":[{"location":"body.name","message":"too long"}]}`, fault.NotFound, "body.name: too long"},
		{500, strings.Repeat("x", 1<<20), fault.Unavailable, "xxx"},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
			w.WriteHeader(c.status)
			_, _ = io.WriteString(w, c.body)
		}))
		_, err := client.New(server.URL+"/", "secret").Me(ctx)
		require.ErrorIs(t, err, c.kind, "%d %.40s: %v", c.status, c.body, err)
		assert.Contains(t, err.Error(), c.says)
		assert.Less(t, len(err.Error()), 100_000)
		server.Close()
		_, err = client.New(server.URL, "secret").Me(ctx)
		require.ErrorIs(t, err, fault.Unavailable, "nobody listens")
	}
	_, err := client.New("not an address\x00", "").Me(ctx)
	require.ErrorIs(t, err, fault.Unavailable)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = client.New("http://127.0.0.1:1", "").Me(gone)
	require.ErrorIs(t, err, context.Canceled)
}

// The stream of a sitting that is cut or broken ends the watch with an error.
func TestABrokenStream(t *testing.T) {
	t.Parallel()
	for body, want := range map[string]int{
		": still here\n\ndata: {\"id\":3}\n\ndata: {\"id\":0}\n\nevent: x\n\ndata: {\"id\":4}\n\n": 2,
		"data: {\"id\":3}\n\ndata: {\"id\":": 1,
		"":                                   0,
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, body) }))
		n := 0
		err := client.New(server.URL, "").WatchSitting(t.Context(), 1, func(api.Sitting) error { n++; return nil })
		require.ErrorIs(t, err, fault.Unavailable, body)
		assert.Equal(t, want, n, body)
		server.Close()
	}
}

// A pattern that came with evidence is the case's: later evidence is read by it too, unless it has one of its own.
func TestPatternsOfACase(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := servicetest.Start(t, slog.DiscardHandler)
	ines := servicetest.Person(t, s, "Ines")
	for _, name := range []string{"fog", "swell"} {
		_, err := ines.NewCase(ctx, api.NewCase{Name: name})
		require.NoError(t, err)
	}
	const text = "CALM;x;2031-03-30 08:00:00;gate opens\nGRAVE;y;2031-03-30 08:00:01;gate stuck\n"
	uploaded(t, ines, "fog", "first", text, api.Reading{Fields: map[string]string{"pattern": "{level};{_};{time};{message}", "zone": "+02:00"}})
	uploaded(t, ines, "fog", "second", text, api.Reading{})
	uploaded(t, ines, "fog", "own", text, api.Reading{Fields: map[string]string{"pattern": "{level};{crane};{time};{message}"}})
	for name, crane := range map[string]string{"first": "", "second": "", "own": "y"} {
		peek, err := client.Ask(ctx, ines.Evidence("fog", name), ask.PeekRequest{})
		require.NoError(t, err)
		assert.EqualValues(t, 2, peek.Evidence.Reading.Records, name)
		hits, err := client.Ask(ctx, ines.Evidence("fog", name), ask.HitsRequest{CheckpointOn: ask.CheckpointOn{On: "output", When: `level == "GRAVE"`}, Show: []string{"crane"}, Count: 5})
		require.NoError(t, err)
		require.Len(t, hits.Hits, 1, name)
		assert.Equal(t, "gate stuck", hits.Hits[0].Text)
		assert.Equal(t, name != "own", hits.Hits[0].At.Equal(time.Date(2031, 3, 30, 6, 0, 1, 0, time.UTC)), "the zone is the case's too, for its pattern")
		if crane != "" {
			assert.Equal(t, `"y"`, hits.Hits[0].Shown[0].Value)
		}
	}
	_, err := ines.Upload(ctx, "swell", "first", strings.NewReader(text), api.Reading{})
	require.NoError(t, err)
	_, err = ines.Await(ctx, "swell", "first", nil)
	require.ErrorContains(t, err, "unknown kind", "another case has no pattern")
	_, err = ines.Upload(ctx, "fog", "bad", strings.NewReader(text), api.Reading{Fields: map[string]string{"pattern": "{"}})
	require.ErrorIs(t, err, fault.InvalidRule)
}
