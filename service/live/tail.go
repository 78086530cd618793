package live

import (
	"context"
	"sort"
	"sync"
)

// Most is the number of entries that are read at once, and that a Tail keeps.
const Most = 1000

// Tail is the end of a list that only grows, with increasing IDs. It is read once for all who wait for it.
type Tail[T any] struct {
	// ID returns the ID of an entry. Read reads the entries after an ID: the first Most of them.
	ID   func(T) int64
	Read func(ctx context.Context, after int64) ([]T, error)

	mu      sync.Mutex
	isBegun bool
	read    uint64 // the change up to which it has been read
	first   int64  // the list has all entries after this one
	list    []T
}

// After returns the entries after an ID that a change has brought, or some of the first ones. Changes are counted by whoever makes them: an entry was there
// before its change was counted.
func (t *Tail[T]) After(ctx context.Context, id int64, change uint64) ([]T, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.isBegun {
		t.isBegun, t.first = true, id
	}
	if id < t.first { // it is further behind than the list goes
		return t.Read(ctx, id)
	}
	if t.read < change {
		last := t.first
		if n := len(t.list); n > 0 {
			last = t.ID(t.list[n-1])
		}
		got, err := t.Read(ctx, last)
		if err != nil {
			return nil, err
		}
		t.list = append(t.list, got...)
		if len(got) < Most { // there are no more
			t.read = change
		}
		if over := len(t.list) - Most; over > 0 {
			t.first = t.ID(t.list[over-1])
			t.list = append([]T(nil), t.list[over:]...)
		}
		if id < t.first {
			return t.Read(ctx, id)
		}
	}
	from := sort.Search(len(t.list), func(i int) bool { return t.ID(t.list[i]) > id })
	return t.list[from:len(t.list):len(t.list)], nil
}

// Shared is a value that is made once for each change, for all who wait for it.
type Shared[T any] struct {
	mu     sync.Mutex
	isMade bool
	change uint64
	value  T
}

// Get returns the value as of a change, or of a later one.
func (s *Shared[T]) Get(change uint64, make func() (T, error)) (T, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.isMade && s.change >= change {
		return s.value, nil
	}
	value, err := make()
	if err == nil {
		s.isMade, s.change, s.value = true, change, value
	}
	return value, err
}
