package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// part is what somebody has in a case or team: 0 is nothing, then viewer, member, lead.
type part struct {
	role    int
	unmasks bool
}

var roles = []string{"", "viewer", "member", "lead"}

// model is who was given what, kept without a database.
type model struct {
	own   map[[2]int64]part // by case and person
	teams map[[2]int64]part // by team and person
	of    map[[2]int64]bool // by team and case
}

func (m model) clone() model {
	out := model{map[[2]int64]part{}, map[[2]int64]part{}, map[[2]int64]bool{}}
	for k, v := range m.own {
		out.own[k] = v
	}
	for k, v := range m.teams {
		out.teams[k] = v
	}
	for k, v := range m.of {
		out.of[k] = v
	}
	return out
}

// holds is what a person has in a case, from whatever gives it.
func (m model) holds(c, person int64) part {
	got := m.own[[2]int64{c, person}]
	for k := range m.of {
		if x, isIn := m.teams[[2]int64{k[0], person}]; isIn && k[1] == c {
			got = part{max(got.role, x.role), got.unmasks || x.unmasks}
		}
	}
	return got
}

func (m model) isLed(c int64, people []int64) bool {
	for _, p := range people {
		if m.holds(c, p).role == 3 {
			return true
		}
	}
	return false
}

// What people have in cases is the most of what they were given and what their teams have, after any changes; no case and no team loses its last lead.
func TestTeams(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	rng := rand.New(rand.NewPCG(7, 16))
	var people, cases, teams []int64
	for _, name := range []string{"Ines", "Tomas", "Odile", "Wren"} {
		people = append(people, s.person(t, name))
	}
	m := model{}.clone()
	for i := range 3 {
		cases = append(cases, s.openCase(t, fmt.Sprintf("fog-%d", i), people[i]))
		m.own[[2]int64{cases[i], people[i]}] = part{3, true}
		team := Team{Name: fmt.Sprintf("pilots-%d", i)}
		require.NoError(t, s.AddTeam(ctx, &team, people[i]))
		teams = append(teams, team.ID)
		m.teams[[2]int64{team.ID, people[i]}] = part{3, true}
	}
	require.ErrorIs(t, s.AddTeam(ctx, &Team{Name: "pilots-0"}, people[3]), fault.Exists)
	pick := func(list []int64) int64 { return list[rng.IntN(len(list))] }
	kinds := map[string]int{}
	for range 400 {
		c, team, p := pick(cases), pick(teams), pick(people)
		x := part{1 + rng.IntN(3), rng.IntN(2) == 0}
		next, kind := m.clone(), rng.IntN(6)
		var err, want error
		switch kind {
		case 0:
			next.own[[2]int64{c, p}] = x
			err = s.SetMember(ctx, Member{CaseID: c, PersonID: p, Role: roles[x.role], Unmasks: x.unmasks})
		case 1:
			isIn := m.holds(c, p).role > 0
			delete(next.own, [2]int64{c, p})
			if !isIn {
				want = fault.NotFound
			} else if next.holds(c, p).role > 0 {
				want = fault.ByTeam
			}
			err = s.RemoveMember(ctx, c, p)
		case 2:
			next.teams[[2]int64{team, p}] = x
			_, err = s.SetTeamMember(ctx, TeamMember{TeamID: team, PersonID: p, Role: roles[x.role], Unmasks: x.unmasks})
		case 3:
			if _, isIn := next.teams[[2]int64{team, p}]; !isIn {
				want = fault.NotFound
			}
			delete(next.teams, [2]int64{team, p})
			_, err = s.RemoveTeamMember(ctx, team, p)
		case 4:
			next.of[[2]int64{team, c}] = true
			_, err = s.AddTeamToCase(ctx, team, c)
		case 5:
			if !next.of[[2]int64{team, c}] {
				want = fault.NotFound
			}
			delete(next.of, [2]int64{team, c})
			_, err = s.RemoveTeamFromCase(ctx, team, c)
		}
		if want == nil {
			isLed := true
			for _, x := range cases {
				isLed = isLed && next.isLed(x, people)
			}
			for _, x := range teams {
				leads := 0
				for _, p := range people {
					if next.teams[[2]int64{x, p}].role == 3 {
						leads++
					}
				}
				isLed = isLed && leads > 0
			}
			if !isLed {
				want = fault.LastLead
			}
		}
		require.ErrorIs(t, err, want, "kind %d", kind)
		if err == nil {
			m = next
		}
		kinds[fmt.Sprint(kind, err == nil, errors.Is(err, fault.LastLead), errors.Is(err, fault.ByTeam))]++
		for _, c := range cases {
			list, err := s.MembersOf(ctx, c, "", 0)
			require.NoError(t, err)
			got, want := map[int64]part{}, map[int64]part{}
			for _, x := range list {
				got[x.PersonID] = part{map[string]int{"viewer": 1, "member": 2, "lead": 3}[x.Role], x.Unmasks}
			}
			for _, p := range people {
				if x := m.holds(c, p); x.role > 0 {
					want[p] = x
				}
			}
			require.Equal(t, want, got)
		}
	}
	for _, kind := range []string{"0 true false false", "0 false true false", "1 true false false", "1 false false true", "2 true false false", "2 false true false", "3 true false false", "3 false true false", "4 true false false", "5 true false false", "5 false true false"} {
		assert.NotZero(t, kinds[kind], "never tried: %s of %v", kind, kinds)
	}
}

