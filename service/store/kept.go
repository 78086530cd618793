package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"wraithology/core/fault"
)

// Exhibit is the answer to a question, kept as it was seen, with the place that it is about. Number is its number in its case.
type Exhibit struct {
	ID         int64
	CaseID     int64
	Number     int64
	EvidenceID int64
	Evidence   Evidence
	PersonID   int64
	Person     Person
	CreatedAt  time.Time
	Question   string
	Request    string // JSON
	Answer     string // JSON
	Moment     int64
	Thread     int64
	Frame      int
	Note       string
	// MaskedBy identifies the rules with which it was asked.
	MaskedBy string
}

// Comment is what somebody said about a case, or a part of it. Moment is nil if it is about no moment, Until if about one only.
type Comment struct {
	ID         int64
	CaseID     int64
	Number     int64 // in its case
	ParentID   *int64
	Parent     *Comment // its number only
	EvidenceID *int64
	Evidence   *Evidence
	ExhibitID  *int64
	Exhibit    *Exhibit // its number only
	PersonID   int64
	Person     Person
	CreatedAt  time.Time
	EditedAt   *time.Time
	DeletedAt  *time.Time
	Text       string
	Moment     *int64
	Until      *int64
	Thread     int64
	Frame      int
	Path       string
	File       string
	Line       int
}

// CommentEdit is what a comment said before a change.
type CommentEdit struct {
	ID        int64
	CommentID int64
	At        time.Time
	Text      string
}

// Theory is a suspected cause.
type Theory struct {
	ID        int64
	CaseID    int64
	Number    int64 // in its case
	PersonID  int64
	Person    Person
	CreatedAt time.Time
	ChangedAt time.Time
	Text      string
	State     string
	Note      string
	Exhibits  []TheoryExhibit `gorm:"foreignKey:TheoryID"`
}

// Sides returns the numbers of the exhibits for a theory, and of those against it.
func (t Theory) Sides() (supporting, opposing []int64) {
	for _, e := range t.Exhibits {
		if e.Supports {
			supporting = append(supporting, e.Exhibit.Number)
		} else {
			opposing = append(opposing, e.Exhibit.Number)
		}
	}
	return supporting, opposing
}

// TheoryExhibit is an exhibit for a theory, or against it.
type TheoryExhibit struct {
	TheoryID  int64 `gorm:"primaryKey"`
	ExhibitID int64 `gorm:"primaryKey"`
	Supports  bool
	Exhibit   Exhibit // its number only
}

// numbered gives a record the next number of its case, from a column of the case, and creates it. Others of the case wait until it is committed: whoever
// has seen a number has seen those before it.
func (s *Store) numbered(ctx context.Context, caseID int64, column string, number *int64, create func(tx *gorm.DB) error) error {
	return s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Raw("update cases set "+column+" = "+column+" + 1 where id = ? returning "+column, caseID).Scan(number).Error; err != nil {
			return err
		}
		return create(tx)
	})
}

// onlyNumber loads no more of a record than its number.
func onlyNumber(db *gorm.DB) *gorm.DB { return db.Select("id", "number") }

// AddExhibit keeps an exhibit.
func (s *Store) AddExhibit(ctx context.Context, x *Exhibit) error {
	x.CreatedAt = time.Now()
	return translate(s.numbered(ctx, x.CaseID, "last_exhibit", &x.Number, func(tx *gorm.DB) error {
		return tx.Omit("Person", "Evidence").Create(x).Error
	}), "exhibit")
}

// ExhibitsOf lists a page of the exhibits of a case.
func (s *Store) ExhibitsOf(ctx context.Context, caseID int64, p Page) ([]Exhibit, error) {
	return paged[Exhibit](s.in(ctx).Preload("Person").Preload("Evidence", anyEvidence).Where("case_id = ?", caseID), p.by("number"), "exhibits")
}

// ExhibitByNumber finds an exhibit of a case.
func (s *Store) ExhibitByNumber(ctx context.Context, caseID, number int64) (x Exhibit, err error) {
	return x, translate(s.in(ctx).Preload("Person").Preload("Evidence", anyEvidence).Where("case_id = ? and number = ?", caseID, number).Take(&x).Error, fmt.Sprintf("exhibit %d", number))
}

// NoteExhibit changes the note of an exhibit.
func (s *Store) NoteExhibit(ctx context.Context, id int64, note string) error {
	return translate(s.in(ctx).Model(&Exhibit{}).Where("id = ?", id).Update("note", note).Error, "exhibit")
}

