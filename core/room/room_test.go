package room

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

func TestRoom(t *testing.T) {
	t.Parallel()
	r, err := Of(t.TempDir())
	require.NoError(t, err)
	assert.Positive(t, r.Total)
	assert.LessOrEqual(t, r.Free, r.Total)
	_, err = Of("/nowhere")
	require.Error(t, err)
	for _, x := range []struct {
		room      Room
		full, low bool
	}{{Room{1<<30 - 1, 1 << 40}, true, true}, {Room{1 << 30, 1 << 40}, false, true}, {Room{5 << 30, 1 << 40}, false, false}, {Room{100, 5000}, false, true}, {Room{99, 5000}, true, true}} {
		assert.Equal(t, x.full, x.room.IsFull(), "%v", x.room)
		assert.Equal(t, x.low, x.room.IsLow(), "%v", x.room)
	}
}

// Work ends when the disk gets full, and says so; work that ends by itself has its own error.
func TestKeep(t *testing.T) {
	t.Parallel()
	var free atomic.Uint64
	free.Store(1 << 40)
	look := func() (Room, error) { return Room{free.Load(), 1 << 41}, nil }
	own := errors.New("fog")
	require.ErrorIs(t, keep(t.Context(), look, func(context.Context) error { return own }), own)
	require.NoError(t, keep(t.Context(), look, func(context.Context) error { return nil }))
	err := keep(t.Context(), look, func(ctx context.Context) error {
		free.Store(1)
		<-ctx.Done()
		return ctx.Err()
	})
	require.ErrorIs(t, err, fault.DiskFull)
	free.Store(1 << 40)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, keep(ctx, look, func(ctx context.Context) error { return ctx.Err() }), context.Canceled)
}
