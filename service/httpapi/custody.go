package httpapi

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/core/custody"
	"wraithology/service/store"
)

func (a *server) custodyRoutes(h huma.API, r chi.Router) {
	route(h, a, "GET", "/api/cases/{case}/custody", "custody", "Who did what, newest first", func(ctx context.Context, in *struct {
		CaseInput
		Before int64  `query:"before" minimum:"0" doc:"only entries before this number; 0 for the newest"`
		Count  int    `query:"count" minimum:"1" maximum:"1000" default:"500"`
		Reads  bool   `query:"reads" doc:"also who read what"`
		Text   string `query:"text" maxLength:"500" doc:"only entries with this text, or by somebody whose name has it"`
	}) (*body[[]custody.Entry], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.CustodyOf(ctx, c.ID, store.CustodyPage{Before: in.Before, Most: in.Count, Reads: in.Reads, Text: in.Text})
		return listed(list, store.Custody.Entry, err)
	})
	a.stream(h, r, huma.Operation{OperationID: "exportCustody", Method: "GET", Path: "/api/cases/{case}/custody/export", Summary: "The whole record of who did and read what, signed, as JSON Lines",
		Parameters: []*huma.Param{pathParam("case")},
		Responses:  map[string]*huma.Response{"200": {Description: "a header, then the entries, oldest first: docs/formats/custody.md", Content: map[string]*huma.MediaType{"application/jsonl": {Schema: &huma.Schema{Type: "string"}}}}, "default": {Description: "error"}}}, a.exportCustody)
}

// exportCustody sends the record of a case as it is now, with its end signed. What was read in this minute is not in it yet.
func (a *server) exportCustody(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	c, err := a.caseFor(ctx, chi.URLParam(r, "case"))
	if err == nil {
		err = a.note(ctx, c, "exported the record of who did what")
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	err = a.Store.Snapshot(ctx, func(s *store.Store) error {
		head, err := s.HeadOf(ctx, c.ID)
		if err != nil {
			return err
		}
		head.Case = c.Name
		w.Header().Set("Content-Type", "application/jsonl")
		w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", c.Name+".custody.jsonl"))
		return custody.Write(w, custody.Header{Head: a.Book.Head(head), Key: custody.PublicDER(a.Book.Public())}, s.AllCustody(ctx, c.ID))
	})
	if err != nil {
		a.Log.WarnContext(ctx, "an export ended early", "case", c.Name, "error", err)
		panic(http.ErrAbortHandler) // what was sent is not all
	}
}
