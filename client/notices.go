package client

import (
	"context"
	"fmt"

	"wraithology/api"
)

// SetMail sets the person's own mail address; empty for none.
func (c *Client) SetMail(ctx context.Context, address string) (x api.Person, err error) {
	return x, c.call(ctx, "PATCH", "/api/me", api.PersonChange{Mail: address}, &x)
}

// Notices lists the latest notices about a case for the person, oldest first, at most count.
func (c *Client) Notices(ctx context.Context, name string, count int) (x api.Notices, err error) {
	return x, c.call(ctx, "GET", fmt.Sprintf("%s/notices?latest=true&count=%d", casePath(name), count), nil, &x)
}

// SwitchNotices switches mails about a case on or off for the person.
func (c *Client) SwitchNotices(ctx context.Context, name string, isOn bool) error {
	return c.call(ctx, "PUT", casePath(name)+"/notices", api.NoticesSwitch{IsOn: isOn}, nil)
}

// Hooks lists a case's webhooks.
func (c *Client) Hooks(ctx context.Context, name string) (list []api.Hook, err error) {
	return list, c.call(ctx, "GET", casePath(name)+"/hooks", nil, &list)
}

// AddHook adds a webhook; the answer has its secret.
func (c *Client) AddHook(ctx context.Context, name string, n api.NewHook) (x api.Hook, err error) {
	return x, c.call(ctx, "POST", casePath(name)+"/hooks", n, &x)
}

// DeleteHook deletes a webhook.
func (c *Client) DeleteHook(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/hooks/%d", casePath(name), id), nil, nil)
}

// TryHook sends a trial to a webhook now.
func (c *Client) TryHook(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "POST", fmt.Sprintf("%s/hooks/%d/trial", casePath(name), id), nil, nil)
}

// SendHandOver posts a hand-over note as a comment, and tells members.
func (c *Client) SendHandOver(ctx context.Context, name string, n api.HandingOver) (x api.Comment, err error) {
	return x, c.call(ctx, "POST", casePath(name)+"/handover", n, &x)
}
