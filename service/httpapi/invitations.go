package httpapi

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/accounts"
	"wraithology/service/store"
)

// InvitationInput names an invitation in a path.
type InvitationInput struct {
	ID int64 `path:"invitation" minimum:"1"`
}

func (a *server) invitationRoutes(h huma.API) {
	const ofCase, ofTeam = "/api/cases/{case}/invitations", "/api/teams/{team}/invitations"
	group := func(ctx context.Context, in CaseInput) (store.Group, error) {
		c, err := a.caseFor(ctx, in.Case)
		return store.Group{CaseID: c.ID}, err
	}
	team := func(ctx context.Context, in TeamInput) (store.Group, error) {
		t, err := a.teamFor(ctx, in.Team)
		return store.Group{TeamID: t.ID}, err
	}
	route(h, a, "GET", ofCase, "invitations", "The links by which people may join a case, oldest first", func(ctx context.Context, in *CaseInput) (*body[[]api.Invitation], error) {
		to, err := group(ctx, *in)
		return a.invitations(ctx, to, err)
	})
	route(h, a, "GET", ofTeam, "teamInvitations", "The links by which people may join a team, oldest first", func(ctx context.Context, in *TeamInput) (*body[[]api.Invitation], error) {
		to, err := team(ctx, *in)
		return a.invitations(ctx, to, err)
	})
	route(h, a, "POST", ofCase, "invite", "Make a link by which people join a case", func(ctx context.Context, in *caseBody[api.NewInvitation]) (*body[api.Invitation], error) {
		to, err := group(ctx, in.CaseInput)
		return a.invite(ctx, to, err, in.Body)
	}, created)
	route(h, a, "POST", ofTeam, "inviteToTeam", "Make a link by which people join a team", func(ctx context.Context, in *struct {
		TeamInput
		Body api.NewInvitation
	}) (*body[api.Invitation], error) {
		to, err := team(ctx, in.TeamInput)
		return a.invite(ctx, to, err, in.Body)
	}, created)
	route(h, a, "DELETE", ofCase+"/{invitation}", "withdrawInvitation", "Withdraw a link", func(ctx context.Context, in *struct {
		CaseInput
		InvitationInput
	}) (*struct{}, error) {
		to, err := group(ctx, in.CaseInput)
		return nil, a.withdraw(ctx, to, err, in.ID)
	})
	route(h, a, "DELETE", ofTeam+"/{invitation}", "withdrawTeamInvitation", "Withdraw a link", func(ctx context.Context, in *struct {
		TeamInput
		InvitationInput
	}) (*struct{}, error) {
		to, err := team(ctx, in.TeamInput)
		return nil, a.withdraw(ctx, to, err, in.ID)
	})
	type secretInput struct{ Body api.InvitationSecret }
	route(h, a, "POST", "/api/invitations", "invitation", "What an invitation is to", func(ctx context.Context, in *secretInput) (*body[api.Invited], error) {
		_, to, err := invited(ctx, a.Store, in.Body.Secret)
		return &body[api.Invited]{to}, err
	})
	route(h, a, "POST", "/api/invitations/accept", "acceptInvitation", "Join the case or team that an invitation is to", func(ctx context.Context, in *secretInput) (*body[api.Invited], error) {
		to, err := a.join(ctx, in.Body.Secret, func(*store.Store) (store.Person, error) { return who(ctx), nil }, "")
		return &body[api.Invited]{to}, err
	})
	route(h, a, "POST", "/api/invitations/account", "joinWithAccount", "Make an account, where an invitation allows that, and join", func(ctx context.Context, in *struct {
		Body struct {
			api.InvitationSecret
			api.Credentials
		}
	}) (*body[api.Invited], error) {
		x, _, err := invited(ctx, a.Store, in.Body.Secret) // before the password is hashed
		if err != nil {
			return nil, err
		}
		if !x.MakesAccounts {
			return nil, fault.PermissionDenied.New("ask an administrator for an account", "permission denied: the invitation is for people who have an account")
		}
		p, err := a.Accounts.NewPerson(ctx, in.Body.Name, in.Body.Password)
		if err != nil {
			return nil, err
		}
		to, err := a.join(ctx, in.Body.Secret, func(s *store.Store) (store.Person, error) {
			return p, s.AddPerson(ctx, &p)
		}, fmt.Sprintf("accounts: %s came by an invitation of %s", in.Body.Name, x.Person.Name))
		return &body[api.Invited]{to}, err
	}, limited, created)
}

