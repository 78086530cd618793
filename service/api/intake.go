package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/replay"
	"wraithology/service/store"
)

// labelInput names what a sender is for.
type labelInput struct {
	Body struct {
		Label string `json:"label" minLength:"1" maxLength:"200"`
	}
}

// TracesInput says which traces are meant.
type TracesInput struct {
	When  string `query:"when"`
	From  int    `query:"from" minimum:"0"`
	Count int    `query:"count" minimum:"0" maximum:"1000" default:"20"`
}

func (t TracesInput) query() answer.TracesQuery {
	return answer.TracesQuery{When: t.When, From: t.From, Count: t.Count}
}

func (a *api) intakeRoutes(h huma.API) {
	a.senderRoutes(h)
	route(h, a, "GET", evidencePath+"traces", "traces", "The traces of evidence, newest first", func(ctx context.Context, in *struct {
		EvidenceInput
		TracesInput
	}) (*body[answer.Traces], error) {
		r, _, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		list, err := answer.TracesOf(ctx, r, in.query())
		return &body[answer.Traces]{list}, err
	})
	route(h, a, "GET", "/api/cases/{case}/traces", "caseTraces", "The traces of all evidence of a case, newest first", func(ctx context.Context, in *struct {
		CaseInput
		TracesInput
	}) (*body[answer.Traces], error) {
		list, err := a.caseTraces(ctx, in.Case, in.query())
		return &body[answer.Traces]{list}, err
	})
	route(h, a, "GET", "/api/cases/{case}/traces/{id}", "caseTrace", "Where a trace is: its parts in all evidence of a case", func(ctx context.Context, in *struct {
		CaseInput
		ID string `path:"id" minLength:"1" maxLength:"32" doc:"the trace's ID, or its beginning"`
	}) (*body[answer.Traces], error) {
		list, err := a.caseTrace(ctx, in.Case, in.ID)
		return &body[answer.Traces]{list}, err
	})
	route(h, a, "GET", evidencePath+"trace", "trace", "The spans of a trace, by its ID or by a moment in it", func(ctx context.Context, in *struct {
		PlaceInput
		ID string `query:"id" maxLength:"32"`
	}) (*body[answer.Spans], error) {
		r, m, t, err := a.at(ctx, in.PlaceInput)
		if err != nil {
			return nil, err
		}
		list, err := answer.SpansOf(ctx, r, in.ID, m, t)
		return &body[answer.Spans]{list}, err
	})
	route(h, a, "GET", evidencePath+"messages", "messages", "What was said around a moment", func(ctx context.Context, in *struct {
		PlaceInput
		Of     string `query:"of" enum:"all,thread,trace" default:"all" doc:"of a trace, they are gathered from all evidence of the case"`
		Before int    `query:"before" minimum:"0" maximum:"500" default:"30"`
		After  int    `query:"after" minimum:"0" maximum:"500" default:"30"`
	}) (*body[answer.Messages], error) {
		r, own, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		m, t, err := answer.Resolve(r, event.Moment(in.Moment), event.ThreadID(in.Thread))
		if err != nil {
			return nil, err
		}
		var others []answer.Beside
		if in.Of == "trace" {
			if others, err = a.beside(ctx, own); err != nil {
				return nil, err
			}
		}
		list, err := answer.MessagesAround(ctx, r, m, t, answer.MessagesQuery{Of: in.Of, Before: in.Before, After: in.After}, time.Duration(own.ClockOffsetNs), others)
		return &body[answer.Messages]{list}, err
	})
	route(h, a, "GET", evidencePath+"instant", "instant", "What is at the same instant in the case's other evidence", func(ctx context.Context, in *PlaceInput) (*body[answer.Instant], error) {
		out, err := a.instant(ctx, *in)
		return &body[answer.Instant]{out}, err
	})
	route(h, a, "PUT", evidencePath+"offset", "setOffset", "Say how far the evidence's clock is behind the case's", func(ctx context.Context, in *struct {
		EvidenceInput
		Body struct {
			OffsetNs int64 `json:"offsetNs"`
		}
	}) (*body[client.EvidenceInfo], error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		e, err := a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
		if err != nil {
			return nil, err
		}
		if err := a.Store.SetOffset(ctx, e.ID, in.Body.OffsetNs); err != nil {
			return nil, err
		}
		e.ClockOffsetNs = in.Body.OffsetNs
		return &body[client.EvidenceInfo]{evidenceOf(e)}, a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf("set the clock of %s %s later", e.Name, time.Duration(in.Body.OffsetNs)))
	})
	route(h, a, "GET", evidencePath+"alike", "alike", "Evidence with the same failure, in all of the person's cases", func(ctx context.Context, in *EvidenceInput) (*body[[]client.Alike], error) {
		c, err := a.caseFor(ctx, in.Case, mayLook)
		if err != nil {
			return nil, err
		}
		e, err := a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
		out := []client.Alike{}
		if err != nil || e.Fingerprint == "" {
			return &body[[]client.Alike]{out}, err
		}
		list, err := a.Store.EvidenceAlike(ctx, e.Fingerprint, who(ctx).ID, e.ID)
		for _, x := range list {
			out = append(out, client.Alike{Case: x.CaseName, Evidence: evidenceOf(x.Evidence)})
		}
		return &body[[]client.Alike]{out}, err
	})
	route(h, a, "POST", evidencePath+"move", "moveEvidence", "Move evidence to another case", func(ctx context.Context, in *struct {
		EvidenceInput
		Body struct {
			To string `json:"to" minLength:"1"`
		}
	}) (*body[client.EvidenceInfo], error) {
		e, err := a.move(ctx, in.Case, in.Evidence, in.Body.To)
		return &body[client.EvidenceInfo]{evidenceOf(e)}, err
	})
}

