package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/core/evidence/kinds"
	"wraithology/core/evidence/kinds/structuredlog"
	"wraithology/core/fault"
	"wraithology/service/jobs"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// EvidenceInput names evidence in a path.
type EvidenceInput struct {
	Case     string `path:"case"`
	Evidence string `path:"evidence"`
}

func (a *server) evidenceRoutes(h huma.API, r chi.Router) {
	route(h, a, "GET", "/api/cases/{case}/evidence", "evidence", "A case's evidence, newest first", func(ctx context.Context, in *struct {
		CaseInput
		ListInput
	}) (*body[[]api.EvidenceInfo], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		out, err := a.evidenceInfos(ctx, c, in.page())
		return &body[[]api.EvidenceInfo]{out}, err
	})
	route(h, a, "GET", "/api/cases/{case}/evidence/{evidence}", "oneEvidence", "One piece of evidence", func(ctx context.Context, in *EvidenceInput) (*body[api.EvidenceInfo], error) {
		_, e, err := a.evidenceFor(ctx, *in)
		return &body[api.EvidenceInfo]{evidenceOf(e)}, err
	})
	route(h, a, "POST", "/api/cases/{case}/evidence/{evidence}/index", "indexAgain", "Index evidence again, as after a lack of disk", a.indexAgain)
	params := []*huma.Param{pathParam("case"), pathParam("evidence")}
	reading := append(params, &huma.Param{Name: "as", In: "query", Description: "the kind of evidence, where its bytes do not tell", Schema: &huma.Schema{Type: "string"}},
		&huma.Param{Name: "field", In: "query", Description: "for a structured log: MEANING=NAME, zone=ZONE or pattern=PATTERN; later evidence of the case is read by the same patterns", Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}})
	stream := map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	a.stream(h, r, huma.Operation{OperationID: "upload", Method: "PUT", Path: "/api/cases/{case}/evidence/{evidence}", Summary: "Upload evidence as a stream",
		Parameters: reading, RequestBody: &huma.RequestBody{Required: true, Content: stream},
		Responses: map[string]*huma.Response{"201": {Description: "kept on disk; it is being indexed"}, "200": {Description: "the case has the same bytes under this name already"}, "default": {Description: "error"}}}, a.upload)
	a.stream(h, r, huma.Operation{OperationID: "content", Method: "GET", Path: "/api/cases/{case}/evidence/{evidence}/content", Summary: "The bytes of evidence",
		Parameters: params, Responses: map[string]*huma.Response{"200": {Description: "the bytes", Content: stream}, "default": {Description: "error"}}}, a.download)
}

func (a *server) indexAgain(ctx context.Context, in *EvidenceInput) (*body[api.EvidenceInfo], error) {
	c, e, err := a.evidenceFor(ctx, *in)
	if err != nil {
		return nil, err
	}
	var again store.Evidence
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if again, err = s.IndexOneAgain(ctx, e.ID); err != nil {
			return "", err
		}
		return fmt.Sprintf("asked to index %s again", e.Name), q.Index(ctx, again)
	})
	again.Person = e.Person
	return &body[api.EvidenceInfo]{evidenceOf(again)}, err
}

// ListInput chooses a page of a list of records with names.
type ListInput struct {
	Text  string `query:"text" maxLength:"500" doc:"only those with this text"`
	After string `query:"after" maxLength:"200" doc:"the name, or number, of the last one of the page before"`
	Count int    `query:"count" minimum:"1" maximum:"1000" default:"200" doc:"maximum number"`
}

func (in ListInput) page() store.ListPage {
	return store.ListPage{Text: in.Text, After: in.After, Most: in.Count}
}

