package store

import (
	"context"
	"fmt"

	"wraithology/core/fault"
)

// CaseFor finds the case that a person calls by a name, with the person's own part in it, and without its other members. The error wraps fault.NotFound for all others, as if
// there were no such case.
func (s *Store) CaseFor(ctx context.Context, name string, person int64) (c Case, me Member, err error) {
	var row struct {
		Case       `gorm:"embedded"`
		Role       string
		Seen       int64
		Mailed     bool
		Unmasks    bool
		Called     string
		CloserName *string
	}
	done := s.in(ctx).Raw(`select c.*, m.role, m.seen, m.mailed, m.unmasks, m.called, p.name as closer_name from cases c join members m on m.case_id = c.id and m.person_id = ? and m.called = ? and not m.gone
		left join people p on p.id = c.closer_id where exists (select from people who where who.id = m.person_id and who.disabled_at is null)`, person, name).Take(&row)
	if done.Error != nil {
		return c, me, translate(done.Error, fmt.Sprintf("case %.80s", name))
	}
	row.Name = row.Called
	c, me = row.Case, Member{CaseID: row.ID, PersonID: person, Role: row.Role, Seen: row.Seen, Mailed: row.Mailed, Unmasks: row.Unmasks}
	if row.CloserName != nil && c.CloserID != nil {
		c.Closer = &Person{ID: *c.CloserID, Name: *row.CloserName}
	}
	return c, me, nil
}

// SetMember gives a person a role in a case. A team may give the person more. A case keeps a lead: the error wraps fault.LastLead if nobody else leads it.
func (s *Store) SetMember(ctx context.Context, m Member) error {
	_, err := s.changeMembers(ctx, []int64{m.CaseID}, []int64{m.PersonID}, func(s *Store) error {
		return translate(s.in(ctx).Exec(`insert into members (case_id, person_id, role, unmasks, own_role, own_unmasks) values (?, ?, ?, ?, ?, ?)
			on conflict (case_id, person_id) do update set own_role = excluded.own_role, own_unmasks = excluded.own_unmasks`, m.CaseID, m.PersonID, m.Role, m.Unmasks, m.Role, m.Unmasks).Error, "member")
	})
	return err
}

// calledBy returns how a person calls some cases.
func (s *Store) calledBy(ctx context.Context, person int64, cases []int64) (map[int64]string, error) {
	var list []Member
	err := s.in(ctx).Raw("select case_id, called from members where person_id = ? and case_id in ?", person, cases).Scan(&list).Error
	out := make(map[int64]string, len(list))
	for _, m := range list {
		out[m.CaseID] = m.Called
	}
	return out, translate(err, "members")
}

// MemberOf returns a person's part in a case.
func (s *Store) MemberOf(ctx context.Context, caseID, person int64) (m Member, err error) {
	return m, translate(s.in(ctx).Where("case_id = ? and person_id = ?", caseID, person).Take(&m).Error, "member")
}

// RemoveMember removes a member. The error wraps fault.ByTeam if a team of the case keeps the person in it, and fault.LastLead as for SetMember.
func (s *Store) RemoveMember(ctx context.Context, caseID, person int64) error {
	_, err := s.changeMembers(ctx, []int64{caseID}, []int64{person}, func(s *Store) error {
		if err := found(s.in(ctx).Exec("update members set own_role = null, own_unmasks = false where case_id = ? and person_id = ?", caseID, person), "member"); err != nil {
			return err
		}
		var by struct{ Team, Person string }
		if err := s.in(ctx).Raw(`select t.name as team, p.name as person from teams t join team_cases c on c.team_id = t.id join team_members m on m.team_id = t.id join people p on p.id = m.person_id
			where c.case_id = ? and m.person_id = ? order by t.name limit 1`, caseID, person).Scan(&by).Error; err != nil || by.Team == "" {
			return translate(err, "member")
		}
		return fault.ByTeam.New(fmt.Sprintf("remove the person from the team: wraith team remove %s %s", by.Team, by.Person), "%s is in team %s, which the case belongs to", by.Person, by.Team)
	})
	return err
}

// A PartChange is how the role of a person in a case has changed. Was or Is is empty for who was not in the case, or is not any more.
type PartChange struct {
	CaseID, PersonID int64
	Was, Is          string
}

// settled makes the parts of people in cases what follows from what they were given and from their teams.
const settled = `with asked as (select c.case_id, p.person_id from unnest(?::bigint[]) c(case_id) cross join unnest(?::bigint[]) p(person_id)),
	given as (select case_id, person_id, own_role as role, own_unmasks as unmasks from members join asked using (case_id, person_id) where own_role is not null
		union all select case_id, person_id, role, unmasks from asked join team_cases using (case_id) join team_members using (team_id, person_id)),
	wanted as (select case_id, person_id, min(role) as role, bool_or(unmasks) as unmasks from given group by case_id, person_id),
	removed as (delete from members m using asked a where m.case_id = a.case_id and m.person_id = a.person_id
		and not exists (select from wanted w where w.case_id = m.case_id and w.person_id = m.person_id) returning m.case_id, m.person_id, m.role as was, '' as "is"),
	changed as (update members m set role = w.role, unmasks = w.unmasks from wanted w join members o using (case_id, person_id) where m.case_id = w.case_id and m.person_id = w.person_id
		and (m.role, m.unmasks) is distinct from (w.role, w.unmasks) returning m.case_id, m.person_id, o.role as was, w.role as "is"),
	added as (insert into members (case_id, person_id, role, unmasks, gone) select w.case_id, w.person_id, w.role, w.unmasks, c.deleted_at is not null from wanted w join cases_all c on c.id = w.case_id
		where not exists (select from members m where m.case_id = w.case_id and m.person_id = w.person_id) returning case_id, person_id, '' as was, role as "is")
	select * from removed union all select * from changed union all select * from added order by case_id, person_id`

