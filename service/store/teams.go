package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"wraithology/core/fault"
)

// Team is a group of people who work on cases together.
type Team struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// TeamMember is a person's part in a team, and in each of its cases.
type TeamMember struct {
	TeamID   int64 `gorm:"primaryKey"`
	PersonID int64 `gorm:"primaryKey"`
	Role     string
	Unmasks  bool // whether the person may see what is masked in the team's cases
	Person   Person
}

// OwnTeam is a team with the part of a person in it, and its size.
type OwnTeam struct {
	Team    `gorm:"embedded"`
	Role    string
	Unmasks bool
	People  int
	Cases   int
}

const ownTeams = `select t.*, m.role, m.unmasks, (select count(*) from team_members o where o.team_id = t.id) as people,
	(select count(*) from team_cases c join cases x on x.id = c.case_id where c.team_id = t.id) as cases from teams t join team_members m on m.team_id = t.id and m.person_id = ?`

// TeamsOf lists the teams of a person, by name.
func (s *Store) TeamsOf(ctx context.Context, person int64) (list []OwnTeam, err error) {
	return list, translate(s.in(ctx).Raw(ownTeams+" order by t.name", person).Scan(&list).Error, "teams")
}

// TeamFor finds a team that a person is in. The error wraps fault.NotFound for all others.
func (s *Store) TeamFor(ctx context.Context, name string, person int64) (t OwnTeam, err error) {
	err = translate(s.in(ctx).Raw(ownTeams+" where t.name = ?", person, name).Take(&t).Error, "team")
	if errors.Is(err, fault.NotFound) {
		err = fault.NotFound.New("wraith team lists your teams", "team %.80s: not found", name)
	}
	return t, err
}

// AddTeam makes a team that a person leads. The error wraps fault.Exists if there is one of that name.
func (s *Store) AddTeam(ctx context.Context, t *Team, leader int64) error {
	t.CreatedAt = time.Now()
	return s.Together(ctx, func(s *Store) error {
		if err := s.in(ctx).Create(t).Error; err != nil {
			return translate(err, "team "+t.Name)
		}
		return translate(s.in(ctx).Exec("insert into team_members (team_id, person_id, role, unmasks) values (?, ?, 'lead', true)", t.ID, leader).Error, "team "+t.Name)
	})
}

// TeamMembers lists members of a team by name: at most most of those after a name.
func (s *Store) TeamMembers(ctx context.Context, team int64, after string, most int) (list []TeamMember, err error) {
	return list, translate(s.in(ctx).Joins("Person").Where(`team_members.team_id = ? and "Person"."name" > ?`, team, after).Order(`"Person"."name"`).Limit(most).Find(&list).Error, "members of the team")
}

// TeamMemberOf returns a person's part in a team.
func (s *Store) TeamMemberOf(ctx context.Context, team, person int64) (m TeamMember, err error) {
	return m, translate(s.in(ctx).Where("team_id = ? and person_id = ?", team, person).Take(&m).Error, "member of the team")
}

// SetTeamMember gives a person a part in a team, and so in its cases; the changes there are returned. A team and its cases keep a lead: the error wraps
// fault.LastLead.
func (s *Store) SetTeamMember(ctx context.Context, m TeamMember) ([]PartChange, error) {
	return s.changeTeam(ctx, m.TeamID, []int64{m.PersonID}, func(s *Store) error {
		return translate(s.in(ctx).Exec("insert into team_members (team_id, person_id, role, unmasks) values (?, ?, ?, ?) on conflict (team_id, person_id) do update set role = excluded.role, unmasks = excluded.unmasks", m.TeamID, m.PersonID, m.Role, m.Unmasks).Error, "member of the team")
	})
}

// RemoveTeamMember removes a person from a team, and from its cases in which the person was by the team alone.
func (s *Store) RemoveTeamMember(ctx context.Context, team, person int64) ([]PartChange, error) {
	return s.changeTeam(ctx, team, []int64{person}, func(s *Store) error {
		return found(s.in(ctx).Exec("delete from team_members where team_id = ? and person_id = ?", team, person), "member of the team")
	})
}

// changeTeam changes the members of a team, if somebody leads it afterwards.
func (s *Store) changeTeam(ctx context.Context, team int64, people []int64, change func(*Store) error) (list []PartChange, err error) {
	return list, s.withTeam(ctx, team, func(s *Store, cases []int64) error {
		list, err = s.changeMembers(ctx, cases, people, change)
		if err != nil {
			return err
		}
		var isLed bool
		if err := s.in(ctx).Raw("select exists (select from team_members where team_id = ? and role = 'lead')", team).Scan(&isLed).Error; err != nil || isLed {
			return translate(err, "team")
		}
		return fault.LastLead.New("make somebody else lead it first: wraith team add TEAM PERSON --role lead", "nobody would lead the team")
	})
}

