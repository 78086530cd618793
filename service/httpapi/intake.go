package httpapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/service/accounts"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

// labelInput names what a sender is for.
type labelInput struct {
	Body struct {
		Label string `json:"label" minLength:"1" maxLength:"200"`
	}
}

// TracesInput selects traces. It has the fields of ask.TracesRequest.
type TracesInput struct {
	When  string `query:"when" maxLength:"2000"`
	From  int    `query:"from" minimum:"0"`
	Count int    `query:"count" minimum:"0" maximum:"1000" default:"20"`
}

func (a *server) intakeRoutes(h huma.API) {
	a.senderRoutes(h)
	route(h, a, "GET", "/api/cases/{case}/traces", "caseTraces", "The traces of all evidence of a case, newest first", func(ctx context.Context, in *struct {
		CaseInput
		TracesInput
	}) (*body[ask.Traces], error) {
		list, err := a.caseTraces(ctx, in.Case, ask.TracesRequest(in.TracesInput))
		return &body[ask.Traces]{list}, err
	})
	route(h, a, "GET", "/api/cases/{case}/traces/{id}", "caseTrace", "Where a trace is: its parts in all evidence of a case", func(ctx context.Context, in *struct {
		CaseInput
		ID string `path:"id" minLength:"1" maxLength:"32" doc:"the trace's ID, or its beginning"`
	}) (*body[ask.Traces], error) {
		list, err := a.caseTrace(ctx, in.Case, in.ID)
		return &body[ask.Traces]{list}, err
	})
	route(h, a, "PUT", evidencePath+"offset", "setOffset", "Say how far the evidence's clock is behind the case's", a.setOffset)
	route(h, a, "GET", evidencePath+"alike", "alike", "Evidence with the same failure, in all of the person's cases", a.alike)
	route(h, a, "POST", evidencePath+"move", "moveEvidence", "Move evidence to another case", func(ctx context.Context, in *struct {
		EvidenceInput
		Body struct {
			To string `json:"to" minLength:"1"`
		}
	}) (*body[api.EvidenceInfo], error) {
		e, err := a.move(ctx, in.Case, in.Evidence, in.Body.To)
		return &body[api.EvidenceInfo]{evidenceOf(e)}, err
	})
}

// OffsetInput says how far evidence's clock is behind, in nanoseconds.
type OffsetInput struct {
	EvidenceInput
	Body struct {
		OffsetNs int64 `json:"offsetNs"`
	}
}

func (a *server) setOffset(ctx context.Context, in *OffsetInput) (*body[api.EvidenceInfo], error) {
	c, e, err := a.evidenceFor(ctx, in.EvidenceInput)
	if err != nil {
		return nil, err
	}
	e.ClockOffsetNs = in.Body.OffsetNs
	err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("set the clock of %s %s later", e.Name, time.Duration(in.Body.OffsetNs)), s.SetOffset(ctx, e.ID, in.Body.OffsetNs)
	})
	return &body[api.EvidenceInfo]{evidenceOf(e)}, err
}

func (a *server) alike(ctx context.Context, in *EvidenceInput) (*body[[]api.Alike], error) {
	_, e, err := a.evidenceFor(ctx, *in)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.SimilarTo(ctx, e, who(ctx).ID)
	return listed(list, func(x store.Similar) api.Alike {
		return api.Alike{Case: x.Case.Name, Title: x.Case.Title, Closed: x.Case.ClosedAt, Cause: x.Case.Cause, Same: x.IsSame, Score: x.Score, Evidence: evidenceOf(x.Evidence)}
	}, err)
}

func (a *server) senderRoutes(h huma.API) {
	const path = "/api/cases/{case}/senders"
	route(h, a, "GET", path, "senders", "The tokens that may send spans and logs into a case, newest first", func(ctx context.Context, in *CaseInput) (*body[[]api.Sender], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.SendersOf(ctx, c.ID)
		out := []api.Sender{}
		for _, s := range list {
			out = append(out, api.Sender{ID: s.ID, Case: c.Name, Label: s.Label, By: s.Person.Name, Created: s.CreatedAt})
		}
		return &body[[]api.Sender]{out}, err
	})
	route(h, a, "POST", path, "newSender", "Make a token with which programs send spans and logs into a case", func(ctx context.Context, in *struct {
		CaseInput
		labelInput
	}) (*body[api.Sender], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		s, err := a.newSender(ctx, c, in.Body.Label)
		return &body[api.Sender]{s}, err
	}, created)
	route(h, a, "POST", "/api/inbox/senders", "newInboxSender", "Make a token with which programs send into the person's inbox", func(ctx context.Context, in *labelInput) (*body[api.Sender], error) {
		c, err := a.inbox(ctx)
		if err != nil {
			return nil, err
		}
		s, err := a.newSender(ctx, c, in.Body.Label)
		return &body[api.Sender]{s}, err
	}, created)
	route(h, a, "DELETE", path+"/{sender}", "deleteSender", "Take a sender's token away", func(ctx context.Context, in *struct {
		CaseInput
		Sender int64 `path:"sender"`
	}) (*struct{}, error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
			return fmt.Sprintf("took the token of sender %d away", in.Sender), s.DeleteSender(ctx, c.ID, in.Sender)
		})
	})
}

