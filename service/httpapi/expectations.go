package httpapi

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/service/jobs"
	"wraithology/service/store"
)

// ExpectationInput names an expectation in a path.
type ExpectationInput struct {
	CaseInput
	ID int64 `path:"expectation"`
}

// ChangeExpectationInput is a change of an expectation; what it does not name stays.
type ChangeExpectationInput struct {
	ExpectationInput
	Body api.ExpectationChange
}

func (a *server) expectationRoutes(h huma.API) {
	const all, one = "/api/cases/{case}/expectations", "/api/cases/{case}/expectations/{expectation}"
	route(h, a, "GET", all, "expectations", "A case's expectations", a.expectations)
	route(h, a, "POST", all, "newExpectation", "Expect something at a checkpoint", a.newExpectation, created)
	route(h, a, "PATCH", one, "changeExpectation", "Change an expectation", a.changeExpectation)
	route(h, a, "DELETE", one, "deleteExpectation", "Delete an expectation", a.deleteExpectation)
	route(h, a, "GET", "/api/cases/{case}/checks", "checks", "What each piece of evidence answers to the expectations, and how often checkpoints hit", a.checks)
}

func (a *server) expectations(ctx context.Context, in *CaseInput) (*body[[]api.KeptExpectation], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	list, err := a.Store.ExpectationsOf(ctx, c.ID)
	out := []api.KeptExpectation{}
	for _, x := range list {
		out = append(out, expectationOf(x))
	}
	return &body[[]api.KeptExpectation]{out}, err
}

func (a *server) newExpectation(ctx context.Context, in *caseBody[ask.Expectation]) (*body[api.KeptExpectation], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	b := in.Body
	x := store.Expectation{CaseID: c.ID, Checkpoint: b.Checkpoint, Text: b.Text, Condition: b.When, That: b.That, Note: a.masked(c, b.Note), PersonID: who(ctx).ID, Person: who(ctx)}
	if err := x.Asked().Valid(); err != nil {
		return nil, err
	}
	if err := a.locateExpectation(ctx, c, &x); err != nil {
		return nil, err
	}
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		if err := s.AddExpectation(ctx, &x); err != nil {
			return "", err
		}
		return fmt.Sprintf("expected at %s: %s", x.Checkpoint, x.That), q.Check(ctx, c.ID, jobs.AllEvidence)
	})
	return &body[api.KeptExpectation]{expectationOf(x)}, err
}

func (a *server) changeExpectation(ctx context.Context, in *ChangeExpectationInput) (*body[api.KeptExpectation], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	x, err := a.Store.ExpectationByID(ctx, c.ID, in.ID)
	if err != nil {
		return nil, err
	}
	isMoved := in.Body.Checkpoint != nil && *in.Body.Checkpoint != x.Checkpoint
	change(&x.Checkpoint, in.Body.Checkpoint)
	change(&x.Condition, in.Body.When)
	change(&x.That, in.Body.That)
	if err := x.Asked().Valid(); err != nil {
		return nil, err
	}
	if isMoved {
		x.Text = ""
		if err := a.locateExpectation(ctx, c, &x); err != nil {
			return nil, err
		}
	}
	located := x
	err = a.change(ctx, c, func(s *store.Store, q jobs.Queue) (string, error) {
		x, err = s.ChangeExpectation(ctx, c.ID, in.ID, func(x *store.Expectation) {
			if isMoved {
				x.Checkpoint, x.Text = located.Checkpoint, located.Text
			}
			change(&x.Condition, in.Body.When)
			change(&x.That, in.Body.That)
			change(&x.Note, in.Body.Note)
			x.Note = a.masked(c, x.Note)
		})
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("changed expectation %d: at %s, %s", x.ID, x.Checkpoint, x.That), q.Check(ctx, c.ID, jobs.AllEvidence)
	})
	return &body[api.KeptExpectation]{expectationOf(x)}, err
}

// locateExpectation completes the place of an expectation from the newest evidence that has it: the full name of its
// function, or the path of its file and the text of its line.
func (a *server) locateExpectation(ctx context.Context, c store.Case, x *store.Expectation) error {
	list, err := a.Store.EvidenceOf(ctx, c.ID)
	if err != nil {
		return err
	}
	missing := fault.NoCode.New("upload a recording first", "the case has no evidence with the place of the checkpoint")
	for _, e := range list {
		if e.State != api.StateReady {
			continue
		}
		r, err := a.open(ctx, c, e)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			continue // other evidence can have it
		}
		located, err := x.Asked().Located(ctx, r)
		switch {
		case err == nil:
			x.Checkpoint, x.Text = located.Checkpoint, located.Text
			return nil
		case errors.Is(err, fault.NoCode):
			missing = err
		case !errors.Is(err, fault.NoHistory):
			return err
		}
	}
	return missing
}

func (a *server) deleteExpectation(ctx context.Context, in *ExpectationInput) (*struct{}, error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	return nil, a.change(ctx, c, func(s *store.Store, _ jobs.Queue) (string, error) {
		return fmt.Sprintf("deleted expectation %d", in.ID), s.DeleteExpectation(ctx, c.ID, in.ID)
	})
}

