// Package openid signs people in by an OpenID provider (OpenID Connect Core 1.0, section 3.1: the authorization code flow, with PKCE, RFC 7636).
package openid

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"wraithology/core/fault"
)

// Options name a provider.
type Options struct {
	Issuer string // as https://id.example.org; empty for no provider
	Client string // ID of the service there
	Secret string // empty for a public client
	Label  string // of the button: what people call the provider
	// Address is that of the service, to which the provider sends people back.
	Address string
	// Creates is set if whoever the provider names gets an account.
	Creates bool
}

// ReturnPath is where the provider sends people back to.
const ReturnPath = "/api/sessions/openid/return"

// Check returns an error if options do not fit together.
func (o Options) Check() error {
	if o.Issuer == "" {
		if o.Client != "" || o.Secret != "" || o.Creates {
			return fault.InvalidUse.New("give it with --openid-issuer", "no OpenID provider is given")
		}
		return nil
	}
	issuer, err := url.Parse(o.Issuer)
	isLocal := err == nil && issuer.Scheme == "http" && (issuer.Hostname() == "127.0.0.1" || issuer.Hostname() == "localhost" || issuer.Hostname() == "::1")
	switch {
	case err != nil || issuer.Host == "" || issuer.Scheme != "https" && !isLocal:
		return fault.InvalidUse.New("write it as https://id.example.org", "invalid --openid-issuer %q", o.Issuer)
	case o.Client == "":
		return fault.InvalidUse.New("register the service with the provider, and give the ID that it gets", "--openid-client is missing")
	case o.Address == "":
		return fault.InvalidUse.New("the provider sends people back to it: --address https://wraith.example.org", "--address is missing")
	}
	return nil
}

// Provider is the OpenID provider of a service. Its description is read when somebody signs in first, and its keys when they change.
type Provider struct {
	options Options
	http    *http.Client

	mu       sync.Mutex
	provider *oidc.Provider
}

// New returns a provider; nil if there is none.
func New(o Options) *Provider {
	if o.Issuer == "" {
		return nil
	}
	const patience = 10 * time.Second
	return &Provider{options: o, http: &http.Client{Timeout: patience}}
}

// Label is what people call the provider; empty if there is none.
func (p *Provider) Label() string {
	if p == nil {
		return ""
	}
	if p.options.Label != "" {
		return p.options.Label
	}
	u, err := url.Parse(p.options.Issuer)
	if err != nil {
		return p.options.Issuer
	}
	return u.Host
}

// Creates reports whether whoever the provider names gets an account.
func (p *Provider) Creates() bool { return p.options.Creates }

// find returns the provider's description.
func (p *Provider) find(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.provider != nil {
		return p.provider, nil
	}
	// The keys are read with this context later, too.
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), p.http), p.options.Issuer)
	if err != nil {
		return nil, fault.NoProvider.New("", "%s: %w: %w", p.Label(), fault.NoProvider, err)
	}
	p.provider = found
	return found, nil
}

func (p *Provider) config(of *oidc.Provider) *oauth2.Config {
	return &oauth2.Config{ClientID: p.options.Client, ClientSecret: p.options.Secret, Endpoint: of.Endpoint(), RedirectURL: strings.TrimSuffix(p.options.Address, "/") + ReturnPath,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}
}

// Attempt is what a browser keeps while its person is with the provider.
type Attempt struct {
	State, Nonce, Verifier string
	Then                   string // where the person wanted to go
}

// Begin returns the address at the provider to which a browser goes.
func (p *Provider) Begin(ctx context.Context, then string) (address string, a Attempt, err error) {
	of, err := p.find(ctx)
	if err != nil {
		return "", a, err
	}
	a = Attempt{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), Then: then}
	return p.config(of).AuthCodeURL(a.State, oidc.Nonce(a.Nonce), oauth2.S256ChallengeOption(a.Verifier)), a, nil
}

// Identity is who the provider says somebody is. Issuer and Subject identify the person for ever; all else can change.
type Identity struct {
	Issuer, Subject string
	Name            string // that the person would like to have; may be empty
}

// Finish returns who has come back from the provider, with what it sent along. The error wraps fault.NotIdentified if that is not what was asked for.
func (p *Provider) Finish(ctx context.Context, a Attempt, sent url.Values) (id Identity, err error) {
	refused := func(why string, err error) error {
		return fault.NotIdentified.New("", "%s: %s: %w", p.Label(), why, errors.Join(fault.NotIdentified, err))
	}
	if a.State == "" || subtle.ConstantTimeCompare([]byte(a.State), []byte(sent.Get("state"))) != 1 {
		return id, refused("the answer belongs to another sign-in", nil)
	}
	if sent.Get("error") != "" {
		return id, refused("it refused the sign-in", fmt.Errorf("%.100q", sent.Get("error")))
	}
	if issuer := sent.Get("iss"); issuer != "" && issuer != p.options.Issuer { // RFC 9207
		return id, refused("the answer comes from another provider", nil)
	}
	of, err := p.find(ctx)
	if err != nil {
		return id, err
	}
	ctx = oidc.ClientContext(ctx, p.http)
	token, err := p.config(of).Exchange(ctx, sent.Get("code"), oauth2.VerifierOption(a.Verifier))
	if err != nil {
		return id, refused("it did not accept the code", err)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return id, refused("it sent no ID token", nil)
	}
	checked, err := of.Verifier(&oidc.Config{ClientID: p.options.Client}).Verify(ctx, raw)
	if err != nil {
		return id, refused("its ID token is not valid", err)
	}
	if subtle.ConstantTimeCompare([]byte(checked.Nonce), []byte(a.Nonce)) != 1 {
		return id, refused("its ID token belongs to another sign-in", nil)
	}
	var claims struct {
		Name string `json:"preferred_username"`
		Mail string `json:"email"`
	}
	if err := checked.Claims(&claims); err != nil {
		return id, refused("its ID token cannot be read", err)
	}
	return Identity{Issuer: checked.Issuer, Subject: checked.Subject, Name: nameOf(claims.Name, claims.Mail)}, nil
}

// nameOf makes a name of this service of what a provider says: letters, digits, dots and hyphens.
func nameOf(name, mail string) string {
	if name == "" {
		name, _, _ = strings.Cut(mail, "@")
	}
	name, _, _ = strings.Cut(name, "@")
	var out strings.Builder
	for _, r := range name {
		switch {
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '-':
			out.WriteRune(r)
		case r == ' ' || r == '_':
			out.WriteByte('-')
		}
	}
	const longest = 64
	return strings.Trim(out.String()[:min(out.Len(), longest)], ".-")
}