func (a *api) senderRoutes(h huma.API) {
	const path = "/api/cases/{case}/senders"
	route(h, a, "GET", path, "senders", "The tokens that may send spans and logs into a case, newest first", func(ctx context.Context, in *CaseInput) (*body[[]client.Sender], error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.SendersOf(ctx, c.ID)
		out := []client.Sender{}
		for _, s := range list {
			out = append(out, client.Sender{ID: s.ID, Case: c.Name, Label: s.Label, By: s.Person.Name, Created: s.CreatedAt})
		}
		return &body[[]client.Sender]{out}, err
	})
	route(h, a, "POST", path, "newSender", "Make a token with which programs send spans and logs into a case", func(ctx context.Context, in *struct {
		CaseInput
		labelInput
	}) (*body[client.Sender], error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		s, err := a.newSender(ctx, c, in.Body.Label)
		return &body[client.Sender]{s}, err
	}, created)
	route(h, a, "POST", "/api/inbox/senders", "newInboxSender", "Make a token with which programs send into the person's inbox", func(ctx context.Context, in *labelInput) (*body[client.Sender], error) {
		c, err := a.inbox(ctx)
		if err != nil {
			return nil, err
		}
		s, err := a.newSender(ctx, c, in.Body.Label)
		return &body[client.Sender]{s}, err
	}, created)
	route(h, a, "DELETE", path+"/{sender}", "deleteSender", "Take a sender's token away", func(ctx context.Context, in *struct {
		CaseInput
		Sender int64 `path:"sender"`
	}) (*struct{}, error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		if err := a.Store.DeleteSender(ctx, c.ID, in.Sender); err != nil {
			return nil, err
		}
		return nil, a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf("took the token of sender %d away", in.Sender))
	})
}

func (a *api) newSender(ctx context.Context, c store.Case, label string) (client.Sender, error) {
	x, secret, err := a.Accounts.NewSender(ctx, c.ID, who(ctx).ID, label)
	if err != nil {
		return client.Sender{}, err
	}
	return client.Sender{ID: x.ID, Case: c.Name, Label: label, By: who(ctx).Name, Created: x.CreatedAt, Secret: secret}, a.Store.Note(ctx, c.ID, who(ctx).ID, "made a token to send with: "+label)
}

// inbox returns the case that takes what belongs to no case yet, which it opens at
// the first time.
func (a *api) inbox(ctx context.Context) (store.Case, error) {
	name := "inbox-" + strings.ToLower(strings.ReplaceAll(who(ctx).Name, ".", "-"))
	c, err := a.caseFor(ctx, name, mayLead)
	if !errors.Is(err, store.ErrNotFound) {
		return c, err
	}
	c = store.Case{Name: name, Title: "Inbox of " + who(ctx).Name}
	if err := a.Store.AddCase(ctx, &c, who(ctx).ID); err != nil {
		return c, err
	}
	return c, a.Store.Note(ctx, c.ID, who(ctx).ID, "opened the inbox")
}

