package ordered

import (
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOrder compares with a stable sort in memory, for pieces that hold
// everything, some, and hardly one record.
func TestOrder(t *testing.T) {
	t.Parallel()
	type record struct {
		key  Key
		text string
	}
	for _, most := range []int{1 << 20, 4096, 60} {
		random := rand.New(rand.NewPCG(7, uint64(most)))
		s := New(t.TempDir(), most)
		var want []record
		for i := range 3000 {
			k := Key{random.Uint64N(40), random.Uint64N(3)}
			b := binary.AppendUvarint(make([]byte, random.IntN(50)), uint64(i))
			require.NoError(t, s.Add(k, b))
			want = append(want, record{k, string(b)})
		}
		slices.SortStableFunc(want, func(a, b record) int { return a.key.Compare(b.key) })
		var got []record
		require.NoError(t, s.Each(context.Background(), func(k Key, b []byte) error {
			got = append(got, record{k, string(b)})
			return nil
		}))
		require.Equal(t, want, got, "pieces of %d", most)
		stop := errors.New("enough")
		require.ErrorIs(t, s.Each(context.Background(), func(Key, []byte) error { return stop }), stop)
		ended, end := context.WithCancel(context.Background())
		end()
		require.ErrorIs(t, s.Each(ended, func(Key, []byte) error { return nil }), context.Canceled)
		require.NoError(t, s.Close())
	}
}
