// Package openidtest is an OpenID provider for tests. It signs real tokens, and checks what it is asked for: the client, its secret, the address to return
// to, and the proof key (RFC 7636).
package openidtest

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Client and Secret are those of the service at the provider.
const (
	Client = "wraithology"
	Secret = "client-secret"
)

// A Provider signs in whoever it is told to, without asking.
type Provider struct {
	URL    string
	server *httptest.Server

	mu      sync.Mutex
	keys    []key
	claims  map[string]any
	change  func(claims map[string]any) // of the next tokens
	forge   *rsa.PrivateKey
	refuses string
	codes   map[string]url.Values // of the request for the code
	tokens  int
}

type key struct {
	id  string
	key *rsa.PrivateKey
}

// Start starts a provider on loopback, until the test ends.
func Start(t testing.TB) *Provider {
	p := &Provider{codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.describe)
	mux.HandleFunc("GET /keys", p.serveKeys)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /token", p.token)
	p.server = httptest.NewServer(mux)
	p.URL = p.server.URL
	t.Cleanup(p.server.Close)
	p.Rotate(t)
	return p
}

// Rotate signs with another key from now on; the key before is gone.
func (p *Provider) Rotate(t testing.TB) {
	made, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.keys = []key{{rand.Text(), made}}
}

// Is says who signs in from now on.
func (p *Provider) Is(subject, name, mail string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims = map[string]any{"sub": subject, "preferred_username": name, "email": mail, "email_verified": true}
	p.change, p.forge, p.refuses = nil, nil, ""
}

// Change changes the claims of the tokens from now on, before they are signed.
func (p *Provider) Change(change func(claims map[string]any)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.change = change
}

// Forge signs tokens from now on with a key that the provider does not have.
func (p *Provider) Forge(t testing.TB) {
	made, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.forge = made
}

// Refuse refuses sign-ins from now on, with an error code of OAuth 2.0.
func (p *Provider) Refuse(code string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.refuses = code
}

// Tokens is the number of tokens that were issued.
func (p *Provider) Tokens() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.tokens
}

// Stop makes the provider unreachable.
func (p *Provider) Stop() { p.server.Close() }

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // the client may be gone
}

func (p *Provider) describe(w http.ResponseWriter, _ *http.Request) {
	answer(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
		"id_token_signing_alg_values_supported": []string{"RS256"}, "response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}})
}

func (p *Provider) serveKeys(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var set jose.JSONWebKeySet
	for _, k := range p.keys {
		set.Keys = append(set.Keys, jose.JSONWebKey{Key: k.key.Public(), KeyID: k.id, Algorithm: "RS256", Use: "sig"})
	}
	answer(w, set)
}

func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	p.mu.Lock()
	defer p.mu.Unlock()
	if q.Get("client_id") != Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("nonce") == "" || q.Get("state") == "" {
		http.Error(w, "invalid request "+r.URL.RawQuery, http.StatusBadRequest)
		return
	}
	back := url.Values{"state": {q.Get("state")}, "iss": {p.URL}}
	if p.refuses != "" {
		back.Set("error", p.refuses)
	} else {
		code := rand.Text()
		p.codes[code] = q
		back.Set("code", code)
	}
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+back.Encode(), http.StatusFound)
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	refuse := func(why string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": "invalid_grant", "error_description": why})
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	asked, ok := p.codes[r.PostFormValue("code")]
	delete(p.codes, r.PostFormValue("code"))
	client, secret, _ := r.BasicAuth()
	if client == "" {
		client, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case !ok:
		refuse("unknown code")
		return
	case client != Client || secret != Secret:
		refuse("wrong client")
		return
	case r.PostFormValue("redirect_uri") != asked.Get("redirect_uri"):
		refuse("another address to return to")
		return
	case base64.RawURLEncoding.EncodeToString(sum[:]) != asked.Get("code_challenge"):
		refuse("wrong proof key")
		return
	}
	now := time.Now()
	claims := map[string]any{"iss": p.URL, "aud": Client, "iat": now.Unix(), "exp": now.Add(time.Minute).Unix(), "nonce": asked.Get("nonce")}
	for name, value := range p.claims {
		claims[name] = value
	}
	if p.change != nil {
		p.change(claims)
	}
	k := p.keys[0]
	if p.forge != nil {
		k.key = p.forge
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: k.key}, (&jose.SignerOptions{}).WithType("JWT").WithHeader("kid", k.id))
	if err == nil {
		var text string
		if text, err = jwt.Signed(signer).Claims(claims).Serialize(); err == nil {
			p.tokens++
			answer(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": text})
			return
		}
	}
	refuse(fmt.Sprint(err))
}
