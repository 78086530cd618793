package httpapi_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/e2e/clustertest"
	"wraithology/e2e/servicetest"
	"wraithology/service/httpapi"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// An answer is what a request got.
type answer struct {
	status int
	header http.Header
	body   string
}

// problem reads the answer's body as problem details.
func (a answer) problem(t *testing.T) api.Problem {
	t.Helper()
	var p api.Problem
	require.NoError(t, json.Unmarshal([]byte(a.body), &p), a.body)
	assert.Equal(t, "application/problem+json", a.header.Get("Content-Type"))
	assert.Equal(t, a.status, p.Status)
	assert.NotEmpty(t, p.Type)
	assert.NotEmpty(t, p.Title)
	assert.Equal(t, a.header.Get("X-Request-ID"), p.RequestID)
	return p
}

// A site is a running service with a browser that talks to it.
type site struct {
	url     string
	browser *http.Client
}

func (s site) send(t *testing.T, method, path, body string, header ...string) answer {
	t.Helper()
	r, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	response, err := s.browser.Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return answer{response.StatusCode, response.Header, string(b)}
}

func newSite(t *testing.T, url string) site {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return site{url, &http.Client{Jar: jar}}
}

// A log that tests may read while a service writes it.
type safeLog struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *safeLog) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *safeLog) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Every answer has the headers that keep a browser from doing what it should not.
func TestHeadersAndPages(t *testing.T) {
	t.Parallel()
	s := newSite(t, servicetest.Start(t, slog.DiscardHandler).URL)
	ids := map[string]bool{}
	for path, want := range map[string]struct {
		status int
		kind   string
	}{
		"/healthz":            {200, "application/json"},
		"/readyz":             {200, "application/json"},
		"/":                   {200, "text/html; charset=utf-8"},
		"/cases/fog":          {200, "text/html; charset=utf-8"}, // a view of the console
		"/assets":             {200, "text/html; charset=utf-8"}, // a folder is not listed
		"/api/nothing":        {404, "application/problem+json"},
		"/api/cases":          {401, "application/problem+json"},
		"/api/openapi.json":   {200, "application/openapi+json"},
		"/%ff":                {422, "application/problem+json"},
		"/api/cases?name=%00": {422, "application/problem+json"},
		"/api/cases?name=%zz": {422, "application/problem+json"},
	} {
		got := s.send(t, "GET", path, "")
		assert.Equal(t, want.status, got.status, path)
		assert.Equal(t, want.kind, got.header.Get("Content-Type"), path)
		assert.Contains(t, got.header.Get("Content-Security-Policy"), "default-src 'self'", path)
		assert.Contains(t, got.header.Get("Content-Security-Policy"), "frame-ancestors 'none'", path)
		assert.Equal(t, "nosniff", got.header.Get("X-Content-Type-Options"), path)
		assert.Equal(t, "same-origin", got.header.Get("Referrer-Policy"), path)
		id := got.header.Get("X-Request-ID")
		assert.False(t, id == "" || ids[id], "the request IDs differ")
		ids[id] = true
		if want.status >= 400 {
			got.problem(t)
		}
	}
	method := s.send(t, "PUT", "/api/me", "{}")
	assert.Equal(t, 405, method.status)
	assert.Equal(t, "method-not-allowed", method.problem(t).Type)
	assert.Equal(t, "no-cache", s.send(t, "GET", "/", "").header.Get("Cache-Control"), "a new version is seen at once")
}