// ExhibitsToAsk lists the exhibits of evidence that were asked with other rules for masking.
func (s *Store) ExhibitsToAsk(ctx context.Context, evidence int64, rules string) (list []Exhibit, err error) {
	return list, translate(s.in(ctx).Where("evidence_id = ? and masked_by <> ?", evidence, rules).Order("id").Find(&list).Error, "exhibits")
}

// AnswerExhibit replaces the answer of an exhibit by that with other rules for masking.
func (s *Store) AnswerExhibit(ctx context.Context, id int64, answer, rules string) error {
	return translate(s.in(ctx).Exec("update exhibits set answer = ?, masked_by = ? where id = ?", answer, rules, id).Error, "exhibit")
}

// DeleteExhibit deletes an exhibit of a case.
func (s *Store) DeleteExhibit(ctx context.Context, caseID, number int64) error {
	return s.deleteOf(ctx, &Exhibit{}, caseID, "number", number, "exhibit")
}

// deleteOf deletes the record of a case that has a value in a column.
func (s *Store) deleteOf(ctx context.Context, record any, caseID int64, column string, value int64, what string) error {
	return found(s.in(ctx).Where("case_id = ? and "+column+" = ?", caseID, value).Delete(record), fmt.Sprintf("%s %d", what, value))
}

// AddComment adds a comment, and mentions people.
func (s *Store) AddComment(ctx context.Context, x *Comment, mentioned []int64) error {
	x.CreatedAt = time.Now()
	return translate(s.numbered(ctx, x.CaseID, "last_comment", &x.Number, func(tx *gorm.DB) error {
		if err := tx.Omit("Person", "Evidence", "Parent", "Exhibit").Create(x).Error; err != nil {
			return err
		}
		return mention(tx, x.ID, mentioned)
	}), "comment")
}

func mention(tx *gorm.DB, comment int64, people []int64) error {
	for _, p := range people {
		if err := tx.Exec("insert into mentions (comment_id, person_id) values (?, ?) on conflict do nothing", comment, p).Error; err != nil {
			return err
		}
	}
	return nil
}

// EditComment changes the text of a comment. What it said before is kept.
func (s *Store) EditComment(ctx context.Context, x Comment, text string, mentioned []int64) error {
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(&CommentEdit{CommentID: x.ID, At: time.Now(), Text: x.Text}).Error; err != nil {
			return err
		}
		if err := tx.Model(&Comment{}).Where("id = ?", x.ID).Updates(map[string]any{"text": text, "edited_at": time.Now()}).Error; err != nil {
			return err
		}
		return mention(tx, x.ID, mentioned)
	}), "comment")
}

// DeleteComment removes the text of a comment, and of its earlier versions. That there was one stays.
func (s *Store) DeleteComment(ctx context.Context, id int64) error {
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("comment_id = ?", id).Delete(&CommentEdit{}).Error; err != nil {
			return err
		}
		return tx.Model(&Comment{}).Where("id = ?", id).Updates(map[string]any{"text": "", "deleted_at": time.Now()}).Error
	}), "comment")
}

// CommentByNumber finds a comment of a case.
func (s *Store) CommentByNumber(ctx context.Context, caseID, number int64) (x Comment, err error) {
	return x, translate(s.comments(ctx).Take(&x, "case_id = ? and number = ?", caseID, number).Error, fmt.Sprintf("comment %d", number))
}

// comments are comments with what belongs to them.
func (s *Store) comments(ctx context.Context) *gorm.DB {
	return s.in(ctx).Preload("Person").Preload("Evidence", anyEvidence).Preload("Parent", onlyNumber).Preload("Exhibit", onlyNumber)
}

// CommentQuery chooses a page of comments: in evidence if it is not 0; on moments from From to To if To is not 0; with all words of a text.
type CommentQuery struct {
	Page
	Evidence int64
	From, To int64
	Text     string
}

// CommentsOf lists comments of a case.
func (s *Store) CommentsOf(ctx context.Context, caseID int64, q CommentQuery) ([]Comment, error) {
	db := s.comments(ctx).Where("case_id = ?", caseID)
	if q.Evidence != 0 {
		db = db.Where("evidence_id = ?", q.Evidence)
	}
	if q.To != 0 {
		db = db.Where("moment <= ? and coalesce(until, moment) >= ?", q.To, q.From)
	}
	if q.Text != "" {
		// The words are looked up first: "offset 0" keeps the planner from reading all comments in order instead.
		db = db.Where("id in (select id from comments where case_id = ? and words @@ plainto_tsquery('simple', ?) offset 0)", caseID, q.Text)
	}
	return paged[Comment](db, q.by("number"), "comments")
}

