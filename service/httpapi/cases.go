package httpapi

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

// CaseInput is the case in a path. It is exported, like similar types, because huma reads
// parameters of embedded structs only if they are.
type CaseInput struct {
	Case string `path:"case"`
}

// casesInput chooses cases; without any part it is all of them.
type casesInput struct {
	Text    string    `query:"text" maxLength:"500" doc:"in the name, title, cause, evidence, theories or comments"`
	Program string    `query:"program" maxLength:"500" doc:"with evidence of this program"`
	Person  string    `query:"person" maxLength:"200" doc:"with this member"`
	Failure string    `query:"failure" maxLength:"500" doc:"with evidence that ended with this text"`
	State   string    `query:"state" enum:"open,closed," doc:"open or closed"`
	Since   time.Time `query:"since" doc:"opened at this time or later"`
	Until   time.Time `query:"until" doc:"opened before this time"`
	After   string    `query:"after" maxLength:"100" doc:"the last case of the page before"`
	Count   int       `query:"count" minimum:"1" maximum:"1000" default:"200" doc:"maximum number, the newest"`
}

func (a *server) caseRoutes(h huma.API) {
	route(h, a, "GET", "/api/cases", "cases", "The person's cases, newest first", func(ctx context.Context, in *casesInput) (*body[[]api.Case], error) {
		list, err := a.Store.FindCases(ctx, who(ctx).ID, store.CaseQuery{Text: in.Text, Program: in.Program, Person: in.Person, Failure: in.Failure, State: in.State, Since: in.Since, Until: in.Until, Most: in.Count, After: in.After, Members: api.MembersOfListed})
		return listed(list, func(x store.OwnCase) api.Case { return ownCase(x.Case, x.Role) }, err)
	})
	route(h, a, "POST", "/api/cases", "newCase", "Open a case, which the person then leads", func(ctx context.Context, in *struct{ Body api.NewCase }) (*body[api.Case], error) {
		c := store.Case{Name: in.Body.Name, Title: in.Body.Title}
		err := a.Store.Together(ctx, func(s *store.Store) error {
			if err := s.AddCase(ctx, &c, who(ctx).ID); err != nil {
				return err
			}
			return s.Note(ctx, c.ID, who(ctx).ID, "opened the case")
		})
		if err != nil {
			return nil, err
		}
		return a.oneCase(ctx, c.Name)
	}, created)
	route(h, a, "GET", "/api/cases/{case}", "case", "One case", func(ctx context.Context, in *CaseInput) (*body[api.Case], error) {
		return a.oneCase(ctx, in.Case)
	})
	route(h, a, "GET", "/api/cases/{case}/members", "members", "A case's members, by name", func(ctx context.Context, in *struct {
		CaseInput
		After string `query:"after" maxLength:"200" doc:"the last member of the page before"`
		Count int    `query:"count" minimum:"1" maximum:"2000" default:"500"`
	}) (*body[[]api.Member], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.MembersOf(ctx, c.ID, in.After, in.Count)
		if err != nil {
			return nil, err
		}
		return a.membersOf(ctx, c.ID, list)
	})
	route(h, a, "POST", "/api/cases/{case}/close", "closeCase", "Close a case with its cause", func(ctx context.Context, in *caseBody[api.Closing]) (*body[api.Case], error) {
		return a.switchCase(ctx, in.Case, func(s *store.Store, c store.Case) (string, error) {
			cause := a.masked(c, in.Body.Cause)
			return "closed the case: " + cause, s.CloseCase(ctx, c.ID, cause, who(ctx).ID)
		})
	})
	route(h, a, "POST", "/api/cases/{case}/reopen", "reopenCase", "Open a closed case again", func(ctx context.Context, in *CaseInput) (*body[api.Case], error) {
		return a.switchCase(ctx, in.Case, func(s *store.Store, c store.Case) (string, error) {
			return "opened the case again", s.ReopenCase(ctx, c.ID)
		})
	})
	route(h, a, "DELETE", "/api/cases/{case}/members/{person}", "removeMember", "Remove a person from a case", a.removeMember)
	route(h, a, "PUT", "/api/cases/{case}/members/{person}", "setMember", "Add a person to a case, or change the role", func(ctx context.Context, in *struct {
		CaseInput
		Person string `path:"person"`
		Body   api.MemberChange
	}) (*body[api.Member], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		p, err := a.local(ctx, in.Person)
		if err != nil {
			return nil, err
		}
		m := api.Member{Name: p.Name}
		err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
			was, err := s.MemberOf(ctx, c.ID, p.ID)
			if err != nil && !errors.Is(err, fault.NotFound) {
				return "", err
			}
			own := was.OwnUnmasks
			change(&own, in.Body.Unmasks)
			if err := s.SetMember(ctx, store.Member{CaseID: c.ID, PersonID: p.ID, Role: in.Body.Role, Unmasks: own}); err != nil {
				return "", err
			}
			now, err := s.MemberOf(ctx, c.ID, p.ID)
			if err != nil {
				return "", err
			}
			m.Role, m.Unmasks = now.Role, now.Unmasks
			entry := fmt.Sprintf("made %s %s of the case", m.Name, in.Body.Role)
			if m.Role != in.Body.Role {
				entry += fmt.Sprintf(", who is %s by a team", m.Role)
			}
			switch {
			case m.Unmasks && !was.Unmasks:
				entry += ", who may see what is masked"
			case was.Unmasks && !m.Unmasks:
				entry += ", who may not see what is masked any more"
			}
			if was.Role == m.Role {
				return entry, nil
			}
			return entry, a.Board.In(s).Invite(ctx, c, who(ctx), p, m.Role)
		})
		return &body[api.Member]{m}, err
	})
}

