// Package recordings keeps the recordings that are being looked at open, so that
// a question is a look-up.
package recordings

import (
	"container/list"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"wraithology/core/evidence"
	"wraithology/core/replay"
)

// Recordings opens evidence and keeps the most recently used of it open.
type Recordings struct {
	most      int
	timelines string

	mu   sync.Mutex
	open map[string]*list.Element
	used *list.List // of *entry, the most recently used first
}

type entry struct {
	path  string
	ready chan struct{}
	r     replay.Replay
	err   error
}

// New keeps up to most recordings open. Their timelines are kept in the folder
// timelines; what builds that were cut short have left there is removed.
func New(most int, timelines string) *Recordings {
	left, _ := filepath.Glob(filepath.Join(timelines, ".*.partial-*")) // the pattern is sound
	for _, dir := range left {
		_ = os.RemoveAll(dir) // what stays does no harm
	}
	return &Recordings{most: most, timelines: timelines, open: map[string]*list.Element{}, used: list.New()}
}

// Open returns the recording of the evidence at path. Several that ask at once
// wait for one opening; it goes on when one of them gives up.
func (r *Recordings) Open(ctx context.Context, path string, progress func(float64)) (replay.Replay, error) {
	r.mu.Lock()
	e, ok := r.open[path]
	if ok {
		r.used.MoveToFront(e)
	} else {
		x := &entry{path: path, ready: make(chan struct{})}
		e = r.used.PushFront(x)
		r.open[path] = e
		go r.load(context.WithoutCancel(ctx), x, progress)
		for r.used.Len() > r.most {
			last := r.used.Back()
			delete(r.open, last.Value.(*entry).path)
			r.used.Remove(last)
		}
	}
	x := e.Value.(*entry)
	r.mu.Unlock()
	select {
	case <-x.ready:
		return x.r, x.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (r *Recordings) load(ctx context.Context, x *entry, progress func(float64)) {
	defer close(x.ready)
	defer func() {
		// A fault in reading evidence must not bring down the service.
		if p := recover(); p != nil {
			x.err = fmt.Errorf("%w: reading it failed: %v", evidence.ErrUnreadable, p)
		}
		if x.err != nil {
			r.forget(x.path)
		}
	}()
	x.r, x.err = evidence.Open(ctx, x.path, evidence.Timelines{Folder: r.timelines, Lasting: true}, progress)
}

func (r *Recordings) forget(path string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.open[path]; ok {
		delete(r.open, path)
		r.used.Remove(e)
	}
}
