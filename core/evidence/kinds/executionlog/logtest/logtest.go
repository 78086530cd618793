// Package logtest opens execution logs in tests.
package logtest

import (
	"context"
	"path/filepath"
	"testing"

	"wraithology/core/evidence/kinds/executionlog"
	"wraithology/core/execlog"
	"wraithology/core/timeline"
)

// Timeline builds the timeline of a log in a folder of the test, and opens it.
func Timeline(t testing.TB, log *execlog.Log) *timeline.Timeline {
	dir := filepath.Join(t.TempDir(), "timeline")
	if err := timeline.Build(context.Background(), executionlog.Source(log), dir, false, nil); err != nil {
		t.Fatal(err)
	}
	built, err := timeline.Open(dir, log.Reader(), log.Size())
	if err != nil {
		t.Fatal(err)
	}
	return built
}
