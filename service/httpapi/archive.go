package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/service/archive"
	"wraithology/service/report"
)

// archiveRoutes are for whole cases.
func (a *server) archiveRoutes(h huma.API, r chi.Router) {
	binary := map[string]*huma.MediaType{"application/zip": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	a.stream(h, r, huma.Operation{OperationID: "exportCase", Method: "GET", Path: "/api/cases/{case}/archive", Summary: "The whole case as one file",
		Parameters: []*huma.Param{pathParam("case")}, Responses: map[string]*huma.Response{"200": {Description: "the archive", Content: binary}, "default": {Description: "error"}}}, func(w http.ResponseWriter, r *http.Request) { a.exportCase(w, r, false) })
	a.stream(h, r, huma.Operation{OperationID: "exportMasked", Method: "GET", Path: "/api/cases/{case}/archive/masked", Summary: "The case as one file without what is masked: the bytes of evidence and artifacts are left out",
		Parameters: []*huma.Param{pathParam("case")}, Responses: map[string]*huma.Response{"200": {Description: "the archive", Content: binary}, "default": {Description: "error"}}}, func(w http.ResponseWriter, r *http.Request) { a.exportCase(w, r, true) })
	a.stream(h, r, huma.Operation{OperationID: "importCase", Method: "POST", Path: "/api/archives", Summary: "Make a case of an archive, which the person then leads",
		Parameters:  []*huma.Param{{Name: "as", In: "query", Description: "another name for the case", Schema: &huma.Schema{Type: "string"}}},
		RequestBody: &huma.RequestBody{Required: true, Content: binary},
		Responses:   map[string]*huma.Response{"201": {Description: "the case; its evidence is being indexed"}, "default": {Description: "error"}}}, a.importCase)
}

func (a *server) exportCase(w http.ResponseWriter, r *http.Request, isMasked bool) {
	ctx := r.Context()
	c, err := a.caseFor(ctx, chi.URLParam(r, "case"))
	if err != nil {
		a.fail(w, r, err)
		return
	}
	all, err := a.reported(ctx, c.Name, "")
	if err == nil {
		entry := "exported the case"
		if isMasked {
			entry += ", masked"
		}
		err = a.note(ctx, c, "%s", entry)
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", c.Name+".case.zip"))
	x := archive.Export{Store: a.Store, Vault: a.Vault, From: a.Board.Address(), By: who(ctx).Name, Report: report.HTML(all, time.Now()), Masked: isMasked}
	if err := x.Write(ctx, c.ID, w); err != nil {
		a.Log.WarnContext(ctx, "an export ended early", "case", c.Name, "error", err)
		panic(http.ErrAbortHandler) // what was sent is not all
	}
}

func (a *server) importCase(w http.ResponseWriter, r *http.Request) {
	f, err := a.Vault.Spool(r.Context(), newPaced(w, r))
	if err != nil {
		a.fail(w, r, err)
		return
	}
	defer f.Close()
	x := archive.Import{Store: a.Store, Vault: a.Vault, By: who(r.Context())}
	c, added, err := x.Read(r.Context(), f, r.URL.Query().Get("as"))
	// The case is there: a client that disconnects now does not undo the rest.
	ctx := context.WithoutCancel(r.Context())
	for _, e := range added {
		if err == nil {
			err = a.Jobs.Index(ctx, e)
		}
	}
	var answer *body[api.Case]
	if err == nil {
		answer, err = a.oneCase(ctx, c.Name)
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	answerJSON(w, http.StatusCreated, answer.Body)
}
