// Package jobs indexes and checks evidence, and sends notices, in the background. The jobs are queued in the database; a job that
// a restart interrupts is started again.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

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
	Queue  // at once
	client *river.Client[pgx.Tx]
	within *inserter
	store  *store.Store
	board  *notices.Board
	stop   context.CancelFunc
	done   chan struct{} // closed when no more notices are gathered
}

type indexArgs struct {
	Evidence int64 `json:"evidence"`
	// Asked is how often the evidence was to be indexed again: a job of an earlier time leaves the evidence to a later one.
	Asked int64 `json:"asked"`
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
	case errors.Is(err, fault.NotFound):
		return nil // deleted meanwhile
	case err != nil:
		return err
	case e.State == api.StateReady: // the service was killed before it queued what follows
		return w.next.Check(ctx, e.CaseID, e.ID)
	case e.State != api.StateIndexing || e.Asked != job.Args.Asked:
		return nil
	}
	saved := time.Now()
	r, rules, err := w.open.Masked(ctx, e, func(done float64) {
		if time.Since(saved) > 250*time.Millisecond {
			saved = time.Now()
			_ = w.store.SetProgress(ctx, e, done) // the next one, or the end, says it again
		}
	})
	if err != nil {
		return w.failed(ctx, job, e, err)
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
		return w.failed(ctx, job, e, err)
	}
	e.Trouble = ""
	if isLatest, err := w.store.SaveIndexed(ctx, e); err != nil || !isLatest {
		return err
	}
	if len(sketch.Functions) > 0 {
		if err := w.store.SaveSketch(ctx, e.ID, sketch); err != nil {
			return err
		}
	}
	if err := w.askAgain(ctx, e, r, rules); err != nil {
		return err
	}
	return w.next.Check(ctx, e.CaseID, e.ID)
}

// failed decides about evidence that was not indexed. Only what cannot be read stays so: for lack of disk, memory or time the queue tries again, and says
// meanwhile what is missing.
func (w *indexer) failed(ctx context.Context, job *river.Job[indexArgs], e store.Evidence, err error) error {
	if ctx.Err() != nil {
		return err // the service stops
	}
	var errno syscall.Errno // the operating system refused something: the evidence itself says nothing against it
	isUnreadable := errors.Is(err, fault.Unreadable) && !errors.Is(err, fault.DiskFull) && !errors.As(err, &errno)
	if !isUnreadable && job.Attempt < job.MaxAttempts {
		if saved := w.store.SetTrouble(ctx, e, err.Error()); saved != nil {
			return saved
		}
		return err
	}
	e.State, e.Trouble, e.Outcome = api.StateFailed, err.Error(), "was not indexed"
	if isUnreadable {
		e.Outcome = "cannot be read"
	}
	_, err = w.store.SaveIndexed(ctx, e)
	return err
}

// NextRetry implements river.Worker.
func (*indexer) NextRetry(job *river.Job[indexArgs]) time.Time { return nextRetry(job.Attempt) }

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

// mostIndexed limits the attempts to index evidence: the last one is four and a half hours after the first.
const mostIndexed = 13

// fetchCooldown is how long a queue waits between jobs, with all its workers busy: it limits small jobs to 50 a second for each worker.
const fetchCooldown = 20 * time.Millisecond

// once keeps jobs that have not ended unique.
var once = river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable, rivertype.JobStateScheduled}}

// DefaultKept is how long what is deleted can be restored, if nothing else is said.
const DefaultKept = 30 * 24 * time.Hour

// Start migrates the queue's tables and starts its workers. What is deleted can be restored for the duration kept.
func Start(ctx context.Context, s *store.Store, v *vault.Vault, open *recordings.Recordings, board *notices.Board, kept time.Duration, log *slog.Logger) (*Jobs, error) {
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
	river.AddWorker(workers, &upkeeper{store: s, vault: v, kept: kept})
	c, err := river.NewClient(driver, &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 2}, checksQueue: {MaxWorkers: 1}, deliveriesQueue: {MaxWorkers: 4}}, Workers: workers, Logger: log,
		PeriodicJobs:  []*river.PeriodicJob{upkeep()},
		FetchCooldown: fetchCooldown, FetchPollInterval: 500 * time.Millisecond,
	})
	if err != nil {
		return nil, fmt.Errorf("set up the queue: %w", err)
	}
	j.client = c
	j.Queue = Queue{store: s, insert: func(ctx context.Context, args river.JobArgs, o *river.InsertOpts) error {
		_, err := c.Insert(ctx, args, o)
		return err
	}}
	if j.within, err = river.NewClient(riverdatabasesql.New(nil), &river.Config{Logger: log}); err != nil {
		return nil, fmt.Errorf("set up the queue: %w", err)
	}
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
		if err := j.Index(ctx, e); err != nil {
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

// Stop waits for running jobs until ctx ends, and stops the workers.
func (j *Jobs) Stop(ctx context.Context) error {
	j.stop()
	<-j.done
	return j.client.Stop(ctx)
}
