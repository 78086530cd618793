package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm/clause"

	"wraithology/api"
	"wraithology/core/ask"
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

// AddExpectation adds an expectation.
func (s *Store) AddExpectation(ctx context.Context, x *Expectation) error {
	x.CreatedAt, x.Version = time.Now(), 1
	return translate(s.in(ctx).Omit("Person").Create(x).Error, "expectation")
}

// ChangeExpectation changes an expectation of a case, as it is now, and returns it. Others who change it wait. What evidence answered before is outdated.
func (s *Store) ChangeExpectation(ctx context.Context, caseID, id int64, do func(*Expectation)) (x Expectation, err error) {
	err = s.Together(ctx, func(s *Store) error {
		if err := translate(locked(s.in(ctx).Where("case_id = ?", caseID)).Take(&x, id).Error, fmt.Sprintf("expectation %d", id)); err != nil {
			return err
		}
		do(&x)
		x.Version++
		return translate(s.in(ctx).Select("*").Omit("Person").Updates(&x).Error, "expectation")
	})
	if err != nil {
		return x, err
	}
	return s.ExpectationByID(ctx, caseID, id)
}

// DeleteExpectation deletes an expectation of a case.
func (s *Store) DeleteExpectation(ctx context.Context, caseID, id int64) error {
	return s.deleteOf(ctx, &Expectation{}, caseID, "id", id, "expectation")
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

// Elsewhere is what evidence of one case answered to an expectation of another case.
type Elsewhere struct {
	Check       Check
	Expectation Expectation
	Evidence    Evidence
	// Case is the other case: that of the evidence for AnswersElsewhere, that of the expectation for BrokenElsewhere.
	Case Case
}

// mostElsewhere limits the answers of other cases that are listed.
const mostElsewhere = 1000

// AnswersElsewhere lists what evidence of other cases of a person answered to a case's expectations, newest evidence first: at
// most 1,000 answers. Evidence without the place of an expectation is left out.
func (s *Store) AnswersElsewhere(ctx context.Context, caseID, person int64) ([]Elsewhere, error) {
	return s.elsewhere(ctx, person, "e.case_id", "x.case_id = ?", caseID)
}

// BrokenElsewhere lists the expectations of other cases of a person that break in evidence of a case, newest first: at most 1,000.
func (s *Store) BrokenElsewhere(ctx context.Context, caseID, person int64) ([]Elsewhere, error) {
	return s.elsewhere(ctx, person, "x.case_id", "e.case_id = ? and checks.breaks > 0", caseID)
}

// elsewhere lists answers across two cases. The column other names the case in which the person must be a member.
func (s *Store) elsewhere(ctx context.Context, person int64, other, where string, caseID int64) ([]Elsewhere, error) {
	var checks []struct {
		Check
		Other int64
	}
	err := s.in(ctx).Table("checks").Select("checks.*, "+other+" as other").Joins("join expectations x on x.id = checks.expectation_id and x.version = checks.version").
		Joins("join evidence e on e.id = checks.evidence_id and e.case_id <> x.case_id").
		Where("(checks.answer::json->>'missing') is null").
		Where(where+" and "+other+" in (select case_id from members where person_id = ?)", caseID, person).
		Order("e.uploaded_at desc, e.id, x.id desc").Limit(mostElsewhere).Find(&checks).Error
	if err != nil {
		return nil, translate(err, "checks")
	}
	evidence, expectations, cases := map[int64]Evidence{}, map[int64]Expectation{}, map[int64]Case{}
	for _, x := range checks {
		evidence[x.EvidenceID], expectations[x.ExpectationID], cases[x.Other] = Evidence{}, Expectation{}, Case{}
	}
	if err := fill(s, ctx, evidence, func(x Evidence) int64 { return x.ID }); err != nil {
		return nil, err
	}
	if err := fill(s, ctx, expectations, func(x Expectation) int64 { return x.ID }); err != nil {
		return nil, err
	}
	if err := fill(s, ctx, cases, func(x Case) int64 { return x.ID }); err != nil {
		return nil, err
	}
	var out []Elsewhere
	for _, x := range checks {
		out = append(out, Elsewhere{x.Check, expectations[x.ExpectationID], evidence[x.EvidenceID], cases[x.Other]})
	}
	return out, nil
}

// fill loads the records of a map by their IDs.
func fill[T any](s *Store, ctx context.Context, records map[int64]T, id func(T) int64) error {
	var list []T
	if err := s.in(ctx).Where("id in ?", slices.Collect(maps.Keys(records))).Find(&list).Error; err != nil {
		return translate(err, "records")
	}
	for _, x := range list {
		records[id(x)] = x
	}
	return nil
}

// mostOfProgram limits how many expectations of other cases, or pieces of evidence of other cases, are checked at once.
const mostOfProgram = 200

// ExpectationsFor lists the newest expectations of other cases that have evidence of the same program: at most 200.
func (s *Store) ExpectationsFor(ctx context.Context, e Evidence) (list []Expectation, err error) {
	if e.Program == "" {
		return nil, nil
	}
	return list, translate(s.in(ctx).Where("case_id <> ? and case_id in (select case_id from evidence where program = ? and state = ?)", e.CaseID, e.Program, api.StateReady).
		Order("id desc").Limit(mostOfProgram).Find(&list).Error, "expectations")
}

// EvidenceElsewhere lists the newest evidence of other cases that is of the same programs as that of a case: at most 200.
func (s *Store) EvidenceElsewhere(ctx context.Context, caseID int64) (list []Evidence, err error) {
	return list, translate(s.in(ctx).Where("case_id <> ? and state = ? and program in (select program from evidence where case_id = ? and program <> '')", caseID, api.StateReady, caseID).
		Order("uploaded_at desc").Limit(mostOfProgram).Find(&list).Error, "evidence")
}

// Unchecked lists the evidence of a case that has not answered an expectation, or in which a checkpoint has not been counted, as they are now.
func (s *Store) Unchecked(ctx context.Context, caseID int64) (list []Evidence, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where(`case_id = ? and state = ? and (
		exists (select from checkpoints x where x.case_id = evidence.case_id and not x.is_private and (x.evidence = '' or x.evidence = evidence.name)
			and not exists (select from counts n where n.evidence_id = evidence.id and n.checkpoint_id = x.id and n.version = x.version))
		or exists (select from expectations x where x.case_id = evidence.case_id
			and not exists (select from checks n where n.evidence_id = evidence.id and n.expectation_id = x.id and n.version = x.version)))`, caseID, api.StateReady).
		Order("uploaded_at desc, id desc").Find(&list).Error, "evidence")
}

// Checked returns which expectations, as they are now, evidence has answered.
func (s *Store) Checked(ctx context.Context, evidence int64) (map[int64]bool, error) {
	return s.answered(ctx, evidence, "checks", "expectations", "expectation_id")
}

// Counted returns which checkpoints, as they are now, have been counted in evidence.
func (s *Store) Counted(ctx context.Context, evidence int64) (map[int64]bool, error) {
	return s.answered(ctx, evidence, "counts", "checkpoints", "checkpoint_id")
}

func (s *Store) answered(ctx context.Context, evidence int64, answers, of, id string) (map[int64]bool, error) {
	var list []int64
	err := s.in(ctx).Table(answers+" a").Joins("join "+of+" x on x.id = a."+id+" and x.version = a.version").Where("a.evidence_id = ?", evidence).Pluck("x.id", &list).Error
	out := map[int64]bool{}
	for _, x := range list {
		out[x] = true
	}
	return out, translate(err, answers)
}

// SaveCounts keeps how often checkpoints hit in evidence.
func (s *Store) SaveCounts(ctx context.Context, list []Count) error {
	if len(list) == 0 {
		return nil
	}
	return translate(s.in(ctx).Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, 1000).Error, "counts")
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
