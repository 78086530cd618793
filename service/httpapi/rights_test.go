package httpapi_test

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/e2e/servicetest"
	"wraithology/service/httpapi"
	"wraithology/service/store"
)

// schema is what the description says about a value.
type schema struct {
	Ref        string `json:"$ref"`
	Type       any
	Enum       []any
	Required   []string
	Properties map[string]schema
	Items      *schema
	Minimum    float64
	MinLength  int
	MinItems   int
}

// described is an operation of the description.
type described struct {
	id, method, path string
	Parameters       []struct {
		Name, In string
		Required bool
		Schema   schema
	}
	RequestBody *struct {
		Content map[string]struct{ Schema schema }
	}
}

// description is the API as its OpenAPI document describes it, safe operations first, then those that delete less.
func description(t *testing.T) (list []described, schemas map[string]schema) {
	text, err := httpapi.Description()
	require.NoError(t, err)
	var d struct {
		Paths      map[string]map[string]json.RawMessage
		Components struct{ Schemas map[string]schema }
	}
	require.NoError(t, json.Unmarshal(text, &d))
	for path, methods := range d.Paths {
		for method, text := range methods {
			var id struct{ OperationID string }
			op := described{method: strings.ToUpper(method), path: path}
			require.NoError(t, json.Unmarshal(text, &op))
			require.NoError(t, json.Unmarshal(text, &id))
			op.id = id.OperationID
			list = append(list, op)
		}
	}
	order := []string{"GET", "POST", "PUT", "PATCH", "DELETE"}
	slices.SortFunc(list, func(x, y described) int {
		return cmp.Or(cmp.Compare(slices.Index(order, x.method), slices.Index(order, y.method)), cmp.Compare(len(y.path), len(x.path)), cmp.Compare(x.id, y.id))
	})
	return list, d.Components.Schemas
}

// example makes a value of a schema with what is required.
func example(s schema, all map[string]schema) any {
	if s.Ref != "" {
		return example(all[s.Ref[strings.LastIndex(s.Ref, "/")+1:]], all)
	}
	if len(s.Enum) > 0 {
		return s.Enum[0]
	}
	switch s.Type {
	case "object":
		out := map[string]any{}
		for _, name := range s.Required {
			out[name] = example(s.Properties[name], all)
		}
		return out
	case "array":
		out := []any{}
		for range s.MinItems {
			out = append(out, example(*s.Items, all))
		}
		return out
	case "integer", "number":
		return int(s.Minimum)
	case "boolean":
		return false
	}
	return strings.Repeat("x", max(1, s.MinLength))
}

// exampleBodies are bodies of operations whose examples would do nothing.
var exampleBodies = map[string]string{
	"changeSitting": `{"mode":"lead"}`, "joinSitting": `{"mode":"lead"}`,
	"sayInSitting": `{"text":"fog"}`, "newHook": `{"url":"http://127.0.0.1:9/x"}`, "newExhibit": `{"evidence":"run","question":"stack","request":{}}`,
	"newCheckpoint": `{"on":"output"}`, "newExpectation": `{"checkpoint":"output","that":"1 == 1"}`, "importCase": `PK`, "upload": logText, "uploadArtifact": `\x7fELF`,
}

// exampleParameters are values of parameters whose examples are refused before rights are looked at.
var exampleParameters = map[string]string{"address": "0x10"}

// logText is a structured log.
const logText = `{"time":"2026-03-01T06:00:00Z","level":"INFO","msg":"pilot asked","berth":3}
{"time":"2026-03-01T06:00:01Z","level":"ERROR","msg":"berth taken","berth":3}
`

// request makes a request for an operation, with the values of the parameters of its path, valid as the description says.
func (op described) request(t *testing.T, all map[string]schema, values map[string]string) (path, body string) {
	query := url.Values{}
	path = op.path
	for _, p := range op.Parameters {
		switch {
		case p.In == "path":
			value, ok := values[op.id+"/"+p.Name]
			if !ok {
				value, ok = values[p.Name]
			}
			require.True(t, ok, "%s: no value of %s", op.id, p.Name)
			path = strings.ReplaceAll(path, "{"+p.Name+"}", url.PathEscape(value))
		case p.Required:
			query.Set(p.Name, cmp.Or(exampleParameters[p.Name], fmt.Sprint(example(p.Schema, all))))
		}
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	if op.RequestBody == nil {
		return path, ""
	}
	if text, ok := exampleBodies[op.id]; ok {
		return path, text
	}
	if op.id == "moveEvidence" {
		return path, fmt.Sprintf(`{"to":%q}`, values["to"])
	}
	text, err := json.Marshal(example(op.RequestBody.Content["application/json"].Schema, all))
	require.NoError(t, err)
	return path, string(text)
}

// do sends a request and reads how it is answered; of a stream, only the beginning.
func (s site) do(t *testing.T, token string, op described, path, body string) (status int, text string) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, op.method, s.url+path, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := s.browser.Do(r)
	require.NoError(t, err, "%s %s", op.method, path)
	defer response.Body.Close()
	if strings.HasSuffix(op.path, "/events") && response.StatusCode == http.StatusOK {
		return response.StatusCode, ""
	}
	b, err := io.ReadAll(io.LimitReader(response.Body, 4096))
	require.NoError(t, err)
	return response.StatusCode, string(b)
}

