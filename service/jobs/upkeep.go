package jobs

import (
	"context"
	"time"

	"github.com/riverqueue/river"

	"wraithology/service/store"
)

// upkeepEvery is the time between two rounds of upkeep.
const upkeepEvery = time.Hour

type upkeepArgs struct{}

// Kind implements river.JobArgs.
func (upkeepArgs) Kind() string { return "upkeep" }

// upkeeper deletes what is of no use any more.
type upkeeper struct {
	river.WorkerDefaults[upkeepArgs]
	store *store.Store
}

// Work implements river.Worker.
func (w *upkeeper) Work(ctx context.Context, _ *river.Job[upkeepArgs]) error {
	return w.store.DeleteExpired(ctx)
}

// upkeep is done at the start, and then every hour.
func upkeep() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(upkeepEvery), func() (river.JobArgs, *river.InsertOpts) {
		return upkeepArgs{}, &river.InsertOpts{UniqueOpts: once}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}