// A browser signs in once, stays signed in, and signs out; requests of other sites are refused.
func TestBrowserSession(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	servicetest.Person(t, service, "Ines")
	s := newSite(t, service.URL)
	wrong := s.send(t, "POST", "/api/sessions", `{"name":"Ines","password":"wrong-secret"}`)
	assert.Equal(t, 401, wrong.status)
	assert.Equal(t, "wrong-password", wrong.problem(t).Type)
	invalid := s.send(t, "POST", "/api/sessions", `{"name":"","password":"x","extra":1}`)
	assert.Equal(t, 422, invalid.status)
	assert.Len(t, invalid.problem(t).Errors, 2)
	assert.Equal(t, 401, s.send(t, "GET", "/api/me", "").status)
	assert.Equal(t, 200, s.send(t, "POST", "/api/sessions", `{"name":"Ines","password":"Ines-secret"}`).status)
	assert.JSONEq(t, `{"name":"Ines","admin":true}`, s.send(t, "GET", "/api/me", "").body)
	for name, header := range map[string][]string{"by its origin": {"Origin", "https://elsewhere.example"}, "by its fetch": {"Sec-Fetch-Site", "cross-site"}} {
		refused := s.send(t, "POST", "/api/cases", `{"name":"fog","title":""}`, header...)
		assert.Equal(t, 403, refused.status, name)
		assert.Equal(t, "cross-origin", refused.problem(t).Type)
	}
	assert.Equal(t, 201, s.send(t, "POST", "/api/cases", `{"name":"fog","title":""}`, "Sec-Fetch-Site", "same-origin").status)
	assert.Equal(t, 204, s.send(t, "DELETE", "/api/sessions", "").status)
	assert.Equal(t, 401, s.send(t, "GET", "/api/me", "").status)
}

// Passwords can be tried 60 times a minute from one address; whoever is signed in continues.
func TestSignInsAreLimited(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	servicetest.Person(t, service, "Ines") // the first of the sixty
	s := newSite(t, service.URL)
	refused := 0
	for i := range 65 {
		got := s.send(t, "POST", "/api/tokens", `{"name":"","password":"x","label":"y"}`) // invalid, so that nothing is hashed
		if got.status == 429 {
			refused++
			assert.Equal(t, "too-many-requests", got.problem(t).Type)
			assert.GreaterOrEqual(t, i, 59)
		}
	}
	assert.InDelta(t, 6, refused, 1, "the minute may turn meanwhile")
	assert.Equal(t, 401, s.send(t, "GET", "/api/me", "").status)
}

// Each declared question has its operation, with a schema that names its fields.
func TestDescription(t *testing.T) {
	t.Parallel()
	text, err := httpapi.Description()
	require.NoError(t, err)
	var d struct {
		Paths map[string]map[string]struct {
			OperationID string
			Parameters  []struct {
				Name, In, Description string
				Required              bool
			}
			RequestBody any
		}
	}
	require.NoError(t, json.Unmarshal(text, &d))
	ids := map[string]bool{}
	for path, methods := range d.Paths {
		for method, op := range methods {
			assert.False(t, ids[op.OperationID], "two operations are named %s", op.OperationID)
			ids[op.OperationID] = true
			for _, p := range op.Parameters {
				if p.In == "path" {
					assert.Contains(t, path, "{"+p.Name+"}", "%s %s", method, path)
				}
			}
		}
	}
	for _, q := range ask.Questions() {
		method := "get"
		if q.Nested() {
			method = "post"
		}
		op, ok := d.Paths["/api/cases/{case}/evidence/{evidence}/"+q.Name][method]
		require.True(t, ok, q.Name)
		have := map[string]string{}
		for _, p := range op.Parameters {
			have[p.Name] = p.Description
		}
		assert.Contains(t, have, "within", q.Name)
		if q.Nested() {
			assert.NotNil(t, op.RequestBody, q.Name)
			continue
		}
		for _, f := range ask.Fields(q.Request) {
			assert.Equal(t, f.Doc, have[f.Name], "%s %s", q.Name, f.Name)
		}
	}
}

