package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/service/markdown"
	"wraithology/service/store"
)

const (
	mostWithValues = 100      // notices about one piece of evidence that have stack and values
	mostOfAnswer   = 64 << 10 // bytes of an answer in a notice
	frames         = 12       // frames of a stack in a notice
)

// arrival is evidence that people are told about.
type arrival struct {
	board    *Board
	evidence store.Evidence
	of       store.Case
	open     func() (replay.Recording, error)
	detailed int // notices with stack and values
}

// Arrived tells the members of a case, and its hooks, about evidence that has been checked: which checkpoints hit and which expectations break in it,
// and whether its failure has been seen before. Called again, it tells nothing twice. Members are told about another case only if they are
// members of both.
func (b *Board) Arrived(ctx context.Context, e store.Evidence, open func() (replay.Recording, error)) error {
	c, err := b.store.CaseByID(ctx, e.CaseID)
	if err != nil {
		return err
	}
	a := &arrival{board: b, evidence: e, of: c, open: open}
	for _, tell := range []func(context.Context) error{a.hits, a.breaks, a.recurs} {
		if err := tell(ctx); err != nil {
			return err
		}
	}
	return nil
}

// members returns the members of the case, or those who are members of another one too.
func (a *arrival) members(other store.Case) (ids []int64) {
	for _, m := range a.of.Members {
		if other.ID == a.of.ID || isMember(other, m.PersonID) {
			ids = append(ids, m.PersonID)
		}
	}
	return ids
}

// post tells members about the evidence; hooks are told what concerns the case alone.
func (a *arrival) post(ctx context.Context, kind string, about int64, subject string, d store.NoticeDetail, other store.Case) error {
	to := a.members(other)
	isOwn := other.ID == a.of.ID
	if len(to) == 0 && !isOwn {
		return nil
	}
	d.Text = strings.TrimSpace(a.context() + "\n\n" + d.Text)
	return a.board.post(ctx, store.Notice{CaseID: a.of.ID, EvidenceID: &a.evidence.ID, Kind: kind, About: about, Subject: subject, Detail: d}, to, isOwn)
}

// context says what the evidence is.
func (a *arrival) context() string {
	e := a.evidence
	text := fmt.Sprintf("Evidence %s: %s", markdown.Inline(e.Name), markdown.Escape(e.Kind))
	if e.Program != "" {
		text += " of " + markdown.Inline(e.Program)
	}
	if e.Host != "" {
		text += " on " + markdown.Inline(e.Host)
	}
	if e.Started.Year() > 1970 {
		text += ", started " + e.Started.UTC().Format("2006-01-02 15:04:05 MST")
	}
	text += ", added by " + markdown.Escape(e.Person.Name) + "."
	if e.Outcome != "" {
		text += " It ended: " + markdown.Escape(e.Outcome) + "."
	}
	return text
}

func (a *arrival) hits(ctx context.Context) error {
	counts, err := a.board.store.HitIn(ctx, a.evidence.ID)
	if err != nil || len(counts) == 0 {
		return err
	}
	list, err := a.board.store.CheckpointsOf(ctx, a.of.ID, store.Everybody)
	if err != nil {
		return err
	}
	byID := map[int64]store.Checkpoint{}
	for _, x := range list {
		byID[x.ID] = x
	}
	for _, n := range counts {
		x, ok := byID[n.CheckpointID]
		if !ok || !x.Enabled || x.Evidence != "" {
			continue // one on writes belongs to the evidence in which it was set
		}
		var d store.NoticeDetail
		r, err := a.open()
		if err != nil {
			return err
		}
		first, err := firstHit(ctx, r, x)
		if err != nil {
			d.Text = "Where it hits first is not known: " + markdown.Escape(err.Error())
		} else if d, err = a.detail(ctx, api.Place{Moment: first}, x.Show); err != nil {
			return err
		}
		if err := a.post(ctx, api.NoticeCheckpoint, x.ID, fmt.Sprintf("%s hits in %s, %s", checkpointText(x), a.evidence.Name, times(n.Hits)), d, a.of); err != nil {
			return err
		}
	}
	return nil
}

func checkpointText(x store.Checkpoint) string {
	text := strings.TrimSpace(x.Kind + " " + x.Place())
	if x.Condition != "" {
		text += " when " + x.Condition
	}
	return text
}

func times(n int64) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// firstHit finds the first hit of a checkpoint.
func firstHit(ctx context.Context, r replay.Recording, x store.Checkpoint) (at event.Moment, err error) {
	err = guard.Do(func() error {
		f, ok := r.(replay.Finder)
		if !ok {
			return fault.NoHistory
		}
		c, err := x.In(r, x.From())
		if err != nil {
			return err
		}
		hits, err := f.Hits(ctx, c, replay.Page{Count: 1})
		if err != nil {
			return err
		}
		if len(hits.Page) == 0 {
			return fault.NoHit
		}
		at = hits.Page[0]
		return nil
	})
	return at, err
}