// evidenceInfos lists evidence of a case, newest first, with the expectations that break in it.
func (a *server) evidenceInfos(ctx context.Context, c store.Case, p store.ListPage) ([]api.EvidenceInfo, error) {
	list, err := a.Store.PageOfEvidence(ctx, c.ID, p)
	if err != nil {
		return nil, err
	}
	broken, err := a.Store.BrokenIn(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	known, err := a.knownBreaks(ctx, c)
	out := []api.EvidenceInfo{}
	for _, e := range list {
		x := evidenceOf(e)
		x.Broken = broken[e.ID]
		x.Again = x.Broken > 0 && isAfterClosing(c, e)
		x.Known = known[e.ID]
		out = append(out, x)
	}
	return out, err
}

func pathParam(name string) *huma.Param {
	return &huma.Param{Name: name, In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}
}

func evidenceOf(e store.Evidence) api.EvidenceInfo {
	return api.EvidenceInfo{Name: e.Name, Kind: e.Kind, Bytes: e.Bytes, SHA256: e.SHA256, Uploaded: e.UploadedAt, By: e.Person.Name, State: e.State, Progress: e.Progress,
		Trouble: e.Trouble, Program: e.Program, BuildID: e.BuildID, Host: e.Host, Started: e.Started, DurationNs: e.DurationNs, Moments: e.Moments, Outcome: e.Outcome, Gaps: e.Gaps,
		Fingerprint: e.Fingerprint, ClockOffsetNs: e.ClockOffsetNs, Explained: explained(e.Kind)}
}

var evidenceName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,127}$`)

// upload stores evidence. It is acknowledged when its bytes and its record are on disk. An
// interrupted upload leaves nothing.
func (a *server) upload(w http.ResponseWriter, r *http.Request) {
	as, fields, err := readAs(r.URL.Query())
	if err != nil {
		a.fail(w, r, err)
		return
	}
	c, name, kept, ok := a.take(w, r, store.KindEvidence)
	if !ok {
		return
	}
	// The bytes are on disk: a client that disconnects now does not undo the rest.
	answer, isNew, err := a.keepEvidence(context.WithoutCancel(r.Context()), c, name, as, fields, kept)
	a.acknowledge(w, r, answer, isNew, err)
}

// acknowledge answers an upload.
func (a *server) acknowledge(w http.ResponseWriter, r *http.Request, answer any, isNew bool, err error) {
	switch {
	case err != nil:
		a.fail(w, r, err)
	case isNew:
		answerJSON(w, http.StatusCreated, answer)
	default: // it was sent before: whoever did not get the answer sends it again
		answerJSON(w, http.StatusOK, answer)
	}
}

// keepEvidence makes evidence of bytes in the vault. isNew is false if the case has the same under the name already.
func (a *server) keepEvidence(ctx context.Context, c store.Case, name, as string, fields map[string]string, kept vault.Stored) (out api.EvidenceInfo, isNew bool, err error) {
	before, err := a.Store.EvidenceByName(ctx, c.ID, name)
	switch {
	case err == nil && before.SHA256 == kept.SHA256 && before.ReadAs == as:
		return evidenceOf(before), false, nil
	case err == nil: // also if it is read in another way
		return out, false, isTaken(store.KindEvidence, name)
	case !errors.Is(err, fault.NotFound):
		return out, false, err
	case kept.Bytes == 0:
		return out, false, fault.InvalidRequest.New("check the file that was sent", "the evidence is empty")
	}
	if err = a.inheritPatterns(ctx, c.ID, fields); err != nil {
		return out, false, err
	}
	e := store.Evidence{CaseID: c.ID, Name: name, Bytes: kept.Bytes, SHA256: kept.SHA256, PersonID: who(ctx).ID, State: api.StateIndexing, Started: time.Unix(0, 0).UTC(), ReadAs: as, Fields: fields}
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := a.fits(ctx, s, c, kept.Bytes); err != nil {
			return "", err
		}
		if err := s.AddEvidence(ctx, &e); err != nil {
			return "", err
		}
		return fmt.Sprintf("uploaded %s, %d bytes, sha256 %s", name, kept.Bytes, kept.SHA256), q.Index(ctx, e)
	})
	e.Person = who(ctx)
	return evidenceOf(e), true, err
}

// inheritPatterns adds the patterns of lines that the case has, and their zone, to how new evidence is read, unless it
// has patterns of its own.
func (a *server) inheritPatterns(ctx context.Context, caseID int64, fields map[string]string) error {
	if _, has := fields["pattern"]; has {
		return nil
	}
	before, err := a.Store.LatestPatterns(ctx, caseID)
	if err != nil {
		return err
	}
	for _, name := range []string{"pattern", "zone"} {
		if _, has := fields[name]; !has && before[name] != "" {
			fields[name] = before[name]
		}
	}
	return nil
}

// readAs parses the options for reading evidence: as=KIND, and for a log field=MEANING=NAME, which
// can be repeated.
func readAs(q url.Values) (as string, fields map[string]string, err error) {
	fields = map[string]string{}
	for _, f := range q["field"] {
		meaning, name, _ := strings.Cut(f, "=")
		fields[meaning] = name
	}
	if _, err := structuredlog.ParseRules(fields); err != nil {
		return "", nil, err
	}
	if as = q.Get("as"); as != "" {
		_, err = kinds.All.Named(as)
	}
	return as, fields, err
}

// take stores the body of a request in the vault, for an item of a kind in a case, if the person
// has the right. Otherwise it answers with the error.
func (a *server) take(w http.ResponseWriter, r *http.Request, kind string) (c store.Case, name string, kept vault.Stored, ok bool) {
	ctx := r.Context()
	name = chi.URLParam(r, kind)
	err := checkItem(kind, name)
	if err == nil {
		c, err = a.caseFor(ctx, chi.URLParam(r, "case"))
	}
	if err == nil {
		err = a.isFree(ctx, c, kind, name, r.ContentLength)
	}
	if err == nil {
		kept, err = a.Vault.Put(ctx, newPaced(w, r))
	}
	if err != nil {
		a.fail(w, r, err)
		return c, name, kept, false
	}
	return c, name, kept, true
}

func (a *server) download(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	c, err := a.caseFor(ctx, chi.URLParam(r, "case"))
	if err == nil {
		var e store.Evidence
		e, err = a.Store.EvidenceByName(ctx, c.ID, chi.URLParam(r, "evidence"))
		if err == nil && e.SHA256 == "" {
			err = fault.NoBytes
		}
		if err == nil {
			if err = a.note(ctx, c, "downloaded %s", e.Name); err == nil {
				w.Header().Set("Content-Type", "application/octet-stream")
				w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", e.Name+ending(e.Kind)))
				http.ServeFile(w, r, a.Vault.Path(e.SHA256))
				return
			}
		}
	}
	a.fail(w, r, err)
}

// ending returns the ending of the file name of a download.
func ending(kind string) string {
	k, err := kinds.All.Named(kind)
	if err != nil {
		return "" // it has not been indexed yet
	}
	return k.Ending
}

// explained reports whether artifacts explain evidence of a kind.
func explained(kind string) bool {
	k, err := kinds.All.Named(kind)
	return err == nil && k.Explained
}
