package httpapi

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"runtime/debug"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/service/wellformed"
)

// huma makes its own refusals through these two.
func init() {
	huma.NewErrorWithContext = func(ctx huma.Context, status int, detail string, errs ...error) huma.StatusError {
		p := newProblem(status, detail, errs)
		if ctx != nil {
			p.RequestID = requestID(ctx.Context())
		}
		return p
	}
	huma.NewError = func(status int, detail string, errs ...error) huma.StatusError {
		return newProblem(status, detail, errs)
	}
}

// newProblem returns a problem for an HTTP status.
func newProblem(status int, detail string, errs []error) *api.Problem {
	kind := api.KindOf(status)
	if status == http.StatusInternalServerError { // huma itself answers that only for a body that it cannot read
		kind = fault.BrokenBody
		status = kind.Status
	}
	p := &api.Problem{Type: kind.Code, Title: http.StatusText(status), Status: status, Detail: shown(detail), Remedy: kind.Remedy}
	for _, e := range errs {
		var d huma.ErrorDetailer
		if errors.As(e, &d) {
			x := d.ErrorDetail()
			p.Errors = append(p.Errors, api.Detail{Message: shown(x.Message), Location: shown(x.Location)})
		} else if e != nil {
			p.Errors = append(p.Errors, api.Detail{Message: shown(e.Error())})
		}
	}
	return p
}

// mostShown limits a text of an error, in bytes: it may have what was asked in it.
const mostShown = 2000

// shown returns a text of an error without control characters, and not too long.
func shown(text string) string {
	if len(text) > mostShown {
		n := mostShown
		for !utf8.RuneStart(text[n]) {
			n--
		}
		text = text[:n] + "…"
	}
	var out strings.Builder
	for _, r := range text {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			fmt.Fprintf(&out, "\\u%04x", r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.String()
}

// problem converts an error to an answer. An internal error is logged with its stack; its answer
// only refers to the log.
func (a *server) problem(ctx context.Context, err error) *api.Problem {
	var known *api.Problem
	if errors.As(err, &known) {
		return known
	}
	kind, remedy := fault.Of(err)
	p := &api.Problem{Type: kind.Code, Status: kind.Status, Detail: shown(err.Error()), Remedy: shown(remedy), RequestID: requestID(ctx)}
	if kind == fault.Internal {
		var panicked *guard.Panic
		stack := ""
		if errors.As(err, &panicked) {
			stack = string(panicked.Stack)
		}
		a.Log.ErrorContext(ctx, "internal error", "error", err, "request", p.RequestID, "stack", stack)
		p.Detail = "internal error (request " + p.RequestID + "): the service log has the details"
		ping, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		if a.Store.Ping(ping) != nil {
			kind = fault.Unavailable
			p.Type, p.Status, p.Remedy = kind.Code, kind.Status, "try again later"
			p.Detail = "the database is not available; nothing that was acknowledged is lost"
		}
	}
	p.Title = http.StatusText(p.Status)
	return p
}

// fail answers a request outside huma with an error.
func (a *server) fail(w http.ResponseWriter, r *http.Request, err error) {
	p := a.problem(r.Context(), err)
	w.Header().Set("Content-Type", p.ContentType(""))
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the connection may be gone
}

// failing returns a handler that answers every request with an error.
func (a *server) failing(err error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) { a.fail(w, r, err) }
}

// write answers a request inside huma with an error.
func (a *server) write(ctx huma.Context, err error) {
	p := a.problem(ctx.Context(), err)
	ctx.SetHeader("Content-Type", p.ContentType(""))
	ctx.SetStatus(p.Status)
	_ = json.NewEncoder(ctx.BodyWriter()).Encode(p) // the connection may be gone
}

type requestKey struct{}

// requestID returns the ID of a context's request.
func requestID(ctx context.Context) string {
	id, _ := ctx.Value(requestKey{}).(string)
	return id
}

// numbered gives each request an ID, which is in its answer and in the log.
func numbered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		const length = 12
		id := strings.ToLower(rand.Text()[:length])
		w.Header().Set("X-Request-ID", id)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), requestKey{}, id)))
	})
}

// recoverer answers a request whose handler panicked, and logs the panic with its stack.
func (a *server) recoverer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			p := recover()
			if p == http.ErrAbortHandler {
				panic(p) // the server ends the connection: what was sent is not all
			}
			if p != nil {
				a.Log.ErrorContext(r.Context(), "panic", "method", r.Method, "path", r.URL.Path)
				a.fail(w, r, &guard.Panic{Value: p, Stack: debug.Stack()})
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// validText refuses requests whose address contains text that cannot be stored.
func (a *server) validText(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		query, err := url.QueryUnescape(r.URL.RawQuery)
		if err != nil || !wellformed.Text(query) || !wellformed.Text(r.URL.Path) {
			a.fail(w, r, fault.InvalidText.New("", "invalid address: not valid UTF-8, or with a control character"))
			return
		}
		next.ServeHTTP(w, r)
	})
}
