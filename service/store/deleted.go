package store

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"time"

	"gorm.io/gorm"

	"wraithology/core/fault"
)

// Kinds of what can be deleted and restored.
const (
	KindEvidence = "evidence"
	KindArtifact = "artifact"
)

// tables are those with what is deleted too.
var tables = map[string]string{KindEvidence: "evidence_all", KindArtifact: "artifacts_all"}

// Deleted is evidence or an artifact that can be restored.
type Deleted struct {
	ID        int64
	CaseID    int64
	Kind      string
	Name      string
	Bytes     int64
	DeletedAt time.Time
	DeletedBy string
	DeleterID int64
}

// Delete deletes evidence or an artifact of a case: it is as if it were not there, until Restore or Purge.
func (s *Store) Delete(ctx context.Context, kind string, caseID int64, name string, by int64) error {
	done := s.in(ctx).Exec("update "+tables[kind]+" set deleted_at = now(), deleter_id = ? where case_id = ? and name = ? and deleted_at is null", by, caseID, name)
	return found(done, kind+" "+name)
}

// RestoreDeleted restores what was deleted last under a name. The error wraps fault.Exists if there is something else of that name now.
func (s *Store) RestoreDeleted(ctx context.Context, kind string, caseID int64, name string) error {
	done := s.in(ctx).Exec("update "+tables[kind]+" set deleted_at = null, deleter_id = null where id = (select id from "+tables[kind]+" where case_id = ? and name = ? and deleted_at is not null order by deleted_at desc limit 1)", caseID, name)
	return found(done, "deleted "+kind+" "+name)
}

// found returns fault.NotFound if a statement has changed nothing.
func found(done *gorm.DB, what string) error {
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("%s: %w", what, fault.NotFound)
	}
	return translate(done.Error, what)
}

// deletedIn chooses what is deleted; Kind is filled in.
const deletedIn = `select x.id, x.case_id, '%s' as kind, x.name, x.bytes, x.deleted_at, x.deleter_id, p.name as deleted_by from %s x join people p on p.id = x.deleter_id where x.deleted_at is not null`

var allDeleted = fmt.Sprintf(deletedIn, KindEvidence, tables[KindEvidence]) + " union all " + fmt.Sprintf(deletedIn, KindArtifact, tables[KindArtifact])

// DeletedOf lists what of a case can be restored, what was deleted last first.
func (s *Store) DeletedOf(ctx context.Context, caseID int64) (list []Deleted, err error) {
	return list, translate(s.in(ctx).Raw("select * from ("+allDeleted+") d where case_id = ? order by deleted_at desc, id desc limit 1000", caseID).Scan(&list).Error, "deleted evidence")
}

// DeleteCase deletes a case: it is as if it were not there, until RestoreCase or Purge.
func (s *Store) DeleteCase(ctx context.Context, id, by int64) error {
	return s.Together(ctx, func(s *Store) error {
		if err := found(s.in(ctx).Exec("update cases_all set deleted_at = now(), deleter_id = ? where id = ? and deleted_at is null", by, id), "case"); err != nil {
			return err
		}
		return translate(s.in(ctx).Exec("update members set gone = true where case_id = ?", id).Error, "members")
	})
}

// RestoreCase restores the case that a person who leads it has deleted last under a name, or another lead has. The error wraps fault.Exists if there is
// another case of that name now.
func (s *Store) RestoreCase(ctx context.Context, name string, person int64) (c Case, err error) {
	return c, s.Together(ctx, func(s *Store) error {
		done := s.in(ctx).Raw(`update cases_all set deleted_at = null, deleter_id = null where id = (select c.id from cases_all c join members m on m.case_id = c.id
			where m.called = ? and c.deleted_at is not null and m.person_id = ? and m.role = 'lead' order by c.deleted_at desc limit 1) returning *`, name, person).Scan(&c)
		if err := found(done, fmt.Sprintf("deleted case %.80s", name)); err != nil {
			return err
		}
		if err := s.in(ctx).Exec("update members set gone = false where case_id = ? and person_id = ?", c.ID, person).Error; err != nil {
			return translate(err, fmt.Sprintf("case %.80s", name))
		}
		// Others may call another case so by now: they get it back under a free name, as if they were added.
		var others []Member
		if err := s.in(ctx).Raw("delete from members where case_id = ? and gone returning *", c.ID).Scan(&others).Error; err != nil {
			return translate(err, "members")
		}
		for _, m := range others {
			if err := s.in(ctx).Exec("insert into members (case_id, person_id, role, seen, mailed, unmasks, own_role, own_unmasks) values (?, ?, ?, ?, ?, ?, ?, ?)", m.CaseID, m.PersonID, m.Role, m.Seen, m.Mailed, m.Unmasks, m.OwnRole, m.OwnUnmasks).Error; err != nil {
				return translate(err, "members")
			}
		}
		return nil
	})
}

