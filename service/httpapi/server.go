// Package httpapi is the service's HTTP interface: routes, permissions, and the conversion of
// errors. Its OpenAPI 3.1 document describes it.
package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/httprate"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/service/accounts"
	"wraithology/service/custody"
	"wraithology/service/front"
	"wraithology/service/jobs"
	"wraithology/service/live"
	"wraithology/service/notices"
	"wraithology/service/openid"
	"wraithology/service/receive"
	"wraithology/service/recordings"
	"wraithology/service/sittings"
	"wraithology/service/store"
	"wraithology/service/vault"
	"wraithology/service/wellformed"
)

// Parts are what the API is on.
type Parts struct {
	Store      *store.Store
	Accounts   *accounts.Accounts
	Vault      *vault.Vault
	Recordings *recordings.Recordings
	Jobs       *jobs.Jobs
	Board      *notices.Board
	Sittings   *sittings.Hub
	Receiver   *receive.Receiver
	Console    fs.FS
	Log        *slog.Logger
	Trouble    func() string    // what is known against the database; empty for nothing
	Front      front.Front      // how the service is reached
	Book       *custody.Book    // signs the records
	Reads      *custody.Reads   // who read what
	OpenID     *openid.Provider // nil for none
	Quotas     Quotas
	Ending     context.Context // ends when the service stops: streams do not end by themselves
}

type server struct {
	Parts
	live    *live.Hub[api.ActivityEntry]
	uploads uploadsInParts
	// slowly limits how often one address may do something.
	slowly func(http.HandlerFunc) http.HandlerFunc
}

// New returns the service's handler.
func New(p Parts) (http.Handler, error) {
	a := &server{Parts: p}
	var err error
	if a.uploads, err = newUploads(p.Vault.Uploads()); err != nil {
		return nil, err
	}
	a.live = live.New(a.entriesAfter, func(x api.ActivityEntry) int64 { return x.ID }, p.Store.Lookers)
	r := chi.NewRouter()
	r.Use(numbered, a.recoverer, secureHeaders, a.validText)
	r.MethodNotAllowed(a.failing(fault.MethodNotAllowed))
	r.Get("/healthz", a.healthy)
	r.Get("/readyz", a.ready)
	r.Group(func(r chi.Router) {
		crossOrigin := http.NewCrossOriginProtection()
		crossOrigin.SetDenyHandler(a.failing(fault.CrossOrigin))
		r.Use(crossOrigin.Handler, a.Accounts.Middleware(a.fail))
		a.routes(r)
	})
	r.Post(receive.TracesPath, p.Receiver.Traces)
	r.Post(receive.LogsPath, p.Receiver.Logs)
	r.Get("/*", a.console)
	return r, nil
}

// Description returns the OpenAPI document of the API as JSON.
func Description() ([]byte, error) {
	a := &server{}
	return json.MarshalIndent(a.routes(chi.NewRouter()).OpenAPI(), "", "  ")
}

// signInsAMinute limits the password attempts of one address.
const signInsAMinute = 60

// listsAreNeverNull sets the framework's default for lists: ours are empty, never null. It is one for the process, in
// which several services may start at once.
var listsAreNeverNull = sync.OnceFunc(func() { huma.DefaultArrayNullable = false })

// textFormat reads JSON that is UTF-8 (RFC 8259, section 8.1): the standard library would put other characters in the place of those that are not.
var textFormat = huma.Format{Marshal: huma.DefaultJSONFormat.Marshal, Unmarshal: func(text []byte, into any) error {
	if !utf8.Valid(text) {
		return errors.New("the body is not valid UTF-8")
	}
	return json.Unmarshal(text, into)
}}

