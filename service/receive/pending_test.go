package receive

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
)

// request holds spans of traces, each TRACE, SPAN, PARENT.
func request(t *testing.T, spans ...[3]byte) []byte {
	var list []*tracepb.Span
	for _, x := range spans {
		s := &tracepb.Span{TraceId: bytes.Repeat([]byte{x[0]}, 16), SpanId: bytes.Repeat([]byte{x[1]}, 8), Name: "assign"}
		if x[2] != 0 {
			s.ParentSpanId = bytes.Repeat([]byte{x[2]}, 8)
		}
		list = append(list, s)
	}
	b, err := proto.Marshal(&tracepb.TracesData{ResourceSpans: []*tracepb.ResourceSpans{{ScopeSpans: []*tracepb.ScopeSpans{{Spans: list}}}}})
	require.NoError(t, err)
	return b
}

// spansOf lists the spans of requests, in a set order.
func spansOf(t *testing.T, list ...[]byte) []string {
	out := []string{}
	for _, b := range list {
		require.NoError(t, otlp.Walk(b, 0, func(r *otlp.Record) error {
			var s otlp.Span
			err := s.Parse(r.Message)
			out = append(out, fmt.Sprintf("%x of %x", s.SpanID[0], s.TraceID[0]))
			return err
		}, func(_ int64, err error) error { return err }))
	}
	slices.Sort(out)
	return out
}

// sealed puts requests into a spool file and seals it.
func sealed(t *testing.T, dir string, requests ...[]byte) string {
	s := newStream(dir, 7)
	for _, b := range requests {
		require.NoError(t, s.take(context.Background(), 3, b, maxWaiting))
	}
	require.NoError(t, s.settle(Settle{}))
	return filepath.Join(dir, s.name())
}

// name is that of the stream's last file once it is sealed.
func (s *stream) name() string {
	return filepath.Base(s.path[:len(s.path)-len(openEnding)] + sealedEnding)
}

func gathered(t *testing.T, read func(func([]byte) error) error) [][]byte {
	list := [][]byte{}
	require.NoError(t, read(func(b []byte) error {
		list = append(list, bytes.Clone(b))
		return nil
	}))
	return list
}

// Nothing is lost between what becomes evidence and what goes along, and nothing is in both.
func TestPartsAreTheWhole(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 3))
	ctx, went := context.Background(), 0
	for range 60 {
		dir := t.TempDir()
		var requests [][]byte
		for range 1 + random.IntN(6) {
			var spans [][3]byte
			for range 1 + random.IntN(8) {
				spans = append(spans, [3]byte{byte(1 + random.IntN(5)), byte(1 + random.IntN(6)), byte(random.IntN(7))})
			}
			requests = append(requests, request(t, spans...))
		}
		r := &Receiver{dir: dir, settle: DefaultSettle, pending: map[int64]pending{}}
		path := sealed(t, dir, requests...)
		p, err := r.part(ctx, 7, path)
		require.NoError(t, err)
		next := newStream(t.TempDir(), 7)
		require.NoError(t, p.moveOn(ctx, next, 3))
		rest := gathered(t, p.rest)
		assert.Equal(t, p.stays, len(rest) > 0)
		var pending [][]byte
		if next.file != nil {
			require.NoError(t, next.settle(Settle{}))
			pending = gathered(t, func(yield func([]byte) error) error { return readSpool(filepath.Join(next.dir, next.name()), yield) })
			went++
		}
		require.Equal(t, spansOf(t, requests...), spansOf(t, slices.Concat(rest, pending)...))
		for _, x := range spansOf(t, pending...) {
			for _, y := range spansOf(t, rest...) {
				assert.NotEqual(t, x[len(x)-1], y[len(y)-1], "a trace is in one part")
			}
		}
	}
	assert.Greater(t, went, 30)
}

// A trace is waited for as long as it grows, but not forever, and not whatever its size.
func TestHowLongIsWaited(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	path := sealed(t, dir, request(t, [3]byte{1, 3, 2}, [3]byte{2, 1, 0}))
	key := [16]byte(bytes.Repeat([]byte{1}, 16))
	now := time.Now()
	for name, x := range map[string]struct {
		settle Settle
		before waited
		goes   bool
	}{
		"the first time":               {DefaultSettle, waited{}, true},
		"it grew":                      {DefaultSettle, waited{records: 0, begun: now.Add(-time.Minute), growth: now.Add(-time.Minute)}, true},
		"it did not grow, a moment":    {DefaultSettle, waited{records: 1, begun: now.Add(-8 * time.Second), growth: now.Add(-8 * time.Second)}, true},
		"it did not grow for long":     {DefaultSettle, waited{records: 1, begun: now.Add(-11 * time.Second), growth: now.Add(-11 * time.Second)}, false},
		"it grows, and does not end":   {DefaultSettle, waited{records: 0, begun: now.Add(-11 * time.Minute), growth: now}, false},
		"it is larger than a share is": {Settle{Quiet: DefaultSettle.Quiet, Oldest: DefaultSettle.Oldest, Largest: 100}, waited{}, false},
	} {
		r := &Receiver{dir: dir, settle: x.settle, pending: map[int64]pending{}}
		if x.before != (waited{}) {
			r.pending[7] = pending{key: x.before}
		}
		p, err := r.part(ctx, 7, path)
		require.NoError(t, err)
		_, goes := p.pending[key]
		assert.Equal(t, x.goes, goes, name)
		assert.LessOrEqual(t, len(p.pending), 1, "what has ended does not go along")
	}
}

// A spool file that was cut off, or damaged, gives the requests before that and no others.
func TestCutOffSpool(t *testing.T) {
	t.Parallel()
	requests := [][]byte{request(t, [3]byte{1, 1, 0}), request(t, [3]byte{2, 1, 0}), request(t, [3]byte{3, 1, 0}, [3]byte{3, 2, 1})}
	path := sealed(t, t.TempDir(), requests...)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	read := func(b []byte) [][]byte {
		at := filepath.Join(t.TempDir(), "spool")
		require.NoError(t, os.WriteFile(at, b, 0o600))
		return gathered(t, func(yield func([]byte) error) error { return readSpool(at, yield) })
	}
	require.Equal(t, requests, read(whole))
	for n := range whole {
		got := read(whole[:n])
		require.Equal(t, requests[:len(got)], got, "%d bytes", n)
		require.Less(t, len(got), len(requests))
		damaged := bytes.Clone(whole)
		damaged[n] ^= 0x10
		got = read(damaged)
		require.Less(t, len(got), len(requests), "byte %d is damaged", n)
		require.Equal(t, requests[:len(got)], got)
	}
}
