package recordings

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence"
	"wraithology/core/fault"
)

func write(t *testing.T, name, text string) string {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

const crash = "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n"

// isOpen reports whether a recording is held open, without using it.
func (r *Recordings) isOpen(key string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, ok := r.open[key]
	return ok
}

// What was used last stays open; what was not used for longest is closed first.
func TestTheLeastUsedIsClosedFirst(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	r := New(t.TempDir(), 0, nil, nil)
	path := write(t, "crash.txt", crash)
	use := func(key string, bytes int64) {
		x := r.entry(ctx, key, path, bytes, evidence.Options{}, nil)
		<-x.ready
		require.NoError(t, x.err)
	}
	// Six of them are larger together than what is kept.
	const large = keptBytes / 5
	for i := range 5 {
		use(fmt.Sprint(i), large)
	}
	use("0", large)
	use("5", large)
	for key, open := range map[string]bool{"0": true, "1": false, "2": true, "3": true, "4": true, "5": true} {
		assert.Equal(t, open, r.isOpen(key), "recording %s", key)
	}
	// A few stay open, however large they are.
	for i := range keptAlways + 2 {
		use(fmt.Sprint("huge ", i), 2*keptBytes)
	}
	for i := range keptAlways + 2 {
		assert.Equal(t, i >= 2, r.isOpen(fmt.Sprint("huge ", i)), "huge %d", i)
	}
	assert.False(t, r.isOpen("5"))
}

// Those who ask at once share one opening; a failed one is not kept, nor is a dropped one.
func TestOneOpeningForAll(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	r := New(t.TempDir(), 0, nil, nil)
	path := write(t, "crash.txt", crash)
	var all sync.WaitGroup
	opened := make([]*entry, 50)
	for i := range opened {
		all.Go(func() {
			opened[i] = r.entry(ctx, "crash", path, 1, evidence.Options{}, nil)
			<-opened[i].ready
		})
	}
	all.Wait()
	for _, x := range opened {
		assert.Same(t, opened[0], x)
	}
	r.Drop(opened[0].r)
	assert.False(t, r.isOpen("crash"))
	again := r.entry(ctx, "crash", path, 1, evidence.Options{}, nil)
	<-again.ready
	assert.NotSame(t, opened[0], again)
	r.Drop(opened[0].r)
	assert.True(t, r.isOpen("crash"), "another one was dropped")

	letter := r.entry(ctx, "letter", write(t, "letter", "Dear harbour master, the fog is back."), 1, evidence.Options{}, nil)
	<-letter.ready
	require.ErrorIs(t, letter.err, fault.Unreadable)
	assert.False(t, r.isOpen("letter"))
	assert.EqualValues(t, 1, r.bytes, "of what is open")
}
