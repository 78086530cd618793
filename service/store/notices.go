package store

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"wraithology/api"
)

// Notice is something that people and programs are told once. About is the checkpoint, expectation, case, comment or person that the
// kind is about.
type Notice struct {
	ID         int64
	CaseID     int64
	Case       Case
	EvidenceID *int64
	Evidence   *Evidence
	PersonID   *int64
	Person     *Person
	Kind       string
	About      int64
	At         time.Time
	Subject    string
	Detail     NoticeDetail `gorm:"serializer:json"`
}

// NoticeDetail is what a notice says beside its subject, as it was when it was made.
type NoticeDetail struct {
	Text    string         `json:"text,omitempty"` // Markdown
	Place   *api.Place     `json:"place,omitempty"`
	Answers []api.Answered `json:"answers,omitempty"`
}

// Hook is an address of another program that is told what arrives in a case. Ended is why nothing is sent to it any more.
type Hook struct {
	ID        int64
	CaseID    int64
	PersonID  int64
	Person    Person
	CreatedAt time.Time
	URL       string `gorm:"column:url"`
	Secret    string
	Kinds     []string `gorm:"serializer:json"`
	Ended     string
}

// Delivery is a mail to a person, or a request to a hook, with one or more notices. Key is the same at each attempt.
type Delivery struct {
	ID        int64
	Key       string
	CaseID    int64
	Case      Case
	PersonID  *int64
	Person    *Person
	HookID    *int64
	Hook      *Hook
	CreatedAt time.Time
	SentAt    *time.Time
	GivenUpAt *time.Time
	Attempts  int
	Trouble   string
}

// Receivers are who is told: members of the case, and its hooks if WithHooks is set. WithMail is set if the service can send mail.
type Receivers struct {
	People    []int64
	WithHooks bool
	WithMail  bool
}

// PostNotice keeps a notice for its receivers. It does nothing if there is one about the same thing already.
func (s *Store) PostNotice(ctx context.Context, n *Notice, to Receivers) error {
	n.At = time.Now()
	return translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		var have int64
		same := tx.Model(&Notice{}).Where("case_id = ? and kind = ? and about = ? and evidence_id is not distinct from ?", n.CaseID, n.Kind, n.About, n.EvidenceID)
		if err := same.Count(&have).Error; err != nil || have > 0 {
			return err
		}
		if err := tx.Omit("Case", "Evidence", "Person").Create(n).Error; err != nil {
			return err
		}
		err := tx.Exec(`insert into notice_receivers (notice_id, person_id, is_sent) select ?, m.person_id, ? and m.mailed and p.mail <> ''
			from members m join people p on p.id = m.person_id where m.case_id = ? and m.person_id in ?`, n.ID, to.WithMail, n.CaseID, to.People).Error
		if err != nil || !to.WithHooks {
			return err
		}
		return tx.Exec(`insert into notice_receivers (notice_id, hook_id, is_sent) select ?, id, true from hooks
			where case_id = ? and ended = '' and (kinds = '[]' or jsonb_exists(kinds::jsonb, ?))`, n.ID, n.CaseID, n.Kind).Error
	}), "notice")
}

// NoticesOf lists a page of the notices of a case that a person has received.
func (s *Store) NoticesOf(ctx context.Context, caseID, person int64, p Page) ([]Notice, error) {
	db := s.in(ctx).Preload("Evidence").Preload("Person").Where("case_id = ? and id in (select notice_id from notice_receivers where person_id = ?)", caseID, person)
	return paged[Notice](db, p, "notices")
}

// Pending is how many notices wait for being sent to a receiver, since when, and when the receiver was sent something about the case last.
type Pending struct {
	CaseID   int64
	PersonID *int64
	HookID   *int64
	Count    int
	Oldest   time.Time
	Last     *time.Time
}

// PendingNotices lists the receivers for whom notices wait.
func (s *Store) PendingNotices(ctx context.Context) (list []Pending, err error) {
	err = s.in(ctx).Raw(`select p.*, (select max(d.created_at) from deliveries d
			where d.case_id = p.case_id and d.person_id is not distinct from p.person_id and d.hook_id is not distinct from p.hook_id) as last
		from (select n.case_id, r.person_id, r.hook_id, count(*) as count, min(n.at) as oldest from notice_receivers r join notices n on n.id = r.notice_id
			where r.is_sent and r.delivery_id is null group by 1, 2, 3) p`).Scan(&list).Error
	return list, translate(err, "notices")
}

