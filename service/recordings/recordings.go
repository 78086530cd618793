// Package recordings keeps recordings open that are in use, so that a question is a look-up.
package recordings

import (
	"container/list"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/mask"
	"wraithology/core/replay"
	"wraithology/core/source"
	"wraithology/service/store"
	"wraithology/service/vault"
)

// Limits of open recordings: the last few of any size, and more of them while they are small, like
// the pieces that a sender produces. A timeline has about 15 mappings, and Linux limits a process
// to 65,530.
const (
	keptAlways = 4
	keptMost   = 2000
	keptBytes  = 1 << 30 // of evidence, as it was uploaded
	keptMasks  = 1000    // compiled rules
)

// Recordings opens evidence and keeps the most recently used of it open.
type Recordings struct {
	dir   string
	most  int64 // bytes of timelines; 0 for half of what is free without them
	store *store.Store
	vault *vault.Vault

	mu    sync.Mutex
	open  map[string]*list.Element
	used  *list.List            // of *entry, the most recently used first
	bytes int64                 // of evidence that is open
	masks map[string]*mask.Mask // by their rules
}

type entry struct {
	key   string
	bytes int64
	ready chan struct{}
	r     replay.Recording
	err   error
}

// New returns an empty cache. Everything that can be built again from evidence and artifacts is in
// the folder dir; remains of interrupted builds are removed. Timelines are limited to most bytes, or to half of the disk that is free without them if
// that is 0: those that were not opened for the longest time go first, and are built again when they are needed.
func New(dir string, most int64, s *store.Store, v *vault.Vault) *Recordings {
	r := &Recordings{dir: dir, most: most, store: s, vault: v, open: map[string]*list.Element{}, used: list.New(), masks: map[string]*mask.Mask{}}
	left, _ := filepath.Glob(filepath.Join(r.timelines(), ".*.partial-*")) // the pattern is sound
	for _, dir := range left {
		_ = os.RemoveAll(dir) // what stays does no harm
	}
	return r
}

func (r *Recordings) timelines() string { return filepath.Join(r.dir, "timelines") }

// Masked opens a piece of evidence as Open does, with what is secret masked by the rules of its case.
func (r *Recordings) Masked(ctx context.Context, e store.Evidence, progress func(float64)) (replay.Recording, *mask.Mask, error) {
	rules, err := r.store.MaskOf(ctx, e.CaseID)
	if err != nil {
		return nil, nil, err
	}
	m, err := r.MaskOf(rules)
	if err != nil {
		return nil, nil, err
	}
	x, err := r.Open(ctx, e, m, progress)
	return x, m, err
}

// MaskOf compiles rules for masking, or returns those that were compiled before.
func (r *Recordings) MaskOf(rules mask.Rules) (*mask.Mask, error) {
	text, err := json.Marshal(rules)
	if err != nil {
		return nil, fmt.Errorf("write the rules: %w", err)
	}
	r.mu.Lock()
	m := r.masks[string(text)]
	r.mu.Unlock()
	if m != nil {
		return m, nil
	}
	if m, err = mask.New(rules); err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.masks) >= keptMasks {
		clear(r.masks)
	}
	r.masks[string(text)] = m
	return m, nil
}

// Open returns the recording of a piece of evidence, explained by the artifacts of its case, masked unless the mask is nil.
// Concurrent calls share one opening, which continues when a caller gives up.
func (r *Recordings) Open(ctx context.Context, e store.Evidence, m *mask.Mask, progress func(float64)) (replay.Recording, error) {
	if e.SHA256 == "" {
		return nil, fmt.Errorf("%w: %w", fault.Unreadable, fault.NoBytes)
	}
	artifacts, key, err := r.artifacts(ctx, e)
	if err != nil {
		return nil, err
	}
	o := evidence.Options{Timelines: evidence.Timelines{Folder: r.timelines(), Lasting: true, Most: r.most, Share: 2}, Artifacts: artifacts, As: e.ReadAs, Fields: e.Fields, Mask: m}
	key += fmt.Sprint(" ", e.ReadAs, e.Fields, " ", m.ID()) // fmt writes maps in the order of their keys
	x := r.entry(ctx, key, r.vault.Path(e.SHA256), e.Bytes, o, progress)
	select {
	case <-x.ready:
		return x.r, x.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Others opens the other evidence of the case of a piece of evidence that is ready, with the same mask. What cannot be opened is left out, unless the
// context ended: the rest is still useful.
func (r *Recordings) Others(ctx context.Context, own store.Evidence, m *mask.Mask) (list []ask.Other, err error) {
	all, err := r.store.EvidenceOf(ctx, own.CaseID)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.ID == own.ID || e.State != api.StateReady {
			continue
		}
		x, err := r.Open(ctx, e, m, nil)
		if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
			return nil, err
		}
		if err != nil {
			continue
		}
		list = append(list, ask.Other{Name: e.Name, Recording: x, Offset: time.Duration(e.ClockOffsetNs)})
	}
	return list, nil
}

// entry returns the opening of a key, and begins it if there is none.
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

// remove removes an entry; r.mu is held. Its memory is freed after its last use.
func (r *Recordings) remove(e *list.Element) {
	x := e.Value.(*entry)
	delete(r.open, x.key)
	r.used.Remove(e)
	r.bytes -= x.bytes
}

// artifacts returns the artifacts of evidence, with a key that differs if they do. Files of this
// machine are ignored: they are not those of the machine that crashed.
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
		if a.SHA256 == "" { // left out of a masked archive
			continue
		}
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

// Drop removes a recording whose timeline is damaged: the next call of Open builds it again.
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
