package store

import (
	"context"
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