// EditsOf lists what a comment said before, oldest first.
func (s *Store) EditsOf(ctx context.Context, comment int64) (list []CommentEdit, err error) {
	return list, translate(s.in(ctx).Where("comment_id = ?", comment).Order("id").Find(&list).Error, "edits")
}

// Mention is a comment that mentions a person, with the name of its case.
type Mention struct {
	Comment  Comment
	CaseName string
}

// MentionsOf lists comments of the cases of a person that mention the person and were not seen yet, newest first, at most 100.
func (s *Store) MentionsOf(ctx context.Context, person int64) ([]Mention, error) {
	var ids []int64
	err := s.in(ctx).Raw(`select c.id from mentions m join comments c on c.id = m.comment_id join members k on k.case_id = c.case_id and k.person_id = m.person_id
		where m.person_id = ? and m.seen_at is null and c.deleted_at is null order by c.id desc limit 100`, person).Scan(&ids).Error
	if err != nil || len(ids) == 0 {
		return nil, translate(err, "mentions")
	}
	var list []Comment
	if err := s.comments(ctx).Where("id in ?", ids).Order("id desc").Find(&list).Error; err != nil {
		return nil, translate(err, "mentions")
	}
	var of []int64
	for _, x := range list {
		of = append(of, x.CaseID)
	}
	called, err := s.calledBy(ctx, person, of)
	if err != nil {
		return nil, err
	}
	var out []Mention
	for _, x := range list {
		out = append(out, Mention{x, called[x.CaseID]})
	}
	return out, nil
}

// SeeMentions notes that a person has seen all mentions up to a comment.
func (s *Store) SeeMentions(ctx context.Context, person, upTo int64) error {
	return translate(s.in(ctx).Exec("update mentions set seen_at = now() where person_id = ? and comment_id <= ? and seen_at is null", person, upTo).Error, "mentions")
}

// AddTheory adds a theory.
func (s *Store) AddTheory(ctx context.Context, x *Theory) error {
	x.CreatedAt = time.Now()
	x.ChangedAt = x.CreatedAt
	return translate(s.numbered(ctx, x.CaseID, "last_theory", &x.Number, func(tx *gorm.DB) error { return tx.Omit("Person", "Exhibits").Create(x).Error }), "theory")
}

// ChangeTheory changes a theory of a case, as it is now, and returns it. Others who change it wait.
func (s *Store) ChangeTheory(ctx context.Context, caseID, number int64, do func(*Theory)) (x Theory, err error) {
	err = s.Together(ctx, func(s *Store) error {
		if err := translate(locked(s.in(ctx).Where("case_id = ? and number = ?", caseID, number)).Take(&x).Error, fmt.Sprintf("theory %d", number)); err != nil {
			return err
		}
		do(&x)
		x.ChangedAt = time.Now()
		return translate(s.in(ctx).Select("*").Omit("Person", "Exhibits").Updates(&x).Error, "theory")
	})
	if err != nil {
		return x, err
	}
	return s.TheoryByNumber(ctx, caseID, number)
}

// TheoriesOf lists a case's theories, oldest first.
func (s *Store) TheoriesOf(ctx context.Context, caseID int64) (list []Theory, err error) {
	return list, translate(s.in(ctx).Preload("Person").Preload("Exhibits", func(db *gorm.DB) *gorm.DB { return db.Order("exhibit_id") }).Preload("Exhibits.Exhibit", onlyNumber).Where("case_id = ?", caseID).Order("number").Find(&list).Error, "theories")
}

// TheoryByNumber finds a theory of a case.
func (s *Store) TheoryByNumber(ctx context.Context, caseID, number int64) (x Theory, err error) {
	return x, translate(s.in(ctx).Preload("Person").Preload("Exhibits.Exhibit", onlyNumber).Where("case_id = ? and number = ?", caseID, number).Take(&x).Error, fmt.Sprintf("theory %d", number))
}

// DeleteTheory deletes a theory of a case.
func (s *Store) DeleteTheory(ctx context.Context, caseID, number int64) error {
	return s.deleteOf(ctx, &Theory{}, caseID, "number", number, "theory")
}

// Argue puts an exhibit for or against a theory.
func (s *Store) Argue(ctx context.Context, x TheoryExhibit) error {
	return translate(s.in(ctx).Omit("Exhibit").Clauses(clause.OnConflict{UpdateAll: true}).Create(&x).Error, "exhibit of the theory")
}

