package httpapi

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

// CheckpointInput names a checkpoint in a path.
type CheckpointInput struct {
	CaseInput
	ID int64 `path:"checkpoint"`
}

func (a *server) checkpointRoutes(h huma.API) {
	const all, one = "/api/cases/{case}/checkpoints", "/api/cases/{case}/checkpoints/{checkpoint}"
	route(h, a, "GET", all, "checkpoints", "A case's checkpoints, by place", a.checkpoints)
	route(h, a, "POST", all, "newCheckpoint", "Set a checkpoint on a line", a.newCheckpoint, created)
	route(h, a, "PATCH", one, "changeCheckpoint", "Change a checkpoint", a.changeCheckpoint)
	route(h, a, "PATCH", all, "switchCheckpoints", "Enable or disable all checkpoints at once", a.switchCheckpoints)
	route(h, a, "DELETE", all, "deleteCheckpoints", "Delete all checkpoints", a.deleteCheckpoints)
	route(h, a, "DELETE", one, "deleteCheckpoint", "Delete a checkpoint", a.deleteCheckpoint)
}

func (a *server) checkpoints(ctx context.Context, in *struct {
	CaseInput
	ListInput
}) (*body[[]api.Checkpoint], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.PageOfCheckpoints(ctx, c.ID, who(ctx).ID, in.page())
	return listed(list, checkpointOf, err)
}

func (a *server) newCheckpoint(ctx context.Context, in *caseBody[api.NewCheckpoint]) (*body[api.Checkpoint], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	b := in.Body
	kind, about, err := find.Parse(b.On)
	if err != nil {
		return nil, err
	}
	x := store.Checkpoint{CaseID: c.ID, Kind: kind.Name, About: about, Moment: b.Moment, Frame: b.Frame, Condition: b.When, Nth: b.Nth, Thread: b.Thread,
		Listing: b.Listing, Show: append([]string{}, b.Show...), Enabled: true, IsPrivate: b.Private, PersonID: who(ctx).ID, Person: who(ctx)}
	if err := ask.CheckExpressions(x.Condition, x.Nth, x.Show); err != nil {
		return nil, err
	}
	if err := a.locate(ctx, in.Case, c.ID, b.Evidence, kind, &x); err != nil {
		return nil, err
	}
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := s.AddCheckpoint(ctx, &x); err != nil {
			return "", err
		}
		return countAgain(ctx, q, x, fmt.Sprintf("set checkpoint %d on %s", x.ID, checkpointOf(x).Label))
	})
	return &body[api.Checkpoint]{checkpointOf(x)}, err
}

// ChangeCheckpointInput is a change of a checkpoint; what it does not name stays.
type ChangeCheckpointInput struct {
	CheckpointInput
	Body api.CheckpointChange
}

func (a *server) changeCheckpoint(ctx context.Context, in *ChangeCheckpointInput) (*body[api.Checkpoint], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	var x store.Checkpoint
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		x, err = s.ChangeCheckpoint(ctx, c.ID, who(ctx).ID, in.ID, func(x *store.Checkpoint) error {
			change(&x.Enabled, in.Body.Enabled)
			change(&x.Condition, in.Body.When)
			change(&x.Nth, in.Body.Nth)
			change(&x.Listing, in.Body.Listing)
			change(&x.Show, in.Body.Show)
			return ask.CheckExpressions(x.Condition, x.Nth, x.Show)
		})
		if err != nil {
			return "", err
		}
		return countAgain(ctx, q, x, fmt.Sprintf("changed checkpoint %d", x.ID))
	})
	return &body[api.Checkpoint]{checkpointOf(x)}, err
}

// countAgain queues the counts of a checkpoint, and returns what the record says of it. A private one is nobody else's business.
func countAgain(ctx context.Context, q jobs.Queue, x store.Checkpoint, entry string) (string, error) {
	if x.IsPrivate {
		return "", nil
	}
	return entry, q.Check(ctx, x.CaseID, jobs.AllEvidence)
}

// change sets a field to a value, if there is one.
func change[T any](field, value *T) {
	if value != nil {
		*field = *value
	}
}

func (a *server) switchCheckpoints(ctx context.Context, in *caseBody[api.CheckpointSwitch]) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("set all checkpoints to enabled %t", in.Body.Enabled), s.SwitchCheckpoints(ctx, c.ID, who(ctx).ID, in.Body.Enabled)
	})
}

func (a *server) deleteCheckpoints(ctx context.Context, in *CaseInput) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return "deleted all checkpoints", s.DeleteCheckpoints(ctx, c.ID, who(ctx).ID)
	})
}

func (a *server) deleteCheckpoint(ctx context.Context, in *CheckpointInput) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x, err := a.Store.CheckpointByID(ctx, c.ID, who(ctx).ID, in.ID)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		entry := fmt.Sprintf("deleted checkpoint %d", in.ID)
		if x.IsPrivate {
			entry = ""
		}
		return entry, s.DeleteCheckpoint(ctx, c.ID, x.ID)
	})
}

// locate verifies that a checkpoint's line has code in the named evidence, or in the newest
// readable one. It sets the line's full path and text, by which the line is found in other builds.
func (a *server) locate(ctx context.Context, caseName string, caseID int64, evidence string, kind find.Kind, x *store.Checkpoint) error {
	if evidence == "" {
		list, err := a.Store.EvidenceOf(ctx, caseID)
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.State == api.StateReady {
				evidence = e.Name
				break
			}
		}
		if evidence == "" {
			return fault.NoCode.New("upload evidence first", "the case has no evidence with the place of the checkpoint")
		}
	}
	r, _, _, err := a.recording(ctx, caseName, evidence)
	if err != nil {
		return err
	}
	finder, ok := r.(replay.Finder)
	if !ok {
		return fmt.Errorf("%w: checkpoints need evidence with a history", fault.NoHistory)
	}
	c, err := x.In(r, x.From())
	if err != nil {
		return err
	}
	at, err := finder.Locate(ctx, c)
	if err != nil {
		return err
	}
	switch {
	case kind.Placed:
		x.Evidence = evidence
	case at.File != "":
		x.About, x.File, x.Line, x.Text = "", at.File, at.Line, at.Text
	case !kind.Any:
		x.About, x.Function = "", at.About
	}
	return nil
}

func checkpointOf(x store.Checkpoint) api.Checkpoint {
	about := x.Place()
	label := x.Kind
	if kind, err := find.Named(x.Kind); err == nil {
		label = kind.Describe(about)
	}
	if x.Evidence != "" {
		label += fmt.Sprintf(", of %s@%d", x.Evidence, x.Moment)
	}
	return api.Checkpoint{ID: x.ID, On: x.Kind + " " + about, Label: label, Kind: x.Kind, File: x.File, Line: x.Line, Text: x.Text, Function: x.Function, About: x.About, Evidence: x.Evidence,
		Moment: x.Moment, Frame: x.Frame, When: x.Condition, Nth: x.Nth, Thread: x.Thread, Listing: x.Listing, Show: append([]string{}, x.Show...), Enabled: x.Enabled, Private: x.IsPrivate, By: x.Person.Name, Created: x.CreatedAt}
}
