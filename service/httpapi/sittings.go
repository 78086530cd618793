package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/question"
	"wraithology/service/sittings"
	"wraithology/service/store"
)

func (a *server) sittingRoutes(h huma.API, r chi.Router) {
	route(h, a, "POST", evidencePath+"sitting", "joinSitting", "Join the sitting of evidence; where there is none, one is opened at the failure", func(ctx context.Context, in *struct {
		EvidenceInput
		Body struct {
			Mode string `json:"mode,omitempty" enum:"lead,follow,roam,"`
		}
	}) (*body[api.Sitting], error) {
		rec, _, e, err := a.recording(ctx, in.Case, in.Evidence)
		if err != nil {
			return nil, err
		}
		p, err := ask.Place{Moment: event.NoMoment}.Resolve(rec)
		if err != nil {
			return nil, err
		}
		frame := 0
		if f := rec.Info().Failure; f != nil {
			frame = f.Frame
		}
		steers := a.steers(ctx, in.Case)
		if steers != nil && (in.Body.Mode == api.ModeLead || !errors.Is(steers, fault.PermissionDenied)) {
			return nil, steers
		}
		x, err := a.Store.OpenSitting(ctx, store.Sitting{CaseID: e.CaseID, EvidenceID: e.ID, Moment: int64(p.Moment), Thread: int64(p.Thread), Frame: frame})
		if err != nil {
			return nil, err
		}
		s, err := a.Sittings.Join(ctx, x, who(ctx), in.Body.Mode, steers == nil)
		return &body[api.Sitting]{s}, err
	})
	route(h, a, "GET", evidencePath+"sitting", "sittingOf", "The sitting of evidence, without joining it", func(ctx context.Context, in *EvidenceInput) (*body[api.Sitting], error) {
		_, e, err := a.evidenceFor(ctx, *in)
		if err != nil {
			return nil, err
		}
		x, err := a.Store.SittingOf(ctx, e.ID)
		if err != nil {
			return nil, err
		}
		return &body[api.Sitting]{a.Sittings.Describe(x)}, nil
	})
	route(h, a, "PATCH", "/api/sittings/{sitting}", "changeSitting", "Move in a sitting, or change who leads", func(ctx context.Context, in *struct {
		Sitting int64 `path:"sitting"`
		Body    api.SittingChange
	}) (*body[api.Sitting], error) {
		x, err := a.sitting(ctx, in.Sitting)
		if err != nil {
			return nil, err
		}
		if b := in.Body; b.Mode == api.ModeLead || b.HandTo != "" || b.Asks != nil || b.Watches != nil || b.Columns != nil || b.Format != nil {
			if err := a.steers(ctx, x.Case.Name); err != nil {
				return nil, err
			}
		}
		for _, list := range []*[]string{in.Body.Watches, in.Body.Columns} {
			if list == nil {
				continue
			}
			for _, text := range *list {
				if _, err := question.Parse(text); err != nil {
					return nil, err
				}
			}
		}
		if p := in.Body.Place; p != nil {
			rec, _, _, err := a.recording(ctx, x.Case.Name, x.Evidence.Name)
			if err != nil {
				return nil, err
			}
			if _, err := rec.Frames(ctx, p.Moment, p.Thread); err != nil {
				return nil, err
			}
		}
		s, err := a.Sittings.Change(ctx, x, who(ctx), in.Body)
		return &body[api.Sitting]{s}, err
	})
	route(h, a, "GET", "/api/sittings/{sitting}/steps", "sittingSteps", "What happened in a sitting, oldest first", func(ctx context.Context, in *struct {
		Sitting int64 `path:"sitting"`
		After   int64 `query:"after" minimum:"0" doc:"the last step that is known"`
		Count   int   `query:"count" minimum:"1" maximum:"1000" default:"200"`
		Latest  bool  `query:"latest" doc:"the latest steps, and not the first ones after one; still oldest first"`
	}) (*body[[]api.SittingStep], error) {
		x, err := a.sitting(ctx, in.Sitting)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.StepsOf(ctx, x.ID, store.Page{After: in.After, Latest: in.Latest, Most: in.Count})
		return listed(list, sittings.StepOf, err)
	})
	route(h, a, "POST", "/api/sittings/{sitting}/say", "sayInSitting", "Say something in a sitting", func(ctx context.Context, in *struct {
		Sitting int64 `path:"sitting"`
		Body    api.NewSay
	}) (*struct{}, error) {
		x, err := a.sitting(ctx, in.Sitting)
		if err != nil {
			return nil, err
		}
		return nil, a.Sittings.Say(ctx, x, who(ctx), a.masked(x.Case, in.Body.Text))
	})
	a.stream(h, r, huma.Operation{OperationID: "watchSitting", Method: "GET", Path: "/api/sittings/{sitting}/events", Summary: "The sitting's states as server-sent events",
		Parameters: []*huma.Param{pathParam("sitting")},
		Responses:  map[string]*huma.Response{"200": {Description: "a stream of sittings", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "string"}}}}}}, a.watch)
}

// sitting returns a sitting of a case in which the person has the right that the operation needs.
func (a *server) sitting(ctx context.Context, id int64) (store.Sitting, error) {
	x, err := a.Store.SittingByID(ctx, id)
	if err != nil {
		return x, err
	}
	if _, err = a.caseFor(ctx, x.Case.Name); errors.Is(err, fault.NotFound) {
		err = fmt.Errorf("sitting %d: %w", id, fault.NotFound)
	}
	return x, err
}

// steers returns an error if the person may not lead and ask in the sittings of a case.
func (a *server) steers(ctx context.Context, caseName string) error {
	c, me, err := a.caseAndPart(ctx, caseName)
	if err != nil {
		return err
	}
	return fully(ctx, c, me)
}

func (a *server) watch(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.ParseInt(chi.URLParam(r, "sitting"), 10, 64)
	if err != nil {
		a.fail(w, r, fault.InvalidRequest.New("", "invalid sitting %q: expected a number", chi.URLParam(r, "sitting")))
		return
	}
	x, err := a.sitting(r.Context(), id)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	steers := a.steers(r.Context(), x.Case.Name)
	if steers != nil && !errors.Is(steers, fault.PermissionDenied) {
		a.fail(w, r, steers)
		return
	}
	// A client that was disconnected names the last event that it received (WHATWG HTML, section Server-sent events).
	after, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64)
	if err != nil || after < 0 {
		after = 0
	}
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	defer context.AfterFunc(a.Ending, cancel)()
	send := eventStream(w)
	// The stream ends when the client disconnects or the service stops; there is nobody to report to.
	_ = a.Sittings.Watch(ctx, id, who(ctx), sittings.Watcher{After: after, MayLead: steers == nil,
		State: func(s json.RawMessage, last int64) error { return send("", last, s) },
		Step:  func(s api.SittingStep) error { return send("step", s.ID, s) },
		Beat: func() error {
			if _, err := a.sitting(r.Context(), id); err != nil {
				return err // the person may not look any more
			}
			return send("", 0, nil)
		},
	})
}
