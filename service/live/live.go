// Package live tells those who watch a case that something has changed in it, and shares what they read then. It knows of the changes of this
// process only.
package live

import (
	"context"
	"sync"
)

// Hub holds who watches which case. Entries of type T are the record of a case.
type Hub[T any] struct {
	id   func(T) int64
	read func(ctx context.Context, caseID, after int64) ([]T, error)
	may  func(ctx context.Context, caseID int64) (map[int64]bool, error)

	mu    sync.Mutex
	rooms map[int64]*room[T]
}

// room is what the watchers of a case share.
type room[T any] struct {
	watchers map[chan struct{}]bool
	changes  uint64
	tail     *Tail[T]
	may      Shared[map[int64]bool]
}

// New returns a hub that nobody watches. read reads the first Most entries of a case after one; id returns the ID of an entry; may returns the people who
// may look at a case.
func New[T any](read func(ctx context.Context, caseID, after int64) ([]T, error), id func(T) int64, may func(ctx context.Context, caseID int64) (map[int64]bool, error)) *Hub[T] {
	return &Hub[T]{id: id, read: read, may: may, rooms: map[int64]*room[T]{}}
}

// Watch returns a channel that receives after each change of a case; several changes can be one. stop ends it.
func (h *Hub[T]) Watch(caseID int64) (changed <-chan struct{}, stop func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	r := h.rooms[caseID]
	if r == nil {
		r = &room[T]{watchers: map[chan struct{}]bool{}, changes: 1}
		r.tail = &Tail[T]{ID: h.id, Read: func(ctx context.Context, after int64) ([]T, error) { return h.read(ctx, caseID, after) }}
		h.rooms[caseID] = r
	}
	r.watchers[c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(r.watchers, c)
		if len(r.watchers) == 0 && h.rooms[caseID] == r {
			delete(h.rooms, caseID)
		}
	}
}

// Changed tells the watchers of a case that its record has a new entry.
func (h *Hub[T]) Changed(caseID int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := h.rooms[caseID]
	if r == nil {
		return
	}
	r.changes++
	for c := range r.watchers {
		select {
		case c <- struct{}{}:
		default: // it has a change to look at already
		}
	}
}

// After returns the entries of a case after one, or some of the first of them.
func (h *Hub[T]) After(ctx context.Context, caseID, after int64) ([]T, error) {
	h.mu.Lock()
	r := h.rooms[caseID]
	if r == nil { // nobody watches
		h.mu.Unlock()
		return h.read(ctx, caseID, after)
	}
	change := r.changes
	h.mu.Unlock()
	return r.tail.After(ctx, after, change)
}

// May reports whether a person may look at a case, as of its latest change or later. That is read once for all watchers.
func (h *Hub[T]) May(ctx context.Context, caseID, person int64) (bool, error) {
	h.mu.Lock()
	r := h.rooms[caseID]
	if r == nil {
		h.mu.Unlock()
		people, err := h.may(ctx, caseID)
		return people[person], err
	}
	change := r.changes
	h.mu.Unlock()
	people, err := r.may.Get(change, func() (map[int64]bool, error) { return h.may(ctx, caseID) })
	return people[person], err
}
