package replay

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
)

// Each deadlock is a ring of waits, a thread is in at most one, and there is one exactly if a thread can reach itself.
func TestCyclesAgainstReachability(t *testing.T) {
	t.Parallel()
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 4))
		n := 1 + r.IntN(8)
		var waits []Wait
		reach := make([][]bool, n+1)
		for i := range reach {
			reach[i] = make([]bool, n+1)
		}
		for i := 1; i <= n; i++ {
			if r.IntN(4) == 0 {
				continue
			}
			w := Wait{Place: Place{Thread: event.ThreadID(i)}, On: WaitMutex}
			for range 1 + r.IntN(2)*r.IntN(2) {
				h := 1 + r.IntN(n)
				w.Holders = append(w.Holders, event.ThreadID(h))
				reach[i][h] = true
			}
			waits = append(waits, w)
		}
		edge := func(a, b event.ThreadID) bool {
			return slices.ContainsFunc(waits, func(w Wait) bool { return w.Thread == a && slices.Contains(w.Holders, b) })
		}
		for k := range reach { // Floyd and Warshall
			for i := range reach {
				for j := range reach {
					reach[i][j] = reach[i][j] || reach[i][k] && reach[k][j]
				}
			}
		}
		any := false
		for i := range reach {
			any = any || reach[i][i]
		}
		cycles := Cycles(waits)
		require.Equal(t, any, len(cycles) > 0, "seed %d: %v", seed, waits)
		seen := map[event.ThreadID]bool{}
		for _, c := range cycles {
			assert.Equal(t, "deadlock", c.Kind)
			assert.Len(t, c.On, len(c.Threads))
			for i, id := range c.Threads {
				assert.True(t, edge(id, c.Threads[(i+1)%len(c.Threads)]))
				assert.False(t, seen[id])
				seen[id] = true
			}
		}
	}
}