// caseTraces lists the traces of all evidence of a case together.
func (a *api) caseTraces(ctx context.Context, caseName string, q answer.TracesQuery) (answer.Traces, error) {
	out := answer.Traces{Traces: []answer.Trace{}}
	part := answer.TracesQuery{When: q.When, Count: q.From + q.Count} // as many of each may be among the newest
	err := a.eachTraced(ctx, caseName, func(e store.Evidence, r replay.Replay) error {
		some, err := answer.TracesOf(ctx, r, part)
		if err != nil {
			out.Trouble = cmp.Or(out.Trouble, e.Name+": "+err.Error())
			if q.When != "" { // a name that these traces do not have
				return nil
			}
			return err
		}
		out.Total += some.Total
		out.Undecided += some.Undecided
		out.Trouble = cmp.Or(out.Trouble, some.Trouble)
		for _, t := range some.Traces {
			t.Evidence = e.Name
			out.Traces = append(out.Traces, t)
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	slices.SortStableFunc(out.Traces, func(x, y answer.Trace) int { return y.Started.Compare(x.Started) })
	from, to := replay.Page{From: q.From, Count: q.Count}.Cut(len(out.Traces))
	out.Traces = out.Traces[from:to]
	return out, nil
}

// caseTrace finds the parts of a trace in all evidence of a case, the first first.
func (a *api) caseTrace(ctx context.Context, caseName, id string) (answer.Traces, error) {
	out := answer.Traces{Traces: []answer.Trace{}}
	err := a.eachTraced(ctx, caseName, func(e store.Evidence, r replay.Replay) error { return answer.PiecesOf(r, e.Name, id, &out) })
	if err != nil {
		return out, err
	}
	if out.Total == 0 {
		return out, fmt.Errorf("%s: %w in the evidence of case %s", id, replay.ErrNoTraces, caseName)
	}
	slices.SortStableFunc(out.Traces, func(x, y answer.Trace) int { return x.Started.Compare(y.Started) })
	return out, nil
}

// eachTraced goes through the evidence of a case that has traces.
func (a *api) eachTraced(ctx context.Context, caseName string, do func(store.Evidence, replay.Replay) error) error {
	c, err := a.caseFor(ctx, caseName, mayLook)
	if err != nil {
		return err
	}
	list, err := a.Store.EvidenceOf(ctx, c.ID)
	if err != nil {
		return err
	}
	some := false
	for _, e := range list {
		if e.Kind != string(evidence.EventTrace) || e.State != client.StateReady {
			continue
		}
		r, err := a.Recordings.Open(ctx, e, nil)
		if err != nil {
			return err
		}
		if _, ok := replay.AsTracer(r); !ok {
			continue // logs alone
		}
		some = true
		if err := do(e, r); err != nil {
			return err
		}
	}
	if !some {
		return fmt.Errorf("case %s: %w: it has no event trace that is ready", caseName, replay.ErrNoTraces)
	}
	return nil
}

// instant finds what is at the same instant in the case's other evidence.
func (a *api) instant(ctx context.Context, in PlaceInput) (answer.Instant, error) {
	r, own, err := a.recording(ctx, in.Case, in.Evidence)
	if err != nil {
		return answer.Instant{}, err
	}
	m, _, err := answer.Resolve(r, event.Moment(in.Moment), event.ThreadID(in.Thread))
	if err != nil {
		return answer.Instant{}, err
	}
	others, err := a.beside(ctx, own)
	if err != nil {
		return answer.Instant{}, err
	}
	return answer.InstantOf(ctx, r, m, time.Duration(own.ClockOffsetNs), others)
}

// beside opens the other evidence of a case.
func (a *api) beside(ctx context.Context, own store.Evidence) (others []answer.Beside, err error) {
	list, err := a.Store.EvidenceOf(ctx, own.CaseID)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if e.ID == own.ID || e.State != client.StateReady {
			continue
		}
		x, err := a.Recordings.Open(ctx, e, nil)
		if err != nil {
			continue // what cannot be read any more does not hide the rest
		}
		others = append(others, answer.Beside{Name: e.Name, Replay: x, Offset: time.Duration(e.ClockOffsetNs)})
	}
	return others, nil
}

// move moves evidence to another case in which the person may work.
func (a *api) move(ctx context.Context, from, name, to string) (store.Evidence, error) {
	c, err := a.caseFor(ctx, from, mayWork)
	if err != nil {
		return store.Evidence{}, err
	}
	target, err := a.caseFor(ctx, to, mayWork)
	if err != nil {
		return store.Evidence{}, err
	}
	e, err := a.Store.EvidenceByName(ctx, c.ID, name)
	if err != nil {
		return e, err
	}
	if err := a.Store.MoveEvidence(ctx, e, target.ID); err != nil {
		return e, err
	}
	return e, errors.Join(a.Store.Note(ctx, c.ID, who(ctx).ID, "moved "+name+" to "+to), a.Store.Note(ctx, target.ID, who(ctx).ID, "took "+name+" from "+from))
}
