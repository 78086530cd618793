package httpapi

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

// change makes a change of a case, with the jobs that follow from it and its entry in the record: all of it, or nothing. Without an entry there is none.
func (a *server) change(ctx context.Context, c store.Case, do func(s *store.Store, q jobs.Queue) (entry string, err error)) error {
	err := a.Store.Together(ctx, func(s *store.Store) error {
		entry, err := do(s, a.Jobs.In(s))
		if err != nil || entry == "" {
			return err
		}
		return s.Note(ctx, c.ID, who(ctx).ID, entry)
	})
	if err == nil {
		a.live.Changed(c.ID)
	}
	return err
}

// ArtifactInput names an artifact in a path.
type ArtifactInput struct {
	Case     string `path:"case"`
	Artifact string `path:"artifact"`
}

func (a *server) deletedRoutes(h huma.API) {
	type empty struct{}
	const evidence, artifact = "/api/cases/{case}/evidence/{evidence}", "/api/cases/{case}/artifacts/{artifact}"
	route(h, a, "DELETE", evidence, "deleteEvidence", "Delete evidence; it can be restored for some time", func(ctx context.Context, in *EvidenceInput) (*empty, error) {
		c, me, err := a.caseAndPart(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		e, err := a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
		if err != nil {
			return nil, err
		}
		return nil, a.deleteOf(ctx, c, me, store.KindEvidence, e.Name, e.PersonID)
	})
	route(h, a, "POST", evidence+"/restore", "restoreEvidence", "Restore what was deleted last under a name", func(ctx context.Context, in *EvidenceInput) (*body[api.EvidenceInfo], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		if err := a.restoreOf(ctx, c, store.KindEvidence, in.Evidence); err != nil {
			return nil, err
		}
		e, err := a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
		return &body[api.EvidenceInfo]{evidenceOf(e)}, err
	})
	route(h, a, "DELETE", artifact, "deleteArtifact", "Delete an artifact; it can be restored for some time", func(ctx context.Context, in *ArtifactInput) (*empty, error) {
		c, me, err := a.caseAndPart(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		x, err := a.Store.ArtifactByName(ctx, c.ID, in.Artifact)
		if err != nil {
			return nil, err
		}
		return nil, a.deleteOf(ctx, c, me, store.KindArtifact, x.Name, x.PersonID)
	})
	route(h, a, "POST", artifact+"/restore", "restoreArtifact", "Restore the artifact that was deleted last under a name", func(ctx context.Context, in *ArtifactInput) (*body[api.Artifact], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		if err := a.restoreOf(ctx, c, store.KindArtifact, in.Artifact); err != nil {
			return nil, err
		}
		x, err := a.Store.ArtifactByName(ctx, c.ID, in.Artifact)
		return &body[api.Artifact]{artifactOf(x)}, err
	})
	route(h, a, "GET", "/api/cases/{case}/deleted", "deleted", "Evidence and artifacts that can be restored, what was deleted last first", func(ctx context.Context, in *CaseInput) (*body[[]api.Deleted], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.DeletedOf(ctx, c.ID)
		return listed(list, func(x store.Deleted) api.Deleted {
			return api.Deleted{Kind: x.Kind, Name: x.Name, Bytes: x.Bytes, By: x.DeletedBy, At: x.DeletedAt}
		}, err)
	})
	route(h, a, "DELETE", "/api/cases/{case}", "deleteCase", "Delete a case; whoever leads it can restore it for some time", func(ctx context.Context, in *CaseInput) (*empty, error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
			return "deleted the case", s.DeleteCase(ctx, c.ID, who(ctx).ID)
		})
	})
	route(h, a, "POST", "/api/cases/{case}/restore", "restoreCase", "Restore the case that was deleted last under a name, of which one is a lead", func(ctx context.Context, in *CaseInput) (*body[api.Case], error) {
		err := a.Store.Together(ctx, func(s *store.Store) error {
			c, err := s.RestoreCase(ctx, in.Case, who(ctx).ID)
			if err != nil {
				return err
			}
			return s.Note(ctx, c.ID, who(ctx).ID, "restored the case")
		})
		if err != nil {
			return nil, err
		}
		return a.oneCase(ctx, in.Case)
	})
	route(h, a, "PUT", "/api/cases/{case}/retention", "retain", "Delete evidence of a case some days after it came; 0 for never", func(ctx context.Context, in *caseBody[api.Retention]) (*body[api.Retention], error) {
		c, err := a.caseFor(ctx, in.Case)
		if err != nil {
			return nil, err
		}
		err = a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
			entry := fmt.Sprintf("evidence is deleted %d days after it came", in.Body.Days)
			if in.Body.Days == 0 {
				entry = "evidence is kept until somebody deletes it"
			}
			return entry, s.Retain(ctx, c.ID, in.Body.Days, who(ctx).ID)
		})
		return &body[api.Retention]{in.Body}, err
	})
}

// deleteOf deletes evidence or an artifact: whoever leads the case may, and who added it.
func (a *server) deleteOf(ctx context.Context, c store.Case, me store.Member, kind, name string, by int64) error {
	if fully(ctx, c, me) != nil && by != who(ctx).ID {
		return fault.PermissionDenied.New("ask the person who leads the case", "permission denied: somebody else has added %s, and your role in case %s is %s", name, c.Name, me.Role)
	}
	return a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := s.Delete(ctx, kind, c.ID, name, who(ctx).ID); err != nil {
			return "", err
		}
		return fmt.Sprintf("deleted the %s %s", kind, name), a.explainAgain(ctx, s, q, c, kind)
	})
}

// restoreOf restores evidence or an artifact.
func (a *server) restoreOf(ctx context.Context, c store.Case, kind, name string) error {
	return a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := s.RestoreDeleted(ctx, kind, c.ID, name); err != nil {
			return "", err
		}
		if kind == store.KindEvidence { // a job of it may have ended when it was deleted
			e, err := s.EvidenceByName(ctx, c.ID, name)
			if err == nil && e.State == api.StateIndexing {
				err = q.Index(ctx, e)
			}
			if err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("restored the %s %s", kind, name), a.explainAgain(ctx, s, q, c, kind)
	})
}

// explainAgain has the evidence read again that artifacts explain, when one of them comes or goes.
func (a *server) explainAgain(ctx context.Context, s *store.Store, q jobs.Queue, c store.Case, kind string) error {
	if kind != store.KindArtifact {
		return nil
	}
	again, err := s.IndexAgain(ctx, c.ID, kinds.Explained())
	for _, e := range again {
		if err == nil {
			err = q.Index(ctx, e)
		}
	}
	return err
}
