package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/tus/tusd/v2/pkg/filestore"
	tus "github.com/tus/tusd/v2/pkg/handler"
	"github.com/tus/tusd/v2/pkg/memorylocker"
	"golang.org/x/exp/slog"

	"wraithology/core/fault"
	"wraithology/service/store"
)

// Metadata of an upload, as the client sends it (name, kind, as, fields, sha256), and as the service adds it.
const (
	metaName, metaKind, metaAs, metaFields, metaSum = "name", "kind", "as", "fields", "sha256"
	metaCase, metaPerson                            = "wraith-case", "wraith-person"
)

// uploadsInParts are uploads that can be continued, by the tus protocol (version 1.0.0: core, creation, termination).
type uploadsInParts struct {
	files *tus.StoreComposer
	store filestore.FileStore
}

func newUploads(folder string) (uploadsInParts, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return uploadsInParts{}, fmt.Errorf("create the folder of uploads: %w", err)
	}
	u := uploadsInParts{files: tus.NewStoreComposer(), store: filestore.New(folder)}
	u.store.UseIn(u.files)
	memorylocker.New().UseIn(u.files)
	return u, nil
}

// uploadID is the ID of an upload, which names its file.
var uploadID = regexp.MustCompile(`^[0-9a-f]{32}$`)

func (a *server) uploadRoutes(h huma.API, r chi.Router) {
	const path = "/api/cases/{case}/uploads"
	of := []*huma.Param{pathParam("case"), pathParam("upload")}
	answers := func(status, what string) map[string]*huma.Response {
		return map[string]*huma.Response{status: {Description: what}, "default": {Description: "error"}}
	}
	a.stream(h, r, huma.Operation{OperationID: "newUpload", Method: "POST", Path: path, Summary: "Begin an upload that can be continued, by the tus protocol 1.0.0; metadata: name, kind (evidence or artifact), as, fields (a query of field=MEANING=NAME), sha256",
		Parameters: []*huma.Param{pathParam("case")}, Responses: answers("201", "where it is continued")}, a.newUpload)
	a.stream(h, r, huma.Operation{OperationID: "uploadOffset", Method: "HEAD", Path: path + "/{upload}", Summary: "How much of an upload has arrived", Parameters: of, Responses: answers("200", "Upload-Offset says it")}, a.uploadOffset)
	a.stream(h, r, huma.Operation{OperationID: "continueUpload", Method: "PATCH", Path: path + "/{upload}", Summary: "Continue an upload; after its last byte it is evidence, or an artifact", Parameters: of, Responses: answers("204", "Upload-Offset says how much has arrived")}, a.continueUpload)
	a.stream(h, r, huma.Operation{OperationID: "deleteUpload", Method: "DELETE", Path: path + "/{upload}", Summary: "Give an upload up", Parameters: of, Responses: answers("204", "it is gone")}, a.deleteUpload)
}

// partsOf returns the handler of the protocol for a case.
func (a *server) partsOf(r *http.Request, c store.Case) (*tus.UnroutedHandler, error) {
	h, err := tus.NewUnroutedHandler(tus.Config{StoreComposer: a.uploads.files, BasePath: "/api/cases/" + url.PathEscape(chi.URLParam(r, "case")) + "/uploads/", DisableDownload: true, DisableConcatenation: true,
		Cors: &tus.CorsConfig{Disable: true}, Logger: slog.New(slog.NewTextHandler(io.Discard, nil)), NetworkTimeout: longestPause,
		PreUploadCreateCallback: func(e tus.HookEvent) (tus.HTTPResponse, tus.FileInfoChanges, error) {
			meta, err := a.begins(r.Context(), c, e.Upload)
			return tus.HTTPResponse{}, tus.FileInfoChanges{MetaData: meta}, a.refusal(r, err)
		},
		PreFinishResponseCallback: func(e tus.HookEvent) (tus.HTTPResponse, error) {
			status, answer, err := a.finish(r.Context(), c, e.Upload)
			if err != nil {
				return tus.HTTPResponse{}, a.refusal(r, err)
			}
			text, err := json.Marshal(answer)
			return tus.HTTPResponse{StatusCode: status, Body: string(text), Header: tus.HTTPHeader{"Content-Type": "application/json"}}, err
		}})
	if err != nil {
		return nil, fmt.Errorf("take an upload: %w", err)
	}
	return h, nil
}

