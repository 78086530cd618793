package recorder_test

import (
	"context"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/recorder"
)

const sampled = "testdata/sampled"

// entered counts the recorded calls of a function.
func entered(t *testing.T, r replay.Finder, function string) int {
	t.Helper()
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "enter", About: function}, replay.Page{Count: 1})
	require.NoError(t, err)
	return hits.Total
}

// Calls are recorded whole or left out, and the recording counts those; what they may have changed it does
// not show as known.
func TestSampling(t *testing.T) {
	t.Parallel()
	for name, of := range map[string]recorder.Sample{"one in 20": {Every: 20}, "a budget": {Budget: 0.02}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Sample: of, Verify: true}}, sampled, "go", "run", ".")
			require.Zero(t, ran.ExitCode, ran.err)
			assert.Regexp(t, `^600 599 \d+\n$`, ran.out)
			r := open(t, ran.log)
			whole := entered(t, r, "main.main.func1") // the outermost own function of each arrival
			measured := entered(t, r, "main.measure")
			if of.Every > 0 {
				assert.Equal(t, 30, whole)
				// Each recorded arrival measures; of those that work measures, every 20th in all is recorded.
				assert.Equal(t, 30+30, measured)
			} else {
				assert.Less(t, whole, 300)
			}
			assert.Equal(t, whole, entered(t, r, "main.arrive"), "what a recorded call calls is recorded")
			assert.Equal(t, 1, entered(t, r, "main.main"))
			assert.Equal(t, 1, entered(t, r, "main.work"))

			gaps := r.Info().Gaps
			require.Len(t, gaps, 1)
			found := regexp.MustCompile(`(\d+) of main\.main\.func1`).FindStringSubmatch(gaps[0].What)
			require.NotNil(t, found, gaps[0].What)
			left, err := strconv.Atoi(found[1])
			require.NoError(t, err)
			assert.Equal(t, 600, left+whole)

			v, err := r.(replay.Verifier).Verify(context.Background(), replay.Page{Count: 5})
			require.NoError(t, err)
			assert.Empty(t, v.Page)

			at := atMark(t, r, sampled, "arrived")
			assert.Equal(t, event.Known, variableAt(t, r, at, "main.quay").Field("last").Field("number").State, "this call stored it")
			assert.Equal(t, event.MayHaveChanged, variableAt(t, r, at, "main.behind").State, "another one stored it")
		})
	}
}
