package accounts

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/service/front"
)

// A bounded number of passwords is hashed at the same time, and whoever gives up waiting leaves.
func TestHashingIsBounded(t *testing.T) {
	t.Parallel()
	a := New(nil, front.Front{})
	var now, most, done atomic.Int64
	var all sync.WaitGroup
	for range 10 * hashesAtOnce {
		all.Go(func() {
			assert.NoError(t, a.hashed(context.Background(), func() error {
				for n := now.Add(1); n > most.Load(); {
					most.Store(n)
				}
				done.Add(1)
				now.Add(-1)
				return nil
			}))
		})
	}
	all.Wait()
	assert.EqualValues(t, 10*hashesAtOnce, done.Load())
	assert.LessOrEqual(t, most.Load(), int64(hashesAtOnce))

	hold := make(chan struct{})
	var held sync.WaitGroup
	held.Add(hashesAtOnce)
	for range hashesAtOnce {
		all.Go(func() {
			_ = a.hashed(context.Background(), func() error { held.Done(); <-hold; return nil })
		})
	}
	held.Wait()
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	never := func() error { t.Error("it ran without its turn"); return nil }
	require.ErrorIs(t, a.hashed(gone, never), context.Canceled)
	require.ErrorIs(t, a.hashed(context.Background(), never), fault.Busy)
	close(hold)
	all.Wait()
	require.ErrorIs(t, a.hashed(context.Background(), func() error { return fault.WeakPassword }), fault.WeakPassword)
}

// Whoever sends many wrong passwords from one address lets people at other addresses sign in meanwhile: an address has one hash under way.
func TestOneAddressDoesNotHoldUpOthers(t *testing.T) {
	t.Parallel()
	x := throttle{names: map[string]*attempts{}, waiting: map[[2]string]int{}, turns: map[string]*turns{}}
	end, err := x.turn(t.Context(), "192.0.2.1")
	require.NoError(t, err)
	soon, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err = x.turn(soon, "192.0.2.1")
	require.ErrorIs(t, err, context.DeadlineExceeded, "its first one is under way")
	other, err := x.turn(t.Context(), "192.0.2.2")
	require.NoError(t, err)
	other()
	next := make(chan func())
	go func() {
		end, err := x.turn(context.WithoutCancel(t.Context()), "192.0.2.1")
		assert.NoError(t, err)
		next <- end
	}()
	end()
	(<-next)()
	assert.Empty(t, x.turns, "nothing is kept of an address that has no attempt")
}
