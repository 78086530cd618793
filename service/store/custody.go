package store

import (
	"context"
	"fmt"
	"iter"
	"time"

	"wraithology/core/custody"
)

// Custody is an entry of the record of a case, or of the service.
type Custody struct {
	ID       int64
	CaseID   int64
	PersonID int64  // 0 for whoever operates the service
	By       string `gorm:"column:by_name"` // the person's name at that time
	At       time.Time
	What     string
	IsRead   bool
	Number   int64
	Hash     []byte
}

// TableName names the table for GORM.
func (Custody) TableName() string { return "custody" }

// Entry is the entry as it is proved.
func (c Custody) Entry() custody.Entry {
	return custody.Entry{Number: c.Number, At: c.At.UTC(), By: c.By, What: c.What, IsRead: c.IsRead, Hash: c.Hash}
}

// OfService is the record of the service itself, in the place of the ID of a case.
const OfService int64 = 0

// operator is the name of whoever works at the machine of the service.
const operator = "operator"

// Note adds an entry to the record of a case, or of the service. Others wait until it is committed: whoever has seen an entry has seen those before it.
func (s *Store) Note(ctx context.Context, caseID, person int64, what string) error {
	return s.AddCustody(ctx, caseID, []Custody{{PersonID: person, At: time.Now(), What: what}})
}

// AddCustody adds entries to the record of a case, or of the service: who, when and what is used of each, and the name where there is no person. Numbers
// and hashes are set here.
func (s *Store) AddCustody(ctx context.Context, record int64, list []Custody) error {
	if len(list) == 0 {
		return nil
	}
	return s.Together(ctx, func(s *Store) error {
		if record == OfService {
			if err := s.in(ctx).Exec("select pg_advisory_xact_lock(hashtext('custody'))").Error; err != nil {
				return translate(err, "custody")
			}
		} else if err := s.in(ctx).Exec("select from cases_all where id = ? for no key update", record).Error; err != nil {
			return translate(err, "custody")
		}
		names, err := s.namesOf(ctx, list)
		if err != nil {
			return err
		}
		var last Custody
		if err := s.in(ctx).Raw("select number, hash from custody where coalesce(case_id, 0) = ? order by number desc limit 1", record).Scan(&last).Error; err != nil {
			return translate(err, "custody")
		}
		for i, c := range list {
			c.By, c.Number, c.At = names[c.PersonID], last.Number+1, c.At.Truncate(time.Microsecond)
			c.Hash = c.Entry().Sum(record, last.Hash)
			list[i], last = c, c
		}
		if err := s.insertCustody(ctx, record, list); err != nil {
			return err
		}
		return translate(s.in(ctx).Exec("insert into custody_due (record, number) values (?, ?) on conflict (record) do update set number = excluded.number", record, last.Number).Error, "custody")
	})
}

func (s *Store) insertCustody(ctx context.Context, record int64, list []Custody) error {
	for len(list) > 0 {
		n := min(len(list), batch)
		statement, args := "insert into custody (case_id, person_id, by_name, at, what, is_read, number, hash) values ", []any{}
		for i, c := range list[:n] {
			if i > 0 {
				statement += ", "
			}
			statement += "(nullif(?::bigint, 0), nullif(?::bigint, 0), ?, ?, ?, ?, ?, ?)"
			args = append(args, record, c.PersonID, c.By, c.At, c.What, c.IsRead, c.Number, c.Hash)
		}
		if err := s.in(ctx).Exec(statement, args...).Error; err != nil {
			return translate(err, "custody")
		}
		list = list[n:]
	}
	return nil
}

// namesOf returns the names of those who made some entries.
func (s *Store) namesOf(ctx context.Context, list []Custody) (map[int64]string, error) {
	names := map[int64]string{0: operator}
	var ids []int64
	for _, c := range list {
		if _, has := names[c.PersonID]; !has {
			ids = append(ids, c.PersonID)
			names[c.PersonID] = ""
		}
	}
	var people []Person
	if len(ids) > 0 {
		if err := s.in(ctx).Raw("select id, name from people where id in ?", ids).Scan(&people).Error; err != nil {
			return nil, translate(err, "people")
		}
	}
	for _, p := range people {
		names[p.ID] = p.Name
	}
	return names, nil
}

// CustodyPage chooses entries of a record: at most Most of the newest ones, or of those before a number.
type CustodyPage struct {
	Before int64
	Most   int
	Reads  bool   // what was read too
	Text   string // only entries with this text, or by somebody whose name has it; empty for all
}