func (a *server) checks(ctx context.Context, in *CaseInput) (*body[api.Checks], error) {
	c, err := a.caseFor(ctx, in.Case)
	if err != nil {
		return nil, err
	}
	out := api.Checks{Expectations: []api.KeptExpectation{}, Checkpoints: []api.Checkpoint{}, Evidence: []api.CheckedIn{}, Elsewhere: []api.CheckedIn{}}
	expectations, err := a.Store.ExpectationsOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range expectations {
		out.Expectations = append(out.Expectations, expectationOf(x))
	}
	checkpoints, err := a.Store.CheckpointsOf(ctx, c.ID, store.Everybody)
	if err != nil {
		return nil, err
	}
	for _, x := range checkpoints {
		out.Checkpoints = append(out.Checkpoints, checkpointOf(x))
	}
	checks, err := a.Store.ChecksOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	counts, err := a.Store.CountsOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	type pair struct{ evidence, of int64 }
	checked, counted := map[pair]*ask.Checked{}, map[pair]*api.CheckpointIn{}
	for i, x := range checks {
		checked[pair{x.EvidenceID, x.ExpectationID}] = &checks[i].Answer
	}
	for _, x := range counts {
		counted[pair{x.EvidenceID, x.CheckpointID}] = &api.CheckpointIn{Hits: x.Hits, Undecided: x.Undecided, Trouble: x.Trouble}
	}
	list, err := a.Store.EvidenceOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		row := checkedIn(e, len(expectations))
		for i, x := range expectations {
			row.Checks[i] = checked[pair{e.ID, x.ID}]
		}
		for _, x := range checkpoints {
			row.Counts = append(row.Counts, counted[pair{e.ID, x.ID}])
		}
		out.Evidence = append(out.Evidence, counting(row, c, e))
	}
	out.Elsewhere, err = a.checkedElsewhere(ctx, c, expectations)
	return &body[api.Checks]{out}, err
}

// checkedIn returns a row for evidence that has not answered yet.
func checkedIn(e store.Evidence, expectations int) api.CheckedIn {
	return api.CheckedIn{Name: e.Name, Program: e.Program, Outcome: e.Outcome, State: e.State, Uploaded: e.UploadedAt, Checks: make([]*ask.Checked, expectations), Counts: []*api.CheckpointIn{}}
}

// counting adds to a row how many expectations of a case break.
func counting(row api.CheckedIn, c store.Case, e store.Evidence) api.CheckedIn {
	for _, x := range row.Checks {
		if x != nil && x.Breaks > 0 {
			row.Broken++
		}
	}
	row.Again = row.Broken > 0 && isAfterClosing(c, e)
	return row
}

// checkedElsewhere lists what evidence of the person's other cases answers to a case's expectations.
func (a *server) checkedElsewhere(ctx context.Context, c store.Case, expectations []store.Expectation) ([]api.CheckedIn, error) {
	list, err := a.Store.AnswersElsewhere(ctx, c.ID, who(ctx).ID)
	if err != nil {
		return nil, err
	}
	out := []api.CheckedIn{}
	for len(list) > 0 {
		e := list[0].Evidence
		row := checkedIn(e, len(expectations))
		row.Case = list[0].Case.Name
		for ; len(list) > 0 && list[0].Evidence.ID == e.ID; list = list[1:] {
			if i := slices.IndexFunc(expectations, func(x store.Expectation) bool { return x.ID == list[0].Expectation.ID }); i >= 0 {
				row.Checks[i] = &list[0].Check.Answer
			}
		}
		out = append(out, counting(row, c, e))
	}
	return out, nil
}

// knownBreaks lists, for each piece of evidence of a case, the expectations of the person's other cases that break in it.
func (a *server) knownBreaks(ctx context.Context, c store.Case) (map[int64][]api.KnownBreak, error) {
	list, err := a.Store.BrokenElsewhere(ctx, c.ID, who(ctx).ID)
	out := map[int64][]api.KnownBreak{}
	for _, x := range list {
		got := x.Check.Answer
		out[x.Evidence.ID] = append(out[x.Evidence.ID], api.KnownBreak{Case: x.Case.Name, Title: x.Case.Title, Closed: x.Case.ClosedAt, Cause: x.Case.Cause,
			Checkpoint: x.Expectation.Asked().Label(), That: x.Expectation.That, Note: x.Expectation.Note, Breaks: got.Breaks, Hits: got.Holds + got.Breaks + got.Unknown})
	}
	return out, err
}

// isAfterClosing reports whether evidence was added to a case after it was closed.
func isAfterClosing(c store.Case, e store.Evidence) bool {
	return c.ClosedAt != nil && e.UploadedAt.After(*c.ClosedAt)
}

func expectationOf(x store.Expectation) api.KeptExpectation {
	return api.KeptExpectation{ID: x.ID, Expectation: x.Asked(), By: x.Person.Name, Created: x.CreatedAt}
}
