package client

import (
	"context"
	"strconv"

	"wraithology/api"
)

// NewToken makes a token for a program: its scope is read, write or ingest, and it expires after some days, or never if that is 0.
func (c *Client) NewToken(ctx context.Context, who api.Credentials, label, scope string, days int) (t api.Token, err error) {
	return t, c.call(ctx, "POST", "/api/tokens", struct {
		api.Credentials
		Label string `json:"label"`
		Scope string `json:"scope"`
		Days  int    `json:"days"`
	}{who, label, scope, days}, &t)
}

// Tokens lists the person's tokens, oldest first.
func (c *Client) Tokens(ctx context.Context) (list []api.Token, err error) {
	return list, c.call(ctx, "GET", "/api/me/tokens", nil, &list)
}

// RevokeToken ends a token of the person.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.call(ctx, "DELETE", "/api/me/tokens/"+strconv.FormatInt(id, 10), nil, nil)
}

// Sessions lists where the person is signed in with a browser, the last used first.
func (c *Client) Sessions(ctx context.Context) (list []api.Session, err error) {
	return list, c.call(ctx, "GET", "/api/me/sessions", nil, &list)
}

// EndSessions signs the person out of all browsers.
func (c *Client) EndSessions(ctx context.Context) error {
	return c.call(ctx, "DELETE", "/api/me/sessions", nil, nil)
}

// ChangePassword sets the person's own password.
func (c *Client) ChangePassword(ctx context.Context, x api.PasswordChange) error {
	return c.call(ctx, "POST", "/api/me/password", x, nil)
}
