package openid_test

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/e2e/openidtest"
	"wraithology/service"
	"wraithology/service/openid"
	"wraithology/service/receive"
	"wraithology/service/store"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// site is a service with an OpenID provider.
type site struct {
	*service.Service
	provider *openidtest.Provider
	database string
}

func start(t *testing.T, creates bool) site {
	t.Helper()
	provider := openidtest.Start(t)
	// The provider sends people back to the address of the service, which has to be known before.
	address := freeAddress(t)
	database := clustertest.Database(t)
	s, err := service.Start(context.Background(), service.Options{Data: t.TempDir(), Listen: address, Address: "http://" + address, Settle: receive.Settle{Quiet: time.Second}, Database: database, Log: slog.New(slog.DiscardHandler),
		OpenID: openid.Options{Issuer: provider.URL, Client: openidtest.Client, Secret: openidtest.Secret, Label: "Harbour ID", Address: "http://" + address, Creates: creates}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Stop(context.Background())) })
	return site{s, provider, database}
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// browser is a browser with cookies of its own.
func browser(t *testing.T) *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &http.Client{Jar: jar, Timeout: 20 * time.Second}
}

// visit goes to an address and on to where that leads, and returns where it ends and what is there.
func visit(t *testing.T, b *http.Client, address string) (*url.URL, string) {
	t.Helper()
	answer, err := b.Get(address)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.Request.URL, string(text)
}

// me is who a browser is signed in as.
func (s site) me(t *testing.T, b *http.Client) string {
	t.Helper()
	_, text := visit(t, b, s.URL+"/api/me")
	return text
}

func (s site) signIn(t *testing.T, b *http.Client) (page string) {
	t.Helper()
	at, _ := visit(t, b, s.URL+"/api/sessions/openid?then="+url.QueryEscape("/cases/fog?tab=1"))
	return at.RequestURI()
}

// Whoever the provider names is signed in, is the same person the next time under another name, and the provider may change its keys.
func TestSignIn(t *testing.T) {
	t.Parallel()
	s := start(t, true)
	_, text := visit(t, http.DefaultClient, s.URL+"/api/sign-in")
	assert.JSONEq(t, `{"openid":"Harbour ID"}`, text)
	require.NoError(t, s.Accounts.Add(t.Context(), "Root", "Root-secret", true))
	s.provider.Is("subject-1", "Ines Reef", "ines@gannet.example")
	b := browser(t)
	assert.Equal(t, "/cases/fog?tab=1", s.signIn(t, b))
	assert.JSONEq(t, `{"name":"Ines-Reef","admin":false}`, s.me(t, b))
	s.provider.Is("subject-1", "Renamed", "")
	for range 3 {
		s.provider.Rotate(t)
		b = browser(t)
		assert.Equal(t, "/cases/fog?tab=1", s.signIn(t, b))
		assert.Contains(t, s.me(t, b), "Ines-Reef", "the subject identifies the person")
	}
	s.provider.Is("subject-2", "Ines-Reef", "")
	assert.Equal(t, "/sign-in?refused=not-linked", s.signIn(t, browser(t)), "a name is nobody's identity")
	s.provider.Is("subject-3", "", "")
	assert.Equal(t, "/sign-in?refused=not-linked", s.signIn(t, browser(t)))
	answer, err := http.Post(s.URL+"/api/sessions", "application/json", strings.NewReader(`{"name":"Ines-Reef","password":""}`))
	require.NoError(t, err)
	assert.NotEqual(t, 200, answer.StatusCode)
	answer, err = http.Post(s.URL+"/api/sessions", "application/json", strings.NewReader(`{"name":"Ines-Reef","password":"anything-else"}`))
	require.NoError(t, err)
	assert.Equal(t, 401, answer.StatusCode, "an account without a password has none")
}