func (a *server) routes(r chi.Router) huma.API {
	listsAreNeverNull()
	config := huma.DefaultConfig("Wraithology", "1")
	config.DocsPath = ""
	config.CreateHooks = nil // answers have their documented shape, without a link to a schema
	config.OpenAPIPath = "/api/openapi"
	config.SchemasPath = "/api/schemas"
	config.Formats = map[string]huma.Format{"application/json": textFormat, "json": textFormat}
	h := humachi.New(r, config)
	limit := httprate.LimitBy(signInsAMinute, time.Minute, func(r *http.Request) (string, error) {
		return accounts.Address(r.Context()), nil
	}, httprate.WithLimitHandler(a.failing(fault.TooMany)))
	a.slowly = func(do http.HandlerFunc) http.HandlerFunc { return limit(do).ServeHTTP }
	h.UseMiddleware(a.checked, func(ctx huma.Context, next func(huma.Context)) {
		if ctx.Operation().Metadata["limited"] != true {
			next(ctx)
			return
		}
		req, w := humachi.Unwrap(ctx)
		a.slowly(func(http.ResponseWriter, *http.Request) { next(ctx) })(w, req)
	})
	a.peopleRoutes(h)
	a.openIDRoutes(h, r)
	a.caseRoutes(h)
	a.custodyRoutes(h, r)
	a.maskRoutes(h)
	a.teamRoutes(h)
	a.invitationRoutes(h)
	a.evidenceRoutes(h, r)
	a.questionRoutes(h)
	a.intakeRoutes(h)
	a.artifactRoutes(h, r)
	a.uploadRoutes(h, r)
	a.checkpointRoutes(h)
	a.expectationRoutes(h)
	a.sittingRoutes(h, r)
	a.keptRoutes(h, r)
	a.noticeRoutes(h)
	a.archiveRoutes(h, r)
	a.deletedRoutes(h)
	return h
}

// route registers an operation and converts its errors.
func route[I, O any](h huma.API, a *server, method, path, id, summary string, f func(context.Context, *I) (*O, error), tweak ...func(*huma.Operation)) {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Metadata: map[string]any{}}
	for _, t := range tweak {
		t(&op)
	}
	huma.Register(h, op, func(ctx context.Context, in *I) (out *O, err error) {
		if err := wellformed.Check(in); err != nil {
			return nil, a.problem(ctx, err)
		}
		if err := guard.Do(func() error { out, err = f(ctx, in); return err }); err != nil {
			return nil, a.problem(ctx, err)
		}
		return out, nil
	})
}

func created(op *huma.Operation) { op.DefaultStatus = http.StatusCreated }
func limited(op *huma.Operation) { op.Metadata["limited"] = true }

// body is an answer that is its body alone.
type body[T any] struct{ Body T }

// listed is an answer that is a list of records, as clients see them.
func listed[T, A any](list []T, of func(T) A, err error) (*body[[]A], error) {
	out := make([]A, 0, len(list))
	for _, x := range list {
		out = append(out, of(x))
	}
	return &body[[]A]{out}, err
}

func answerJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the connection may be gone
}

func (a *server) healthy(w http.ResponseWriter, _ *http.Request) {
	if trouble := a.Trouble(); trouble != "" {
		say(w, http.StatusServiceUnavailable, trouble)
		return
	}
	say(w, http.StatusOK, "ok")
}

// say answers with a status in words.
func say(w http.ResponseWriter, status int, words string) {
	answerJSON(w, status, map[string]string{"status": words})
}

func (a *server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := a.Store.Ping(ctx); err != nil {
		say(w, http.StatusServiceUnavailable, "the database cannot be reached")
		return
	}
	room, err := a.Vault.Room()
	switch {
	case err != nil:
		say(w, http.StatusServiceUnavailable, "the vault cannot be reached")
	case room.IsFull():
		say(w, http.StatusServiceUnavailable, "the disk is full: uploads are refused until there is more room; "+room.String())
	case room.IsLow():
		say(w, http.StatusOK, "ready, but the disk is nearly full: "+room.String())
	default:
		say(w, http.StatusOK, "ready")
	}
}

func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; object-src 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store") // answers contain values
		}
		next.ServeHTTP(w, r)
	})
}

// console serves the web console. A path without a file is one of its views.
func (a *server) console(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if strings.HasPrefix(name, "api/") {
		a.fail(w, r, fault.NotFound)
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