// Unargue takes an exhibit from a theory.
func (s *Store) Unargue(ctx context.Context, theory, exhibit int64) error {
	return translate(s.in(ctx).Where("theory_id = ? and exhibit_id = ?", theory, exhibit).Delete(&TheoryExhibit{}).Error, "exhibit of the theory")
}

// ActivityOf lists a page of the changes in a case's record, without those that a person made.
func (s *Store) ActivityOf(ctx context.Context, caseID, but int64, p Page) ([]Custody, error) {
	return paged[Custody](s.in(ctx).Where("case_id = ? and not is_read and person_id is distinct from ?", caseID, but), p, "activity")
}

// LastNote returns the ID of the last change in a case's record, 0 if there is none.
func (s *Store) LastNote(ctx context.Context, caseID int64) (id int64, err error) {
	return id, translate(s.in(ctx).Raw("select coalesce(max(id), 0) from custody where case_id = ? and not is_read", caseID).Scan(&id).Error, "activity")
}

// SeeActivity notes up to which entry of the record a member has seen what changed.
func (s *Store) SeeActivity(ctx context.Context, caseID, person, upTo int64) error {
	return translate(s.in(ctx).Exec("update members set seen = greatest(seen, ?) where case_id = ? and person_id = ?", upTo, caseID, person).Error, "member")
}

// CaseQuery chooses cases: with a text in their name, title, cause, evidence, comments or theories; with a program; with a person; open or closed.
type CaseQuery struct {
	Text, Program, Person, Failure string
	State                          string // open, closed, or empty
	Since, Until                   time.Time
	Most                           int
	After                          string // only cases after this one in the list
	Members                        int    // of each case that are listed
}

// OwnCase is a case with the role of a person in it.
type OwnCase struct {
	Case   `gorm:"embedded"`
	Role   string
	Called string
}

// FindCases lists the cases of a person that a query chooses, newest first; at most Most, if that is not 0.
func (s *Store) FindCases(ctx context.Context, person int64, q CaseQuery) (list []OwnCase, err error) {
	db := s.in(ctx).Table("cases").Preload("Closer").Select("cases.*, m.role, m.called").Joins("join members m on m.case_id = cases.id and m.person_id = ?", person)
	like := func(text string) string { return "%" + escapeLike(text) + "%" }
	if q.Text != "" {
		t := like(q.Text)
		db = db.Where(`cases.id in (select id from cases where name || ' ' || title || ' ' || cause ilike ? union select case_id from evidence where name || ' ' || program || ' ' || outcome ilike ?
			union select case_id from theories where text ilike ? union select case_id from comments where words @@ plainto_tsquery('simple', ?))`, t, t, t, q.Text)
	}
	if q.Program != "" {
		db = db.Where("cases.id in (select case_id from evidence where program = ?)", q.Program)
	}
	if q.Failure != "" {
		t := like(q.Failure)
		db = db.Where("cases.id in (select case_id from evidence where outcome ilike ? and name || ' ' || program || ' ' || outcome ilike ?)", t, t)
	}
	if q.Person != "" {
		p, err := s.PersonByName(ctx, q.Person)
		if errors.Is(err, fault.NotFound) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		db = db.Where("exists (select from members o where o.case_id = cases.id and o.person_id = ?)", p.ID) // the planner knows how many that are
	}
	switch q.State {
	case "open":
		db = db.Where("closed_at is null")
	case "closed":
		db = db.Where("closed_at is not null")
	}
	if !q.Since.IsZero() {
		db = db.Where("created_at >= ?", q.Since)
	}
	if !q.Until.IsZero() {
		db = db.Where("created_at < ?", q.Until)
	}
	if q.After != "" {
		db = db.Where("cases.id < (select case_id from members where person_id = ? and called = ? and not gone)", person, q.After)
	}
	if q.Most > 0 {
		db = db.Limit(q.Most)
	}
	if err := db.Order("cases.id desc").Find(&list).Error; err != nil {
		return nil, translate(err, "cases")
	}
	for i := range list {
		list[i].Name = list[i].Called
	}
	return list, s.fillMembers(ctx, list, q.Members)
}

// escapeLike escapes the wildcards of a like pattern.
func escapeLike(text string) string {
	out := make([]rune, 0, len(text))
	for _, r := range text {
		if r == '%' || r == '_' || r == '\\' {
			out = append(out, '\\')
		}
		out = append(out, r)
	}
	return string(out)
}