func (a *arrival) breaks(ctx context.Context) error {
	list, err := a.board.store.BrokenOf(ctx, a.evidence.ID)
	if err != nil {
		return err
	}
	for _, x := range list {
		var d store.NoticeDetail
		if first := x.Check.Answer.First; first != nil {
			if d, err = a.detail(ctx, api.Place{Moment: first.Moment, Thread: first.Thread}, nil); err != nil {
				return err
			}
		}
		text := fmt.Sprintf("Expected at %s: %s", markdown.Inline(x.Expectation.Asked().Label()), markdown.Inline(x.Expectation.That))
		if x.Expectation.Note != "" {
			text += "; " + markdown.Escape(x.Expectation.Note)
		}
		if x.Case.ID != a.of.ID {
			text += fmt.Sprintf(". It is an expectation of case %s%s", markdown.Inline(x.Case.Name), closedWith(x.Case))
		}
		d.Text = text + ".\n\n" + d.Text
		subject := fmt.Sprintf("an expectation breaks in %s, %s: %s", a.evidence.Name, times(x.Check.Breaks), x.Expectation.That)
		if err := a.post(ctx, api.NoticeExpectation, x.Expectation.ID, subject, d, x.Case); err != nil {
			return err
		}
	}
	return nil
}

func closedWith(c store.Case) string {
	if c.ClosedAt == nil {
		return ""
	}
	return ", which was closed with the cause: " + markdown.Escape(c.Cause)
}

func (a *arrival) recurs(ctx context.Context) error {
	list, err := a.board.store.EarlierFailures(ctx, a.evidence)
	if err != nil {
		return err
	}
	for _, x := range list {
		isOwn, about := x.Case.ID == a.of.ID, x.Case.ID
		if len(a.members(x.Case)) == 0 && !isOwn {
			continue
		}
		d, err := a.detail(ctx, api.Place{Moment: event.NoMoment}, nil)
		if err != nil {
			return err
		}
		where := "this case"
		if !isOwn {
			where = "case " + markdown.Inline(x.Case.Name)
		}
		d.Text = fmt.Sprintf("The same failure is in %s of %s already, the last one %s%s.\n\n", pieces(x.Count), where, markdown.Inline(x.Evidence.Name), closedWith(x.Case)) + d.Text
		if err := a.post(ctx, api.NoticeFailure, about, fmt.Sprintf("a known failure again in %s: %s", a.evidence.Name, a.evidence.Outcome), d, x.Case); err != nil {
			return err
		}
	}
	return nil
}

func pieces(n int) string {
	if n == 1 {
		return "1 piece of evidence"
	}
	return fmt.Sprintf("%d pieces of evidence", n)
}

// detail asks for the stack and the values at a place, and for expressions. What cannot be answered is said in the text.
func (a *arrival) detail(ctx context.Context, at api.Place, show []string) (d store.NoticeDetail, err error) {
	r, err := a.open()
	if err != nil {
		return d, err
	}
	s := ask.Subject{Recording: r}
	place, err := ask.Place{Moment: at.Moment, Thread: at.Thread}.Resolve(r)
	if err != nil {
		d.Text = "The place is not known: " + markdown.Escape(err.Error())
		return d, ctx.Err()
	}
	d.Place = &api.Place{Moment: place.Moment, Thread: place.Thread, Frame: place.Frame}
	if a.detailed++; a.detailed > mostWithValues {
		d.Text = fmt.Sprintf("Stack and values are in the first %d notices about the evidence.", mostWithValues)
		return d, nil
	}
	add(ctx, s, &d, "stack", ask.StackRequest{Place: place, Frames: frames})
	add(ctx, s, &d, "values", ask.ValuesRequest{Place: place, Levels: 1, Width: 8})
	for _, e := range show {
		add(ctx, s, &d, "ask", ask.ExpressionRequest{Place: place, Expression: e})
	}
	return d, ctx.Err()
}

// add asks a question and puts the answer into a notice, or why there is none.
func add[Q ask.Request[A], A any](ctx context.Context, s ask.Subject, d *store.NoticeDetail, name string, q Q) {
	var request, answer []byte
	got, err := ask.Run(ctx, s, q)
	if err == nil {
		if request, err = json.Marshal(q); err == nil {
			answer, err = json.Marshal(got)
		}
	}
	if err == nil && len(answer) > mostOfAnswer {
		err = fmt.Errorf("the answer has %d bytes, a notice keeps %d", len(answer), mostOfAnswer)
	}
	if err != nil {
		d.Text = strings.TrimSpace(d.Text + fmt.Sprintf("\n\nNo %s: %s", markdown.Escape(name), markdown.Escape(err.Error())))
		return
	}
	d.Answers = append(d.Answers, api.Answered{Question: name, Request: request, Answer: answer})
}
