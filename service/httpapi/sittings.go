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
	"wraithology/service/accounts"
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
		return &body[api.Sitting]{a.Sittings.Join(x, who(ctx).Name, in.Body.Mode, leads)}, nil
	})
	route(h, a, "PATCH", "/api/sittings/{sitting}", "changeSitting", "Move in a sitting, or change who leads", func(ctx context.Context, in *struct {
		Sitting int64 `path:"sitting"`
		Body    api.SittingChange
	}) (*body[api.Sitting], error) {
		x, err := a.sitting(ctx, in.Sitting)
		if err != nil {
			return nil, err
		}
		if _, err := a.allowed(ctx, x.Case.Name, in.Body.Mode); err != nil {
			return nil, err
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
		s, err := a.Sittings.Change(ctx, x, who(ctx).Name, in.Body)
		return &body[api.Sitting]{s}, err
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
	if _, err := a.sitting(r.Context(), id); err != nil {
		a.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	stream := http.NewResponseController(w)
	send := func(text string) error {
		if _, err := fmt.Fprint(w, text); err != nil {
			return err
		}
		return stream.Flush()
	}
	// The stream ends when the client disconnects or the service stops; there is nobody to report
	// to.
	_ = a.Sittings.Watch(r.Context(), id, p.Name, func(s api.Sitting) error {
		data, err := json.Marshal(s)
		if err != nil {
			return err
		}
		return send("data: " + string(data) + "\n\n")
	}, func() error { return send(": still here\n\n") })
}