func (a *server) invitations(ctx context.Context, to store.Group, err error) (*body[[]api.Invitation], error) {
	if err != nil {
		return nil, err
	}
	list, err := a.Store.InvitationsTo(ctx, to)
	return listed(list, invitationOf, err)
}

func invitationOf(x store.Invitation) api.Invitation {
	return api.Invitation{ID: x.ID, Role: x.Role, Unmasks: x.Unmasks, Places: x.Places, Accounts: x.MakesAccounts, By: x.Person.Name, Created: x.CreatedAt, Expires: x.ExpiresAt}
}

// invite makes an invitation to a group.
func (a *server) invite(ctx context.Context, to store.Group, err error, in api.NewInvitation) (*body[api.Invitation], error) {
	if err != nil {
		return nil, err
	}
	if in.Accounts && !who(ctx).Admin {
		return nil, fault.PermissionDenied.New("ask an administrator for the link", "permission denied: an administrator alone may let people make accounts")
	}
	secret, hash := accounts.NewInvitation()
	x := store.Invitation{SecretHash: hash, PersonID: who(ctx).ID, Person: who(ctx), Role: in.Role, Unmasks: in.Unmasks, MakesAccounts: in.Accounts, Places: in.Places, ExpiresAt: time.Now().AddDate(0, 0, in.Days)}
	if to.CaseID != 0 {
		x.CaseID = &to.CaseID
	} else {
		x.TeamID = &to.TeamID
	}
	err = a.Store.Together(ctx, func(s *store.Store) error {
		if err := s.AddInvitation(ctx, &x); err != nil {
			return err
		}
		entry := fmt.Sprintf("made invitation %d: %d may join as %s until %s UTC", x.ID, x.Places, x.Role, x.ExpiresAt.UTC().Format("2006-01-02 15:04"))
		if x.Unmasks {
			entry += ", and see what is masked"
		}
		return noteGroup(ctx, s, to, who(ctx).ID, entry)
	})
	out := invitationOf(x)
	out.Secret = secret
	return &body[api.Invitation]{out}, err
}

// withdraw ends an invitation to a group.
func (a *server) withdraw(ctx context.Context, to store.Group, err error, id int64) error {
	if err != nil {
		return err
	}
	return a.Store.Together(ctx, func(s *store.Store) error {
		if err := s.DeleteInvitation(ctx, to, id); err != nil {
			return err
		}
		return noteGroup(ctx, s, to, who(ctx).ID, fmt.Sprintf("withdrew invitation %d", id))
	})
}

// noteGroup keeps what a person did in the record of a case, or, for a team, in that of the service.
func noteGroup(ctx context.Context, s *store.Store, to store.Group, by int64, entry string) error {
	if to.CaseID != 0 {
		return s.Note(ctx, to.CaseID, by, entry)
	}
	t, err := s.TeamByID(ctx, to.TeamID)
	if err != nil {
		return err
	}
	return s.Note(ctx, store.OfService, by, "teams: "+t.Name+": "+entry)
}

// invited returns the invitation with a secret, and what it is to.
func invited(ctx context.Context, s *store.Store, secret string) (x store.Invitation, to api.Invited, err error) {
	if x, err = s.InvitationBy(ctx, accounts.InvitationHash(secret)); err != nil {
		return x, to, err
	}
	to = api.Invited{Role: x.Role, By: x.Person.Name, Expires: x.ExpiresAt, Accounts: x.MakesAccounts}
	if x.Team != nil {
		to.Team = x.Team.Name
	} else {
		to.Case, to.Title = x.Case.Name, x.Case.Title
	}
	return x, to, nil
}

