package evidence_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/intake"
)

// TestTimelineIsBuiltOnce opens the same evidence from several goroutines at once, without and with somebody who
// removes timelines meanwhile.
func TestTimelineIsBuiltOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "gate.log")
	require.NoError(t, os.WriteFile(path, []byte(texts()["structured-log"]), 0o600))
	var built atomic.Int32
	counted := slices.Clone(kinds.All)
	for i, k := range counted {
		if k.Build != nil {
			counted[i].Build = func(ctx context.Context, in intake.Input, o evidence.Options) error {
				built.Add(1)
				return k.Build(ctx, in, o)
			}
		}
	}
	timelines := evidence.Timelines{Folder: filepath.Join(dir, "timelines")}
	open := func(n int) {
		var all sync.WaitGroup
		for range n {
			all.Go(func() {
				r, err := counted.Open(context.Background(), path, evidence.Options{Timelines: timelines}, nil)
				if assert.NoError(t, err) {
					assert.EqualValues(t, 12002, r.Info().Moments)
				}
			})
		}
		all.Wait()
	}
	open(12)
	assert.EqualValues(t, 1, built.Load(), "all others wait for the one that builds")

	stop, remover := make(chan struct{}), sync.WaitGroup{}
	remover.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				_, err := timelines.Remove(nil)
				assert.NoError(t, err)
			}
		}
	})
	for range 2 {
		open(4)
	}
	close(stop)
	remover.Wait()
	_, err := timelines.Remove(nil)
	require.NoError(t, err)
	list, err := timelines.List()
	require.NoError(t, err)
	assert.Empty(t, list)

	// Whoever waits can be stopped.
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	stuck := slices.Clone(kinds.All)
	waiting := make(chan error, 1)
	for i, k := range stuck {
		if k.Build != nil {
			stuck[i].Build = func(ctx context.Context, in intake.Input, o evidence.Options) error {
				go func() {
					_, err := counted.Open(ctx, path, evidence.Options{Timelines: timelines}, nil)
					waiting <- err
				}()
				time.AfterFunc(200*time.Millisecond, cancel) // by then, an open that does not wait is done
				return <-waiting
			}
		}
	}
	_, err = stuck.Open(ctx, path, evidence.Options{Timelines: timelines}, nil)
	require.ErrorIs(t, err, context.Canceled)
}
