package store

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"wraithology/core/fault"
)

// ListPage chooses a page of a list whose records have names.
type ListPage struct {
	Text  string // only records with this text in them; empty for all
	After string // only records after the one with this name or number; empty for the first page
	Most  int    // maximum number of records
}

// A listing is a list that is read in pages.
type listing struct {
	what    string // one of its records
	key     string // SQL of what ListPage.After names
	order   string // columns that order it
	newest  bool   // from the last to the first
	content string // SQL of the text that is searched
}

var (
	evidenceList    = listing{"evidence", "name", "uploaded_at, id", true, "name || ' ' || program || ' ' || outcome"} // as its index
	artifactList    = listing{"artifact", "name", "uploaded_at, id", true, "name || ' ' || kind || ' ' || build_id"}
	checkpointsList = listing{"checkpoint", "id::text", "file, line, id", false, "kind || ' ' || file || ':' || line || ' ' || function || ' ' || about || ' ' || text || ' ' || condition"}
)

// page returns the query for a page of records; all are those of the list, and those that were in it, which ListPage.After may name too. The error wraps
// fault.NotFound if there is no such one: an empty page would look like the end.
func (l listing) page(records, all *gorm.DB, p ListPage) (*gorm.DB, error) {
	records = records.Session(&gorm.Session{})
	order, comparison := l.order, ">"
	if l.newest {
		comparison = "<"
	}
	if p.After != "" {
		last := all.Where(l.key+" = ?", p.After).Order("id desc").Limit(1)
		var isThere bool
		if err := all.Session(&gorm.Session{NewDB: true}).Raw("select exists (?)", last.Session(&gorm.Session{}).Select("id")).Scan(&isThere).Error; err != nil {
			return nil, translate(err, l.what)
		}
		if !isThere {
			return nil, fault.NotFound.New("start again with the first page", "%s %.200s: not found", l.what, p.After)
		}
		records = records.Where("("+order+") "+comparison+" (?)", last.Session(&gorm.Session{}).Select(l.order))
	}
	if p.Text != "" {
		records = records.Where(l.content+" ilike ?", "%"+escapeLike(p.Text)+"%")
	}
	if l.newest {
		order = strings.ReplaceAll(order, ",", " desc,") + " desc"
	}
	return records.Preload("Person").Order(order).Limit(p.Most), nil
}

// PageOfEvidence lists evidence of a case, newest first.
func (s *Store) PageOfEvidence(ctx context.Context, caseID int64, p ListPage) ([]Evidence, error) {
	return pageOf[Evidence](ctx, s, evidenceList, "evidence_all", caseID, p)
}

// PageOfArtifacts lists artifacts of a case, newest first.
func (s *Store) PageOfArtifacts(ctx context.Context, caseID int64, p ListPage) ([]Artifact, error) {
	return pageOf[Artifact](ctx, s, artifactList, "artifacts_all", caseID, p)
}

func pageOf[T any](ctx context.Context, s *Store, l listing, all string, caseID int64, p ListPage) (list []T, err error) {
	query, err := l.page(s.in(ctx).Where("case_id = ?", caseID), s.in(ctx).Table(all).Where("case_id = ?", caseID), p)
	if err != nil {
		return nil, err
	}
	return list, translate(query.Find(&list).Error, l.what)
}

// PageOfCheckpoints lists the checkpoints of a case that a person sees, by place.
func (s *Store) PageOfCheckpoints(ctx context.Context, caseID, person int64, p ListPage) (list []Checkpoint, err error) {
	query, err := checkpointsList.page(s.checkpoints(ctx, caseID, person), s.checkpoints(ctx, caseID, person).Table("checkpoints"), p)
	if err != nil {
		return nil, err
	}
	return list, translate(query.Find(&list).Error, checkpointsList.what)
}
