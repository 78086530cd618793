package find

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
	"wraithology/core/replay/writes"
	"wraithology/core/timeline"
)

// recorded makes a timeline of random writes of two threads, long enough for several chunks.
func recorded(t *testing.T, seed uint64, moments int) Finder {
	t.Helper()
	g := rand.New(rand.NewPCG(seed, 11))
	var out bytes.Buffer
	w, err := execlog.NewWriter(&out, event.Header{Program: "search"}, execlog.Zstd)
	require.NoError(t, err)
	require.NoError(t, w.File(event.File{ID: 0, Path: "/src/a.go"}))
	require.NoError(t, w.Function(event.Function{ID: 0, Name: "a", Own: true, Line: 1, EndLine: 9, Variables: []event.Variable{{Name: "x", EndLine: 9}}}))
	require.NoError(t, w.Site(event.Site{ID: 0, Function: 0, Line: 2}))
	require.NoError(t, w.Process(event.Process{ID: 0, PID: 1}))
	for _, typ := range []*event.Type{whole, natural, broken, single, text, truth, pointer} {
		require.NoError(t, w.Type(0, *typ))
	}
	for thread := event.ThreadID(1); thread <= 2; thread++ {
		payload := []byte{byte(event.Enter), 1, 0, 0}
		for range moments / 2 {
			switch g.IntN(4) {
			case 0:
				payload = append(payload, byte(event.Line), 1, 0)
				continue
			case 1:
				payload = append(payload, byte(event.Made), 1, 3, 4)
				continue
			}
			payload = append(payload, byte(event.Write), 1, 0)
			n := int64(g.IntN(1 << uint(g.IntN(20))))
			switch g.IntN(7) {
			case 0:
				payload = event.AppendInt(payload, whole.ID, n-400)
			case 1:
				payload = event.AppendUint(payload, natural.ID, uint64(n))
			case 2:
				payload = event.AppendFloat(payload, broken.ID, float64(n)/4)
			case 3:
				payload = event.AppendFloat32(payload, single.ID, float32(n)/4)
			case 4:
				payload = event.AppendText(payload, text.ID, fmt.Sprint("vessel ", n))
			case 5:
				payload = event.AppendBool(payload, truth.ID, n%2 == 0)
			case 6:
				payload = event.AppendUint(payload, pointer.ID, 0x7000+uint64(n))
			}
		}
		require.NoError(t, w.Events(0, thread, 100, payload))
	}
	require.NoError(t, w.End(event.End{}))
	require.NoError(t, w.Flush())
	log, err := execlog.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "timeline")
	require.NoError(t, timeline.Build(context.Background(), timeline.Source{Tables: log.Tables, Blocks: log.Blocks, Losses: log.Losses, Payload: log.Payload, File: log.Reader(), Size: log.Size()}, dir, false, nil))
	tl, err := timeline.Open(dir, log.Reader(), log.Size())
	require.NoError(t, err)
	return Finder{writes.Reader{Log: state.New(tl, func(*state.Log, *replay.Info) {})}}
}

// A search that looks at the bytes of all events at once finds what one finds that decodes each value.
func TestSearchOfBytesFindsWhatDecodingFinds(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4) {
		r := recorded(t, seed, 30_000)
		g := rand.New(rand.NewPCG(seed, 12))
		found := 0
		for range 60 {
			n := g.IntN(1 << uint(g.IntN(20)))
			s := replay.NewSearch([]string{fmt.Sprint(n), fmt.Sprint(-n), fmt.Sprint(float64(n) / 4), fmt.Sprintf("%q", fmt.Sprint(n)), fmt.Sprint("el ", n), "vessel", "none of them"}[g.IntN(7)], "")
			if g.IntN(8) == 0 {
				s = replay.Search{Object: 0x7000 + uint64(n)}
			}
			sequences := encodings(s)
			from := event.Moment(g.IntN(int(r.T.Len())))
			to := from + event.Moment(g.IntN(int(r.T.Len()-from)+1))
			got, err := r.searchPiece(context.Background(), s, sequences, from, to)
			require.NoError(t, err)
			want, err := r.searchPiece(context.Background(), s, nil, from, to)
			require.NoError(t, err)
			require.Equal(t, len(want), len(got), "%v, from %d to %d", s, from, to)
			for i := range want {
				require.Equal(t, want[i].At, got[i].At, "%v", s)
			}
			found += len(got)
		}
		assert.Positive(t, found)
	}
	assert.Nil(t, encodings(replay.NewSearch("7", "")), "a byte is everywhere")
	assert.Nil(t, encodings(replay.NewSearch("true", "")))
	assert.Len(t, encodings(replay.NewSearch("1000", "")), 5)
	assert.Len(t, encodings(replay.NewSearch("Kelp", "")), 1)
}
