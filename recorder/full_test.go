package recorder_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/recorder"
)

// When the disk is full, recording stops and the program goes on. The log holds what was recorded until
// then, although the disk has no room for it beside the recording, and says what is missing.
func TestAFullDiskEndsTheRecordingOnly(t *testing.T) {
	t.Parallel()
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=24m"); err != nil {
		t.Skipf("only root can make a small disk: %v", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(disk, 0)) })
	source := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(source, "go.mod"), []byte("module full\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(source, "main.go"), []byte(`package main

import (
	"fmt"
	"sync"
)

func count(n int) (sum int) {
	for i := 0; i < n; i++ {
		sum += i % 7
	}
	return sum
}

func main() {
	var all sync.WaitGroup
	sums := make([]int, 3)
	for k := range sums {
		all.Add(1)
		go func() {
			defer all.Done()
			sums[k] = count(3_000_000)
		}()
	}
	all.Wait()
	fmt.Println("counted", sums)
}
`), 0o600))
	log := filepath.Join(disk, "run.wraith")
	ran := recordInto(t, log, recorder.Options{}, source, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	assert.Contains(t, ran.out, "counted [8999994 8999994 8999994]")
	info := open(t, log).Info()
	assert.Greater(t, info.Moments, int64(500_000))
	require.Len(t, info.Gaps, 1)
	assert.Contains(t, info.Gaps[0].What, "the disk was full")
}
