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

// SetMember adds a member or changes a role. A case keeps a lead: the error wraps fault.LastLead if nobody else leads it.
func (s *Store) SetMember(ctx context.Context, m Member) error {
	return s.changeMembers(ctx, m.CaseID, func(s *Store) error {
		return translate(s.in(ctx).Exec("insert into members (case_id, person_id, role, unmasks) values (?, ?, ?, ?) on conflict (case_id, person_id) do update set role = excluded.role, unmasks = excluded.unmasks", m.CaseID, m.PersonID, m.Role, m.Unmasks).Error, "member")
	})
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

// RemoveMember removes a member. A case keeps a lead, as for SetMember.
func (s *Store) RemoveMember(ctx context.Context, caseID, person int64) error {
	return s.changeMembers(ctx, caseID, func(s *Store) error {
		return found(s.in(ctx).Exec("delete from members where case_id = ? and person_id = ?", caseID, person), "member")
	})
}

// changeMembers changes the members of a case, if somebody leads it afterwards. Changes of one case wait for each other.
func (s *Store) changeMembers(ctx context.Context, caseID int64, change func(s *Store) error) error {
	return s.Together(ctx, func(s *Store) error {
		if err := s.LockCases(ctx, caseID); err != nil {
			return err
		}
		if err := change(s); err != nil {
			return err
		}
		var isLed bool
		if err := s.in(ctx).Raw("select exists (select from members where case_id = ? and role = 'lead')", caseID).Scan(&isLed).Error; err != nil || isLed {
			return translate(err, "member")
		}
		return fault.LastLead
	})
}

// LockCases lets others who change the records of cases wait until the end of the transaction.
func (s *Store) LockCases(ctx context.Context, ids ...int64) error {
	return translate(s.in(ctx).Exec("select from cases where id in ? order by id for no key update", ids).Error, "cases")
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