// A change of a team says whose role changes in which of its cases; deleted cases come back with it. A team ends with its last person.
func TestTeamsOfCases(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas, odile := s.person(t, "Ines"), s.person(t, "Tomas"), s.person(t, "Odile")
	fog, swell := s.openCase(t, "fog", ines), s.openCase(t, "swell", ines)
	team := Team{Name: "pilots"}
	require.NoError(t, s.AddTeam(ctx, &team, ines))
	for _, c := range []int64{fog, swell} {
		list, err := s.AddTeamToCase(ctx, team.ID, c)
		require.NoError(t, err)
		assert.Empty(t, list, "Ines leads it already")
	}
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "viewer"}))
	require.NoError(t, s.DeleteCase(ctx, swell, ines))
	list, err := s.SetTeamMember(ctx, TeamMember{TeamID: team.ID, PersonID: tomas, Role: "member"})
	require.NoError(t, err)
	assert.Equal(t, []PartChange{{fog, tomas, "viewer", "member"}, {swell, tomas, "", "member"}}, list)
	_, _, err = s.CaseFor(ctx, "swell", tomas)
	require.ErrorIs(t, err, fault.NotFound)
	_, err = s.RestoreCase(ctx, "swell", ines)
	require.NoError(t, err)
	_, me, err := s.CaseFor(ctx, "swell", tomas)
	require.NoError(t, err)
	assert.Equal(t, "member", me.Role)
	byTeam, err := s.TeamsIn(ctx, fog, []int64{ines, tomas, odile})
	require.NoError(t, err)
	assert.Equal(t, map[int64][]string{ines: {"pilots"}, tomas: {"pilots"}}, byTeam)
	mine, err := s.TeamFor(ctx, "pilots", tomas)
	require.NoError(t, err)
	assert.Equal(t, []any{"member", 2, 2}, []any{mine.Role, mine.People, mine.Cases})
	_, err = s.TeamFor(ctx, "pilots", odile)
	require.ErrorIs(t, err, fault.NotFound)

	require.ErrorIs(t, s.RemovePerson(ctx, personNamed(t, s, "Ines")), fault.LastLead)
	_, err = s.RemoveTeamMember(ctx, team.ID, tomas)
	require.NoError(t, err)
	_, me, err = s.CaseFor(ctx, "fog", tomas)
	require.NoError(t, err)
	assert.Equal(t, "viewer", me.Role, "what Tomas was given stays")
	require.NoError(t, s.RemoveMember(ctx, fog, tomas))
	require.NoError(t, s.Grant(ctx, tomas, true))
	require.NoError(t, s.RemovePerson(ctx, personNamed(t, s, "Ines")))
	_, err = s.TeamByID(ctx, team.ID)
	require.ErrorIs(t, err, fault.NotFound, "nobody is in it")
}

// An invitation works for as many people as it has places, until it expires, is withdrawn, or who invites could not add people any more.
func TestInvitations(t *testing.T) {
	t.Parallel()
	s, ctx := open(t), t.Context()
	ines, tomas := s.person(t, "Ines"), s.person(t, "Tomas")
	fog := s.openCase(t, "fog", ines)
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "lead"}))
	make := func(secret string, by int64, expires time.Duration) Invitation {
		x := Invitation{SecretHash: []byte(secret), CaseID: &fog, PersonID: by, Role: "member", Places: 2, ExpiresAt: time.Now().Add(expires)}
		require.NoError(t, s.AddInvitation(ctx, &x))
		return x
	}
	works := func(secret string) bool {
		_, err := s.InvitationBy(ctx, []byte(secret))
		if err != nil {
			require.ErrorIs(t, err, fault.NoInvitation)
		}
		return err == nil
	}
	a := make("a", ines, time.Hour)
	make("b", tomas, time.Hour)
	make("c", ines, -time.Second)
	assert.True(t, works("a"))
	assert.True(t, works("b"))
	assert.False(t, works("c"), "it has expired")
	assert.False(t, works("d"))
	require.NoError(t, s.SetMember(ctx, Member{CaseID: fog, PersonID: tomas, Role: "member"}))
	assert.False(t, works("b"), "Tomas leads the case no more")
	for range 2 {
		require.NoError(t, s.UseInvitation(ctx, a.ID))
	}
	require.ErrorIs(t, s.UseInvitation(ctx, a.ID), fault.NoInvitation)
	assert.False(t, works("a"))
	list, err := s.InvitationsTo(ctx, Group{CaseID: fog})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.ErrorIs(t, s.DeleteInvitation(ctx, Group{TeamID: fog}, list[0].ID), fault.NotFound)
	require.NoError(t, s.DeleteInvitation(ctx, Group{CaseID: fog}, list[0].ID))
	e := make("e", ines, time.Hour)
	require.NoError(t, s.DeleteCase(ctx, fog, ines))
	assert.False(t, works("e"), "the case is deleted")
	_, err = s.Pool.Exec(ctx, "update invitations set expires_at = now() - interval '1 second'")
	require.NoError(t, err)
	require.NoError(t, s.DeleteExpired(ctx))
	require.ErrorIs(t, s.DeleteInvitation(ctx, Group{CaseID: fog}, e.ID), fault.NotFound)
}
