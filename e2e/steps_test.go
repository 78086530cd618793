package e2e

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/replay"
	"wraithology/core/replay/step/steptest"
	"wraithology/core/timeline"
)

// Steps back return to where the steps forward started, in a recording of the demo, in a trace, and
// in a log.
func TestStepsLeadBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	spans := filepath.Join(dir, "spans.otlp")
	var trace []byte
	for i := range byte(20) {
		trace = append(trace, spansRequest(40, i)...)
	}
	require.NoError(t, os.WriteFile(spans, trace, 0o600))
	messages := filepath.Join(dir, "messages.jsonl")
	require.NoError(t, os.WriteFile(messages, []byte(`{"time":"2026-11-25T10:00:00Z","level":"INFO","msg":"gate opens","order":7}`+"\n"+`{"time":"2026-11-25T10:00:01Z","level":"ERROR","msg":"no berth","order":7}`+"\n"), 0o600))
	for path, least := range map[string]int{failingRun(t): 10_000, spans: 0, messages: 0} {
		folder := filepath.Join(t.TempDir(), "timelines")
		r, err := kinds.All.Open(context.Background(), path, evidence.Options{Timelines: evidence.Timelines{Folder: folder}}, nil)
		require.NoError(t, err)
		built, err := filepath.Glob(filepath.Join(folder, "*.timeline"))
		require.NoError(t, err)
		require.Len(t, built, 1)
		tl, err := timeline.OpenKnown(built[0])
		require.NoError(t, err)
		every := max(int(tl.Len())/100_000, 1)
		assert.GreaterOrEqual(t, steptest.LeadBack(t, r.(replay.Stepper), tl, every), least, path)
	}
}
