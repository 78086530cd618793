package store

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Sender is a token with which programs send into a case. It permits nothing else. Only its SHA-256
// is stored.
type Sender struct {
	ID         int64
	CaseID     int64
	PersonID   int64
	Person     Person
	Label      string
	SecretHash []byte
	CreatedAt  time.Time
}

// AddSender keeps a sender.
func (s *Store) AddSender(ctx context.Context, x *Sender) error {
	x.CreatedAt = time.Now()
	return translate(s.in(ctx).Omit("Person").Create(x).Error, "sender")
}

// SenderByToken returns the sender with a token's hash.
func (s *Store) SenderByToken(ctx context.Context, hash []byte) (x Sender, err error) {
	return x, translate(s.in(ctx).Where("secret_hash = ? and exists (select from people p where p.id = senders.person_id and p.disabled_at is null)", hash).Take(&x).Error, "token")
}

// SendersOf lists the senders of a case, newest first.
func (s *Store) SendersOf(ctx context.Context, caseID int64) (list []Sender, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Order("id desc").Find(&list).Error, "senders")
}

// DeleteSender takes a sender's token away.
func (s *Store) DeleteSender(ctx context.Context, caseID, id int64) error {
	return s.deleteOf(ctx, &Sender{}, caseID, "id", id, "sender")
}

// Inbox returns the case for a person's evidence without a case, as the person calls it, and whether it was opened now. It belongs to the person, whatever
// its name.
func (s *Store) Inbox(ctx context.Context, p Person) (c Case, isNew bool, err error) {
	if err := s.in(ctx).Exec("select pg_advisory_xact_lock(hashtext('inbox'), ?::integer)", p.ID).Error; err != nil { // two programs may ask at once
		return c, false, translate(err, "inbox")
	}
	if err := s.in(ctx).Raw("select c.* from cases c join members m on m.case_id = c.id and m.person_id = c.inbox_of where c.inbox_of = ?", p.ID).Scan(&c).Error; err != nil {
		return c, false, translate(err, "inbox")
	}
	if isNew = c.ID == 0; isNew {
		c = Case{Name: "inbox-" + strings.ToLower(strings.ReplaceAll(p.Name, ".", "-")), Title: "Inbox of " + p.Name, CreatedAt: time.Now()}
		if err := s.in(ctx).Omit("Members", "Closer").Create(&c).Error; err != nil {
			return c, false, translate(err, "inbox")
		}
		if err := s.in(ctx).Exec("update cases_all set inbox_of = null where inbox_of = ?", p.ID).Error; err != nil {
			return c, false, translate(err, "inbox")
		}
		if err := s.in(ctx).Exec("update cases_all set inbox_of = ? where id = ?", p.ID, c.ID).Error; err != nil {
			return c, false, translate(err, "inbox")
		}
		if err := s.in(ctx).Exec("insert into members (case_id, person_id, role, unmasks, own_role, own_unmasks) values (?, ?, 'lead', true, 'lead', true)", c.ID, p.ID).Error; err != nil {
			return c, false, translate(err, "inbox")
		}
	}
	called, err := s.calledBy(ctx, p.ID, []int64{c.ID})
	c.Name = called[c.ID]
	return c, isNew, err
}

// MoveEvidence moves evidence with its sitting to another case.
func (s *Store) MoveEvidence(ctx context.Context, e Evidence, to int64) error {
	return s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Evidence{}).Where("id = ?", e.ID).Update("case_id", to).Error; err != nil {
			return translate(err, "evidence "+e.Name)
		}
		return translate(tx.Model(&Sitting{}).Where("evidence_id = ?", e.ID).Update("case_id", to).Error, "sitting")
	})
}

// SetOffset sets how far the clock of evidence is behind the clock of its case, in nanoseconds.
func (s *Store) SetOffset(ctx context.Context, id, nanoseconds int64) error {
	return translate(s.in(ctx).Model(&Evidence{}).Where("id = ?", id).Update("clock_offset_ns", nanoseconds).Error, "evidence")
}
