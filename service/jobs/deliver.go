package jobs

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/riverqueue/river"

	"wraithology/service/notices"
)

// deliveriesQueue is the queue of mails and requests: they wait for other machines.
const deliveriesQueue = "deliveries"

const (
	gatherEvery  = time.Second
	firstRetry   = 10 * time.Second // the wait doubles with each attempt
	lastRetry    = time.Hour
	mostAttempts = 30 // about a day
)

type deliverArgs struct {
	Delivery int64 `json:"delivery"`
}

// Kind implements river.JobArgs.
func (deliverArgs) Kind() string { return "deliver" }

type deliverer struct {
	river.WorkerDefaults[deliverArgs]
	board *notices.Board
}

// NextRetry implements river.Worker.
func (*deliverer) NextRetry(job *river.Job[deliverArgs]) time.Time { return nextRetry(job.Attempt) }

// nextRetry is when a job is tried again after some attempts.
func nextRetry(attempts int) time.Time {
	wait := lastRetry
	if n := attempts - 1; n < 10 {
		wait = min(firstRetry<<max(n, 0), lastRetry)
	}
	return time.Now().Add(wait)
}

// Work implements river.Worker.
func (w *deliverer) Work(ctx context.Context, job *river.Job[deliverArgs]) error {
	return w.board.Deliver(ctx, job.Args.Delivery, job.Attempt >= job.MaxAttempts)
}

// deliver queues deliveries, each once.
func (j *Jobs) deliver(ctx context.Context, ids []int64) error {
	for _, id := range ids {
		if _, err := j.client.Insert(ctx, deliverArgs{id}, &river.InsertOpts{Queue: deliveriesQueue, MaxAttempts: mostAttempts, UniqueOpts: river.UniqueOpts{ByArgs: true}}); err != nil {
			return fmt.Errorf("queue a delivery: %w", err)
		}
	}
	return nil
}

// resume queues the deliveries that a stop of the service has left.
func (j *Jobs) resume(ctx context.Context) error {
	ids, err := j.store.UnsentDeliveries(ctx)
	if err != nil {
		return err
	}
	return j.deliver(ctx, ids)
}

// gather makes deliveries of the notices that wait, until the context ends.
func (j *Jobs) gather(ctx context.Context, log *slog.Logger) {
	defer close(j.done)
	ticker := time.NewTicker(gatherEvery)
	defer ticker.Stop()
	wasWell := true
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		ids, err := j.board.Gather(ctx)
		if queued := j.deliver(ctx, ids); err == nil {
			err = queued
		}
		if err == nil && !wasWell {
			err = j.resume(ctx) // what was made and not queued
		}
		if err != nil && ctx.Err() == nil && wasWell {
			log.WarnContext(ctx, "notices cannot be gathered; it is tried again every second", "error", err)
		}
		wasWell = err == nil
	}
}
