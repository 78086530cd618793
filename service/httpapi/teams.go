package httpapi

import (
	"context"
	"errors"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

// TeamInput is the team in a path.
type TeamInput struct {
	Team string `path:"team"`
}

// teamFor returns a team, if the person has the right in it that the operation needs. Teams of others look as if they did not exist.
func (a *server) teamFor(ctx context.Context, name string) (store.OwnTeam, error) {
	t, err := a.Store.TeamFor(ctx, name, who(ctx).ID)
	if err == nil {
		err = hasIn(t, does(ctx).access.needs)
	}
	return t, err
}

// hasIn returns an error if a person does not have a right in a team.
func hasIn(t store.OwnTeam, needed right) error {
	if rights[t.Role] < needed {
		return fault.PermissionDenied.New("ask a person who leads the team", "permission denied: your role in team %s is %s", t.Name, t.Role)
	}
	return nil
}

func (a *server) teamRoutes(h huma.API) {
	type empty struct{}
	const path = "/api/teams/{team}"
	route(h, a, "GET", "/api/teams", "teams", "The person's teams, by name", func(ctx context.Context, _ *empty) (*body[[]api.Team], error) {
		list, err := a.Store.TeamsOf(ctx, who(ctx).ID)
		return listed(list, teamOf, err)
	})
	route(h, a, "POST", "/api/teams", "newTeam", "Make a team, which the person then leads", func(ctx context.Context, in *struct{ Body api.NewTeam }) (*body[api.Team], error) {
		err := a.Store.Together(ctx, func(s *store.Store) error {
			if err := s.AddTeam(ctx, &store.Team{Name: in.Body.Name}, who(ctx).ID); err != nil {
				return err
			}
			return s.Note(ctx, store.OfService, who(ctx).ID, "teams: made "+in.Body.Name)
		})
		if err != nil {
			return nil, err
		}
		t, err := a.Store.TeamFor(ctx, in.Body.Name, who(ctx).ID)
		return &body[api.Team]{teamOf(t)}, err
	}, created)
	route(h, a, "DELETE", path, "deleteTeam", "Remove a team, from its cases too", func(ctx context.Context, in *TeamInput) (*empty, error) {
		t, err := a.teamFor(ctx, in.Team)
		if err != nil {
			return nil, err
		}
		return nil, a.changeTeam(ctx, t, "teams: removed "+t.Name, func(s *store.Store) ([]store.PartChange, error) { return s.RemoveTeam(ctx, t.ID) })
	})
	route(h, a, "GET", path+"/members", "teamMembers", "The people of a team, by name", func(ctx context.Context, in *struct {
		TeamInput
		After string `query:"after" maxLength:"200" doc:"the last person of the page before"`
		Count int    `query:"count" minimum:"1" maximum:"2000" default:"500"`
	}) (*body[[]api.Member], error) {
		t, err := a.teamFor(ctx, in.Team)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.TeamMembers(ctx, t.ID, in.After, in.Count)
		return listed(list, func(m store.TeamMember) api.Member {
			return api.Member{Name: m.Person.Name, Role: m.Role, Unmasks: m.Unmasks}
		}, err)
	})
	route(h, a, "PUT", path+"/members/{person}", "setTeamMember", "Add a person to a team, or change the role: in its cases too", func(ctx context.Context, in *struct {
		TeamInput
		Person string `path:"person"`
		Body   api.MemberChange
	}) (*body[api.Member], error) {
		t, err := a.teamFor(ctx, in.Team)
		if err != nil {
			return nil, err
		}
		p, err := a.local(ctx, in.Person)
		if err != nil {
			return nil, err
		}
		m := api.Member{Name: p.Name, Role: in.Body.Role}
		err = a.changeTeam(ctx, t, fmt.Sprintf("teams: made %s %s of %s", p.Name, m.Role, t.Name), func(s *store.Store) ([]store.PartChange, error) {
			was, err := s.TeamMemberOf(ctx, t.ID, p.ID)
			if err != nil && !errors.Is(err, fault.NotFound) {
				return nil, err
			}
			m.Unmasks = was.Unmasks
			change(&m.Unmasks, in.Body.Unmasks)
			return s.SetTeamMember(ctx, store.TeamMember{TeamID: t.ID, PersonID: p.ID, Role: m.Role, Unmasks: m.Unmasks})
		})
		return &body[api.Member]{m}, err
	})
	route(h, a, "DELETE", path+"/members/{person}", "removeTeamMember", "Remove a person from a team, and from the cases in which the person is by it", func(ctx context.Context, in *struct {
		TeamInput
		Person string `path:"person"`
	}) (*empty, error) {
		t, err := a.teamFor(ctx, in.Team)
		if err == nil && in.Person != who(ctx).Name {
			err = hasIn(t, does(ctx).access.full)
		}
		if err != nil {
			return nil, err
		}
		p, err := a.Store.PersonByName(ctx, in.Person)
		if err != nil {
			return nil, err
		}
		return nil, a.changeTeam(ctx, t, fmt.Sprintf("teams: removed %s from %s", p.Name, t.Name), func(s *store.Store) ([]store.PartChange, error) {
			return s.RemoveTeamMember(ctx, t.ID, p.ID)
		})
	})
	a.caseTeamRoutes(h)
}

// caseTeamRoutes are about the teams that a case belongs to.
func (a *server) caseTeamRoutes(h huma.API) {
	const path = "/api/cases/{case}/teams"
	type caseTeamInput struct {
		CaseInput
		TeamInput
	}
	route(h, a, "GET", path, "caseTeams", "The teams that a case belongs to, by name", func(ctx context.Context, in *CaseInput) (*body[[]api.CaseTeam], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.TeamsOfCase(ctx, c.ID)
		return listed(list, func(t store.CaseTeam) api.CaseTeam { return api.CaseTeam{Name: t.Name, People: t.People} }, err)
	})
	route(h, a, "PUT", path+"/{team}", "addCaseTeam", "Make a case one of a team that the person is in: its people are in the case", func(ctx context.Context, in *caseTeamInput) (*body[api.CaseTeam], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		t, err := a.Store.TeamFor(ctx, in.Team, who(ctx).ID)
		if err != nil {
			return nil, err
		}
		return &body[api.CaseTeam]{api.CaseTeam{Name: t.Name, People: t.People}}, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
			_, err := s.AddTeamToCase(ctx, t.ID, c.ID)
			return fmt.Sprintf("added team %s to the case: %d of its people", t.Name, t.People), err
		})
	})
	route(h, a, "DELETE", path+"/{team}", "removeCaseTeam", "Take a case away from a team", func(ctx context.Context, in *caseTeamInput) (*struct{}, error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.TeamsOfCase(ctx, c.ID)
		if err != nil {
			return nil, err
		}
		for _, t := range list {
			if t.Name != in.Team {
				continue
			}
			return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
				_, err := s.RemoveTeamFromCase(ctx, t.ID, c.ID)
				return fmt.Sprintf("removed team %s from the case", t.Name), err
			})
		}
		return nil, fault.NotFound.New("wraith case teams "+c.Name+" lists its teams", "case %s does not belong to team %.80s", c.Name, in.Team)
	})
}

func teamOf(t store.OwnTeam) api.Team {
	return api.Team{Name: t.Name, Role: t.Role, People: t.People, Cases: t.Cases}
}

// local finds a person of this service, who can be added to cases and teams.
func (a *server) local(ctx context.Context, name string) (store.Person, error) {
	p, err := a.Store.PersonByName(ctx, name)
	if err == nil && p.Origin != "" {
		err = fault.InvalidRequest.New("add a person of this service", "%s came with an imported case and cannot sign in", p.Name)
	}
	return p, err
}

// changeTeam changes a team. The service's record has it, and the record of each case in which somebody's role changes by it.
func (a *server) changeTeam(ctx context.Context, t store.OwnTeam, entry string, do func(*store.Store) ([]store.PartChange, error)) error {
	var list []store.PartChange
	err := a.Store.Together(ctx, func(s *store.Store) (err error) {
		if list, err = do(s); err != nil {
			return err
		}
		if err := s.NoteParts(ctx, list, who(ctx).ID, t.Name); err != nil {
			return err
		}
		return s.Note(ctx, store.OfService, who(ctx).ID, entry)
	})
	if err == nil {
		for _, x := range list {
			a.live.Changed(x.CaseID)
		}
	}
	return err
}