// MakeDelivery puts the oldest notices that wait for a receiver, at most most, into a delivery. Its ID is 0 if none waits any more.
func (s *Store) MakeDelivery(ctx context.Context, p Pending, most int) (d Delivery, err error) {
	return d, translate(s.in(ctx).Transaction(func(tx *gorm.DB) error {
		var ids []int64
		err := tx.Raw(`select r.id from notice_receivers r join notices n on n.id = r.notice_id
			where r.is_sent and r.delivery_id is null and n.case_id = ? and r.person_id is not distinct from ? and r.hook_id is not distinct from ?
			order by r.id limit ? for update of r skip locked`, p.CaseID, p.PersonID, p.HookID, most).Scan(&ids).Error
		if err != nil || len(ids) == 0 {
			return err
		}
		d = Delivery{Key: strings.ToLower(rand.Text()), CaseID: p.CaseID, PersonID: p.PersonID, HookID: p.HookID, CreatedAt: time.Now()}
		if err := tx.Omit("Case", "Person", "Hook").Create(&d).Error; err != nil {
			return err
		}
		return tx.Exec("update notice_receivers set delivery_id = ? where id in ?", d.ID, ids).Error
	}), "delivery")
}

// UnsentDeliveries lists the deliveries that are still to be sent.
func (s *Store) UnsentDeliveries(ctx context.Context) (ids []int64, err error) {
	return ids, translate(s.in(ctx).Model(&Delivery{}).Where("sent_at is null and given_up_at is null").Order("id").Pluck("id", &ids).Error, "deliveries")
}

// DeliveryByID finds a delivery and its notices, oldest first.
func (s *Store) DeliveryByID(ctx context.Context, id int64) (d Delivery, list []Notice, err error) {
	if err := s.in(ctx).Preload("Case.Members").Preload("Person").Preload("Hook").Take(&d, id).Error; err != nil {
		return d, nil, translate(err, fmt.Sprintf("delivery %d", id))
	}
	return d, list, translate(s.in(ctx).Preload("Evidence.Person").Preload("Person").Where("id in (select notice_id from notice_receivers where delivery_id = ?)", id).Order("id").Find(&list).Error, "notices")
}

// SentDelivery notes that a delivery has been sent.
func (s *Store) SentDelivery(ctx context.Context, id int64) error {
	return translate(s.in(ctx).Model(&Delivery{}).Where("id = ?", id).Updates(map[string]any{"sent_at": time.Now(), "attempts": gorm.Expr("attempts + 1"), "trouble": ""}).Error, "delivery")
}

// FailedDelivery notes why a delivery could not be sent, and whether that is final.
func (s *Store) FailedDelivery(ctx context.Context, id int64, trouble string, isFinal bool) error {
	change := map[string]any{"attempts": gorm.Expr("attempts + 1"), "trouble": trouble}
	if isFinal {
		change["given_up_at"] = time.Now()
	}
	return translate(s.in(ctx).Model(&Delivery{}).Where("id = ?", id).Updates(change).Error, "delivery")
}

// LastDeliveries returns the latest delivery of each hook of a case, by hook.
func (s *Store) LastDeliveries(ctx context.Context, caseID int64) (map[int64]Delivery, error) {
	var list []Delivery
	err := s.in(ctx).Raw("select distinct on (hook_id) * from deliveries where case_id = ? and hook_id is not null order by hook_id, id desc", caseID).Scan(&list).Error
	out := map[int64]Delivery{}
	for _, d := range list {
		out[*d.HookID] = d
	}
	return out, translate(err, "deliveries")
}

// SetMail sets the mail address of a person; empty for none.
func (s *Store) SetMail(ctx context.Context, person int64, address string) error {
	return translate(s.in(ctx).Exec("update people set mail = ? where id = ?", address, person).Error, "person")
}

// MailMember sets whether a member is mailed what happens in a case.
func (s *Store) MailMember(ctx context.Context, caseID, person int64, isMailed bool) error {
	return translate(s.in(ctx).Exec("update members set mailed = ? where case_id = ? and person_id = ?", isMailed, caseID, person).Error, "member")
}

// AddHook adds a hook.
func (s *Store) AddHook(ctx context.Context, x *Hook) error {
	x.CreatedAt = time.Now()
	if x.Kinds == nil {
		x.Kinds = []string{}
	}
	return translate(s.in(ctx).Omit("Person").Create(x).Error, "webhook")
}

// HooksOf lists a case's hooks, oldest first.
func (s *Store) HooksOf(ctx context.Context, caseID int64) (list []Hook, err error) {
	return list, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Order("id").Find(&list).Error, "webhooks")
}