// keep makes a case with something of every kind in it, and returns the values of the parameters of paths that name it. Its numbers start after some.
func (s site) keep(t *testing.T, token, name, evidence string, after int) map[string]string {
	ok := func(method, path, body string) (out struct {
		ID      int64
		Version int64
		State   string
	}) {
		t.Helper()
		got := s.send(t, method, path, body, "Authorization", "Bearer "+token)
		require.Less(t, got.status, 300, "%s %s: %s", method, path, got.body)
		if got.body != "" {
			require.NoError(t, json.Unmarshal([]byte(got.body), &out))
		}
		return out
	}
	of := "/api/cases/" + name
	ok("POST", "/api/cases", fmt.Sprintf(`{"name":%q,"title":"Fog"}`, name))
	ok("PUT", of+"/evidence/"+evidence, logText+strings.Repeat("\n", after))
	ok("PUT", of+"/evidence/moved-"+evidence, logText+strings.Repeat("\n", after+10))
	require.Eventually(t, func() bool { return ok("GET", of+"/evidence/"+evidence, "").State == api.StateReady }, 20*time.Second, 20*time.Millisecond)
	values := map[string]string{"case": name, "evidence": evidence, "id": fmt.Sprint(after + 1), "exhibit": fmt.Sprint(after + 1), "artifact": evidence + "-source", "moveEvidence/evidence": "moved-" + evidence, "upload": s.begun(t, token, of, evidence)}
	for range after + 1 {
		ok("POST", of+"/exhibits", fmt.Sprintf(`{"evidence":%q,"question":"stack","request":{}}`, evidence))
		ok("POST", of+"/comments", `{"text":"fog"}`)
		ok("POST", of+"/theories", `{"text":"fog"}`)
	}
	values["checkpoint"] = fmt.Sprint(ok("POST", of+"/checkpoints", `{"on":"output"}`).ID)
	values["expectation"] = fmt.Sprint(ok("POST", of+"/expectations", `{"checkpoint":"output","that":"1 == 1"}`).ID)
	values["sender"] = fmt.Sprint(ok("POST", of+"/senders", `{"label":"pilotd"}`).ID)
	hook := fmt.Sprint(ok("POST", of+"/hooks", `{"url":"https://example.org/hook"}`).ID)
	values["deleteHook/id"], values["tryHook/id"] = hook, hook
	values["sitting"] = fmt.Sprint(ok("POST", of+"/evidence/"+evidence+"/sitting", `{}`).ID)
	ok("PUT", of+"/artifacts/"+values["artifact"], sourceArchive(t))
	ok("PUT", of+fmt.Sprintf("/theories/%d/exhibits/%d", after+1, after+1), `{"supports":true}`)
	values["team"] = "team-" + name
	ok("POST", "/api/teams", fmt.Sprintf(`{"name":%q}`, values["team"]))
	ok("PUT", of+"/teams/"+values["team"], "")
	values["invitation"] = fmt.Sprint(ok("POST", of+"/invitations", `{}`).ID)
	values["withdrawTeamInvitation/invitation"] = fmt.Sprint(ok("POST", "/api/teams/"+values["team"]+"/invitations", `{}`).ID)
	return values
}

// begun begins an upload, which is not continued, and returns its ID.
func (s site) begun(t *testing.T, token, of, name string) string {
	text := func(x string) string { return base64.StdEncoding.EncodeToString([]byte(x)) }
	got := s.send(t, "POST", of+"/uploads", "", "Authorization", "Bearer "+token, "Tus-Resumable", "1.0.0", "Upload-Length", "7", "Upload-Metadata", "name "+text(name+"-part")+",kind "+text("evidence"))
	require.Equal(t, 201, got.status, got.body)
	at := got.header.Get("Location")
	return at[strings.LastIndexByte(at, '/')+1:]
}

