package receive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/eventtrace"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/fault"
)

// shelf keeps evidence in memory.
type shelf map[string][]byte

func (s shelf) Keep(_ context.Context, caseID, _ int64, name string, read func(func([]byte) error) error) error {
	return read(func(b []byte) error {
		key := fmt.Sprint(caseID, name)
		s[key] = append(s[key], b...)
		return nil
	})
}

func (s shelf) Requests(_ context.Context, caseID int64, name string, use func([]byte) error) error {
	b, ok := s[fmt.Sprint(caseID, name)]
	if !ok {
		return fault.NotFound
	}
	return use(b)
}

func lateOf(t *testing.T, keeper Keeper) *late {
	l, err := newLate(t.TempDir(), keeper)
	require.NoError(t, err)
	return l
}

// The latest evidence with a trace has all that was received of the trace, each record once, and nothing of
// other traces or cases.
func TestLatePartsJoinTheirTraces(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 12))
	ctx, joined := context.Background(), 0
	for range 20 {
		dir, kept := t.TempDir(), shelf{}
		r := &Receiver{dir: dir, keeper: kept, settle: Settle{Largest: 64 << 20}, pending: map[int64]pending{}, parts: map[string]part{}, streams: map[int64]*stream{}, late: lateOf(t, kept), log: slog.New(slog.DiscardHandler)}
		all := map[int64]map[byte][]string{7: {}, 8: {}}
		next := map[byte]byte{}
		for n := range 12 {
			caseID := int64(7 + random.IntN(2))
			var spans [][3]byte
			for range 1 + random.IntN(6) {
				trace := byte(1 + random.IntN(5))
				next[trace]++
				x := [3]byte{trace, next[trace], byte(random.IntN(int(next[trace])))}
				spans = append(spans, x)
				all[caseID][trace] = append(all[caseID][trace], fmt.Sprintf("%x of %x", x[1], x[0]))
			}
			s := newStream(dir, caseID)
			require.NoError(t, s.take(ctx, 3, request(t, spans...), maxWaiting))
			require.NoError(t, s.settle(Settle{}))
			when := fmt.Sprintf("20261125T1458%02d.000", n)
			path := filepath.Join(dir, s.name())
			p, err := r.parted(ctx, caseID, 3, when, path)
			require.NoError(t, err)
			delete(r.parts, path) // the next file may have the same name
			require.True(t, p.stays)
			require.NoError(t, kept.Keep(ctx, caseID, 3, evidenceName(when), p.rest))
			require.NoError(t, r.late.remember(caseID, evidenceName(when), p.traces))
			if len(p.earlier) > 0 {
				joined++
			}
			var want []string
			for _, id := range p.traces {
				want = append(want, all[caseID][id[0]]...)
			}
			slices.Sort(want)
			require.Equal(t, want, spansOf(t, kept[fmt.Sprint(caseID, evidenceName(when))]))
		}
	}
	assert.Greater(t, joined, 100)
}

func ids(list ...byte) (out []eventtrace.TraceID) {
	for _, x := range list {
		out = append(out, eventtrace.TraceID(bytes.Repeat([]byte{x}, 16)))
	}
	return out
}

// What is joined is limited by whole traces; evidence that is gone, and lists that were cut off, are passed over.
func TestLimitsOfJoining(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	large := [][3]byte{}
	for i := range byte(40) {
		large = append(large, [3]byte{2, i + 1, 0})
	}
	kept := shelf{"7a": slices.Concat(request(t, [3]byte{1, 1, 0}, [3]byte{3, 1, 0}), request(t, large...), request(t, [3]byte{1, 2, 1}))}
	l := lateOf(t, kept)
	require.NoError(t, l.remember(7, "a", ids(1, 2, 3)))
	require.NoError(t, l.remember(7, "b", ids(3)))
	join := func(most int64) []string {
		b, err := l.join(ctx, 7, "c", ids(1, 2, 3, 4), most)
		require.NoError(t, err)
		return spansOf(t, b)
	}
	one, err := otlp.Select(request(t, [3]byte{1, 1, 0}), func([]byte, int) bool { return true })
	require.NoError(t, err)
	assert.Len(t, join(1<<20), 42, "the evidence with the latest part of trace 3 is gone")
	assert.Equal(t, []string{"1 of 1", "2 of 1"}, join(int64(len(one))*3), "a trace that does not fit is left out as a whole")
	l.trace = len(one) * 3
	assert.Equal(t, []string{"1 of 1", "2 of 1"}, join(1<<20))
	b, err := l.join(ctx, 7, "a", ids(1), 1<<20)
	require.NoError(t, err)
	assert.Empty(t, b, "evidence is not joined with itself")

	whole, err := os.ReadFile(l.path(7, "a"))
	require.NoError(t, err)
	for n := range whole {
		require.NoError(t, os.WriteFile(l.path(7, "a"), whole[:n], 0o600))
		both, rest, err := listed(l.path(7, "a"), ids(1, 2, 3, 4))
		require.NoError(t, err)
		assert.Len(t, both, n/16)
		assert.Equal(t, ids(1, 2, 3, 4)[n/16:], rest)
	}

	kept["7b"] = []byte{0xff}
	_, err = l.join(ctx, 7, "c", ids(3), 1<<20)
	assert.Error(t, err)
	assert.NotErrorIs(t, err, fault.NotFound)
}

// Lists are removed when they are old, and the oldest when there are too many.
func TestListsOfTracesAreRemoved(t *testing.T) {
	t.Parallel()
	l := lateOf(t, shelf{})
	l.bytes = 5 * 16
	left := func() (names []string) {
		list, err := os.ReadDir(l.dir)
		require.NoError(t, err)
		for _, x := range list {
			names = append(names, strings.TrimSuffix(x.Name(), listEnding))
		}
		return names
	}
	for i, name := range []string{"a", "b", "c"} {
		require.NoError(t, l.remember(7, name, ids(1, 2)))
		when := time.Now().Add(time.Duration(i-5) * time.Hour)
		require.NoError(t, errors.Join(os.Chtimes(l.path(7, name), when, when)))
	}
	require.NoError(t, l.remember(7, "d", nil))
	assert.Equal(t, []string{"7-b", "7-c"}, left())
	l.age = 4*time.Hour - time.Minute
	require.NoError(t, l.remember(8, "e", ids(1)))
	assert.Equal(t, []string{"7-c", "8-e"}, left())
}