// Retain sets after how many days evidence of a case is deleted; 0 for never. by is who set it.
func (s *Store) Retain(ctx context.Context, caseID int64, days int, by int64) error {
	return found(s.in(ctx).Exec("update cases set keep_days = ?, keeper_id = ? where id = ?", days, by, caseID), "case")
}

// DeleteOld deletes evidence that is older than the rule of its case says, and notes it.
func (s *Store) DeleteOld(ctx context.Context) error {
	var list []struct {
		CaseID, KeeperID int64
		Name             string
		KeepDays         int
	}
	err := s.in(ctx).Raw(`select e.case_id, c.keeper_id, e.name, c.keep_days from evidence e join cases c on c.id = e.case_id
		where c.keep_days > 0 and e.uploaded_at < now() - c.keep_days * interval '1 day' order by e.id`).Scan(&list).Error
	if err != nil {
		return translate(err, "old evidence")
	}
	for _, x := range list {
		err := s.Together(ctx, func(s *Store) error {
			if err := s.Delete(ctx, KindEvidence, x.CaseID, x.Name, x.KeeperID); err != nil {
				return err
			}
			return s.Note(ctx, x.CaseID, x.KeeperID, fmt.Sprintf("deleted %s: the case keeps evidence for %d days", x.Name, x.KeepDays))
		})
		if err != nil && !errors.Is(err, fault.NotFound) { // somebody else has deleted it
			return err
		}
	}
	return nil
}

// Purge deletes for good what was deleted before a time, with what depends on it, and notes it where the case stays.
func (s *Store) Purge(ctx context.Context, before time.Time) error {
	var list []Deleted
	if err := s.in(ctx).Raw("select * from ("+allDeleted+") d where deleted_at < ? order by id", before).Scan(&list).Error; err != nil {
		return translate(err, "deleted evidence")
	}
	for _, x := range list {
		err := s.Together(ctx, func(s *Store) error {
			done := s.in(ctx).Exec("delete from "+tables[x.Kind]+" where id = ? and deleted_at < ?", x.ID, before)
			if done.Error != nil || done.RowsAffected == 0 {
				return translate(done.Error, x.Kind)
			}
			return s.Note(ctx, x.CaseID, x.DeleterID, fmt.Sprintf("the %s %s, deleted %s, cannot be restored any more", x.Kind, x.Name, x.DeletedAt.UTC().Format("2006-01-02")))
		})
		if err != nil {
			return err
		}
	}
	return s.purgeCases(ctx, before)
}

// purgeCases deletes for good the cases that were deleted before a time, with their records. The record of the service keeps how those ended.
func (s *Store) purgeCases(ctx context.Context, before time.Time) error {
	var list []struct {
		ID        int64
		Name      string
		DeleterID int64
	}
	if err := s.in(ctx).Raw("select id, name, deleter_id from cases_all where deleted_at < ? order by id", before).Scan(&list).Error; err != nil {
		return translate(err, "deleted cases")
	}
	for _, x := range list {
		err := s.Together(ctx, func(s *Store) error {
			head, err := s.HeadOf(ctx, x.ID)
			if err != nil {
				return err
			}
			if err := s.in(ctx).Exec("set local wraith.purges = 'yes'").Error; err != nil {
				return translate(err, "deleted cases")
			}
			done := s.in(ctx).Exec("delete from cases_all where id = ? and deleted_at < ?", x.ID, before)
			if done.Error != nil || done.RowsAffected == 0 { // somebody has restored it
				return translate(done.Error, "deleted cases")
			}
			return s.Note(ctx, OfService, x.DeleterID, fmt.Sprintf(purged, x.ID, x.Name, head.Number, head.Hash))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// purged is what the record of the service says about a case that was deleted for good; purgedEntry reads that.
const purged = "the case %d, %s, cannot be restored any more: its record ended with entry %d, %s"

var purgedEntry = regexp.MustCompile(`^the case (\d+), .*, cannot be restored any more: its record ended with entry (\d+), [0-9a-f]*$`)

// PurgedRecord returns which record an entry of the service's record says was deleted for good, and its last number; ok is false for other entries.
func PurgedRecord(what string) (record, number int64, ok bool) {
	m := purgedEntry.FindStringSubmatch(what)
	if m == nil {
		return 0, 0, false
	}
	record, err := strconv.ParseInt(m[1], 10, 64)
	number, err2 := strconv.ParseInt(m[2], 10, 64)
	return record, number, err == nil && err2 == nil
}

// HasBytes returns which of some SHA-256 belong to evidence or artifacts, deleted ones too.
func (s *Store) HasBytes(ctx context.Context, sums []string) (map[string]bool, error) {
	var list []string
	err := s.in(ctx).Raw("select sha256 from evidence_all where sha256 in ? union select sha256 from artifacts_all where sha256 in ?", sums, sums).Scan(&list).Error
	has := make(map[string]bool, len(list))
	for _, x := range list {
		has[x] = true
	}
	return has, translate(err, "evidence")
}

// anyEvidence loads evidence that is deleted too: what is said about it stays.
func anyEvidence(db *gorm.DB) *gorm.DB { return db.Table("evidence_all") }
