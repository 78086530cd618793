package api

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/client"
	"wraithology/core/answer"
	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/service/store"
)

// CheckpointInput names a checkpoint in a path.
type CheckpointInput struct {
	CaseInput
	ID int64 `path:"checkpoint"`
}

func (a *api) checkpointRoutes(h huma.API) {
	route(h, a, "GET", "/api/cases/{case}/checkpoints", "checkpoints", "A case's checkpoints", func(ctx context.Context, in *CaseInput) (*body[[]client.Checkpoint], error) {
		c, err := a.caseFor(ctx, in.Case, mayLook)
		if err != nil {
			return nil, err
		}
		list, err := a.Store.CheckpointsOf(ctx, c.ID)
		out := []client.Checkpoint{}
		for _, x := range list {
			out = append(out, checkpointOf(x))
		}
		return &body[[]client.Checkpoint]{out}, err
	})
	route(h, a, "POST", "/api/cases/{case}/checkpoints", "newCheckpoint", "Set a checkpoint on a line", func(ctx context.Context, in *struct {
		CaseInput
		Body client.NewCheckpoint
	}) (*body[client.Checkpoint], error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		b := in.Body
		x := store.Checkpoint{CaseID: c.ID, Kind: b.Kind, File: b.File, Line: b.Line, Function: b.Function, About: b.About, Moment: b.Moment, Frame: b.Frame, Condition: b.When, Nth: b.Nth, Thread: b.Thread,
			Listing: b.Listing, Show: append([]string{}, b.Show...), Enabled: true, PersonID: who(ctx).ID, Person: who(ctx)}
		if x.Kind == "" {
			x.Kind = string(replay.OnLine)
		}
		if err := checkExpressions(x); err != nil {
			return nil, err
		}
		if err := a.locate(ctx, in.Case, c.ID, in.Body.Evidence, &x); err != nil {
			return nil, err
		}
		if err := a.Store.SaveCheckpoint(ctx, &x); err != nil {
			return nil, err
		}
		return &body[client.Checkpoint]{checkpointOf(x)}, a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf("set checkpoint %d on %s", x.ID, checkpointOf(x).Place()))
	}, created)
	route(h, a, "PATCH", "/api/cases/{case}/checkpoints/{checkpoint}", "changeCheckpoint", "Change a checkpoint", func(ctx context.Context, in *struct {
		CheckpointInput
		Body client.CheckpointChange
	}) (*body[client.Checkpoint], error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		x, err := a.Store.CheckpointByID(ctx, c.ID, in.ID)
		if err != nil {
			return nil, err
		}
		if in.Body.Enabled != nil {
			x.Enabled = *in.Body.Enabled
		}
		if in.Body.When != nil {
			x.Condition = *in.Body.When
		}
		if in.Body.Nth != nil {
			x.Nth = *in.Body.Nth
		}
		if in.Body.Listing != nil {
			x.Listing = *in.Body.Listing
		}
		if in.Body.Show != nil {
			x.Show = *in.Body.Show
		}
		if err := checkExpressions(x); err != nil {
			return nil, err
		}
		if err := a.Store.SaveCheckpoint(ctx, &x); err != nil {
			return nil, err
		}
		return &body[client.Checkpoint]{checkpointOf(x)}, a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf("changed checkpoint %d", x.ID))
	})
	route(h, a, "PATCH", "/api/cases/{case}/checkpoints", "switchCheckpoints", "Enable or disable all checkpoints at once", func(ctx context.Context, in *struct {
		CaseInput
		Body client.CheckpointSwitch
	}) (*struct{}, error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		if err := a.Store.SwitchCheckpoints(ctx, c.ID, in.Body.Enabled); err != nil {
			return nil, err
		}
		return nil, a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf("set all checkpoints to enabled %t", in.Body.Enabled))
	})
	route(h, a, "DELETE", "/api/cases/{case}/checkpoints", "deleteCheckpoints", "Delete all checkpoints", func(ctx context.Context, in *CaseInput) (*struct{}, error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		if err := a.Store.DeleteCheckpoints(ctx, c.ID); err != nil {
			return nil, err
		}
		return nil, a.Store.Note(ctx, c.ID, who(ctx).ID, "deleted all checkpoints")
	})
	route(h, a, "DELETE", "/api/cases/{case}/checkpoints/{checkpoint}", "deleteCheckpoint", "Delete a checkpoint", func(ctx context.Context, in *CheckpointInput) (*struct{}, error) {
		c, err := a.caseFor(ctx, in.Case, mayWork)
		if err != nil {
			return nil, err
		}
		if err := a.Store.DeleteCheckpoint(ctx, c.ID, in.ID); err != nil {
			return nil, err
		}
		return nil, a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf("deleted checkpoint %d", in.ID))
	})
}