// join uses an invitation for a person: as a whole, or not at all. Whoever has as much in the group takes no place of it.
// came, if it is not empty, is what the service's record then says.
func (a *server) join(ctx context.Context, secret string, person func(*store.Store) (store.Person, error), came string) (to api.Invited, err error) {
	var changed []int64
	err = a.Store.Together(ctx, func(s *store.Store) error {
		var x store.Invitation
		if x, to, err = invited(ctx, s, secret); err != nil {
			return err
		}
		p, err := person(s)
		if err != nil {
			return err
		}
		if x.TeamID != nil {
			err = joinTeam(ctx, s, x, p, &to, &changed)
		} else {
			changed = []int64{*x.CaseID}
			err = joinCase(ctx, s, x, p, &to)
		}
		if err != nil || came == "" {
			return err
		}
		return s.Note(ctx, store.OfService, p.ID, came)
	})
	if err == nil {
		for _, id := range changed {
			a.live.Changed(id)
		}
	}
	return to, err
}

// place uses a place of an invitation, unless the person has as much as it gives.
func place(ctx context.Context, s *store.Store, x store.Invitation, role string, unmasks bool) (isUsed bool, err error) {
	if rights[role] >= rights[x.Role] && (unmasks || !x.Unmasks) {
		return false, nil
	}
	return true, s.UseInvitation(ctx, x.ID)
}

// higher returns the role with more rights.
func higher(role, other string) string {
	if rights[other] > rights[role] {
		return other
	}
	return role
}

func joinCase(ctx context.Context, s *store.Store, x store.Invitation, p store.Person, to *api.Invited) error {
	if err := s.LockCases(ctx, *x.CaseID); err != nil { // before the invitation
		return err
	}
	m, err := s.MemberOf(ctx, *x.CaseID, p.ID)
	if err != nil && !errors.Is(err, fault.NotFound) {
		return err
	}
	isUsed, err := place(ctx, s, x, m.Role, m.Unmasks)
	if err != nil {
		return err
	}
	if isUsed {
		own := ""
		change(&own, m.OwnRole)
		if err := s.SetMember(ctx, store.Member{CaseID: *x.CaseID, PersonID: p.ID, Role: higher(own, x.Role), Unmasks: m.OwnUnmasks || x.Unmasks}); err != nil {
			return err
		}
		if err := s.Note(ctx, *x.CaseID, p.ID, fmt.Sprintf("joined the case as %s, by invitation %d of %s", x.Role, x.ID, x.Person.Name)); err != nil {
			return err
		}
		if m, err = s.MemberOf(ctx, *x.CaseID, p.ID); err != nil {
			return err
		}
	}
	to.Role, to.Case = m.Role, m.Called
	return nil
}

// joinTeam adds a person to a team, and adds the cases that this changes to changed.
func joinTeam(ctx context.Context, s *store.Store, x store.Invitation, p store.Person, to *api.Invited, changed *[]int64) error {
	if err := s.LockTeam(ctx, *x.TeamID); err != nil { // before the invitation
		return err
	}
	m, err := s.TeamMemberOf(ctx, *x.TeamID, p.ID)
	if err != nil && !errors.Is(err, fault.NotFound) {
		return err
	}
	to.Role = higher(m.Role, x.Role)
	isUsed, err := place(ctx, s, x, m.Role, m.Unmasks)
	if err != nil || !isUsed {
		return err
	}
	list, err := s.SetTeamMember(ctx, store.TeamMember{TeamID: *x.TeamID, PersonID: p.ID, Role: to.Role, Unmasks: m.Unmasks || x.Unmasks})
	if err != nil {
		return err
	}
	for _, c := range list {
		*changed = append(*changed, c.CaseID)
	}
	if err := s.NoteParts(ctx, list, p.ID, to.Team); err != nil {
		return err
	}
	return noteGroup(ctx, s, store.Group{TeamID: *x.TeamID}, p.ID, fmt.Sprintf("joined as %s, by invitation %d of %s", x.Role, x.ID, x.Person.Name))
}