func (a *server) newSender(ctx context.Context, c store.Case, label string) (api.Sender, error) {
	x, secret := accounts.NewSender(c.ID, who(ctx).ID, label)
	err := a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return "made a token to send with: " + label, s.AddSender(ctx, &x)
	})
	return api.Sender{ID: x.ID, Case: c.Name, Label: label, By: who(ctx).Name, Created: x.CreatedAt, Secret: secret}, err
}

// inbox returns the person's case for evidence without a case. It opens the case on first use.
func (a *server) inbox(ctx context.Context) (c store.Case, err error) {
	me := who(ctx)
	err = a.Store.Together(ctx, func(s *store.Store) error {
		var isNew bool
		if c, isNew, err = s.Inbox(ctx, me); err != nil || !isNew {
			return err
		}
		return s.Note(ctx, c.ID, me.ID, "opened the inbox")
	})
	return c, err
}

// caseTraces lists the traces of all evidence of a case together.
func (a *server) caseTraces(ctx context.Context, caseName string, q ask.TracesRequest) (ask.Traces, error) {
	out := ask.Traces{Traces: []ask.Trace{}}
	part := ask.TracesRequest{When: q.When, Count: q.From + q.Count} // as many of each may be among the newest
	err := a.eachTraced(ctx, caseName, func(e store.Evidence, r replay.Recording) error {
		some, err := ask.Run(ctx, ask.Subject{Recording: r}, part)
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
	slices.SortStableFunc(out.Traces, func(x, y ask.Trace) int { return y.Started.Compare(x.Started) })
	from, to := replay.Page{From: q.From, Count: q.Count}.Cut(len(out.Traces))
	out.Traces = out.Traces[from:to]
	return out, nil
}

// caseTrace finds the parts of a trace in all evidence of a case, earliest first.
func (a *server) caseTrace(ctx context.Context, caseName, id string) (ask.Traces, error) {
	out := ask.Traces{Traces: []ask.Trace{}}
	err := a.eachTraced(ctx, caseName, func(e store.Evidence, r replay.Recording) error { return ask.PartsOf(r, e.Name, id, &out) })
	if err != nil {
		return out, err
	}
	if out.Total == 0 {
		return out, fmt.Errorf("%s: %w in the evidence of case %s", id, fault.NoTrace, caseName)
	}
	slices.SortStableFunc(out.Traces, func(x, y ask.Trace) int { return x.Started.Compare(y.Started) })
	return out, nil
}

// eachTraced calls do for the evidence of a case with traces.
func (a *server) eachTraced(ctx context.Context, caseName string, do func(store.Evidence, replay.Recording) error) error {
	c, err := a.caseFor(ctx, caseName)
	if err != nil {
		return err
	}
	a.Reads.Add(who(ctx).ID, c.ID, "", "traces")
	list, err := a.Store.EvidenceOf(ctx, c.ID)
	if err != nil {
		return err
	}
	some := false
	for _, e := range list {
		if e.State != api.StateReady || !mayHaveTraces(e.Kind) {
			continue
		}
		r, err := a.open(ctx, c, e)
		if err != nil {
			return err
		}
		if _, ok := r.(replay.Tracer); !ok {
			continue // logs alone
		}
		some = true
		if err := do(e, r); err != nil {
			return err
		}
	}
	if !some {
		return fmt.Errorf("case %s: %w that is ready", caseName, fault.NoTraces)
	}
	return nil
}

// move moves evidence to another case in which the person has the right.
func (a *server) move(ctx context.Context, from, name, to string) (store.Evidence, error) {
	c, err := a.caseFor(ctx, from)
	if err != nil {
		return store.Evidence{}, err
	}
	target, err := a.caseFor(ctx, to)
	if err != nil {
		return store.Evidence{}, err
	}
	e, err := a.Store.EvidenceByName(ctx, c.ID, name)
	if err != nil {
		return e, err
	}
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := s.LockCases(ctx, c.ID, target.ID); err != nil { // whoever moves something the other way waits
			return "", err
		}
		if err := s.MoveEvidence(ctx, e, target.ID); err != nil {
			return "", err
		}
		if !reflect.DeepEqual(c.Mask, target.Mask) { // it is masked by other rules there
			if e, err = s.IndexOneAgain(ctx, e.ID); err == nil {
				err = q.Index(ctx, e)
			}
			if err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("moved %s to %s", name, to), errors.Join(q.Check(ctx, target.ID, e.ID), s.Note(ctx, target.ID, who(ctx).ID, fmt.Sprintf("took %s from %s", name, from)))
	})
	a.live.Changed(target.ID)
	return e, err
}

// mayHaveTraces reports whether evidence of a kind can have traces.
func mayHaveTraces(kind string) bool {
	k, err := kinds.All.Named(kind)
	return err == nil && k.Traits.Traces
}
