package jobs

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/service/notices"
	"wraithology/service/recordings"
	"wraithology/service/store"
)

// checksQueue is the queue of checks: they wait for each other, not for evidence that is indexed.
const checksQueue = "checks"

// AllEvidence stands for all evidence of a case.
const AllEvidence int64 = 0

// checkLimit is the time limit of one expectation or checkpoint in one piece of evidence.
const checkLimit = 10 * time.Minute

type checkArgs struct {
	Case     int64 `json:"case"`
	Evidence int64 `json:"evidence"` // or AllEvidence
}

// Kind implements river.JobArgs.
func (checkArgs) Kind() string { return "check" }

type checker struct {
	river.WorkerDefaults[checkArgs]
	store *store.Store
	open  *recordings.Recordings
	board *notices.Board
}

// Timeout implements river.Worker: each check has a time limit, their number has none.
func (*checker) Timeout(*river.Job[checkArgs]) time.Duration { return -1 }

// Work implements river.Worker. Evidence is checked against the expectations of other cases too, and expectations in the
// evidence of other cases, where it is of the same program: a defect that one case has found is recognised in another.
func (w *checker) Work(ctx context.Context, job *river.Job[checkArgs]) error {
	expectations, err := w.store.ExpectationsOf(ctx, job.Args.Case)
	if err != nil {
		return err
	}
	checkpoints, err := w.store.CheckpointsOf(ctx, job.Args.Case, store.Everybody)
	if err != nil {
		return err
	}
	list, err := w.evidenceOf(ctx, job.Args)
	if err != nil {
		return err
	}
	for _, e := range list {
		if e.State != api.StateReady {
			continue
		}
		of := expectations
		if e.ID == job.Args.Evidence {
			others, err := w.store.ExpectationsFor(ctx, e)
			if err != nil {
				return err
			}
			of = append(slices.Clip(of), others...)
		}
		open := w.opener(ctx, e)
		if err := w.evidence(ctx, e, of, checkpoints, open); err != nil {
			return err
		}
		if e.ID != job.Args.Evidence {
			continue
		}
		if !e.IsImported {
			if err := w.board.Arrived(ctx, e, open); err != nil {
				return err
			}
		}
		if err := w.store.Arrived(ctx, e.ID); err != nil {
			return err
		}
	}
	if job.Args.Evidence != AllEvidence || len(expectations) == 0 {
		return nil
	}
	if list, err = w.store.EvidenceElsewhere(ctx, job.Args.Case); err != nil {
		return err
	}
	for _, e := range list {
		if err := w.evidence(ctx, e, expectations, nil, w.opener(ctx, e)); err != nil {
			return err
		}
	}
	return nil
}

// evidenceOf lists the evidence that a job is about.
func (w *checker) evidenceOf(ctx context.Context, of checkArgs) ([]store.Evidence, error) {
	if of.Evidence == AllEvidence {
		return w.store.Unchecked(ctx, of.Case)
	}
	e, err := w.store.EvidenceByID(ctx, of.Evidence)
	if errors.Is(err, fault.NotFound) || err == nil && e.CaseID != of.Case {
		return nil, nil // deleted or moved meanwhile
	}
	return []store.Evidence{e}, err
}

// opener opens evidence when it is needed first.
func (w *checker) opener(ctx context.Context, e store.Evidence) func() (replay.Recording, error) {
	return sync.OnceValues(func() (replay.Recording, error) {
		r, _, err := w.open.Masked(ctx, e, nil)
		return r, err
	})
}

// evidence checks and counts what is new or has changed in one piece of evidence.
func (w *checker) evidence(ctx context.Context, e store.Evidence, expectations []store.Expectation, checkpoints []store.Checkpoint, open func() (replay.Recording, error)) error {
	checked, err := w.store.Checked(ctx, e.ID)
	if err != nil {
		return err
	}
	counted, err := w.store.Counted(ctx, e.ID)
	if err != nil {
		return err
	}
	for _, x := range expectations {
		if checked[x.ID] {
			continue
		}
		r, err := open()
		if err != nil {
			return err
		}
		answer, err := check(ctx, r, x)
		if err != nil {
			return err
		}
		if err := w.store.SaveCheck(ctx, store.Check{EvidenceID: e.ID, ExpectationID: x.ID, Version: x.Version, Breaks: int64(answer.Breaks), Answer: answer}); err != nil {
			return err
		}
	}
	var counts []store.Count
	for _, x := range checkpoints {
		if counted[x.ID] || x.Evidence != "" && x.Evidence != e.Name {
			continue
		}
		r, err := open()
		if err != nil {
			return err
		}
		n, err := count(ctx, r, x)
		if err != nil {
			return err
		}
		n.EvidenceID, n.CheckpointID, n.Version = e.ID, x.ID, x.Version
		counts = append(counts, n)
	}
	return w.store.SaveCounts(ctx, counts)
}

// check asks a recording for one expectation. What it cannot answer is in the answer; the error is that of the job.
func check(ctx context.Context, r replay.Recording, x store.Expectation) (ask.Checked, error) {
	e := x.Asked()
	got, err := ask.Run(ctx, ask.Subject{Recording: r, Limit: checkLimit}, ask.CheckRequest{Expectations: []ask.Expectation{e}})
	if ctx.Err() != nil {
		return ask.Checked{}, ctx.Err()
	}
	if err != nil {
		return ask.Checked{Checkpoint: e.Label(), That: e.That, Note: e.Note, Trouble: err.Error(), Missing: true}, nil
	}
	return got.Expectations[0], nil
}

// count counts the hits of a checkpoint.
func count(ctx context.Context, r replay.Recording, x store.Checkpoint) (n store.Count, err error) {
	f, ok := r.(replay.Finder)
	if !ok {
		n.Trouble = fault.NoHistory.Error()
		return n, nil
	}
	err = guard.Do(func() error {
		limited, cancel := context.WithTimeout(ctx, checkLimit)
		defer cancel()
		c, err := x.In(r, x.From())
		if err != nil {
			return err
		}
		hits, err := f.Hits(limited, c, replay.Page{})
		n.Hits, n.Undecided = int64(hits.Total), int64(hits.Undecided)
		if err == nil {
			err = hits.Trouble
		}
		return err
	})
	if ctx.Err() != nil {
		return n, ctx.Err()
	}
	if err != nil {
		n.Trouble = err.Error()
	}
	return n, nil
}
