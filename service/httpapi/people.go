package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/service/mail"
)

func (a *server) peopleRoutes(h huma.API) {
	type empty struct{}
	route(h, a, "POST", "/api/sessions", "signIn", "Sign a browser in", func(ctx context.Context, in *struct{ Body api.Credentials }) (*body[api.Person], error) {
		p, err := a.Accounts.Check(ctx, in.Body.Name, in.Body.Password)
		if err != nil {
			return nil, err
		}
		if err := a.Accounts.SignIn(ctx, p); err != nil {
			return nil, err
		}
		return &body[api.Person]{api.Person{Name: p.Name, Admin: p.Admin}}, nil
	}, signIn)
	route(h, a, "DELETE", "/api/sessions", "signOut", "Sign a browser out", func(ctx context.Context, _ *empty) (*empty, error) {
		return nil, a.Accounts.SignOut(ctx)
	})
	route(h, a, "POST", "/api/tokens", "newToken", "Make a token for a program", func(ctx context.Context, in *struct {
		Body struct {
			api.Credentials
			Label string `json:"label" maxLength:"200"`
		}
	}) (*body[api.Token], error) {
		p, err := a.Accounts.Check(ctx, in.Body.Name, in.Body.Password)
		if err != nil {
			return nil, err
		}
		secret, err := a.Accounts.NewToken(ctx, p.ID, in.Body.Label)
		return &body[api.Token]{api.Token{Label: in.Body.Label, Secret: secret}}, err
	}, signIn, created)
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
	route(h, a, "GET", "/api/people", "people", "Everybody who can be added to a case", func(ctx context.Context, _ *empty) (*body[[]api.Person], error) {
		list, err := a.Store.People(ctx)
		out := []api.Person{}
		for _, p := range list {
			out = append(out, api.Person{Name: p.Name, Admin: p.Admin})
		}
		return &body[[]api.Person]{out}, err
	})
}
