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

	"wraithology/api"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/replay"
	"wraithology/core/source"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Bounds of what is held open: the last few, whatever their size, and more of them as long
// as they are small, as the pieces are that a sender leaves in a day. Each timeline is mapped
// some 15 times, and Linux gives a process 65,530 mappings.
const (
	keptAlways = 4
	keptMost   = 2000
	keptBytes  = 1 << 30 // of evidence, as it was uploaded
)

// Recordings opens evidence and keeps the most recently used of it open.
type Recordings struct {
	dir   string
	store *store.Store
	vault *vault.Vault

	mu    sync.Mutex
	open  map[string]*list.Element
	used  *list.List // of *entry, the most recently used first
	bytes int64      // of evidence that is open
}

type entry struct {
	key   string
	bytes int64
	ready chan struct{}
	r     replay.Recording
	err   error
}

// New opens nothing yet. What can be made again from evidence and artifacts is kept in the
// folder dir; what builds that were cut short have left there is removed.
func New(dir string, s *store.Store, v *vault.Vault) *Recordings {
	r := &Recordings{dir: dir, store: s, vault: v, open: map[string]*list.Element{}, used: list.New()}
	left, _ := filepath.Glob(filepath.Join(r.timelines(), ".*.partial-*")) // the pattern is sound
	for _, dir := range left {
		_ = os.RemoveAll(dir) // what stays does no harm
	}
	return r
}

func (r *Recordings) timelines() string { return filepath.Join(r.dir, "timelines") }

// Open returns the recording of a piece of evidence, which is explained by the artifacts of its
// case. Several that ask at once wait for one opening; it continues when one of them gives up.
func (r *Recordings) Open(ctx context.Context, e store.Evidence, progress func(float64)) (replay.Recording, error) {
	artifacts, key, err := r.artifacts(ctx, e)
	if err != nil {
		return nil, err
	}
	o := evidence.Options{Timelines: evidence.Timelines{Folder: r.timelines(), Lasting: true}, Artifacts: artifacts, As: e.ReadAs, Fields: e.Fields}
	key += fmt.Sprint(" ", e.ReadAs, e.Fields) // fmt writes maps in the order of their keys
	x := r.entry(ctx, key, r.vault.Path(e.SHA256), e.Bytes, o, progress)
	select {
	case <-x.ready:
		return x.r, x.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// entry returns the opening of what key represents, and begins it if there is none.
func (r *Recordings) entry(ctx context.Context, key, path string, bytes int64, o evidence.Options, progress func(float64)) *entry {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.open[key]; ok {
		r.used.MoveToFront(e)
		return e.Value.(*entry)
	}
	x := &entry{key: key, bytes: bytes, ready: make(chan struct{})}
	r.open[key] = r.used.PushFront(x)
	r.bytes += bytes
	go r.load(context.WithoutCancel(ctx), x, path, o, progress)
	for n := r.used.Len(); n > keptAlways && (n > keptMost || r.bytes > keptBytes); n = r.used.Len() {
		r.remove(r.used.Back())
	}
	return x
}

// remove forgets what is open; r.mu is held. Its memory goes when nobody uses it any more.
func (r *Recordings) remove(e *list.Element) {
	x := e.Value.(*entry)
	delete(r.open, x.key)
	r.used.Remove(e)
	r.bytes -= x.bytes
}

// artifacts gathers what explains evidence. The key differs if that does. Files of this machine are
// not looked at: they are not those of the one that crashed.
func (r *Recordings) artifacts(ctx context.Context, e store.Evidence) (out evidence.Artifacts, key string, err error) {
	if k, err := kinds.All.Named(e.Kind); err == nil && !k.Explained {
		return out, e.SHA256, nil
	}
	list, err := r.store.ArtifactsOf(ctx, e.CaseID)
	if err != nil {
		return out, "", err
	}
	key = e.SHA256
	out = evidence.Artifacts{Alone: true, Cache: filepath.Join(r.dir, "modules"), Names: map[string]string{}}
	for _, a := range list {
		key += " " + a.SHA256 + " " + a.Name
		if a.Kind != api.ArtifactSource {
			path := r.vault.Path(a.SHA256)
			out.Offered, out.Names[path] = append(out.Offered, path), a.Name
			continue
		}
		into := filepath.Join(r.dir, "sources", a.SHA256)
		if err := source.Unpack(ctx, r.vault.Path(a.SHA256), into); err != nil {
			return out, "", fmt.Errorf("artifact %s: %w", a.Name, err)
		}
		out.Source = append(out.Source, into)
	}
	return out, key, nil
}

func (r *Recordings) load(ctx context.Context, x *entry, path string, o evidence.Options, progress func(float64)) {
	defer close(x.ready)
	if x.r, x.err = kinds.All.Open(ctx, path, o, progress); x.err != nil {
		r.forget(x.key)
	}
}

// Drop forgets a recording whose timeline was found to be damaged: the next to ask opens
// it again.
func (r *Recordings) Drop(x replay.Recording) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for e := r.used.Front(); e != nil; e = e.Next() {
		open := e.Value.(*entry)
		select {
		case <-open.ready:
			if open.r == x {
				r.remove(e)
				return
			}
		default: // it is another one, which is being opened
		}
	}
}

func (r *Recordings) forget(key string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.open[key]; ok {
		r.remove(e)
	}
}
