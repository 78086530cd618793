package evidence

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyUnusedTimelinesArePruned(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ages := map[string]time.Duration{"new": 0, "used": unusedFor - time.Hour, "unused": unusedFor + time.Hour, "forgotten": 10 * unusedFor, "of the future": -time.Hour}
	for name, age := range ages {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Join(path, "inner"), 0o700))
		require.NoError(t, os.Chtimes(path, time.Time{}, time.Now().Add(-age)))
	}
	prune(dir)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	var names []string
	for _, x := range left {
		names = append(names, x.Name())
	}
	assert.Equal(t, []string{"new", "of the future", "used"}, names)
	prune(filepath.Join(dir, "none"))
}
