// Package api is the service's HTTP interface: routes, who may do what, and the
// translation of errors. It is described by its own OpenAPI 3.1 document.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"wraithology/client"
	"wraithology/core/evidence"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/service/accounts"
	"wraithology/service/jobs"
	"wraithology/service/receive"
	"wraithology/service/recordings"
	"wraithology/service/sittings"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Parts are what the API stands on.
type Parts struct {
	Store      *store.Store
	Accounts   *accounts.Accounts
	Vault      *vault.Vault
	Recordings *recordings.Recordings
	Jobs       *jobs.Jobs
	Sittings   *sittings.Hub
	Receiver   *receive.Receiver
	Console    fs.FS
	Log        *slog.Logger
}

type api struct{ Parts }

// New returns the service's handler.
func New(p Parts) http.Handler {
	a := &api{p}
	r := chi.NewRouter()
	r.Use(middleware.RequestID, a.recoverer, secureHeaders)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { writeJSON(w, map[string]string{"status": "ok"}) })
	r.Get("/readyz", a.ready)
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, a.Accounts.Middleware(a.fail))
		a.routes(r)
	})
	r.Post(receive.TracesPath, p.Receiver.Traces)
	r.Post(receive.LogsPath, p.Receiver.Logs)
	r.Get("/*", a.console)
	return r
}

// Description returns the OpenAPI document of the API as JSON.
func Description() ([]byte, error) {
	a := &api{}
	return json.MarshalIndent(a.routes(chi.NewRouter()).OpenAPI(), "", "  ")
}

// signInsAMinute bounds how often one address may try a password.
const signInsAMinute = 60

func (a *api) routes(r chi.Router) huma.API {
	huma.DefaultArrayNullable = false // our lists are empty, never null
	config := huma.DefaultConfig("Wraithology", "1")
	config.DocsPath = ""
	config.CreateHooks = nil // answers keep their documented shape, without a link to a schema
	config.OpenAPIPath = "/api/openapi"
	config.SchemasPath = "/api/schemas"
	h := humachi.New(r, config)
	// The address is that of the connection: wraithd is not made to stand behind a
	// proxy that it would have to trust for a better one.
	limited := httprate.LimitBy(signInsAMinute, time.Minute, func(r *http.Request) (string, error) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		return host, err
	})
	h.UseMiddleware(func(ctx huma.Context, next func(huma.Context)) {
		if !ctx.Operation().Metadata["signIn"].(bool) {
			if _, ok := accounts.Who(ctx.Context()); !ok {
				_ = huma.WriteErr(h, ctx, http.StatusUnauthorized, "sign in first")
				return
			}
			next(ctx)
			return
		}
		req, w := humachi.Unwrap(ctx)
		limited(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { next(ctx) })).ServeHTTP(w, req)
	})
	a.peopleRoutes(h)
	a.caseRoutes(h)
	a.evidenceRoutes(h, r)
	a.questionRoutes(h)
	a.machineRoutes(h)
	a.intakeRoutes(h)
	a.artifactRoutes(h, r)
	a.checkpointRoutes(h)
	a.sittingRoutes(h, r)
	return h
}

// route registers an operation; its error is translated.
func route[I, O any](h huma.API, a *api, method, path, id, summary string, f func(context.Context, *I) (*O, error), tweak ...func(*huma.Operation)) {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Metadata: map[string]any{"signIn": false}}
	for _, t := range tweak {
		t(&op)
	}
	huma.Register(h, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, a.problem(ctx, err)
		}
		return out, nil
	})
}

func created(op *huma.Operation) { op.DefaultStatus = http.StatusCreated }
func signIn(op *huma.Operation)  { op.Metadata["signIn"] = true }

// body is an answer that is its body alone.
type body[T any] struct{ Body T }

// Errors of the API itself.
var (
	errRefused  = errors.New("your part in this case does not allow it")
	errIndexing = errors.New("the evidence is still being indexed")
)

