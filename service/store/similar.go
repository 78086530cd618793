package store

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"wraithology/core/ask"
)

// Similar is evidence with the same failure as another one, or a similar one, with its case. Score is from 0 to 1; IsSame is set if the
// fingerprints are the same.
type Similar struct {
	Evidence Evidence
	Case     Case
	Score    float64
	IsSame   bool
}

const (
	mostCandidates = 400 // similar failures that are compared
	mostSimilar    = 50  // similar failures that are listed
	mostSame       = 100 // same failures that are listed, the newest
	leastScore     = 0.4
	innermost      = 3 // functions of which similar failures share one
)

// SaveSketch keeps what the failure in evidence is compared by.
func (s *Store) SaveSketch(ctx context.Context, evidence int64, x ask.Sketch) error {
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("delete from failure_functions where evidence_id = ?", evidence).Error; err != nil {
			return err
		}
		for i, f := range x.Functions {
			if err := tx.Exec("insert into failure_functions (evidence_id, depth, function) values (?, ?, ?)", evidence, i, f).Error; err != nil {
				return err
			}
		}
		return tx.Exec("insert into failure_words (evidence_id, words) values (?, ?) on conflict (evidence_id) do update set words = excluded.words", evidence, strings.Join(x.Words, " ")).Error
	}), "sketch of the failure")
}

// SimilarTo lists evidence with the same failure as other evidence, newest first, and then evidence with a similar failure, the most similar
// first: in the cases of a person, at most 100 of the same and 50 similar ones.
func (s *Store) SimilarTo(ctx context.Context, e Evidence, person int64) ([]Similar, error) {
	const mine = "e.case_id in (select case_id from members where person_id = ?)"
	var same, like []int64
	err := s.in(ctx).Raw("select e.id from evidence e where e.fingerprint = ? and e.fingerprint <> '' and e.id <> ? and "+mine+" order by e.uploaded_at desc limit ?", e.Fingerprint, e.ID, person, mostSame).Scan(&same).Error
	if err != nil {
		return nil, translate(err, "evidence")
	}
	// Similar failures share one of the innermost functions: the outer ones are those of every failure of the program.
	err = s.in(ctx).Raw(`select f.evidence_id from failure_functions f join evidence e on e.id = f.evidence_id
		where f.function in (select function from failure_functions where evidence_id = ? and depth < ?) and f.depth < ? and e.id <> ? and e.fingerprint <> ? and `+mine+`
		group by f.evidence_id order by count(*) desc, f.evidence_id desc limit ?`, e.ID, innermost, innermost, e.ID, e.Fingerprint, person, mostCandidates).Scan(&like).Error
	if err != nil {
		return nil, translate(err, "evidence")
	}
	sketches, err := s.sketches(ctx, append(append([]int64{e.ID}, same...), like...))
	if err != nil {
		return nil, err
	}
	records, cases := map[int64]Evidence{}, map[int64]Case{}
	score := map[int64]float64{}
	like = slices.DeleteFunc(like, func(id int64) bool {
		score[id] = sketches[e.ID].Similarity(sketches[id])
		return score[id] < leastScore
	})
	slices.SortStableFunc(like, func(a, b int64) int { return cmp.Compare(score[b], score[a]) })
	all := append(same, like[:min(len(like), mostSimilar)]...)
	for _, id := range all {
		records[id] = Evidence{}
	}
	if err := fill(s, ctx, records, func(x Evidence) int64 { return x.ID }); err != nil {
		return nil, err
	}
	for _, x := range records {
		cases[x.CaseID] = Case{}
	}
	if err := fill(s, ctx, cases, func(x Case) int64 { return x.ID }); err != nil {
		return nil, err
	}
	called, err := s.calledBy(ctx, person, slices.Collect(maps.Keys(cases)))
	if err != nil {
		return nil, err
	}
	for id, c := range cases {
		c.Name = called[id]
		cases[id] = c
	}
	var out []Similar
	for i, id := range all {
		x := Similar{Evidence: records[id], Case: cases[records[id].CaseID], Score: score[id], IsSame: i < len(same)}
		if x.IsSame {
			x.Score = 1
		}
		out = append(out, x)
	}
	return out, nil
}

// sketches loads the sketches of evidence.
func (s *Store) sketches(ctx context.Context, ids []int64) (map[int64]ask.Sketch, error) {
	var functions []struct {
		EvidenceID int64
		Function   string
	}
	if err := s.in(ctx).Table("failure_functions").Where("evidence_id in ?", ids).Order("evidence_id, depth").Find(&functions).Error; err != nil {
		return nil, translate(err, "sketches")
	}
	var words []struct {
		EvidenceID int64
		Words      string
	}
	if err := s.in(ctx).Table("failure_words").Where("evidence_id in ?", ids).Find(&words).Error; err != nil {
		return nil, translate(err, "sketches")
	}
	out := map[int64]ask.Sketch{}
	for _, f := range functions {
		x := out[f.EvidenceID]
		x.Functions = append(x.Functions, f.Function)
		out[f.EvidenceID] = x
	}
	for _, w := range words {
		x := out[w.EvidenceID]
		x.Words = strings.Fields(w.Words)
		out[w.EvidenceID] = x
	}
	return out, nil
}
