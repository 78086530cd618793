package ask

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
)

// Folded frames stand for all the others: unfolded, they are the stack again.
func TestFoldFrames(t *testing.T) {
	t.Parallel()
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 9))
		var frames []replay.Frame
		call := func(function int) {
			frames = append(frames, replay.Frame{Index: len(frames), Function: fmt.Sprint("f", function), Line: function})
		}
		for range r.IntN(6) {
			length := 1 + r.IntN(5)
			cycle := make([]int, length)
			for i := range cycle {
				cycle[i] = r.IntN(4)
			}
			for range 1 + r.IntN(30) {
				for _, f := range cycle {
					call(f)
				}
			}
		}
		shown := foldFrames(frames, 1<<20)
		var again []string
		for _, f := range shown {
			require.Equal(t, len(again), f.Index, "seed %d", seed)
			again = append(again, f.Function)
			require.Equal(t, f.left > 0, f.cycle > 0, "nothing else is left out")
			for range f.left {
				again = append(again, again[len(again)-f.cycle])
			}
		}
		require.Len(t, again, len(frames), "seed %d", seed)
		for i, f := range frames {
			require.Equal(t, f.Function, again[i], "seed %d, frame %d", seed, i)
		}

		// A limit leaves out the middle, and says how much.
		const most = 10
		few := foldFrames(frames, most)
		require.LessOrEqual(t, len(few), most)
		at := 0
		for _, f := range few {
			require.Equal(t, at, f.Index, "seed %d", seed)
			at += 1 + f.left
		}
		require.Equal(t, len(frames), at, "seed %d", seed)
	}
	deep := make([]replay.Frame, 200_000)
	for i := range deep {
		deep[i] = replay.Frame{Index: i, Function: "berth.Assign", Line: 7}
	}
	shown := foldFrames(deep, maxFrames)
	require.Len(t, shown, 2)
	assert.Equal(t, 199_998, shown[0].left)
	assert.Equal(t, 1, shown[0].cycle)
}
