package e2e

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/cli"
	"wraithology/core/event"
	"wraithology/core/execlog"
)

const longRun = `package main

func sum(n int) int {
	total := 0
	for i := 0; i < n; i++ {
		total += i % 7
		if i == 1_300_000 {
			panic("the gauge at Inner Ness is dry")
		}
	}
	return total
}

func watch() int { return sum(2_000_000) + 1 }

func main() { println(watch()) }
`

// Of a long log it is known at once how it ended, before it is indexed.
func TestALongLogSaysAtOnceHowItEnded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, text := range map[string]string{"go.mod": "module long\n\ngo 1.24\n", "main.go": longRun} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	path := filepath.Join(dir, "long.wraith")
	record := exec.Command(filepath.Join(work, "wraith"), "record", "-o", path, "--", "go", "run", ".")
	record.Dir = dir
	said, err := record.CombinedOutput()
	require.Error(t, err, "it panics")

	log, err := execlog.OpenFile(path)
	require.NoError(t, err, "%s", said)
	defer log.Close()
	require.NotNil(t, log.Summary)
	assert.Greater(t, log.Summary.Moments, int64(5_000_000))
	assert.Equal(t, 1, log.Summary.Threads)
	require.NotEmpty(t, log.Summary.Notable)
	assert.Equal(t, event.Panic, log.Summary.Notable[0].Kind)

	var stdout, stderr bytes.Buffer
	code := cli.Main(context.Background(), []string{"peek", path, "--within", "1m"}, strings.NewReader(""), &stdout, &stderr)
	require.Zero(t, code, stderr.String())
	assert.Regexp(t, `long\.wraith has [0-9]+ moments and is being indexed; its summary says\n  .*the gauge at Inner Ness is dry.*\n +0  main\.sum  main\.go:8\n +1  main\.watch  main\.go:14\n +2  main\.main  main\.go:16\n`, stderr.String())
	assert.Contains(t, stdout.String(), "panic: the gauge at Inner Ness is dry")
	assert.Regexp(t, `0  main\.sum  main\.go:8\n`, stdout.String())

	stderr.Reset()
	require.Zero(t, cli.Main(context.Background(), []string{"peek", path}, strings.NewReader(""), &stdout, &stderr))
	assert.Empty(t, stderr.String(), "it is indexed now")
}
