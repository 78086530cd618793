package httpapi

import (
	"context"
	"encoding/json"
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
	"wraithology/service/accounts"
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
		rec, e, err := a.recording(ctx, in.Case, in.Evidence)
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
		leads, err := a.allowed(ctx, in.Case, in.Body.Mode)
		if err != nil {
			return nil, err
		}
		x, err := a.Store.OpenSitting(ctx, store.Sitting{CaseID: e.CaseID, EvidenceID: e.ID, Moment: int64(p.Moment), Thread: int64(p.Thread), Frame: frame})
		if err != nil {
			return nil, err
		}
		s, err := a.Sittings.Join(ctx, x, who(ctx), in.Body.Mode, leads)
		return &body[api.Sitting]{s}, err
	})
	route(h, a, "GET", evidencePath+"sitting", "sittingOf", "The sitting of evidence, without joining it", func(ctx context.Context, in *EvidenceInput) (*body[api.Sitting], error) {
		_, e, err := a.evidenceFor(ctx, *in, mayLook)
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
			if _, err := a.caseFor(ctx, x.Case.Name, mayWork); err != nil {
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
			rec, _, err := a.recording(ctx, x.Case.Name, x.Evidence.Name)
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
		if _, err := a.caseFor(ctx, x.Case.Name, mayWork); err != nil {
			return nil, err
		}
		return nil, a.Sittings.Say(ctx, x, who(ctx), in.Body.Text)
	})
	r.Get("/api/sittings/{sitting}/events", a.watch)
	h.OpenAPI().AddOperation(&huma.Operation{OperationID: "watchSitting", Method: "GET", Path: "/api/sittings/{sitting}/events", Summary: "The sitting's states as server-sent events",
		Parameters: []*huma.Param{pathParam("sitting")},
		Responses:  map[string]*huma.Response{"200": {Description: "a stream of sittings", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "string"}}}}}})
}

// sitting returns a sitting of a case that the person can read.
func (a *server) sitting(ctx context.Context, id int64) (store.Sitting, error) {
	x, err := a.Store.SittingByID(ctx, id)
	if err != nil {
		return x, err
	}
	if _, err := a.caseFor(ctx, x.Case.Name, mayLook); err != nil {
		return store.Sitting{}, fmt.Errorf("sitting %d: %w", id, fault.NotFound)
	}
	return x, nil
}

// allowed reports whether the person can lead in a case. It returns an error if the person asks to
// lead and cannot.
func (a *server) allowed(ctx context.Context, caseName, mode string) (bool, error) {
	_, err := a.caseFor(ctx, caseName, mayWork)
	if err != nil && mode == api.ModeLead {
		return false, err
	}
	return err == nil, nil
}

func (a *server) watch(w http.ResponseWriter, r *http.Request) {
	p, ok := accounts.Who(r.Context())
	if !ok {
		a.fail(w, r, fault.NotSignedIn)
		return
	}
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
	mayLead, err := a.allowed(r.Context(), x.Case.Name, "")
	if err != nil {
		a.fail(w, r, err)
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
	_ = a.Sittings.Watch(ctx, id, p, sittings.Watcher{After: after, MayLead: mayLead,
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
