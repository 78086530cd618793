package jobs

import (
	"context"
	"errors"
	"time"

	"github.com/riverqueue/river"

	"wraithology/service/store"
	"wraithology/service/vault"
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
	vault *vault.Vault
	kept  time.Duration // how long what is deleted can be restored
}

// Work implements river.Worker.
func (w *upkeeper) Work(ctx context.Context, _ *river.Job[upkeepArgs]) error {
	return errors.Join(w.store.DeleteExpired(ctx), w.store.DeleteOld(ctx), w.store.Purge(ctx, time.Now().Add(-w.kept)), w.vault.Sweep(ctx, sweptAfter, w.store.HasBytes))
}

// sweptAfter is the age of a file of the vault that belongs to nothing: what an upload has just stored has no record yet.
const sweptAfter = 24 * time.Hour

// upkeep is done at the start, and then every hour.
func upkeep() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(upkeepEvery), func() (river.JobArgs, *river.InsertOpts) {
		return upkeepArgs{}, &river.InsertOpts{UniqueOpts: once}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}