// Accounts are made only where that is wanted; others are linked by whoever operates the service. Who is disabled does not get in.
func TestLinkedAccounts(t *testing.T) {
	t.Parallel()
	s := start(t, false)
	records, err := store.Open(t.Context(), s.database, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer records.Close()
	for _, name := range []string{"Root", "Tomas"} {
		require.NoError(t, s.Accounts.Add(t.Context(), name, name+"-secret", name == "Root"))
	}
	tomas, err := records.PersonByName(t.Context(), "Tomas")
	require.NoError(t, err)
	s.provider.Is("subject-9", "Tomas", "")
	assert.Equal(t, "/sign-in?refused=not-linked", s.signIn(t, browser(t)))
	require.NoError(t, records.Link(t.Context(), tomas.ID, s.provider.URL, "subject-9"))
	require.ErrorIs(t, records.Link(t.Context(), tomas.ID, s.provider.URL, "subject-9"), fault.Exists)
	b := browser(t)
	assert.Equal(t, "/cases/fog?tab=1", s.signIn(t, b))
	assert.Contains(t, s.me(t, b), "Tomas")
	made, err := b.Post(s.URL+"/api/me/tokens", "application/json", strings.NewReader(`{"label":"shell","scope":"read"}`))
	require.NoError(t, err)
	assert.Equal(t, 201, made.StatusCode, "a person without a password makes a token in the browser")
	require.NoError(t, records.Disable(t.Context(), tomas.ID, true))
	assert.Contains(t, s.me(t, b), "not-signed-in")
	assert.Equal(t, "/sign-in?refused=disabled", s.signIn(t, browser(t)))
	require.NoError(t, records.Disable(t.Context(), tomas.ID, false))
	require.NoError(t, records.RemovePerson(t.Context(), tomas))
	assert.Equal(t, "/sign-in?refused=not-linked", s.signIn(t, browser(t)), "the link goes with the account")
}

// Tokens that are not those that were asked for are refused, and so are answers that belong to no sign-in of this browser.
func TestForgedAnswers(t *testing.T) {
	t.Parallel()
	s := start(t, true)
	require.NoError(t, s.Accounts.Add(t.Context(), "Root", "Root-secret", true))
	for name, change := range map[string]func(map[string]any){
		"another client":   func(c map[string]any) { c["aud"] = "somebody-else" },
		"another provider": func(c map[string]any) { c["iss"] = "https://elsewhere.example" },
		"expired":          func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"another sign-in":  func(c map[string]any) { c["nonce"] = "x" },
		"no nonce":         func(c map[string]any) { delete(c, "nonce") },
	} {
		s.provider.Is("subject-1", "Ines", "")
		s.provider.Change(change)
		b := browser(t)
		assert.Equal(t, "/sign-in?refused=not-identified", s.signIn(t, b), name)
		assert.Contains(t, s.me(t, b), "not-signed-in", name)
	}
	s.provider.Is("subject-1", "Ines", "")
	s.provider.Forge(t)
	assert.Equal(t, "/sign-in?refused=not-identified", s.signIn(t, browser(t)), "signed by another key")
	s.provider.Is("subject-1", "Ines", "")
	s.provider.Refuse("access_denied")
	assert.Equal(t, "/sign-in?refused=not-identified", s.signIn(t, browser(t)))
	s.provider.Is("subject-1", "Ines", "")

	// A code that somebody else got does not sign this browser in, also with the state of its own attempt, and works only once.
	stopped := browser(t)
	var last *url.URL
	stopped.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if last = r.URL; strings.HasPrefix(r.URL.Path, openid.ReturnPath) {
			return http.ErrUseLastResponse
		}
		return nil
	}
	_, _ = visit(t, stopped, s.URL+"/api/sessions/openid")
	stolen := *last
	victim := browser(t)
	at, _ := visit(t, victim, stolen.String())
	assert.Equal(t, "/sign-in?refused=not-identified", at.RequestURI())
	assert.Contains(t, s.me(t, victim), "not-signed-in")
	stopped.CheckRedirect = nil
	at, _ = visit(t, stopped, stolen.String())
	assert.Equal(t, "/cases", at.RequestURI())
	at, _ = visit(t, stopped, stolen.String())
	assert.Equal(t, "/sign-in?refused=not-identified", at.RequestURI(), "an answer works once")
	for _, then := range []string{"https://elsewhere.example/x", "//elsewhere.example", "/\\elsewhere.example", "javascript:alert(1)", "cases"} {
		at, _ := visit(t, browser(t), s.URL+"/api/sessions/openid?then="+url.QueryEscape(then))
		assert.Equal(t, s.URL+"/cases", at.String(), then)
	}
}

// A provider that cannot be reached is no reason not to start, or to fail later.
func TestProviderIsAway(t *testing.T) {
	t.Parallel()
	s := start(t, true)
	s.provider.Stop()
	assert.Equal(t, "/sign-in?refused=no-provider", s.signIn(t, browser(t)))
}

// Options that do not fit together are refused.
func TestOptions(t *testing.T) {
	t.Parallel()
	good := openid.Options{Issuer: "https://id.example.org", Client: "x", Address: "https://w.example.org"}
	require.NoError(t, good.Check())
	require.NoError(t, openid.Options{}.Check())
	for _, bad := range []openid.Options{{Client: "x"}, {Issuer: "https://id.example.org", Client: "x"}, {Issuer: "https://id.example.org", Address: "https://w"}, {Issuer: "http://id.example.org", Client: "x", Address: "https://w"}, {Issuer: "id", Client: "x", Address: "y"}} {
		assert.ErrorIs(t, bad.Check(), fault.InvalidUse, "%+v", bad)
	}
}
