package jobs

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"github.com/riverqueue/river"

	"wraithology/service/store"
)

// Queue queues jobs. That of In does so together with the changes from which they follow.
type Queue struct {
	store  *store.Store
	insert func(ctx context.Context, args river.JobArgs, o *river.InsertOpts) error
}

// In returns a queue whose jobs are queued when the transaction of a store is committed, or never. Outside of a transaction they are queued at once.
func (j *Jobs) In(s *store.Store) Queue {
	tx := s.Tx()
	if tx == nil {
		return j.Queue
	}
	return Queue{store: s, insert: func(ctx context.Context, args river.JobArgs, o *river.InsertOpts) error {
		_, err := j.within.InsertTx(ctx, tx, args, o)
		return err
	}}
}

// inserter is a client of the queue that only inserts, in transactions of the records.
type inserter = river.Client[*sql.Tx]

// Index queues the indexing of evidence, once for each time that it is to be indexed.
func (q Queue) Index(ctx context.Context, e store.Evidence) error {
	if err := q.insert(ctx, indexArgs{e.ID, e.Asked}, &river.InsertOpts{MaxAttempts: mostIndexed, UniqueOpts: once}); err != nil {
		return fmt.Errorf("queue the indexing: %w", err)
	}
	return nil
}

// Check queues the checks of a case's expectations, and the counts of its checkpoints, that are new or have changed, in
// one piece of evidence or in AllEvidence.
func (q Queue) Check(ctx context.Context, caseID, evidence int64) error {
	args := checkArgs{caseID, evidence}
	text, err := json.Marshal(args)
	if err != nil {
		return fmt.Errorf("queue the checks: %w", err)
	}
	// Whoever sets many checkpoints asks for many checks: one that has not begun does what all of them ask for.
	if isQueued, err := q.store.HasWaitingJob(ctx, args.Kind(), text); err != nil || isQueued {
		return err
	}
	if err := q.insert(ctx, args, &river.InsertOpts{Queue: checksQueue}); err != nil {
		return fmt.Errorf("queue the checks: %w", err)
	}
	return nil
}