// HookByID finds a hook of a case.
func (s *Store) HookByID(ctx context.Context, caseID, id int64) (x Hook, err error) {
	return x, translate(s.in(ctx).Preload("Person").Where("case_id = ?", caseID).Take(&x, id).Error, fmt.Sprintf("webhook %d", id))
}

// EndHook stops sending to a hook, and says why.
func (s *Store) EndHook(ctx context.Context, id int64, why string) error {
	return translate(s.in(ctx).Model(&Hook{}).Where("id = ?", id).Update("ended", why).Error, "webhook")
}

// DeleteHook deletes a hook of a case.
func (s *Store) DeleteHook(ctx context.Context, caseID, id int64) error {
	return s.deleteOf(ctx, &Hook{}, caseID, "id", id, "webhook")
}

// Recurrence is evidence that ended with the same failure earlier, the newest of its case, with their number in that case.
type Recurrence struct {
	Evidence Evidence
	Case     Case
	Count    int
}

// mostRecurrences limits the cases that are looked at for an earlier failure: the newest ones.
const mostRecurrences = 20

// Arrived notes that people have been told of evidence.
func (s *Store) Arrived(ctx context.Context, evidence int64) error {
	return translate(s.in(ctx).Exec("update evidence set has_arrived = true where id = ?", evidence).Error, "evidence")
}

// EarlierFailures finds evidence that people have been told of before other evidence and that has the same failure, by case: at most 20 cases, the newest first.
func (s *Store) EarlierFailures(ctx context.Context, e Evidence) (out []Recurrence, err error) {
	if e.Fingerprint == "" {
		return nil, nil
	}
	var found []struct {
		Last  int64
		Count int
	}
	err = s.in(ctx).Raw("select max(id) as last, count(*) as count from evidence where fingerprint = ? and id <> ? and has_arrived group by case_id order by 1 desc limit ?", e.Fingerprint, e.ID, mostRecurrences).Scan(&found).Error
	if err != nil {
		return nil, translate(err, "evidence")
	}
	for _, x := range found {
		r := Recurrence{Count: x.Count}
		if r.Evidence, err = s.EvidenceByID(ctx, x.Last); err != nil {
			return nil, err
		}
		if err := s.in(ctx).Preload("Members").Preload("Closer").Take(&r.Case, r.Evidence.CaseID).Error; err != nil {
			return nil, translate(err, "case")
		}
		out = append(out, r)
	}
	return out, nil
}

// CaseByID finds a case with its members.
func (s *Store) CaseByID(ctx context.Context, id int64) (c Case, err error) {
	return c, translate(s.in(ctx).Preload("Members.Person").Preload("Closer").Take(&c, id).Error, fmt.Sprintf("case %d", id))
}

// BrokenOf lists the expectations, as they are now, that break in evidence, with the case of each.
func (s *Store) BrokenOf(ctx context.Context, evidence int64) ([]Elsewhere, error) {
	var checks []Check
	err := s.in(ctx).Table("checks").Select("checks.*").Joins("join expectations x on x.id = checks.expectation_id and x.version = checks.version").
		Where("checks.evidence_id = ? and checks.breaks > 0", evidence).Order("x.id").Find(&checks).Error
	if err != nil {
		return nil, translate(err, "checks")
	}
	expectations, cases := map[int64]Expectation{}, map[int64]Case{}
	for _, x := range checks {
		expectations[x.ExpectationID] = Expectation{}
	}
	if err := fill(s, ctx, expectations, func(x Expectation) int64 { return x.ID }); err != nil {
		return nil, err
	}
	var out []Elsewhere
	for _, x := range checks {
		of := expectations[x.ExpectationID]
		if _, ok := cases[of.CaseID]; !ok {
			if cases[of.CaseID], err = s.CaseByID(ctx, of.CaseID); err != nil {
				return nil, err
			}
		}
		out = append(out, Elsewhere{Check: x, Expectation: of, Case: cases[of.CaseID]})
	}
	return out, nil
}

// HitIn lists the counts of the checkpoints of a case, as they are now, that hit in evidence.
func (s *Store) HitIn(ctx context.Context, evidence int64) (list []Count, err error) {
	return list, translate(s.in(ctx).Select("counts.*").Joins("join checkpoints x on x.id = counts.checkpoint_id and x.version = counts.version").
		Where("counts.evidence_id = ? and counts.hits > 0", evidence).Order("x.id").Find(&list).Error, "counts")
}
