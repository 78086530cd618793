package ask

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A failure is like itself, alikeness has no direction, and every function or word that differs takes away from it.
func TestSimilarity(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(1, 7))
	names := []string{"a", "b", "c", "d", "e", "f", "g", "h", "i", "j"}
	some := func() []string {
		list := slices.Clone(names)
		random.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		return list[:1+random.IntN(8)]
	}
	for range 500 {
		a, b := Sketch{some(), some()}, Sketch{some(), some()}
		require.InDelta(t, 1, a.Similarity(a), 1e-9)
		require.InDelta(t, a.Similarity(b), b.Similarity(a), 1e-9)
		require.GreaterOrEqual(t, a.Similarity(b), 0.0)
		require.LessOrEqual(t, a.Similarity(b), 1.0)
		inner, outer := Sketch{slices.Clone(a.Functions), a.Words}, Sketch{slices.Clone(a.Functions), a.Words}
		inner.Functions[0], outer.Functions[len(outer.Functions)-1] = "x", "x"
		require.LessOrEqual(t, a.Similarity(inner), a.Similarity(outer), "the inner function says most")
		require.Less(t, a.Similarity(outer), 1.0)
		more := Sketch{a.Functions, append(slices.Clone(a.Words), "x")}
		require.Less(t, a.Similarity(more), 1.0)
	}
	assert.Zero(t, Sketch{}.Similarity(Sketch{}), "nothing is known of either")
	assert.Zero(t, Sketch{Words: []string{"a"}}.Similarity(Sketch{Words: []string{"a"}}), "the words alone say nothing")
	assert.Equal(t, []string{"halcyon", "drift", "at", "quay", "#", "had", "m", "épis"}, wordsOf("Halcyon Drift at Quay 3 had 0.26 m; at Épis x2"))
}