// changeMembers changes who is in cases, for some people, if somebody leads each of them afterwards, and returns whose role is another one. Changes of one
// case wait for each other.
func (s *Store) changeMembers(ctx context.Context, cases, people []int64, change func(s *Store) error) (list []PartChange, err error) {
	return list, s.Together(ctx, func(s *Store) error {
		if err := s.LockCases(ctx, cases...); err != nil {
			return err
		}
		if err := change(s); err != nil {
			return err
		}
		if err := s.in(ctx).Raw(settled, numbers(cases), numbers(people)).Scan(&list).Error; err != nil {
			return translate(err, "members")
		}
		var name string
		err := s.in(ctx).Raw("select name from cases_all c where id = any(?::bigint[]) and not exists (select from members m where m.case_id = c.id and m.role = 'lead') limit 1", numbers(cases)).Scan(&name).Error
		if err != nil || name == "" {
			return translate(err, "members")
		}
		return fault.LastLead.New("", "nobody would lead case %s", name)
	})
}

// LockCases lets others who change the records of cases wait until the end of the transaction.
func (s *Store) LockCases(ctx context.Context, ids ...int64) error {
	return translate(s.in(ctx).Exec("select from cases_all where id = any(?::bigint[]) order by id for no key update", numbers(ids)).Error, "cases")
}

// TeamsIn returns the names of the teams by which people are in a case, by person.
func (s *Store) TeamsIn(ctx context.Context, caseID int64, people []int64) (map[int64][]string, error) {
	var list []struct {
		PersonID int64
		Name     string
	}
	err := s.in(ctx).Raw("select m.person_id, t.name from team_cases c join teams t on t.id = c.team_id join team_members m on m.team_id = t.id where c.case_id = ? and m.person_id = any(?::bigint[]) order by t.name", caseID, numbers(people)).Scan(&list).Error
	out := map[int64][]string{}
	for _, x := range list {
		out[x.PersonID] = append(out[x.PersonID], x.Name)
	}
	return out, translate(err, "teams")
}

// MembersOf lists members of a case by name: at most most of those after a name, or all if most is 0.
func (s *Store) MembersOf(ctx context.Context, caseID int64, after string, most int) (list []Member, err error) {
	db := s.in(ctx).Joins("Person").Where(`members.case_id = ? and "Person"."name" > ?`, caseID, after).Order(`"Person"."name"`)
	if most > 0 {
		db = db.Limit(most)
	}
	return list, translate(db.Find(&list).Error, "members")
}

// fillMembers adds at most most members to each case, in the order in which people came to the service.
func (s *Store) fillMembers(ctx context.Context, list []OwnCase, most int) error {
	ids, at := make([]int64, len(list)), map[int64]*Case{}
	for i := range list {
		ids[i], at[list[i].ID] = list[i].ID, &list[i].Case
	}
	if len(ids) == 0 {
		return nil
	}
	var rows []struct {
		CaseID, PersonID int64
		Role, Name       string
	}
	err := s.in(ctx).Raw(`select m.case_id, m.person_id, m.role, p.name from cases c
		cross join lateral (select * from members m where m.case_id = c.id order by m.person_id limit ?) m join people p on p.id = m.person_id where c.id in ? order by m.person_id`, most, ids).Scan(&rows).Error
	for _, x := range rows {
		c := at[x.CaseID]
		c.Members = append(c.Members, Member{CaseID: x.CaseID, PersonID: x.PersonID, Role: x.Role, Person: Person{ID: x.PersonID, Name: x.Name}})
	}
	return translate(err, "members")
}

// Lookers returns who may look at a case now: its members who can sign in.
func (s *Store) Lookers(ctx context.Context, caseID int64) (map[int64]bool, error) {
	return s.lookers(ctx, "m.case_id = ?", caseID)
}

// LookersOfSitting returns who may look at the case of a sitting now.
func (s *Store) LookersOfSitting(ctx context.Context, sitting int64) (map[int64]bool, error) {
	return s.lookers(ctx, "m.case_id = (select case_id from sittings where id = ?)", sitting)
}

func (s *Store) lookers(ctx context.Context, of string, id int64) (map[int64]bool, error) {
	var ids []int64
	err := s.in(ctx).Raw("select m.person_id from members m join people p on p.id = m.person_id where p.disabled_at is null and "+of, id).Scan(&ids).Error
	out := make(map[int64]bool, len(ids))
	for _, x := range ids {
		out[x] = true
	}
	return out, translate(err, "members")
}
