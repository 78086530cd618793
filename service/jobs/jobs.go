// Package jobs indexes and checks evidence, and sends notices, in the background. The jobs are queued in the database; a job that
// a restart interrupts is started again.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/service/notices"
	"wraithology/service/recordings"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Jobs is the queue and its workers.
type Jobs struct {
	client *river.Client[pgx.Tx]
	store  *store.Store
	board  *notices.Board
	stop   context.CancelFunc
	done   chan struct{} // closed when no more notices are gathered
}

type indexArgs struct {
	Evidence int64 `json:"evidence"`
}

// Kind implements river.JobArgs.
func (indexArgs) Kind() string { return "index" }

type indexer struct {
	river.WorkerDefaults[indexArgs]
	store *store.Store
	vault *vault.Vault
	open  *recordings.Recordings
	next  *Jobs
}

// Timeout implements river.Worker: indexing has no time limit.
func (*indexer) Timeout(*river.Job[indexArgs]) time.Duration { return -1 }

// Work implements river.Worker.
func (w *indexer) Work(ctx context.Context, job *river.Job[indexArgs]) error {
	e, err := w.store.EvidenceByID(ctx, job.Args.Evidence)
	switch {
	case err != nil:
		return err
	case e.State == api.StateReady: // the service was killed before it queued what follows
		return w.next.Check(ctx, e.CaseID, e.ID)
	case e.State != api.StateIndexing:
		return nil
	}
	saved := time.Now()
	r, err := w.open.Open(ctx, e, func(done float64) {
		if time.Since(saved) > 250*time.Millisecond {
			saved = time.Now()
			_ = w.store.SetProgress(ctx, e.ID, done) // the next one, or the end, says it again
		}
	})
	if err != nil {
		if !errors.Is(err, fault.Unreadable) {
			return err // the queue tries again
		}
		e.State, e.Trouble, e.Outcome = api.StateFailed, err.Error(), "cannot be read"
		return w.store.SaveEvidence(ctx, e)
	}
	var sketch ask.Sketch
	err = guard.Do(func() (err error) {
		describe(&e, r.Info())
		if e.Fingerprint, err = ask.Fingerprint(ctx, r); err != nil {
			return err
		}
		sketch, err = ask.SketchOf(ctx, r)
		return err
	})
	if err != nil {
		return err
	}
	if len(sketch.Functions) > 0 {
		if err := w.store.SaveSketch(ctx, e.ID, sketch); err != nil {
			return err
		}
	}
	if err := w.store.SaveEvidence(ctx, e); err != nil {
		return err
	}
	return w.next.Check(ctx, e.CaseID, e.ID)
}

func describe(e *store.Evidence, info replay.Info) {
	e.State, e.Progress = api.StateReady, 1
	e.Kind, e.Program, e.BuildID, e.Host = info.Kind, info.Program, info.BuildID, info.Host
	e.Started, e.DurationNs, e.Moments, e.Gaps = info.Started, int64(info.Duration), info.Moments, len(info.Gaps)
	e.Outcome = "ended without a failure"
	switch {
	case info.Failure != nil:
		e.Outcome = info.Failure.Summary
		if kind := info.Failure.Kind + ": "; !strings.HasPrefix(e.Outcome, kind) {
			e.Outcome = kind + e.Outcome
		}
		if n := len(info.Failure.Causes); n > 1 { // where it began says most
			e.Outcome += "; because of " + strings.Trim(info.Failure.Causes[n-1].Type+": "+info.Failure.Causes[n-1].Message, ": ")
		}
	case len(info.Gaps) > 0:
		e.Outcome = "not known: " + info.Gaps[len(info.Gaps)-1].What
	}
}

// Start migrates the queue's tables and starts its workers.
func Start(ctx context.Context, s *store.Store, v *vault.Vault, open *recordings.Recordings, board *notices.Board, log *slog.Logger) (*Jobs, error) {
	driver := riverpgxv5.New(s.Pool)
	migrator, err := rivermigrate.New(driver, nil)
	if err != nil {
		return nil, fmt.Errorf("read the migrations of the queue: %w", err)
	}
	if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return nil, fmt.Errorf("migrate the queue: %w", err)
	}
	workers := river.NewWorkers()
	j := &Jobs{store: s, board: board, done: make(chan struct{})}
	river.AddWorker(workers, &indexer{store: s, vault: v, open: open, next: j})
	river.AddWorker(workers, &checker{store: s, open: open, board: board})
	river.AddWorker(workers, &deliverer{board: board})
	c, err := river.NewClient(driver, &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}, checksQueue: {MaxWorkers: 1}, deliveriesQueue: {MaxWorkers: 4}}, Workers: workers, Logger: log,
		FetchPollInterval: 500 * time.Millisecond,
	})
	if err != nil {
		return nil, fmt.Errorf("set up the queue: %w", err)
	}
	j.client = c
	// What a process that was killed was doing: the queue itself would wait an hour for it. Only one process works on a database.
	if err := s.ReleaseJobs(ctx); err != nil {
		return nil, err
	}
	if err := c.Start(context.WithoutCancel(ctx)); err != nil {
		return nil, fmt.Errorf("start the queue: %w", err)
	}
	left, err := s.Unindexed(ctx)
	if err != nil {
		return nil, err
	}
	for _, e := range left {
		if err := j.Index(ctx, e.ID); err != nil {
			return nil, err
		}
	}
	if err := j.resume(ctx); err != nil {
		return nil, err
	}
	base, stop := context.WithCancel(context.WithoutCancel(ctx))
	j.stop = stop
	go j.gather(base, log)
	return j, nil
}

// Index queues the indexing of evidence.
func (j *Jobs) Index(ctx context.Context, evidence int64) error {
	if _, err := j.client.Insert(ctx, indexArgs{evidence}, nil); err != nil {
		return fmt.Errorf("queue the indexing: %w", err)
	}
	return nil
}

// Stop waits for running jobs until ctx ends, and stops the workers.
func (j *Jobs) Stop(ctx context.Context) error {
	j.stop()
	<-j.done
	return j.client.Stop(ctx)
}