// removeMember removes a person from a case: the lead does, or the person.
func (a *server) removeMember(ctx context.Context, in *struct {
	CaseInput
	Person string `path:"person"`
}) (*struct{}, error) {
	c, me, err := a.caseAndPart(ctx, in.Case)
	if err == nil && in.Person != who(ctx).Name {
		err = fully(ctx, c, me)
	}
	if err != nil {
		return nil, err
	}
	p, err := a.Store.PersonByName(ctx, in.Person)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("removed %s from the case", p.Name), s.RemoveMember(ctx, c.ID, p.ID)
	})
}

// switchCase closes or reopens a case and returns it.
func (a *server) switchCase(ctx context.Context, name string, do func(*store.Store, store.Case) (string, error)) (*body[api.Case], error) {
	c, err := a.caseFor(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) { return do(s, c) }); err != nil {
		return nil, err
	}
	return a.oneCase(ctx, name)
}

// oneCase answers with a case of the person.
func (a *server) oneCase(ctx context.Context, name string) (*body[api.Case], error) {
	c, me, err := a.caseAndPart(ctx, name)
	if err != nil {
		return nil, err
	}
	if c.Members, err = a.Store.MembersOf(ctx, c.ID, "", api.MembersOfOne); err != nil {
		return nil, err
	}
	out := ownCase(c, me.Role)
	out.Unmasks = me.Unmasks
	return &body[api.Case]{out}, err
}

// membersOf answers with members of a case, and the teams by which they are in it.
func (a *server) membersOf(ctx context.Context, caseID int64, list []store.Member) (*body[[]api.Member], error) {
	ids := make([]int64, len(list))
	for i, m := range list {
		ids[i] = m.PersonID
	}
	teams, err := a.Store.TeamsIn(ctx, caseID, ids)
	return listed(list, func(m store.Member) api.Member {
		out := memberOf(m)
		out.Teams = teams[m.PersonID]
		return out
	}, err)
}

func ownCase(c store.Case, role string) api.Case {
	out := caseOf(c)
	out.Role = role
	return out
}

func memberOf(m store.Member) api.Member {
	return api.Member{Name: m.Person.Name, Role: m.Role, Unmasks: m.Unmasks}
}

// caseOf converts a case, without the role of the person who asks.
func caseOf(c store.Case) api.Case {
	out := api.Case{Name: c.Name, Title: c.Title, Created: c.CreatedAt, Members: []api.Member{}, Closed: c.ClosedAt, Cause: c.Cause}
	if c.Closer != nil {
		out.ClosedBy = c.Closer.Name
	}
	for _, m := range c.Members {
		out.Members = append(out.Members, memberOf(m))
	}
	return out
}
