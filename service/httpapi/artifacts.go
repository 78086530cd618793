package httpapi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/fault"
	"wraithology/core/source"
	"wraithology/service/jobs"
	"wraithology/service/store"
	"wraithology/service/vault"
)

func (a *server) artifactRoutes(h huma.API, r chi.Router) {
	route(h, a, "GET", "/api/cases/{case}/artifacts", "artifacts", "A case's binaries, debug files and source text, newest first", func(ctx context.Context, in *struct {
		CaseInput
		ListInput
	}) (*body[[]api.Artifact], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.PageOfArtifacts(ctx, c.ID, in.page())
		return listed(list, artifactOf, err)
	})
	a.stream(h, r, huma.Operation{OperationID: "uploadArtifact", Method: "PUT", Path: "/api/cases/{case}/artifacts/{artifact}", Summary: "Upload a binary, a debug file or an archive of source text as a stream",
		Parameters:  []*huma.Param{pathParam("case"), pathParam("artifact")},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}},
		Responses:   map[string]*huma.Response{"201": {Description: "kept on disk; the case's core dumps are read again with it"}, "200": {Description: "the case has the same bytes under this name already"}, "default": {Description: "error"}}}, a.uploadArtifact)
}

func artifactOf(x store.Artifact) api.Artifact {
	return api.Artifact{Name: x.Name, Kind: x.Kind, Bytes: x.Bytes, SHA256: x.SHA256, BuildID: x.BuildID, Uploaded: x.UploadedAt, By: x.Person.Name}
}

// uploadArtifact stores an artifact. Its bytes determine its kind.
func (a *server) uploadArtifact(w http.ResponseWriter, r *http.Request) {
	c, name, kept, ok := a.take(w, r, store.KindArtifact)
	if !ok {
		return
	}
	answer, isNew, err := a.keepArtifact(context.WithoutCancel(r.Context()), c, name, kept)
	a.acknowledge(w, r, answer, isNew, err)
}

// keepArtifact makes an artifact of bytes in the vault. isNew is false if the case has the same under the name already.
func (a *server) keepArtifact(ctx context.Context, c store.Case, name string, kept vault.Stored) (out api.Artifact, isNew bool, err error) {
	before, err := a.Store.ArtifactByName(ctx, c.ID, name)
	switch {
	case err == nil && before.SHA256 == kept.SHA256:
		return artifactOf(before), false, nil
	case err == nil:
		return out, false, isTaken(store.KindArtifact, name)
	case !errors.Is(err, fault.NotFound):
		return out, false, err
	}
	x := store.Artifact{CaseID: c.ID, Name: name, Bytes: kept.Bytes, SHA256: kept.SHA256, PersonID: who(ctx).ID}
	if x.Kind, x.BuildID, err = kindOfArtifact(a.Vault.Path(kept.SHA256)); err != nil {
		return out, false, err
	}
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := a.fits(ctx, s, c, kept.Bytes); err != nil {
			return "", err
		}
		if err := s.AddArtifact(ctx, &x); err != nil {
			return "", err
		}
		return fmt.Sprintf("uploaded the artifact %s, a %s, %d bytes, sha256 %s", name, x.Kind, kept.Bytes, kept.SHA256), a.explainAgain(ctx, s, q, c, store.KindArtifact)
	})
	x.Person = who(ctx)
	return artifactOf(x), true, err
}

// kindOfArtifact detects the kind of an artifact by its bytes.
func kindOfArtifact(path string) (kind, buildID string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", "", fmt.Errorf("open the artifact: %w", err)
	}
	defer f.Close()
	head := make([]byte, 4)
	n, _ := io.ReadFull(f, head) // a shorter file is none of these
	if source.IsArchive(head[:n]) {
		return api.ArtifactSource, "", nil
	}
	m, err := module.Open(path, "")
	if err != nil {
		return "", "", fault.NotELF.New("upload an ELF binary or debug file, or a .zip or .tar.gz of source text", "the artifact is neither an ELF file nor an archive of source text")
	}
	if m.HasText() {
		return api.ArtifactBinary, m.BuildID, nil
	}
	return api.ArtifactDebug, m.BuildID, nil
}
