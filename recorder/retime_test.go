package recorder

import (
	"bytes"
	"context"
	"encoding/binary"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
)

// retimed returns a payload with estimated times, and the time from which each of its blocks counts.
func retimed(t *testing.T, payload []byte, base, next int64) []byte {
	t.Helper()
	sent := make(chan timedBlock, 100)
	var r retimer
	require.NoError(t, r.split(context.Background(), 1, base, next, payload, sent))
	close(sent)
	var out []byte
	at := base
	for b := range sent {
		require.Equal(t, at, b.base)
		out = append(out, b.events...)
		for w := event.NewWalk(b.events, b.base); w.Next(); {
			at = w.Event().Time
		}
	}
	return out
}

// Events without times get some between those of the events around them; nothing else changes.
func TestRetime(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		g := rand.New(rand.NewPCG(seed, 5))
		var payload []byte
		var last int64
		base := g.Int64N(1000)
		for range g.IntN(40) {
			kind := []event.Kind{event.Line, event.Line, event.Write, event.Memory}[g.IntN(4)]
			switch untimed := kind != event.Memory && g.IntN(3) > 0; {
			case untimed:
				payload = append(payload, byte(kind)|event.Untimed)
			case kind == event.Memory: // of the same moment as the event before
				payload = append(payload, byte(kind), 0)
			default:
				since := g.Int64N(1 << uint(g.IntN(20)))
				last += since
				payload = binary.AppendUvarint(append(payload, byte(kind)), uint64(since))
			}
			payload = binary.AppendUvarint(payload, g.Uint64N(300))
			if kind != event.Line {
				payload = append(payload, 1, 7) // a value of type 1
			}
		}
		next := base + last + g.Int64N(500)
		got := retimed(t, payload, base, next)
		before, after := event.NewWalk(payload, base), event.NewWalk(got, base)
		at := base
		for before.Next() {
			require.True(t, after.Next(), seed)
			a, b := before.Event(), after.Event()
			require.GreaterOrEqual(t, b.Time, at, seed)
			require.LessOrEqual(t, b.Time, next, seed)
			if !a.Estimated && a.Kind != event.Memory {
				require.Equal(t, a.Time, b.Time, seed)
			}
			if a.Kind == event.Memory {
				require.Equal(t, at, b.Time, "memory is of the moment before, seed %d", seed)
			}
			at, a.Time, b.Time = b.Time, 0, 0
			require.Equal(t, a, b, seed)
		}
		require.NoError(t, before.Err(), seed)
		require.False(t, after.Next(), seed)
		require.Equal(t, got, retimed(t, got, base, next), "estimated once, seed %d", seed)
	}
	even := retimed(t, []byte{byte(event.Line), 100, 1, byte(event.Line) | event.Untimed, 2, byte(event.Line) | event.Untimed, 3, byte(event.Line), 30, 4}, 0, 1000)
	var times []int64
	for w := event.NewWalk(even, 0); w.Next(); {
		times = append(times, w.Event().Time)
	}
	assert.Equal(t, []int64{100, 110, 120, 130}, times)
	long := bytes.Repeat([]byte{byte(event.Line) | event.Untimed, 2, byte(event.Line), 30, 4}, packedBlock)
	require.Len(t, retimed(t, long, 0, 0), len(long)+packedBlock, "a time for each event without one, in several blocks")
	broken := []byte{byte(event.Line) | event.Untimed, 2, 255}
	assert.Equal(t, []byte{byte(event.Line) | event.Estimated, 5, 2, 255}, retimed(t, broken, 0, 10), "what is damaged stays")
}
