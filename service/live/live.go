// Package live tells those who watch a case that something has changed in it. It knows of the changes of this process only.
package live

import (
	"sync"
)

// Hub holds who watches which case.
type Hub struct {
	mu       sync.Mutex
	watchers map[int64]map[chan struct{}]bool
}

// New returns a hub that nobody watches.
func New() *Hub { return &Hub{watchers: map[int64]map[chan struct{}]bool{}} }

// Watch returns a channel that receives after each change of a case; several changes can be one. stop ends it.
func (h *Hub) Watch(caseID int64) (changed <-chan struct{}, stop func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watchers[caseID] == nil {
		h.watchers[caseID] = map[chan struct{}]bool{}
	}
	h.watchers[caseID][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watchers[caseID], c)
		if len(h.watchers[caseID]) == 0 {
			delete(h.watchers, caseID)
		}
	}
}

// Changed tells the watchers of a case.
func (h *Hub) Changed(caseID int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.watchers[caseID] {
		select {
		case c <- struct{}{}:
		default: // it has a change to look at already
		}
	}
}
