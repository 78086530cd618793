// Package notices decides what people and programs are told about a case, and sends it: by mail and by webhook.
package notices

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"wraithology/api"
	"wraithology/core/event"
	"wraithology/service/hooks"
	"wraithology/service/mail"
	"wraithology/service/markdown"
	"wraithology/service/report"
	"wraithology/service/store"
)

// Board keeps notices for those who are to be told.
type Board struct {
	store   *store.Store
	mail    *mail.Sender // nil if the service cannot send mail
	hooks   *hooks.Sender
	address string
	every   time.Duration
}

// Options are how a board sends. Without Mail the service sends no mail. Address is that of the service, for links. Every is the time between two
// deliveries to one receiver about a case; 0 for DefaultEvery.
type Options struct {
	Mail    *mail.Sender
	Hooks   *hooks.Sender
	Address string
	Every   time.Duration
}

// DefaultEvery is the usual time between two deliveries to one receiver about a case.
const DefaultEvery = 30 * time.Second

// New returns the board of a store.
func New(s *store.Store, o Options) *Board {
	return &Board{s, o.Mail, o.Hooks, strings.TrimSuffix(o.Address, "/"), cmp.Or(o.Every, DefaultEvery)}
}

// In returns the board of a store whose changes are made together.
func (b *Board) In(s *store.Store) *Board {
	in := *b
	in.store = s
	return &in
}

// CanMail reports whether the service can send mail.
func (b *Board) CanMail() bool { return b.mail != nil }

// Address is the address of the service.
func (b *Board) Address() string { return b.address }

// Hooks sends to webhooks.
func (b *Board) Hooks() *hooks.Sender { return b.hooks }

func (b *Board) post(ctx context.Context, n store.Notice, to []int64, withHooks bool) error {
	n.Subject = mail.Line(n.Subject)
	return b.store.PostNotice(ctx, &n, store.Receivers{People: to, WithHooks: withHooks, WithMail: b.CanMail()})
}

// Mention tells people that a comment mentions them.
func (b *Board) Mention(ctx context.Context, c store.Case, x store.Comment, to []int64) error {
	if len(to) == 0 {
		return nil
	}
	return b.post(ctx, said(c, x, api.NoticeMention, x.Person.Name+" mentions you: "+x.Text), to, false)
}

// HandOver tells people that a case is handed over to them; the note is a comment.
func (b *Board) HandOver(ctx context.Context, c store.Case, x store.Comment, to []int64) error {
	return b.post(ctx, said(c, x, api.NoticeHandOver, x.Person.Name+" hands the case over"), to, false)
}

func said(c store.Case, x store.Comment, kind, subject string) store.Notice {
	n := store.Notice{CaseID: c.ID, EvidenceID: x.EvidenceID, PersonID: &x.PersonID, Kind: kind, About: x.Number, Subject: subject, Detail: store.NoticeDetail{Text: x.Text}}
	if x.Moment != nil {
		n.Detail.Place = &api.Place{Moment: event.Moment(*x.Moment), Thread: event.ThreadID(x.Thread), Frame: x.Frame}
	}
	return n
}

// Invite tells a person that somebody has added them to a case. Who adds oneself needs not be told.
func (b *Board) Invite(ctx context.Context, c store.Case, by, who store.Person, role string) error {
	if by.ID == who.ID {
		return nil
	}
	title := c.Title
	if title == "" {
		title = c.Name
	}
	text := fmt.Sprintf("The case is %s. Your role is %s.", markdown.Inline(title), role)
	return b.post(ctx, store.Notice{CaseID: c.ID, PersonID: &by.ID, Kind: api.NoticeInvitation, About: who.ID, Subject: by.Name + " added you to the case", Detail: store.NoticeDetail{Text: text}}, []int64{who.ID}, false)
}

// Notice returns a notice as clients see it.
func (b *Board) Notice(n store.Notice, caseName string) api.Notice {
	out := api.Notice{ID: n.ID, Kind: n.Kind, Case: caseName, At: n.At, Subject: n.Subject, Place: n.Detail.Place, Answers: n.Detail.Answers}
	if n.Evidence != nil {
		out.Evidence = n.Evidence.Name
	}
	if n.Person != nil {
		out.By = n.Person.Name
	}
	out.Link = b.link(n, caseName)
	var text strings.Builder
	writeDetail(&text, n)
	out.Markdown = text.String()
	out.HTML = markdown.HTML(out.Markdown)
	return out
}

