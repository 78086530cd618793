package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"wraithology/core/ask"
	"wraithology/core/fault"
)

// Expectation is an expectation of a case. Version increases with every change.
type Expectation struct {
	ID         int64
	CaseID     int64
	Checkpoint string
	Text       string
	Condition  string
	That       string
	Note       string
	Version    int64
	PersonID   int64
	Person     Person
	CreatedAt  time.Time
}

// Asked returns the expectation as questions take it.
func (x Expectation) Asked() ask.Expectation {
	return ask.Expectation{Checkpoint: x.Checkpoint, Text: x.Text, When: x.Condition, That: x.That, Note: x.Note}
}

// Check is what evidence answered to a version of an expectation.
type Check struct {
	EvidenceID    int64 `gorm:"primaryKey"`
	ExpectationID int64 `gorm:"primaryKey"`
	Version       int64
	Breaks        int64
	Answer        ask.Checked `gorm:"serializer:json"`
}

// Count is the number of hits of a version of a checkpoint in evidence. Trouble is why there are none, or why it is not
// known for Undecided moments.
type Count struct {
	EvidenceID   int64 `gorm:"primaryKey"`
	CheckpointID int64 `gorm:"primaryKey"`
	Version      int64
	Hits         int64
	Undecided    int64
	Trouble      string
}

// ExpectationsOf lists a case's expectations, oldest first.
func (s *Store) ExpectationsOf(ctx context.Context, caseID int64) (list []Expectation, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Order("id").Find(&list).Error, "expectations")
}

// ExpectationByID finds an expectation of a case.
func (s *Store) ExpectationByID(ctx context.Context, caseID, id int64) (x Expectation, err error) {
	return x, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Take(&x, id).Error, fmt.Sprintf("expectation %d", id))
}

// SaveExpectation adds or changes an expectation. What evidence answered before a change is outdated.
func (s *Store) SaveExpectation(ctx context.Context, x *Expectation) error {
	if x.ID == 0 {
		x.CreatedAt = time.Now()
	}
	x.Version++
	return translate(s.in(ctx).Omit("Person").Save(x).Error, "expectation")
}

// DeleteExpectation deletes an expectation of a case.
func (s *Store) DeleteExpectation(ctx context.Context, caseID, id int64) error {
	done := s.in(ctx).Where("case_id = ?", caseID).Delete(&Expectation{}, id)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("expectation %d: %w", id, fault.NotFound)
	}
	return translate(done.Error, "expectation")
}

// SaveCheck keeps what evidence answered to an expectation.
func (s *Store) SaveCheck(ctx context.Context, x Check) error {
	return translate(s.in(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&x).Error, "check")
}

// ChecksOf lists what the evidence of a case answered to the case's expectations, as they are now.
func (s *Store) ChecksOf(ctx context.Context, caseID int64) (list []Check, err error) {
	return list, translate(s.in(ctx).Select("checks.*").Joins("join expectations x on x.id = checks.expectation_id and x.version = checks.version").
		Joins("join evidence e on e.id = checks.evidence_id and e.case_id = x.case_id").Where("x.case_id = ?", caseID).Find(&list).Error, "checks")
}

// SaveCount keeps how often a checkpoint hits in evidence.
func (s *Store) SaveCount(ctx context.Context, x Count) error {
	return translate(s.in(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&x).Error, "count")
}

// CountsOf lists how often the checkpoints of a case, as they are now, hit in its evidence.
func (s *Store) CountsOf(ctx context.Context, caseID int64) (list []Count, err error) {
	return list, translate(s.in(ctx).Select("counts.*").Joins("join checkpoints x on x.id = counts.checkpoint_id and x.version = counts.version").
		Joins("join evidence e on e.id = counts.evidence_id and e.case_id = x.case_id").Where("x.case_id = ?", caseID).Find(&list).Error, "counts")
}

// BrokenIn returns the number of expectations that break in each piece of evidence of a case, where it is not zero.
func (s *Store) BrokenIn(ctx context.Context, caseID int64) (map[int64]int, error) {
	list, err := s.ChecksOf(ctx, caseID)
	out := map[int64]int{}
	for _, x := range list {
		if x.Breaks > 0 {
			out[x.EvidenceID]++
		}
	}
	return out, err
}

// CloseCase closes a case with its cause.
func (s *Store) CloseCase(ctx context.Context, id int64, cause string, person int64) error {
	return translate(s.in(ctx).Model(&Case{}).Where("id = ?", id).Updates(map[string]any{"closed_at": time.Now(), "cause": cause, "closer_id": person}).Error, "case")
}

// ReopenCase opens a closed case again. Its cause stays.
func (s *Store) ReopenCase(ctx context.Context, id int64) error {
	return translate(s.in(ctx).Model(&Case{}).Where("id = ?", id).Updates(map[string]any{"closed_at": nil, "closer_id": nil}).Error, "case")
}
