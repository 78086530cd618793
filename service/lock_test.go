package service

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

func TestADataFolderIsServedOnce(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "data")
	first, err := lockData(dir, 0)
	require.NoError(t, err)
	_, err = lockData(dir, 0)
	require.ErrorIs(t, err, fault.DataInUse)
	assert.ErrorContains(t, err, fmt.Sprintf("%s in use by process %d", dir, os.Getpid()))
	other, err := lockData(dir+"-2", 0)
	require.NoError(t, err)
	require.NoError(t, other.Close())

	// One that is stopping is waited for.
	time.AfterFunc(300*time.Millisecond, func() { first.Close() })
	again, err := lockData(dir, 10*time.Second)
	require.NoError(t, err)
	require.NoError(t, again.Close())

	_, err = lockData("/dev/null/data", 0)
	require.Error(t, err)
	assert.NotErrorIs(t, err, fault.DataInUse)
}
