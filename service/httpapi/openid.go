package httpapi

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/accounts"
	"wraithology/service/openid"
)

func (a *server) openIDRoutes(h huma.API, r chi.Router) {
	route(h, a, "GET", "/api/sign-in", "signInWays", "How people sign in", func(context.Context, *struct{}) (*body[api.SignInWays], error) {
		return &body[api.SignInWays]{api.SignInWays{OpenID: a.OpenID.Label()}}, nil
	})
	there := map[string]*huma.Response{"303": {Description: "on to the next page"}, "default": {Description: "error"}}
	a.stream(h, r, huma.Operation{OperationID: "signInByOpenID", Method: "GET", Path: "/api/sessions/openid", Summary: "Send a browser to the OpenID provider",
		Parameters: []*huma.Param{{Name: "then", In: "query", Description: "page of the console to go to then", Schema: &huma.Schema{Type: "string"}}}, Responses: there}, a.slowly(a.toProvider))
	a.stream(h, r, huma.Operation{OperationID: "returnFromOpenID", Method: "GET", Path: openid.ReturnPath, Summary: "Sign a browser in that comes back from the OpenID provider", Responses: there}, a.slowly(a.fromProvider))
}

// toProvider sends a browser to the OpenID provider.
func (a *server) toProvider(w http.ResponseWriter, r *http.Request) {
	if a.OpenID == nil {
		a.fail(w, r, fault.NotFound)
		return
	}
	address, attempt, err := a.OpenID.Begin(r.Context(), r.URL.Query().Get("then"))
	if err == nil {
		err = a.Accounts.KeepAttempt(r.Context(), attempt)
	}
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	http.Redirect(w, r, address, http.StatusSeeOther)
}

// fromProvider signs a browser in that comes back from the OpenID provider.
func (a *server) fromProvider(w http.ResponseWriter, r *http.Request) {
	if a.OpenID == nil {
		a.fail(w, r, fault.NotFound)
		return
	}
	ctx := r.Context()
	attempt := a.Accounts.TakeAttempt(ctx)
	id, err := a.OpenID.Finish(ctx, attempt, r.URL.Query())
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	p, err := a.Accounts.ByIdentity(ctx, id, a.OpenID.Creates())
	if err == nil {
		err = a.Accounts.SignIn(ctx, p)
	}
	if err != nil {
		a.refuse(w, r, err)
		return
	}
	http.Redirect(w, r, consolePath(attempt.Then), http.StatusSeeOther)
}

// consolePath returns a page of the console, and no address elsewhere.
func consolePath(then string) string {
	u, err := url.Parse(then)
	if err != nil || u.Host != "" || u.Scheme != "" || !strings.HasPrefix(then, "/") || strings.HasPrefix(then, "//") || strings.ContainsAny(then, "\\\r\n\t") {
		return "/cases"
	}
	return then
}

// refuse sends a browser back to the sign-in page, which knows the code of the error and says what to do. The log has the rest.
func (a *server) refuse(w http.ResponseWriter, r *http.Request, err error) {
	p := a.problem(r.Context(), err)
	a.Log.WarnContext(r.Context(), "a sign-in by the OpenID provider was refused", "error", err, "address", accounts.Address(r.Context()), "request", p.RequestID)
	http.Redirect(w, r, "/sign-in?refused="+url.QueryEscape(p.Type), http.StatusSeeOther)
}
