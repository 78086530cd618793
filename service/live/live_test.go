package live

import (
	"context"
	"errors"
	"maps"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// record is a record of entries that grows, of which 1,000 are read at a time.
type record struct {
	mu    sync.Mutex
	list  []int64
	reads atomic.Int64
	fails atomic.Bool
}

func (r *record) add(n int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	last := int64(0)
	if len(r.list) > 0 {
		last = r.list[len(r.list)-1]
	}
	r.list = append(r.list, last+n)
}

func (r *record) read(_ context.Context, _, after int64) ([]int64, error) {
	r.reads.Add(1)
	if r.fails.Load() {
		return nil, errors.New("the database is away")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []int64
	for _, x := range r.list {
		if x > after && len(out) < Most {
			out = append(out, x)
		}
	}
	return out, nil
}

func identity(x int64) int64 { return x }

// Every watcher of the case, and no other, is told at least once after the last change; nobody is waited for.
func TestHub(t *testing.T) {
	t.Parallel()
	var r record
	h := New(r.read, identity, everybody)
	fog, stopFog := h.Watch(1)
	other, stopOther := h.Watch(2)
	slow, stopSlow := h.Watch(1)
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for range 100 {
				h.Changed(1)
			}
		})
	}
	wait.Wait()
	for _, c := range []<-chan struct{}{fog, slow} {
		<-c
		assert.Empty(t, c)
	}
	assert.Empty(t, other)
	stopSlow()
	h.Changed(1)
	assert.Len(t, fog, 1)
	assert.Empty(t, slow)
	stopFog()
	stopOther()
	assert.Empty(t, h.rooms)
}

// Many watchers, who begin at different places and come and go, each get every entry after theirs once and in order, whatever is added meanwhile; it
// is read far less often than there are watchers.
func TestEverybodyGetsAll(t *testing.T) {
	t.Parallel()
	var r record
	for range 2500 {
		r.add(1)
	}
	h := New(r.read, identity, everybody)
	const entries, watchers = 600, 40
	last := int64(2500 + 3*entries)
	var wait, ready sync.WaitGroup
	ready.Add(watchers)
	for i := range watchers {
		wait.Go(func() {
			random := rand.New(rand.NewPCG(uint64(i), 3))
			changed, stop := h.Watch(7)
			defer func() { stop() }()
			at := int64(2500)
			if i%8 == 0 {
				at = random.Int64N(2500) // it comes back after a long time
			}
			ready.Done()
			for at < last {
				got, err := h.After(t.Context(), 7, at)
				if !assert.NoError(t, err) {
					return
				}
				for _, x := range got {
					want := at + 1
					if at >= 2500 {
						want = at + 3
					}
					if !assert.Equal(t, want, x) {
						return
					}
					at = x
				}
				if random.IntN(50) == 0 {
					stop()
					changed, stop = h.Watch(7)
					continue
				}
				if len(got) == 0 {
					<-changed
				}
			}
		})
	}
	ready.Wait()
	for range entries {
		r.add(3)
		h.Changed(7)
	}
	wait.Wait()
	assert.Less(t, r.reads.Load(), int64(entries*watchers/4))
	assert.Empty(t, h.rooms)
}

// A read that fails is made again.
func TestAFailedReadIsMadeAgain(t *testing.T) {
	t.Parallel()
	var r record
	h := New(r.read, identity, everybody)
	_, stop := h.Watch(1)
	defer stop()
	r.add(1)
	r.fails.Store(true)
	_, err := h.After(t.Context(), 1, 0)
	require.Error(t, err)
	r.fails.Store(false)
	got, err := h.After(t.Context(), 1, 0)
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, got)
}

// A value is made once for each change.
func TestShared(t *testing.T) {
	t.Parallel()
	var s Shared[uint64]
	var made atomic.Int64
	var wait sync.WaitGroup
	for range 20 {
		wait.Go(func() {
			for change := range uint64(100) {
				got, err := s.Get(change, func() (uint64, error) { made.Add(1); return change, nil })
				assert.NoError(t, err)
				assert.GreaterOrEqual(t, got, change)
			}
		})
	}
	wait.Wait()
	assert.LessOrEqual(t, made.Load(), int64(100))
	_, err := s.Get(1000, func() (uint64, error) { return 0, errors.New("away") })
	require.Error(t, err)
	got, err := s.Get(1000, func() (uint64, error) { return 7, nil })
	require.NoError(t, err)
	assert.Equal(t, uint64(7), got)
}

func everybody(context.Context, int64) (map[int64]bool, error) { return map[int64]bool{1: true}, nil }

// Who may look is read once for each change, and again after the next one.
func TestWhoMayLook(t *testing.T) {
	t.Parallel()
	reads := 0
	may := map[int64]bool{1: true, 2: true}
	h := New(func(context.Context, int64, int64) ([]int64, error) { return nil, nil }, func(x int64) int64 { return x }, func(_ context.Context, caseID int64) (map[int64]bool, error) {
		reads++
		assert.EqualValues(t, 7, caseID)
		return maps.Clone(may), nil
	})
	look := func(person int64) bool {
		ok, err := h.May(t.Context(), 7, person)
		require.NoError(t, err)
		return ok
	}
	assert.Equal(t, []bool{true, false}, []bool{look(2), look(3)})
	assert.Equal(t, 2, reads, "nobody watches")
	_, stop := h.Watch(7)
	defer stop()
	for range 10 {
		assert.True(t, look(2))
	}
	assert.Equal(t, 3, reads)
	delete(may, 2)
	assert.True(t, look(2), "nothing has been said since")
	h.Changed(7)
	assert.False(t, look(2))
	assert.True(t, look(1))
	assert.Equal(t, 4, reads)
}
