package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
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

// Check queues the checks of a case's expectations, and the counts of its checkpoints, that are new or have changed, in
// one piece of evidence or in AllEvidence.
func (j *Jobs) Check(ctx context.Context, caseID, evidence int64) error {
	if _, err := j.client.Insert(ctx, checkArgs{caseID, evidence}, &river.InsertOpts{Queue: checksQueue}); err != nil {
		return fmt.Errorf("queue the checks: %w", err)
	}
	return nil
}

type checker struct {
	river.WorkerDefaults[checkArgs]
	store *store.Store
	open  *recordings.Recordings
}

// Timeout implements river.Worker: each check has a time limit, their number has none.
func (*checker) Timeout(*river.Job[checkArgs]) time.Duration { return -1 }

// pair is a piece of evidence and an expectation, or a checkpoint.
type pair struct{ evidence, of int64 }

// stale are what has to be checked and counted in a case.
type stale struct {
	expectations []store.Expectation
	checkpoints  []store.Checkpoint
	checked      map[pair]bool
	counted      map[pair]bool
}

// Work implements river.Worker.
func (w *checker) Work(ctx context.Context, job *river.Job[checkArgs]) error {
	s, err := w.load(ctx, job.Args.Case)
	if err != nil || len(s.expectations)+len(s.checkpoints) == 0 {
		return err
	}
	list, err := w.store.EvidenceOf(ctx, job.Args.Case)
	if err != nil {
		return err
	}
	for _, e := range list {
		if e.State != api.StateReady || job.Args.Evidence != AllEvidence && job.Args.Evidence != e.ID {
			continue
		}
		if err := w.evidence(ctx, e, s); err != nil {
			return err
		}
	}
	return nil
}

func (w *checker) load(ctx context.Context, caseID int64) (s stale, err error) {
	s.checked, s.counted = map[pair]bool{}, map[pair]bool{}
	if s.expectations, err = w.store.ExpectationsOf(ctx, caseID); err != nil {
		return s, err
	}
	if s.checkpoints, err = w.store.CheckpointsOf(ctx, caseID); err != nil {
		return s, err
	}
	checks, err := w.store.ChecksOf(ctx, caseID)
	if err != nil {
		return s, err
	}
	for _, x := range checks {
		s.checked[pair{x.EvidenceID, x.ExpectationID}] = true
	}
	counts, err := w.store.CountsOf(ctx, caseID)
	for _, x := range counts {
		s.counted[pair{x.EvidenceID, x.CheckpointID}] = true
	}
	return s, err
}

// evidence checks and counts what is new in one piece of evidence.
func (w *checker) evidence(ctx context.Context, e store.Evidence, s stale) error {
	var r replay.Recording
	open := func() (err error) {
		if r == nil {
			r, err = w.open.Open(ctx, e, nil)
		}
		return err
	}
	for _, x := range s.expectations {
		if s.checked[pair{e.ID, x.ID}] {
			continue
		}
		if err := open(); err != nil {
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
	for _, x := range s.checkpoints {
		if s.counted[pair{e.ID, x.ID}] || x.Evidence != "" && x.Evidence != e.Name {
			continue
		}
		if err := open(); err != nil {
			return err
		}
		n, err := count(ctx, r, x)
		if err != nil {
			return err
		}
		n.EvidenceID, n.CheckpointID, n.Version = e.ID, x.ID, x.Version
		if err := w.store.SaveCount(ctx, n); err != nil {
			return err
		}
	}
	return nil
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