// problem translates an error into an RFC 9457 answer. Its type tells clients
// what kind of error it was.
func (a *api) problem(ctx context.Context, err error) error {
	status, kind := http.StatusInternalServerError, ""
	for _, e := range [...]struct {
		is     error
		status int
	}{
		{store.ErrNotFound, http.StatusNotFound}, {store.ErrExists, http.StatusConflict}, {errRefused, http.StatusForbidden},
		{errIndexing, http.StatusConflict}, {accounts.ErrWrong, http.StatusUnauthorized}, {sittings.ErrNotHere, http.StatusConflict},
		{vault.ErrBrokenOff, http.StatusBadRequest}, {accounts.ErrName, http.StatusUnprocessableEntity}, {accounts.ErrPassword, http.StatusUnprocessableEntity},
	} {
		if errors.Is(err, e.is) {
			status = e.status
		}
	}
	for name, is := range client.Kinds {
		if errors.Is(err, is) {
			status, kind = http.StatusUnprocessableEntity, name
		}
	}
	detail := err.Error()
	switch {
	case errors.Is(err, context.Canceled):
		status = 499
	case status == http.StatusInternalServerError:
		a.Log.ErrorContext(ctx, "a request failed", "error", err)
		detail = "the service has failed; its log says why"
		ping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		if a.Store.Ping(ping) != nil {
			status, detail = http.StatusServiceUnavailable, "the database cannot be reached; nothing that was acknowledged is lost, try again later"
		}
	}
	return &huma.ErrorModel{Status: status, Type: kind, Title: http.StatusText(status), Detail: detail}
}

// fail answers a request outside huma with an error.
func (a *api) fail(w http.ResponseWriter, r *http.Request, err error) {
	p := a.problem(r.Context(), err).(*huma.ErrorModel)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the connection may be gone
}

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // the connection may be gone
}

func (a *api) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := a.Store.Ping(ctx); err != nil {
		w.WriteHeader(http.StatusServiceUnavailable)
		writeJSON(w, map[string]string{"status": "the database cannot be reached"})
		return
	}
	writeJSON(w, map[string]string{"status": "ready"})
}

func (a *api) recoverer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil && p != http.ErrAbortHandler {
				a.Log.ErrorContext(r.Context(), "a request panicked", "path", r.URL.Path, "panic", p)
				a.fail(w, r, errors.New("panic"))
			}
		}()
		next.ServeHTTP(w, r)
	})
}

func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; object-src 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}

// console serves the web console; a path that is no file is one of its views.
func (a *api) console(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if strings.HasPrefix(name, "api/") {
		a.fail(w, r, store.ErrNotFound)
		return
	}
	if info, err := fs.Stat(a.Console, name); name == "" || err != nil || info.IsDir() {
		w.Header().Set("Cache-Control", "no-cache")
		page := "index.html"
		if _, err := fs.Stat(a.Console, page); err != nil {
			page = "placeholder.html"
		}
		http.ServeFileFS(w, r, a.Console, page)
		return
	}
	if strings.HasPrefix(name, "assets/") {
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	http.ServeFileFS(w, r, a.Console, name)
}

// who returns the signed-in person; the middleware has made sure of one.
func who(ctx context.Context) store.Person {
	p, _ := accounts.Who(ctx)
	return p
}

// Rights in a case, each including those before it.
const (
	mayLook = iota
	mayWork
	mayLead
)

var rights = map[string]int{client.RoleViewer: mayLook, client.RoleMember: mayWork, client.RoleLead: mayLead}

// caseFor finds a case in which the asking person has a right. A case that is
// not the person's looks like one that does not exist.
func (a *api) caseFor(ctx context.Context, name string, right int) (store.Case, error) {
	c, err := a.Store.CaseByName(ctx, name)
	if err != nil {
		return c, err
	}
	for _, m := range c.Members {
		if m.PersonID == who(ctx).ID {
			if rights[m.Role] < right {
				return c, errRefused
			}
			return c, nil
		}
	}
	return store.Case{}, notFound("case " + name + ": not found")
}

func notFound(what string) error { return &missing{what} }

type missing struct{ what string }

func (m *missing) Error() string { return m.what }
func (m *missing) Unwrap() error { return store.ErrNotFound }

// recording opens evidence of a case that the asking person may look at.
func (a *api) recording(ctx context.Context, caseName, name string) (replay.Replay, store.Evidence, error) {
	c, err := a.caseFor(ctx, caseName, mayLook)
	if err != nil {
		return nil, store.Evidence{}, err
	}
	e, err := a.Store.EvidenceByName(ctx, c.ID, name)
	switch {
	case err != nil:
		return nil, e, err
	case e.State == client.StateIndexing:
		return nil, e, errIndexing
	case e.State == client.StateFailed:
		return nil, e, &unreadable{e.Trouble}
	}
	r, err := a.Recordings.Open(ctx, e, nil)
	return r, e, err
}

type unreadable struct{ trouble string }

func (u *unreadable) Error() string { return u.trouble }
func (u *unreadable) Unwrap() error { return evidence.ErrUnreadable }

var _ replay.Condition = (*question.Question)(nil)
