// Package room says how much space a disk has, and ends work that would fill it.
package room

import (
	"context"
	"errors"
	"fmt"
	"syscall"
	"time"

	"wraithology/core/fault"
)

// Room is the space of a disk, in bytes.
type Room struct{ Free, Total uint64 }

// mostReserved limits the space that is left to others, as the database, in bytes. On a small disk it is a fiftieth.
const mostReserved = 1 << 30

// lowAt is the multiple of the reserve below which the disk is nearly full.
const lowAt = 5

// Of returns the space of the disk of a folder that is free for this process.
func Of(folder string) (Room, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(folder, &s); err != nil {
		return Room{}, fmt.Errorf("read the free space of %s: %w", folder, err)
	}
	return Room{s.Bavail * uint64(s.Bsize), s.Blocks * uint64(s.Bsize)}, nil
}

// Reserve is the space that is left to others.
func (r Room) Reserve() uint64 { return min(mostReserved, r.Total/50) }

// IsFull reports whether no more than the reserve is free.
func (r Room) IsFull() bool { return r.Free < r.Reserve() }

// IsLow reports whether the disk is nearly full.
func (r Room) IsLow() bool { return r.Free < lowAt*r.Reserve() }

// String says how much is free.
func (r Room) String() string {
	return fmt.Sprintf("%.1f GB of %.1f GB are free", float64(r.Free)/1e9, float64(r.Total)/1e9)
}

// often is how often a watched disk is looked at. Less than the reserve is written in that time.
const often = 100 * time.Millisecond

// Keep calls do with a context that ends when the disk of a folder is full. The error then wraps fault.DiskFull.
func Keep(ctx context.Context, folder string, do func(context.Context) error) error {
	return keep(ctx, func() (Room, error) { return Of(folder) }, do)
}

func keep(ctx context.Context, look func() (Room, error), do func(context.Context) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	ended := make(chan struct{})
	defer func() {
		cancel(nil)
		<-ended
	}()
	go func() {
		defer close(ended)
		tick := time.NewTicker(often)
		defer tick.Stop()
		for {
			if r, err := look(); err == nil && r.IsFull() {
				cancel(fault.DiskFull.New("", "the disk is full: %s", r))
			}
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	}()
	err := do(ctx)
	if full := context.Cause(ctx); err != nil && errors.Is(full, fault.DiskFull) {
		return full
	}
	return err
}