// withTeam calls do with the cases of a team, deleted ones too. Changes of one team wait for each other.
func (s *Store) withTeam(ctx context.Context, team int64, do func(s *Store, cases []int64) error) error {
	return s.Together(ctx, func(s *Store) error {
		if err := s.LockTeam(ctx, team); err != nil {
			return err
		}
		var cases []int64
		if err := s.in(ctx).Raw("select case_id from team_cases where team_id = ? order by case_id", team).Scan(&cases).Error; err != nil {
			return translate(err, "cases of the team")
		}
		return do(s, cases)
	})
}

// LockTeam lets others who change a team wait until the end of the transaction. What locks a team and cases locks the team first, and the service's record last.
func (s *Store) LockTeam(ctx context.Context, team int64) error {
	return found(s.in(ctx).Exec("select from teams where id = ? for no key update", team), "team")
}

func (s *Store) peopleOfTeam(ctx context.Context, team int64) (ids []int64, err error) {
	return ids, translate(s.in(ctx).Raw("select person_id from team_members where team_id = ? order by person_id", team).Scan(&ids).Error, "members of the team")
}

// CaseTeam is a team that a case belongs to.
type CaseTeam struct {
	ID     int64
	Name   string
	People int
}

// TeamsOfCase lists the teams that a case belongs to, by name.
func (s *Store) TeamsOfCase(ctx context.Context, caseID int64) (list []CaseTeam, err error) {
	return list, translate(s.in(ctx).Raw("select t.id, t.name, (select count(*) from team_members m where m.team_id = t.id) as people from team_cases c join teams t on t.id = c.team_id where c.case_id = ? order by t.name", caseID).Scan(&list).Error, "teams")
}

// AddTeamToCase makes a case one of a team: its people are in the case. The changes are returned.
func (s *Store) AddTeamToCase(ctx context.Context, team, caseID int64) ([]PartChange, error) {
	return s.changeCaseTeam(ctx, team, caseID, func(s *Store) error {
		return translate(s.in(ctx).Exec("insert into team_cases (team_id, case_id) values (?, ?) on conflict do nothing", team, caseID).Error, "team")
	})
}

// RemoveTeamFromCase undoes AddTeamToCase. The error wraps fault.NotFound if the case is not one of the team, and fault.LastLead if nobody else leads it.
func (s *Store) RemoveTeamFromCase(ctx context.Context, team, caseID int64) ([]PartChange, error) {
	return s.changeCaseTeam(ctx, team, caseID, func(s *Store) error {
		return found(s.in(ctx).Exec("delete from team_cases where team_id = ? and case_id = ?", team, caseID), "team of the case")
	})
}

func (s *Store) changeCaseTeam(ctx context.Context, team, caseID int64, change func(*Store) error) (list []PartChange, err error) {
	return list, s.Together(ctx, func(s *Store) error {
		if err := s.LockTeam(ctx, team); err != nil {
			return err
		}
		people, err := s.peopleOfTeam(ctx, team)
		if err != nil {
			return err
		}
		list, err = s.changeMembers(ctx, []int64{caseID}, people, change)
		return err
	})
}

// RemoveTeam removes a team, from its cases too. The error wraps fault.LastLead if nobody else leads one of them.
func (s *Store) RemoveTeam(ctx context.Context, team int64) (list []PartChange, err error) {
	return list, s.withTeam(ctx, team, func(s *Store, cases []int64) error {
		people, err := s.peopleOfTeam(ctx, team)
		if err != nil {
			return err
		}
		list, err = s.changeMembers(ctx, cases, people, func(s *Store) error {
			return translate(s.in(ctx).Exec("delete from teams where id = ?", team).Error, "team")
		})
		return err
	})
}

// NoteParts notes in the records of cases whose part in them has changed by a team.
func (s *Store) NoteParts(ctx context.Context, list []PartChange, by int64, team string) error {
	ids := make([]int64, len(list))
	for i, x := range list {
		ids[i] = x.PersonID
	}
	var people []Person
	if err := s.in(ctx).Raw("select id, name from people where id = any(?::bigint[])", numbers(ids)).Scan(&people).Error; err != nil {
		return translate(err, "people")
	}
	names := map[int64]string{}
	for _, p := range people {
		names[p.ID] = p.Name
	}
	entries := map[int64][]Custody{}
	for _, x := range list {
		what := fmt.Sprintf("removed %s from the case, by team %s", names[x.PersonID], team)
		if x.Is != "" {
			what = fmt.Sprintf("made %s %s of the case, by team %s", names[x.PersonID], x.Is, team)
		}
		entries[x.CaseID] = append(entries[x.CaseID], Custody{PersonID: by, At: time.Now(), What: what})
	}
	for _, id := range slices.Sorted(maps.Keys(entries)) { // in the order in which others lock them
		if err := s.AddCustody(ctx, id, entries[id]); err != nil {
			return err
		}
	}
	return nil
}