// CustodyOf lists entries of the record of a case, newest first.
func (s *Store) CustodyOf(ctx context.Context, caseID int64, p CustodyPage) (list []Custody, err error) {
	query := s.in(ctx).Where("coalesce(case_id, 0) = ? and (?::bigint = 0 or number < ?::bigint)", caseID, p.Before, p.Before)
	if !p.Reads {
		query = query.Where("not is_read")
	}
	if p.Text != "" {
		query = query.Where("by_name || ' ' || what ilike ?", "%"+escapeLike(p.Text)+"%")
	}
	return list, translate(query.Order("number desc").Limit(p.Most).Find(&list).Error, "custody")
}

// AllCustody follows the record of a case, or of the service, oldest first.
func (s *Store) AllCustody(ctx context.Context, record int64) iter.Seq2[custody.Entry, error] {
	return func(yield func(custody.Entry, error) bool) {
		last := int64(0)
		for {
			var list []Custody
			err := s.in(ctx).Where("coalesce(case_id, 0) = ? and number > ?", record, last).Order("number").Limit(batch).Find(&list).Error
			if err != nil {
				yield(custody.Entry{}, translate(err, "custody"))
				return
			}
			for _, c := range list {
				if !yield(c.Entry(), nil) {
					return
				}
				last = c.Number
			}
			if len(list) < batch {
				return
			}
		}
	}
}

// HeadOf returns the end of a record, which is not signed.
func (s *Store) HeadOf(ctx context.Context, record int64) (h custody.Head, err error) {
	var c Custody
	err = s.in(ctx).Raw("select number, hash from custody where coalesce(case_id, 0) = ? order by number desc limit 1", record).Scan(&c).Error
	return custody.Head{Record: record, Number: c.Number, Hash: c.Hash}, translate(err, "custody")
}

// Records lists the IDs of the cases, those that are deleted and can be restored too, and of the service.
func (s *Store) Records(ctx context.Context) (list []int64, err error) {
	return list, translate(s.in(ctx).Raw("select ?::bigint union all select id from cases_all order by 1", OfService).Scan(&list).Error, "cases")
}

// dueAtOnce is how many records are signed at once.
const dueAtOnce = 1000

// NameOfRecord names the record of a case, or of the service.
func (s *Store) NameOfRecord(ctx context.Context, record int64) string {
	if record == OfService {
		return "the service"
	}
	name := ""
	if s.in(ctx).Raw("select name from cases_all where id = ?", record).Scan(&name).Error != nil || name == "" {
		return fmt.Sprintf("case %d", record)
	}
	return "case " + name
}

// AddReads adds what was read to the record of a case, if there is still the case.
func (s *Store) AddReads(ctx context.Context, caseID int64, list []Custody) error {
	return s.Together(ctx, func(s *Store) error {
		var there []int64
		if err := s.in(ctx).Raw("select id from cases_all where id = ? for no key update", caseID).Scan(&there).Error; err != nil || len(there) == 0 {
			return translate(err, "case")
		}
		return s.AddCustody(ctx, caseID, list)
	})
}

// SignDue gives sign the ends of some records that have changed since they were signed; what it refuses stays due. more reports whether there may be others.
func (s *Store) SignDue(ctx context.Context, sign func([]custody.Head) error) (more bool, err error) {
	err = s.Together(ctx, func(s *Store) error {
		var due []int64
		// Whoever adds an entry meanwhile waits, and the record is due again.
		err := s.in(ctx).Raw("delete from custody_due where record in (select record from custody_due order by record limit ? for update skip locked) returning record", dueAtOnce).Scan(&due).Error
		if err != nil || len(due) == 0 {
			return translate(err, "custody")
		}
		var ends []Custody
		err = s.in(ctx).Raw(`select r as case_id, c.number, c.hash from unnest(?::bigint[]) r cross join lateral
			(select number, hash from custody where coalesce(case_id, 0) = r order by number desc limit 1) c`, numbers(due)).Scan(&ends).Error
		if err != nil {
			return translate(err, "custody")
		}
		var heads []custody.Head
		for _, c := range ends {
			heads = append(heads, custody.Head{Record: c.CaseID, Number: c.Number, Hash: c.Hash})
		}
		more = len(due) == dueAtOnce
		return sign(heads)
	})
	return more, err
}

// numbers writes numbers as PostgreSQL reads an array.
func numbers(list []int64) string {
	text := "{"
	for i, n := range list {
		if i > 0 {
			text += ","
		}
		text += fmt.Sprint(n)
	}
	return text + "}"
}