// Who did what is in the record of the case, newest first.
func TestCustodyOfACase(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	servicetest.Person(t, service, "Ines")
	servicetest.Person(t, service, "Tomas")
	s := newSite(t, service.URL)
	require.Equal(t, 200, s.send(t, "POST", "/api/sessions", `{"name":"Ines","password":"Ines-secret"}`).status)
	assert.JSONEq(t, `[{"name":"Ines","admin":true},{"name":"Tomas","admin":false}]`, s.send(t, "GET", "/api/people", "").body)
	crash := "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n"
	for i, step := range []struct {
		method, path, body string
		status             int
	}{
		{"POST", "/api/cases", `{"name":"fog","title":"Fog"}`, 201},
		{"PUT", "/api/cases/fog/members/Tomas", `{"role":"member"}`, 200},
		{"PUT", "/api/cases/fog/members/Tomas", `{"role":"captain"}`, 422},
		{"PUT", "/api/cases/fog/evidence/crash", crash, 201},
		{"GET", "/api/cases/fog/evidence/crash/content", "", 200},
		{"PUT", "/api/cases/fog/evidence/crash/offset", `{"offsetNs":1500000000}`, 200},
		{"POST", "/api/cases/fog/senders", `{"label":"pilotd"}`, 201},
		{"DELETE", "/api/cases/fog/senders/1", "", 204},
		{"PATCH", "/api/cases/fog/checkpoints", `{"enabled":false}`, 204},
		{"DELETE", "/api/cases/fog/checkpoints", "", 204},
		{"DELETE", "/api/cases/fog/checkpoints/7", "", 404},
		{"POST", "/api/cases/fog/evidence/crash/move", `{"to":"mist"}`, 404},
	} {
		got := s.send(t, step.method, step.path, step.body)
		assert.Equal(t, step.status, got.status, "step %d: %s", i, got.body)
		if strings.HasSuffix(step.path, "/content") {
			assert.Equal(t, crash, got.body)
			assert.Equal(t, "application/octet-stream", got.header.Get("Content-Type"))
			assert.True(t, strings.HasPrefix(got.header.Get("Content-Disposition"), `attachment; filename="crash`), got.header.Get("Content-Disposition"))
		}
	}
	var custody []struct{ By, What string }
	require.NoError(t, json.Unmarshal([]byte(s.send(t, "GET", "/api/cases/fog/custody", "").body), &custody))
	var what []string
	for _, e := range custody {
		assert.Equal(t, "Ines", e.By)
		if strings.HasPrefix(e.What, "uploaded crash, ") {
			e.What = "uploaded crash"
		}
		what = append(what, e.What)
	}
	assert.Equal(t, []string{"deleted all checkpoints", "set all checkpoints to enabled false", "took the token of sender 1 away", "made a token to send with: pilotd", "set the clock of crash 1.5s later",
		"downloaded crash", "uploaded crash", "made Tomas member of the case", "opened the case"}, what)
}

// A part of evidence can be downloaded, as by a browser that continues after a break.
func TestDownloadInParts(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	servicetest.Person(t, service, "Ines")
	s := newSite(t, service.URL)
	require.Equal(t, 200, s.send(t, "POST", "/api/sessions", `{"name":"Ines","password":"Ines-secret"}`).status)
	require.Equal(t, 201, s.send(t, "POST", "/api/cases", `{"name":"fog","title":"Fog"}`).status)
	text := fmt.Sprintf("panic: %s\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n", strings.Repeat("fog ", 5000))
	require.Equal(t, 201, s.send(t, "PUT", "/api/cases/fog/evidence/crash", text).status)
	part := s.send(t, "GET", "/api/cases/fog/evidence/crash/content", "", "Range", "bytes=100-199")
	assert.Equal(t, 206, part.status)
	assert.Equal(t, text[100:200], part.body)
	none := s.send(t, "GET", "/api/cases/fog/evidence/none/content", "")
	assert.Equal(t, 404, none.status)
	none.problem(t)
}

// When the database is gone, each answer says so, and the log has the request.
func TestDatabaseGone(t *testing.T) {
	t.Parallel()
	log := &safeLog{}
	service := servicetest.Start(t, slog.NewTextHandler(log, nil))
	servicetest.Person(t, service, "Ines")
	s := newSite(t, service.URL)
	require.Equal(t, 200, s.send(t, "POST", "/api/sessions", `{"name":"Ines","password":"Ines-secret"}`).status)
	clustertest.Drop(t, service.Database)
	ready := s.send(t, "GET", "/readyz", "")
	assert.Equal(t, 503, ready.status)
	assert.Equal(t, 200, s.send(t, "GET", "/healthz", "").status)
	got := s.send(t, "GET", "/api/cases", "")
	assert.Equal(t, 503, got.status)
	p := got.problem(t)
	assert.Equal(t, "unavailable", p.Type)
	assert.Contains(t, log.String(), p.RequestID)
}
