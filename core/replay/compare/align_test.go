package compare

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// longest is the length of the longest common subsequence, by the usual table.
func longest(a, b []item, equal func(x, y item) bool) int {
	table := make([][]int, len(a)+1)
	for i := range table {
		table[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if equal(a[i], b[j]) {
				table[i][j] = table[i+1][j+1] + 1
			} else {
				table[i][j] = max(table[i+1][j], table[i][j+1])
			}
		}
	}
	return table[0][0]
}

func randomItems(random *rand.Rand, n int) []item {
	list := make([]item, random.IntN(n))
	for i := range list {
		list[i] = item{path: uint32(random.IntN(4)), value: digest(random.IntN(3))}
	}
	return list
}

func TestEditsAgainstAnOracle(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(6, 1))
	samePath := func(x, y item) bool { return x.path == y.path }
	for range 3000 {
		a, b := randomItems(random, 24), randomItems(random, 24)
		pairs := edits(a, b, samePath)
		require.Len(t, pairs, longest(a, b, samePath))
		lastA, lastB := -1, -1
		for _, p := range pairs {
			require.Greater(t, p[0], lastA)
			require.Greater(t, p[1], lastB)
			require.True(t, samePath(a[p[0]], b[p[1]]))
			lastA, lastB = p[0], p[1]
		}
	}
}

// Pairs have the same path and keep the order; what is inserted into equal sequences has no counterpart, and all else has.
func TestAlign(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(6, 2))
	for range 3000 {
		a, b := randomItems(random, 30), randomItems(random, 30)
		last := -1
		for i, j := range align(a, b) {
			if j >= 0 {
				require.Greater(t, j, last)
				require.Equal(t, a[i].path, b[j].path)
				last = j
			}
		}
		base := make([]item, 30)
		for i := range base {
			base[i] = item{path: uint32(100 + i), value: digest(random.IntN(3))}
		}
		at := random.IntN(len(base) + 1)
		added := append(append(append([]item{}, base[:at]...), item{path: 1}, item{path: 2}), base[at:]...)
		match := align(added, base)
		for i, j := range match {
			switch {
			case i < at:
				assert.Equal(t, i, j)
			case i < at+2:
				assert.Equal(t, -1, j)
			default:
				assert.Equal(t, i-2, j)
			}
		}
	}
	// More differences than are aligned: the equal ends are paired.
	long := make([]item, 3*maxEdits)
	other := make([]item, 3*maxEdits)
	for i := range long {
		long[i].path, other[i].path = uint32(2*i), uint32(2*i+1)
	}
	other[0], other[len(other)-1] = long[0], long[len(long)-1]
	match := align(long, other)
	assert.Equal(t, 0, match[0])
	assert.Equal(t, len(other)-1, match[len(long)-1])
	assert.Equal(t, -1, match[5])
}