// sourceArchive is an archive of source text.
func sourceArchive(t *testing.T) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	f, err := w.Create("berth.go")
	require.NoError(t, err)
	_, err = f.Write([]byte("package main\n"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.String()
}

// Every operation of the API has an entry in the table of rights, and every route is an operation of the description.
func TestTableOfRights(t *testing.T) {
	t.Parallel()
	list, _ := description(t)
	routes := map[string]bool{}
	for _, op := range list {
		assert.NotPanics(t, func() { httpapi.RightsOf(op.id) }, op.id)
		routes[op.method+" "+op.path] = true
	}
	require.NoError(t, chi.Walk(httpapi.Routes(), func(method, path string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if !strings.HasPrefix(path, "/api/openapi") && !strings.HasPrefix(path, "/api/schemas") {
			assert.True(t, routes[method+" "+path], "%s %s is not in the description", method, path)
		}
		return nil
	}))
	for _, name := range httpapi.Operations() {
		assert.True(t, slices.ContainsFunc(list, func(op described) bool { return op.id == name }), "%s is in the table and not in the API", name)
	}
}

// Every operation with every role and every scope of a token does what the table of rights says, and nothing in a case of others: not by its name, nor by
// the name or number of something in it.
func TestRights(t *testing.T) {
	t.Parallel()
	service := servicetest.Start(t, slog.DiscardHandler)
	s := newSite(t, service.URL)
	records := recordsOf(t, service)
	tokens := map[string]string{}
	for _, name := range []string{"Lead", "Member", "Viewer", "Stranger", "Gone"} {
		servicetest.Person(t, service, name)
		tokens[name] = scoped(t, service, records, name, store.ScopeWrite)
	}
	gone, err := records.PersonByName(t.Context(), "Gone")
	require.NoError(t, err)
	expired := store.Token{PersonID: gone.ID, Scope: store.ScopeWrite, ExpiresAt: new(time.Now().Add(-time.Second))}
	secret, err := service.Accounts.NewToken(t.Context(), &expired)
	require.NoError(t, err)
	list, schemas := description(t)
	theirs := s.keep(t, tokens["Stranger"], "theirs", "theirs", 3)
	before := s.send(t, "GET", "/api/cases/theirs/custody?count=1", "", "Authorization", "Bearer "+tokens["Stranger"]).body
	for role, name := range map[string]string{api.RoleLead: "Lead", api.RoleMember: "Member", api.RoleViewer: "Viewer"} {
		values := s.keep(t, tokens["Lead"], "fog-"+role, "run", 0)
		s.keep(t, tokens["Lead"], "mist-"+role, "other", 0)
		values["person"], values["to"] = "Lead", "mist-"+role
		for _, of := range []string{"fog-", "mist-"} {
			if name != "Lead" {
				for _, path := range []string{"/api/cases/", "/api/teams/team-"} {
					require.Equal(t, 200, s.send(t, "PUT", path+of+role+"/members/"+name, fmt.Sprintf(`{"role":%q}`, role), "Authorization", "Bearer "+tokens["Lead"]).status)
				}
			}
		}
		t.Run(role, func(t *testing.T) {
			for _, op := range list {
				needs, full, scopes := httpapi.RightsOf(op.id)
				path, body := op.request(t, schemas, values)
				if needs < httpapi.MayLook {
					if needs > httpapi.Anybody {
						for kind, token := range map[string]string{"nobody": "", "a forged token": "wraith-forged", "an expired token": secret} {
							status, text := s.do(t, token, op, path, body)
							assert.Equal(t, 401, status, "%s by %s: %s", op.id, kind, text)
						}
					}
					continue
				}
				for kind, token := range map[string]string{"nobody": "", "a forged token": "wraith-forged", "an expired token": secret} {
					status, text := s.do(t, token, op, path, body)
					assert.Equal(t, 401, status, "%s by %s: %s", op.id, kind, text)
				}
				status, text := s.do(t, tokens["Stranger"], op, path, body)
				assert.Equal(t, 404, status, "%s by a stranger: %s", op.id, text)
				for _, scope := range []string{store.ScopeRead, store.ScopeIngest} {
					if !slices.Contains(scopes, scope) {
						status, text := s.do(t, scoped(t, service, records, name, scope), op, path, body)
						assert.Equal(t, 403, status, "%s with a token to %s: %s", op.id, scope, text)
					}
				}
				if role == api.RoleLead {
					s.foreign(t, tokens[name], op, schemas, values, theirs)
				}
				mine := httpapi.RightOf(role)
				if _, isQuestion := ask.Named(op.id); isQuestion && role != api.RoleLead {
					status, text := s.do(t, tokens[name], op, path+map[bool]string{true: "&", false: "?"}[strings.Contains(path, "?")]+"unmask=true", body)
					assert.Equal(t, 403, status, "%s, unmasked, by %s: %s", op.id, role, text)
				}
				isOfOthers := full > 0 && op.method != "GET" && role != api.RoleLead
				status, text = s.do(t, tokens[name], op, path, body)
				switch {
				case mine < needs || isOfOthers && mine < full || httpapi.ShowsSecrets(op.id) && role != api.RoleLead: // who opened the case may see them
					assert.Equal(t, 403, status, "%s by %s: %s", op.id, role, text)
				case strings.HasPrefix(op.id, "restore"), op.id == "caseTraces", op.id == "caseTrace": // nothing is deleted, and no evidence has traces
					assert.Contains(t, []int{404, 422}, status, "%s by %s: %s", op.id, role, text)
				default:
					assert.NotContains(t, []int{401, 403}, status, "%s by %s: %s", op.id, role, text)
					if _, isQuestion := ask.Named(op.id); isQuestion { // what it asks about may not be there
						assert.NotContains(t, text, "case "+values["case"], op.id)
					} else if role == api.RoleLead || !strings.HasSuffix(op.path, "/{upload}") { // which is that of its person alone
						assert.NotEqual(t, 404, status, "%s by %s: %s", op.id, role, text)
					}
					if op.id != "tryHook" { // the receiver cannot be reached: 502
						assert.Less(t, status, 500, "%s by %s: %s", op.id, role, text)
					}
				}
			}
		})
	}
	assert.Equal(t, before, s.send(t, "GET", "/api/cases/theirs/custody?count=1", "", "Authorization", "Bearer "+tokens["Stranger"]).body, "somebody has changed the case of others")
}

// foreign asks for something of others by name or number, in one's own case.
func (s site) foreign(t *testing.T, token string, op described, schemas map[string]schema, own, theirs map[string]string) {
	for _, p := range op.Parameters {
		if p.In != "path" || p.Name == "person" || op.id == "caseTrace" || op.id == "upload" || op.id == "uploadArtifact" || op.id == "setMember" || op.id == "setTeamMember" {
			continue
		}
		mixed := map[string]string{}
		for name, value := range own {
			mixed[name] = value
		}
		for _, name := range []string{p.Name, op.id + "/" + p.Name} {
			if value, ok := theirs[name]; ok {
				mixed[name] = value
			}
		}
		path, body := op.request(t, schemas, mixed)
		status, text := s.do(t, token, op, path, body)
		assert.Equal(t, 404, status, "%s with the %s of others: %s", op.id, p.Name, text)
	}
	if op.id == "moveEvidence" || op.id == "newExhibit" {
		body := `{"to":"theirs"}`
		if op.id == "newExhibit" {
			body = `{"evidence":"theirs","question":"stack","request":{}}`
		}
		path, _ := op.request(t, schemas, own)
		status, text := s.do(t, token, op, path, body)
		assert.Equal(t, 404, status, "%s with something of others: %s", op.id, text)
	}
}

// recordsOf opens the records of a service.
func recordsOf(t *testing.T, service servicetest.Service) *store.Store {
	records, err := store.Open(t.Context(), service.Database, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(records.Close)
	return records
}

// scoped returns a token of a person for a scope.
func scoped(t *testing.T, service servicetest.Service, records *store.Store, name, scope string) string {
	p, err := records.PersonByName(t.Context(), name)
	require.NoError(t, err)
	secret, err := service.Accounts.NewToken(t.Context(), &store.Token{PersonID: p.ID, Scope: scope})
	require.NoError(t, err)
	return secret
}

// Every question is in the table, by the one entry of all questions.
func TestQuestionsAreForThoseWhoMayLook(t *testing.T) {
	t.Parallel()
	for _, q := range ask.Questions() {
		needs, full, tokens := httpapi.RightsOf(q.Name)
		assert.Equal(t, httpapi.MayLook, needs, q.Name)
		assert.Zero(t, full, q.Name)
		assert.Equal(t, []string{store.ScopeRead}, tokens, q.Name)
	}
}
