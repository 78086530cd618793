package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"wraithology/core/fault"
)

// Sitting is where a shared replay is. LeaderID is nil if nobody leads.
type Sitting struct {
	ID         int64
	CaseID     int64
	EvidenceID int64
	Moment     int64
	Thread     int64
	Frame      int
	Version    int64 // increases with every move
	LeaderID   *int64
	Leader     *Person
	Watches    []string `gorm:"serializer:json"` // shared expressions
	Columns    []string `gorm:"serializer:json"` // of the shared ledger
	Format     string   // of whole numbers; empty for decimal
	Case       Case
	Evidence   Evidence
}

// SittingStep is what a person did in a sitting.
type SittingStep struct {
	ID        int64
	SittingID int64
	PersonID  int64
	Person    Person
	At        time.Time
	Kind      string
	Moment    int64
	Thread    int64
	Frame     int
	Text      string
}

// OpenSitting returns the sitting of evidence. It opens one at a place if there is none.
func (s *Store) OpenSitting(ctx context.Context, first Sitting) (Sitting, error) {
	// Two people can join at the same time: the second insert does nothing.
	err := s.in(ctx).Exec(`insert into sittings (case_id, evidence_id, moment, thread, frame, version) values (?, ?, ?, ?, ?, 1)
		on conflict (evidence_id) do nothing`, first.CaseID, first.EvidenceID, first.Moment, first.Thread, first.Frame).Error
	if err != nil {
		return first, translate(err, "sitting")
	}
	var have Sitting
	return have, translate(s.sittings(ctx).Where("evidence_id = ?", first.EvidenceID).Take(&have).Error, "sitting")
}

func (s *Store) sittings(ctx context.Context) *gorm.DB {
	return s.in(ctx).Preload("Case").Preload("Evidence").Preload("Leader")
}

// SittingOf finds the sitting of evidence.
func (s *Store) SittingOf(ctx context.Context, evidence int64) (x Sitting, err error) {
	return x, translate(s.sittings(ctx).Where("evidence_id = ?", evidence).Take(&x).Error, "sitting of the evidence")
}

// SittingByID finds a sitting.
func (s *Store) SittingByID(ctx context.Context, id int64) (x Sitting, err error) {
	return x, translate(s.sittings(ctx).Take(&x, id).Error, fmt.Sprintf("sitting %d", id))
}

// MoveSitting moves a sitting, keeps the step, and returns the sitting's new version. If seen is not 0 and not the current
// version, somebody else has moved it: the error wraps fault.SittingMoved.
func (s *Store) MoveSitting(ctx context.Context, x SittingStep, seen int64) (version int64, err error) {
	err = s.in(ctx).Transaction(func(tx *gorm.DB) error {
		err := tx.Raw("update sittings set moment = ?, thread = ?, frame = ?, version = version + 1 where id = ? and (?::bigint = 0 or version = ?) returning version",
			x.Moment, x.Thread, x.Frame, x.SittingID, seen, seen).Scan(&version).Error
		if err != nil {
			return err
		}
		if version == 0 {
			return fault.SittingMoved
		}
		return addStep(tx, x)
	})
	if errors.Is(err, fault.SittingMoved) {
		return 0, err
	}
	return version, translate(err, "sitting")
}

// LeadSitting makes a person the lead of a sitting, or nobody, and keeps the step.
func (s *Store) LeadSitting(ctx context.Context, id int64, leader *int64, x SittingStep) error {
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Sitting{}).Where("id = ?", id).Update("leader_id", leader).Error; err != nil {
			return err
		}
		return addStep(tx, x)
	}), "sitting")
}

// ShareInSitting changes what a sitting shares, a field of it, and keeps the step.
func (s *Store) ShareInSitting(ctx context.Context, field string, shared Sitting, x SittingStep) error {
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Sitting{ID: x.SittingID}).Select(field).Updates(shared).Error; err != nil {
			return err
		}
		return addStep(tx, x)
	}), "sitting")
}

// addStep keeps a step. Others of the sitting wait until it is committed: whoever has seen a step has seen those before it.
func addStep(tx *gorm.DB, x SittingStep) error {
	if err := tx.Exec("select from sittings where id = ? for no key update", x.SittingID).Error; err != nil {
		return err
	}
	x.At = time.Now()
	return tx.Omit("Person").Create(&x).Error
}

// AddStep keeps what a person did in a sitting.
func (s *Store) AddStep(ctx context.Context, x SittingStep) error {
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error { return addStep(tx, x) }), "step")
}

// StepsOf lists a page of the steps of a sitting.
func (s *Store) StepsOf(ctx context.Context, sitting int64, p Page) ([]SittingStep, error) {
	return paged[SittingStep](s.in(ctx).Preload("Person").Where("sitting_id = ?", sitting), p, "steps")
}

// LastStep returns the ID of the last step of a sitting, 0 if there is none.
func (s *Store) LastStep(ctx context.Context, sitting int64) (id int64, err error) {
	return id, translate(s.in(ctx).Raw("select coalesce(max(id), 0) from sitting_steps where sitting_id = ?", sitting).Scan(&id).Error, "steps")
}

// SittingsOf lists the sittings of a case.
func (s *Store) SittingsOf(ctx context.Context, caseID int64) (out []Sitting, err error) {
	return out, translate(s.sittings(ctx).Where("case_id = ?", caseID).Order("id").Find(&out).Error, "sittings")
}