// link returns the address of the page that a notice is about.
func (b *Board) link(n store.Notice, caseName string) string {
	to := b.address + "/cases/" + url.PathEscape(caseName)
	switch {
	case n.Evidence != nil && n.Detail.Place != nil:
		p := n.Detail.Place
		return fmt.Sprintf("%s/%s?moment=%d&thread=%s&frame=%d", to, url.PathEscape(n.Evidence.Name), p.Moment, p.Thread, p.Frame)
	case n.Evidence != nil:
		return to + "/" + url.PathEscape(n.Evidence.Name)
	case n.Kind == api.NoticeMention, n.Kind == api.NoticeHandOver:
		return fmt.Sprintf("%s/-/notes#comment-%d", to, n.About)
	}
	return to
}

// writeDetail writes what a notice says beside its subject.
func writeDetail(b *strings.Builder, n store.Notice) {
	if n.Detail.Text != "" {
		b.WriteString(n.Detail.Text + "\n\n")
	}
	for _, x := range n.Detail.Answers {
		fmt.Fprintf(b, "%s at %s\n\n%s\n", markdown.Escape(x.Question), markdown.Escape(fmt.Sprintf("%s@%d#%s.%d", n.Evidence.Name, n.Detail.Place.Moment, n.Detail.Place.Thread, n.Detail.Place.Frame)),
			report.Exhibit(x.Question, string(x.Request), string(x.Answer)))
	}
}

// mostDetailed limits the notices of a mail that are written in full; the others have a line each.
const mostDetailed = 20

// message writes the mail of a delivery.
func (b *Board) message(d store.Delivery, list []store.Notice) mail.Message {
	m := mail.Message{To: d.Person.Mail, Key: d.Key, Thread: fmt.Sprintf("case-%d", d.CaseID), Subject: fmt.Sprintf("[%s] %s", d.Case.Name, list[0].Subject)}
	var text strings.Builder
	if len(list) > 1 {
		m.Subject = fmt.Sprintf("[%s] %d notices: %s", d.Case.Name, len(list), list[0].Subject)
		fmt.Fprintf(&text, "%d notices about case %s.\n\n", len(list), markdown.Inline(d.Case.Name))
	}
	for i, n := range list[:min(len(list), mostDetailed)] {
		if len(list) > 1 {
			fmt.Fprintf(&text, "## %d. %s\n\n", i+1, markdown.Escape(n.Subject))
		} else {
			fmt.Fprintf(&text, "%s.\n\n", markdown.Escape(n.Subject))
		}
		writeDetail(&text, n)
		fmt.Fprintf(&text, "Open it: <%s>\n\n", b.link(n, d.Case.Name))
	}
	if len(list) > mostDetailed {
		text.WriteString("And:\n\n")
		for _, n := range list[mostDetailed:] {
			fmt.Fprintf(&text, "- %s: <%s>\n", markdown.Escape(n.Subject), b.link(n, d.Case.Name))
		}
		text.WriteByte('\n')
	}
	fmt.Fprintf(&text, "You are a member of case %s. Its page of notices switches these mails off: <%s/cases/%s/-/notices>\n", markdown.Inline(d.Case.Name), b.address, url.PathEscape(d.Case.Name))
	m.Text = markdown.Plain(text.String())
	m.HTML = "<!DOCTYPE html><meta charset=\"utf-8\">" + markdown.HTML(text.String())
	return m
}

const (
	settles  = 2 * time.Second // that notices are gathered for, at most
	mostSent = 500             // notices of a delivery
)

// Gather puts the notices that wait into deliveries and returns the IDs of those: at most 500 notices for one receiver, two seconds after the
// first one, and one delivery in the time of Options.Every about one case, unless more than 500 wait.
func (b *Board) Gather(ctx context.Context) (ids []int64, err error) {
	list, err := b.store.PendingNotices(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		now := time.Now()
		if p.Count < mostSent && (now.Sub(p.Oldest) < min(settles, b.every) || p.Last != nil && now.Sub(*p.Last) < b.every) {
			continue
		}
		d, err := b.store.MakeDelivery(ctx, p, mostSent)
		if err != nil {
			return ids, err
		}
		if d.ID != 0 {
			ids = append(ids, d.ID)
		}
	}
	return ids, nil
}

func isMember(c store.Case, person int64) bool {
	return slices.ContainsFunc(c.Members, func(m store.Member) bool { return m.PersonID == person })
}
