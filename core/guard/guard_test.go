package guard_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/mapped"
)

func TestDo(t *testing.T) {
	t.Parallel()
	require.NoError(t, guard.Do(func() error { return nil }))
	fog := errors.New("fog")
	require.Equal(t, fog, guard.Do(func() error { return fog }))

	for name, f := range map[string]func() error{
		"a text":       func() error { panic("fog") },
		"an error":     func() error { panic(fog) },
		"an index":     func() error { return []error{}[len(name())] },
		"a nil":        func() error { var p *guard.Panic; return errors.New(p.Value.(string)) },
		"a known kind": func() error { panic(fault.NoHit) }, // a panic is a defect, whatever its value
	} {
		err := guard.Do(f)
		var p *guard.Panic
		require.ErrorAs(t, err, &p, name)
		assert.ErrorIs(t, err, fault.Internal, name)
		assert.NotErrorIs(t, err, fault.Damaged, name)
		assert.Contains(t, string(p.Stack), "guard_test.go", "%s: the stack says where", name)
	}

	err := guard.Do(func() error {
		guard.Raise(fmt.Errorf("block 3: %w", fault.Damaged))
		return nil
	})
	require.ErrorIs(t, err, fault.Damaged)
	assert.ErrorContains(t, err, "block 3")
}

func name() string { return "a" }

// A mapped file that is cut short is an error, on the goroutine that reads it, and the next
// read is guarded too.
func TestFilesThatAreCutShort(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	owner := new(int)
	b, err := mapped.File(owner, f)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(path, 4096))
	sum := 0
	for range 2 {
		err = guard.Do(func() error {
			for _, x := range b {
				sum += int(x)
			}
			return nil
		})
		require.ErrorIs(t, err, fault.Damaged)
	}
	err = guard.Each(context.Background(), 8, func(_ context.Context, i int) error {
		if b[i<<16] != 0 {
			return errors.New("not zero")
		}
		return nil
	})
	require.ErrorIs(t, err, fault.Damaged)
	assert.Zero(t, *owner+sum)
}

func TestEach(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for _, n := range []int{0, 1, 2, 100, 1000} {
		done := make([]atomic.Int32, n)
		require.NoError(t, guard.Each(ctx, n, func(_ context.Context, i int) error { done[i].Add(1); return nil }))
		for i := range done {
			assert.EqualValues(t, 1, done[i].Load(), "%d of %d", i, n)
		}
	}
	var begun atomic.Int32
	err := guard.Each(ctx, 10_000, func(ctx context.Context, i int) error {
		begun.Add(1)
		if i == 5 {
			return fault.NoHit
		}
		return nil
	})
	require.ErrorIs(t, err, fault.NoHit)
	err = guard.Each(ctx, 10, func(_ context.Context, i int) error {
		if i == 7 {
			panic("fog")
		}
		return nil
	})
	require.ErrorIs(t, err, fault.Internal)

	stopped, stop := context.WithCancel(ctx)
	begun.Store(0)
	err = guard.Each(stopped, 1_000_000, func(context.Context, int) error {
		if begun.Add(1) == 10 {
			stop()
		}
		return nil
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.Less(t, begun.Load(), int32(100_000), "it went on for long")
}