// checkExpressions makes sure that what is written in a checkpoint can be read.
func checkExpressions(x store.Checkpoint) error {
	if _, err := replay.ParseNumber(x.Nth); err != nil {
		return err
	}
	for _, text := range append([]string{x.Condition}, x.Show...) {
		if text == "" {
			continue
		}
		if _, err := question.Parse(text); err != nil {
			return err
		}
	}
	return nil
}

// queryOf returns the query that a kept checkpoint stands for in a recording. A
// line is looked up by its text, since another build may have moved it.
func queryOf(r replay.Replay, x store.Checkpoint) answer.CheckpointQuery {
	q := answer.CheckpointQuery{When: x.Condition, Nth: x.Nth, OnThread: x.Thread, Show: x.Show}
	about := x.About
	if about == "" {
		about = "*"
	}
	switch replay.CheckpointKind(x.Kind) {
	case replay.OnEnter:
		q.Enter = x.Function
	case replay.OnReturn:
		q.Return = x.Function
	case replay.OnError:
		q.Error = about
	case replay.OnOutput:
		q.Output = about
	case replay.OnWrite:
		q.Write, q.OnThread = x.About, 0
	default:
		q.File, q.Line = x.File, lineIn(r, x)
	}
	return q
}

// lineIn finds a checkpoint's line in a recording: the one with its text that is
// nearest to where it was.
func lineIn(r replay.Replay, x store.Checkpoint) int {
	text, err := r.Source(x.File)
	if err != nil || x.Text == "" {
		return x.Line
	}
	lines := strings.Split(text, "\n")
	for away := 0; away < len(lines); away++ {
		for _, n := range []int{x.Line - away, x.Line + away} {
			if n >= 1 && n <= len(lines) && strings.TrimSpace(lines[n-1]) == x.Text {
				return n
			}
		}
	}
	return x.Line
}

// locate makes sure that a checkpoint's line holds code in the evidence that is
// named, else in the newest that can be read, and keeps the line's full path and
// text, by which it is found again in another build.
func (a *api) locate(ctx context.Context, caseName string, caseID int64, evidence string, x *store.Checkpoint) error {
	if evidence == "" {
		list, err := a.Store.EvidenceOf(ctx, caseID)
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.State == client.StateReady {
				evidence = e.Name
				break
			}
		}
		if evidence == "" {
			return fmt.Errorf("%s:%d: %w: the case holds no evidence yet in which to look for the line", x.File, x.Line, replay.ErrNoCode)
		}
	}
	r, _, err := a.recording(ctx, caseName, evidence)
	if err != nil {
		return err
	}
	switch replay.CheckpointKind(x.Kind) {
	case replay.OnEnter, replay.OnReturn:
		x.Function, err = r.FindFunction(x.Function)
		return err
	case replay.OnError, replay.OnOutput:
		return nil
	case replay.OnWrite:
		x.Evidence = evidence
		_, err = r.Writes(ctx, x.About, event.Moment(x.Moment), event.ThreadID(x.Thread), x.Frame, replay.Page{})
		return err
	}
	path, err := r.FindLine(x.File, x.Line)
	if err != nil {
		return err
	}
	x.File = path
	if text, err := r.Source(path); err == nil {
		if lines := strings.Split(text, "\n"); x.Line <= len(lines) {
			x.Text = strings.TrimSpace(lines[x.Line-1])
		}
	}
	return nil
}

func checkpointOf(x store.Checkpoint) client.Checkpoint {
	return client.Checkpoint{ID: x.ID, Kind: x.Kind, File: x.File, Line: x.Line, Text: x.Text, Function: x.Function, About: x.About, Evidence: x.Evidence, Moment: x.Moment, Frame: x.Frame, When: x.Condition, Nth: x.Nth, Thread: x.Thread,
		Listing: x.Listing, Show: append([]string{}, x.Show...), Enabled: x.Enabled, By: x.Person.Name, Created: x.CreatedAt}
}
