package store

import (
	"context"
	"time"
)

// Artifact explains evidence of a case: a binary, a debug file, source text.
type Artifact struct {
	ID         int64
	CaseID     int64
	Name       string
	Kind       string
	Bytes      int64
	SHA256     string `gorm:"column:sha256"`
	BuildID    string
	UploadedAt time.Time
	PersonID   int64
	Person     Person
}

// AddArtifact adds an artifact to its case.
func (s *Store) AddArtifact(ctx context.Context, a *Artifact) error {
	a.UploadedAt = time.Now()
	return translate(s.in(ctx).Omit("Person").Create(a).Error, "artifact "+a.Name)
}

// ArtifactsOf lists a case's artifacts, newest first.
func (s *Store) ArtifactsOf(ctx context.Context, caseID int64) (list []Artifact, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Order("uploaded_at desc, id desc").Find(&list).Error, "artifacts")
}

// ArtifactByName finds an artifact of a case.
func (s *Store) ArtifactByName(ctx context.Context, caseID int64, name string) (a Artifact, err error) {
	return a, translate(s.in(ctx).Preload("Person").Where("case_id = ? and name = ?", caseID, name).Take(&a).Error, "artifact "+name)
}

// KeptBytes returns how many bytes of evidence and artifacts a case has, and how many a person has added in all cases; what was deleted and can be
// restored counts.
func (s *Store) KeptBytes(ctx context.Context, caseID, person int64) (ofCase, ofPerson int64, err error) {
	var row struct{ OfCase, OfPerson int64 }
	err = s.in(ctx).Raw(`select coalesce(sum(bytes) filter (where case_id = ?), 0)::bigint as of_case, coalesce(sum(bytes) filter (where person_id = ?), 0)::bigint as of_person
		from (select case_id, person_id, bytes from evidence_all where case_id = ? or person_id = ? union all select case_id, person_id, bytes from artifacts_all where case_id = ? or person_id = ?) x`,
		caseID, person, caseID, person, caseID, person).Scan(&row).Error
	return row.OfCase, row.OfPerson, translate(err, "evidence")
}

// askAgain has evidence indexed again: what an earlier time finds is not saved any more.
const askAgain = "update evidence set state = 'indexing', progress = 0, trouble = '', asked = asked + 1"

// IndexAgain sets evidence of some kinds in a case, and what could not be indexed, back to indexing and returns it.
func (s *Store) IndexAgain(ctx context.Context, caseID int64, kinds []string) (list []Evidence, err error) {
	err = s.in(ctx).Raw(askAgain+" where case_id = ? and (kind in ? or state = 'failed') returning *", caseID, kinds).Scan(&list).Error
	return list, translate(err, "evidence")
}

// IndexOneAgain sets one piece of evidence back to indexing and returns it.
func (s *Store) IndexOneAgain(ctx context.Context, id int64) (e Evidence, err error) {
	return e, found(s.in(ctx).Raw(askAgain+" where id = ? returning *", id).Scan(&e), "evidence")
}