// refusal is an error as the protocol's handler sends it on.
func (a *server) refusal(r *http.Request, err error) error {
	if err == nil {
		return nil
	}
	p := a.problem(r.Context(), err)
	text, _ := json.Marshal(p) // texts and numbers alone
	return tus.Error{ErrorCode: p.Type, Message: p.Detail, HTTPResponse: tus.HTTPResponse{StatusCode: p.Status, Body: string(text), Header: tus.HTTPHeader{"Content-Type": p.ContentType("")}}}
}

// begins checks what an upload wants to be, before its first byte, and returns its metadata.
func (a *server) begins(ctx context.Context, c store.Case, x tus.FileInfo) (map[string]string, error) {
	if x.SizeIsDeferred || x.Size == 0 {
		return nil, fault.InvalidRequest.New("send Upload-Length", "an upload needs a length, and at least one byte")
	}
	m := map[string]string{metaCase: strconv.FormatInt(c.ID, 10), metaPerson: strconv.FormatInt(who(ctx).ID, 10)}
	for _, name := range []string{metaName, metaKind, metaAs, metaFields, metaSum} {
		m[name] = x.MetaData[name]
	}
	if err := checkItem(m[metaKind], m[metaName]); err != nil {
		return nil, err
	}
	if sum := m[metaSum]; sum != "" && !sumText.MatchString(sum) {
		return nil, fault.InvalidRequest.New("send 64 small hexadecimal digits, or none", "invalid sha256 %.80q", sum)
	}
	if _, _, err := readingOf(m); err != nil {
		return nil, err
	}
	if err := a.isFree(ctx, c, m[metaKind], m[metaName], x.Size); err != nil {
		return nil, err
	}
	return m, a.Vault.Fits(x.Size)
}

var sumText = regexp.MustCompile(`^[0-9a-f]{64}$`)

// readingOf returns how an upload is to be read.
func readingOf(m map[string]string) (as string, fields map[string]string, err error) {
	q, err := url.ParseQuery(m[metaFields])
	if err != nil {
		return "", nil, fault.InvalidRequest.New("write field=MEANING=NAME&field=…", "invalid fields: %w", err)
	}
	q.Set("as", m[metaAs])
	return readAs(q)
}

// finish makes evidence, or an artifact, of an upload that is whole.
func (a *server) finish(ctx context.Context, c store.Case, x tus.FileInfo) (status int, answer any, err error) {
	ctx = context.WithoutCancel(ctx) // the bytes are here: a client that disconnects now does not undo the rest
	path := x.Storage["Path"]
	m := x.MetaData
	as, fields, err := readingOf(m)
	if err != nil {
		return 0, nil, err
	}
	kept, err := a.Vault.Adopt(ctx, path)
	if err != nil {
		return 0, nil, err
	}
	defer func() {
		_ = os.Remove(x.Storage["InfoPath"]) // upkeep removes what stays
	}()
	if m[metaSum] != "" && m[metaSum] != kept.SHA256 {
		return 0, nil, fault.InvalidRequest.New("send it again", "the bytes that arrived have the sha256 %s, and not %s", kept.SHA256, m[metaSum])
	}
	isNew := false
	if m[metaKind] == store.KindArtifact {
		answer, isNew, err = a.keepArtifact(ctx, c, m[metaName], kept)
	} else {
		answer, isNew, err = a.keepEvidence(ctx, c, m[metaName], as, fields, kept)
	}
	if isNew {
		return http.StatusCreated, answer, err
	}
	return http.StatusOK, answer, err
}

