package client

import (
	"context"
	"net/url"
	"strconv"

	"wraithology/api"
)

// A Group is a case or a team: people are in it with a role, and join it by invitations.
type Group struct {
	client *Client
	path   string
}

// InCase returns the people of a case.
func (c *Client) InCase(name string) Group { return Group{c, casePath(name)} }

// InTeam returns the people of a team.
func (c *Client) InTeam(name string) Group { return Group{c, "/api/teams/" + url.PathEscape(name)} }

// Members lists the people by name: a page of those after a name.
func (g Group) Members(ctx context.Context, after string) (list []api.Member, err error) {
	return list, g.client.call(ctx, "GET", g.path+"/members?"+url.Values{"after": {after}}.Encode(), nil, &list)
}

// Change adds a person, or changes what a member may.
func (g Group) Change(ctx context.Context, person string, to api.MemberChange) (m api.Member, err error) {
	return m, g.client.call(ctx, "PUT", g.path+"/members/"+url.PathEscape(person), to, &m)
}

// Remove removes a person.
func (g Group) Remove(ctx context.Context, person string) error {
	return g.client.call(ctx, "DELETE", g.path+"/members/"+url.PathEscape(person), nil, nil)
}

// Invite makes a link by which people join; Link returns it.
func (g Group) Invite(ctx context.Context, n api.NewInvitation) (x api.Invitation, err error) {
	return x, g.client.call(ctx, "POST", g.path+"/invitations", n, &x)
}

// Invitations lists the invitations that still work, oldest first.
func (g Group) Invitations(ctx context.Context) (list []api.Invitation, err error) {
	return list, g.client.call(ctx, "GET", g.path+"/invitations", nil, &list)
}

// Withdraw ends an invitation.
func (g Group) Withdraw(ctx context.Context, id int64) error {
	return g.client.call(ctx, "DELETE", g.path+"/invitations/"+strconv.FormatInt(id, 10), nil, nil)
}

// SetMember adds a person to a case or changes a role.
func (c *Client) SetMember(ctx context.Context, name string, m api.Member) error {
	_, err := c.InCase(name).Change(ctx, m.Name, api.MemberChange{Role: m.Role})
	return err
}

// Link returns the link of an invitation, as a browser opens it. The part after # is not sent to the service when the page is loaded.
func (c *Client) Link(x api.Invitation) string { return c.base + "/join#" + x.Secret }

// Invited returns what the invitation with a secret is to.
func (c *Client) Invited(ctx context.Context, secret string) (x api.Invited, err error) {
	return x, c.call(ctx, "POST", "/api/invitations", api.InvitationSecret{Secret: secret}, &x)
}

// Join joins the case or team that an invitation is to.
func (c *Client) Join(ctx context.Context, secret string) (x api.Invited, err error) {
	return x, c.call(ctx, "POST", "/api/invitations/accept", api.InvitationSecret{Secret: secret}, &x)
}

// JoinWithAccount makes an account, where the invitation allows that, and joins.
func (c *Client) JoinWithAccount(ctx context.Context, secret string, who api.Credentials) (x api.Invited, err error) {
	return x, c.call(ctx, "POST", "/api/invitations/account", struct {
		api.InvitationSecret
		api.Credentials
	}{api.InvitationSecret{Secret: secret}, who}, &x)
}

// Teams lists the person's teams, by name.
func (c *Client) Teams(ctx context.Context) (list []api.Team, err error) {
	return list, c.call(ctx, "GET", "/api/teams", nil, &list)
}

// NewTeam makes a team, which the person then leads.
func (c *Client) NewTeam(ctx context.Context, name string) (t api.Team, err error) {
	return t, c.call(ctx, "POST", "/api/teams", api.NewTeam{Name: name}, &t)
}

// DeleteTeam removes a team, from its cases too.
func (c *Client) DeleteTeam(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", c.InTeam(name).path, nil, nil)
}

// CaseTeams lists the teams that a case belongs to, by name.
func (c *Client) CaseTeams(ctx context.Context, name string) (list []api.CaseTeam, err error) {
	return list, c.call(ctx, "GET", casePath(name)+"/teams", nil, &list)
}

// AddCaseTeam makes a case one of a team that the person is in.
func (c *Client) AddCaseTeam(ctx context.Context, name, team string) (t api.CaseTeam, err error) {
	return t, c.call(ctx, "PUT", casePath(name)+"/teams/"+url.PathEscape(team), nil, &t)
}

// RemoveCaseTeam takes a case away from a team.
func (c *Client) RemoveCaseTeam(ctx context.Context, name, team string) error {
	return c.call(ctx, "DELETE", casePath(name)+"/teams/"+url.PathEscape(team), nil, nil)
}
