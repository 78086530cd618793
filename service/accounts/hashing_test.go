package accounts

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"

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