func (a *server) newUpload(w http.ResponseWriter, r *http.Request) {
	c, err := a.caseFor(r.Context(), chi.URLParam(r, "case"))
	var h *tus.UnroutedHandler
	if err == nil {
		h, err = a.partsOf(r, c)
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	if !a.speaksTus(w, r) {
		return
	}
	h.PostFile(w, r)
}

// tusVersion is the version of the protocol.
const tusVersion = "1.0.0"

// speaksTus answers a request of another version with an error.
func (a *server) speaksTus(w http.ResponseWriter, r *http.Request) bool {
	w.Header().Set("Tus-Resumable", tusVersion)
	if r.Header.Get("Tus-Resumable") == tusVersion {
		return true
	}
	w.Header().Set("Tus-Version", tusVersion)
	a.fail(w, r, fault.InvalidRequest.New("send Tus-Resumable: "+tusVersion, "unknown version of the tus protocol %.20q", r.Header.Get("Tus-Resumable")))
	return false
}

// ownUpload returns an upload of the person in a case. Those of others look as if they did not exist.
func (a *server) ownUpload(r *http.Request) (c store.Case, x tus.FileInfo, err error) {
	ctx := r.Context()
	if c, err = a.caseFor(ctx, chi.URLParam(r, "case")); err != nil {
		return c, x, err
	}
	id := chi.URLParam(r, "upload")
	missing := fmt.Errorf("upload %.40s: %w", id, fault.NotFound)
	if !uploadID.MatchString(id) {
		return c, x, missing
	}
	up, err := a.uploads.store.GetUpload(ctx, id)
	if err == nil {
		x, err = up.GetInfo(ctx)
	}
	if errors.Is(err, tus.ErrNotFound) || errors.Is(err, os.ErrNotExist) || err == nil && (x.MetaData[metaCase] != strconv.FormatInt(c.ID, 10) || x.MetaData[metaPerson] != strconv.FormatInt(who(ctx).ID, 10)) {
		return c, x, missing
	}
	return c, x, err
}

// ofUpload does something with an upload of the person.
func (a *server) ofUpload(w http.ResponseWriter, r *http.Request, do func(h *tus.UnroutedHandler, r *http.Request, c store.Case, x tus.FileInfo)) {
	c, x, err := a.ownUpload(r)
	var h *tus.UnroutedHandler
	if err == nil {
		h, err = a.partsOf(r, c)
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	if !a.speaksTus(w, r) {
		return
	}
	under := r.Clone(r.Context()) // the protocol's handler takes the whole path as the ID
	under.URL.Path = "/" + x.ID
	do(h, under, c, x)
}

func (a *server) uploadOffset(w http.ResponseWriter, r *http.Request) {
	a.ofUpload(w, r, func(h *tus.UnroutedHandler, r *http.Request, _ store.Case, _ tus.FileInfo) { h.HeadFile(w, r) })
}

func (a *server) continueUpload(w http.ResponseWriter, r *http.Request) {
	a.ofUpload(w, r, func(h *tus.UnroutedHandler, r *http.Request, c store.Case, x tus.FileInfo) {
		if x.Offset == x.Size { // it was whole before it could become evidence
			status, answer, err := a.finish(r.Context(), c, x)
			if err != nil {
				a.fail(w, r, err)
				return
			}
			w.Header().Set("Upload-Offset", strconv.FormatInt(x.Size, 10))
			answerJSON(w, status, answer)
			return
		}
		r.Body = io.NopCloser(&refusing{a.Vault.Bounded(newPaced(w, r)), func(err error) error { return a.refusal(r, err) }})
		h.PatchFile(w, r)
	})
}

// refusing gives its errors to the protocol's handler as that sends them on.
type refusing struct {
	r       io.Reader
	refusal func(error) error
}

// Read implements io.Reader.
func (b *refusing) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if kind, _ := fault.Of(err); err != nil && kind != fault.Internal {
		err = b.refusal(err)
	}
	return n, err
}

func (a *server) deleteUpload(w http.ResponseWriter, r *http.Request) {
	a.ofUpload(w, r, func(h *tus.UnroutedHandler, r *http.Request, _ store.Case, _ tus.FileInfo) { h.DelFile(w, r) })
}

// itemKinds are what can be uploaded.
var itemKinds = []string{store.KindEvidence, store.KindArtifact}

// checkItem checks the kind and name of what is uploaded.
func checkItem(kind, name string) error {
	if kind != store.KindEvidence && kind != store.KindArtifact {
		return fault.InvalidRequest.New("use "+strings.Join(itemKinds, " or "), "unknown kind of upload %.40q", kind)
	}
	if !evidenceName.MatchString(name) {
		return fault.InvalidName.New("", "invalid name %q of %s: use up to 128 letters, digits, dots, hyphens and underscores, a letter or digit first", fmt.Sprintf("%.130s", name), kind)
	}
	return nil
}

// isFree returns an error if a case has something else under a name. What has as many bytes may be the same.
func (a *server) isFree(ctx context.Context, c store.Case, kind, name string, bytes int64) error {
	var have int64
	var err error
	if kind == store.KindArtifact {
		var x store.Artifact
		x, err = a.Store.ArtifactByName(ctx, c.ID, name)
		have = x.Bytes
	} else {
		var x store.Evidence
		x, err = a.Store.EvidenceByName(ctx, c.ID, name)
		have = x.Bytes
	}
	if errors.Is(err, fault.NotFound) {
		return a.fits(ctx, a.Store, c, max(bytes, 0))
	}
	if err == nil && bytes >= 0 && bytes != have {
		return isTaken(kind, name)
	}
	return err
}

func isTaken(kind, name string) error {
	return fmt.Errorf("%s %s: %w in this case: give another name", kind, name, fault.Exists)
}
