package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/accounts"
	"wraithology/service/mail"
	"wraithology/service/store"
)

func (a *server) peopleRoutes(h huma.API) {
	type empty struct{}
	route(h, a, "POST", "/api/sessions", "signIn", "Sign a browser in", func(ctx context.Context, in *struct{ Body api.Credentials }) (*body[api.Person], error) {
		p, err := a.Accounts.Check(ctx, in.Body.Name, in.Body.Password, accounts.Address(ctx))
		if err != nil {
			return nil, err
		}
		if err := a.Accounts.SignIn(ctx, p); err != nil {
			return nil, err
		}
		return &body[api.Person]{api.Person{Name: p.Name, Admin: p.Admin}}, nil
	}, limited)
	route(h, a, "DELETE", "/api/sessions", "signOut", "Sign a browser out", func(ctx context.Context, _ *empty) (*empty, error) {
		return nil, a.Accounts.SignOut(ctx)
	})
	route(h, a, "POST", "/api/tokens", "newToken", "Make a token for a program", func(ctx context.Context, in *struct {
		Body struct {
			api.Credentials
			api.NewToken
		}
	}) (*body[api.Token], error) {
		p, err := a.Accounts.Check(ctx, in.Body.Name, in.Body.Password, accounts.Address(ctx))
		if err != nil {
			return nil, err
		}
		out, err := a.newToken(ctx, p.ID, in.Body.NewToken)
		return &body[api.Token]{out}, err
	}, limited, created)
	route(h, a, "GET", "/api/me", "me", "Who is signed in", func(ctx context.Context, _ *empty) (*body[api.Person], error) {
		return &body[api.Person]{api.Person{Name: who(ctx).Name, Admin: who(ctx).Admin, Mail: who(ctx).Mail}}, nil
	})
	route(h, a, "PATCH", "/api/me", "changeMe", "Set one's own mail address", func(ctx context.Context, in *struct{ Body api.PersonChange }) (*body[api.Person], error) {
		address := in.Body.Mail
		if address != "" {
			var err error
			if address, err = mail.Address(address); err != nil {
				return nil, err
			}
		}
		if err := a.Store.SetMail(ctx, who(ctx).ID, address); err != nil {
			return nil, err
		}
		return &body[api.Person]{api.Person{Name: who(ctx).Name, Admin: who(ctx).Admin, Mail: address}}, nil
	})
	route(h, a, "POST", "/api/me/password", "changePassword", "Set one's own password, and end one's other sessions", func(ctx context.Context, in *struct{ Body api.PasswordChange }) (*empty, error) {
		if _, err := a.Accounts.Check(ctx, who(ctx).Name, in.Body.Old, accounts.Address(ctx)); err != nil {
			return nil, err
		}
		return nil, a.Accounts.SetPassword(ctx, who(ctx).ID, in.Body.New)
	}, limited)
	route(h, a, "GET", "/api/me/sessions", "sessions", "Where one is signed in with a browser, the last used first", func(ctx context.Context, _ *empty) (*body[[]api.Session], error) {
		list, err := a.Store.SessionsOf(ctx, who(ctx).ID)
		return listed(list, func(x store.Session) api.Session {
			return api.Session{ID: x.ID, Created: x.CreatedAt, Used: x.UsedAt, Expires: x.Expiry}
		}, err)
	})
	route(h, a, "DELETE", "/api/me/sessions", "endSessions", "Sign out everywhere: end all one's sessions", func(ctx context.Context, _ *empty) (*empty, error) {
		return nil, a.Store.EndSessions(ctx, who(ctx).ID, 0)
	})
	route(h, a, "DELETE", "/api/me/sessions/{id}", "endSession", "End one session", func(ctx context.Context, in *OwnInput) (*empty, error) {
		return nil, a.Store.EndSessions(ctx, who(ctx).ID, in.ID)
	})
	route(h, a, "GET", "/api/me/tokens", "tokens", "One's tokens, oldest first", func(ctx context.Context, _ *empty) (*body[[]api.Token], error) {
		list, err := a.Store.TokensOf(ctx, who(ctx).ID)
		return listed(list, tokenOf, err)
	})
	route(h, a, "POST", "/api/me/tokens", "newOwnToken", "Make a token for a program, where one is signed in with a browser", func(ctx context.Context, in *struct{ Body api.NewToken }) (*body[api.Token], error) {
		if !accounts.IsBrowser(ctx) { // whoever has found a token does not make others
			return nil, fault.PermissionDenied.New("sign in with a browser, or use wraith account token", "permission denied: a token cannot make tokens")
		}
		out, err := a.newToken(ctx, who(ctx).ID, in.Body)
		return &body[api.Token]{out}, err
	}, limited, created)
	route(h, a, "DELETE", "/api/me/tokens/{id}", "revokeToken", "Revoke a token", func(ctx context.Context, in *OwnInput) (*empty, error) {
		return nil, a.Store.DeleteToken(ctx, who(ctx).ID, in.ID)
	})
	route(h, a, "GET", "/api/people", "people", "Everybody who can be added to a case", func(ctx context.Context, _ *empty) (*body[[]api.Person], error) {
		list, err := a.Store.People(ctx)
		out := []api.Person{}
		for _, p := range list {
			out = append(out, api.Person{Name: p.Name, Admin: p.Admin})
		}
		return &body[[]api.Person]{out}, err
	})
}

// OwnInput names something of the person who asks.
type OwnInput struct {
	ID int64 `path:"id" minimum:"1"`
}

func (a *server) newToken(ctx context.Context, person int64, in api.NewToken) (api.Token, error) {
	t := store.Token{PersonID: person, Label: in.Label, Scope: in.Scope}
	if in.Days > 0 {
		at := time.Now().AddDate(0, 0, in.Days)
		t.ExpiresAt = &at
	}
	secret, err := a.Accounts.NewToken(ctx, &t)
	out := tokenOf(t)
	out.Secret = secret
	return out, err
}

func tokenOf(t store.Token) api.Token {
	return api.Token{ID: t.ID, Label: t.Label, Scope: t.Scope, Created: t.CreatedAt, Expires: t.ExpiresAt, Used: t.UsedAt}
}
