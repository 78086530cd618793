package compare_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

func openText(t *testing.T, name, text string) replay.Recording {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	r, err := kinds.All.Open(context.Background(), path, evidence.Options{}, nil)
	require.NoError(t, err)
	return r
}

func compared(t *testing.T, left, right replay.Recording, q ask.CompareRequest) ask.Comparison {
	q.With, q.Count = "right", 20
	c, err := ask.Run(context.Background(), ask.Subject{Recording: left, Others: func(context.Context) ([]ask.Other, error) {
		return []ask.Other{{Name: "right", Recording: right}}, nil
	}}, ask.Request[ask.Comparison](q))
	require.NoError(t, err)
	return c
}

// span is one of a generated trace, with what can be changed.
type span struct {
	name       string
	own        int // milliseconds
	attributes map[string]string
	failed     bool
	calls      []*span
}

// spanTree makes a random tree of spans with different names.
func spanTree(random *rand.Rand, depth int, all *[]*span) *span {
	s := &span{name: fmt.Sprintf("operation %d", len(*all)), own: 10 + random.IntN(20), attributes: map[string]string{"quay": fmt.Sprintf("quay %c", 'A'+random.IntN(5))}}
	*all = append(*all, s)
	for range random.IntN(4) {
		if depth > 0 {
			s.calls = append(s.calls, spanTree(random, depth-1, all))
		}
	}
	return s
}

// traceOf writes a trace as OTLP JSON. Concurrent calls are in random order.
func traceOf(random *rand.Rand, number int, root *span) string {
	const start = int64(1_790_000_000_000_000_000)
	var spans []map[string]any
	var add func(s *span, parent string, at int64) int64
	add = func(s *span, parent string, at int64) int64 {
		id := fmt.Sprintf("%08x%08x", number, len(spans)+1)
		x := map[string]any{"traceId": fmt.Sprintf("%032x", number), "spanId": id, "name": s.name, "startTimeUnixNano": fmt.Sprint(at)}
		attributes := []any{map[string]any{"key": "order.id", "value": map[string]any{"stringValue": fmt.Sprintf("%016x", random.Uint64()|1<<63)}}}
		for k, v := range s.attributes {
			attributes = append(attributes, map[string]any{"key": k, "value": map[string]any{"stringValue": v}})
		}
		x["attributes"] = attributes
		if s.failed {
			x["status"] = map[string]any{"code": 2, "message": "no water"}
		}
		if parent != "" {
			x["parentSpanId"] = parent
		}
		spans = append(spans, x)
		at += int64(s.own) * 500_000
		for _, i := range random.Perm(len(s.calls)) {
			at = add(s.calls[i], id, at)
		}
		at += int64(s.own) * 500_000
		x["endTimeUnixNano"] = fmt.Sprint(at)
		return at
	}
	add(root, "", start+int64(number)*int64(1e10))
	b, _ := json.Marshal(map[string]any{"resourceSpans": []any{map[string]any{"scopeSpans": []any{map[string]any{"spans": spans}}}}})
	return string(b)
}

// What was changed in a trace is all that is found, whatever the order of concurrent calls and whatever differs in each trace.
func TestComparedTraces(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(14, 3))
	for n := range 60 {
		var all []*span
		root := spanTree(random, 4, &all)
		if len(all) < 4 {
			continue
		}
		right := openText(t, "right.json", traceOf(random, 2*n+1, root))
		of := all[1+random.IntN(len(all)-1)]
		var want, why string
		size := 0 // spans that only the left trace has
		switch n % 5 {
		case 0:
			of.failed = true
			want = of.name + ": status"
		case 1:
			of.own *= 100
			want = of.name + ": own time"
		case 2:
			of.attributes["quay"] = "quay Z"
			want = of.name + ": quay"
		case 3:
			of.calls = append(of.calls, &span{name: "another call", own: 1})
			want, why, size = "another call", "only the left trace has this call", 1
		}
		c := compared(t, openText(t, "left.json", traceOf(random, 2*n+2, root)), right, ask.CompareRequest{})
		assert.Equal(t, "span", c.Of)
		assert.Equal(t, [3]int{len(all), size, 0}, [3]int{c.Aligned, c.OnlyLeft, c.OnlyRight})
		if want == "" {
			assert.Nil(t, c.First)
			assert.Empty(t, c.Causes)
			continue
		}
		require.NotEmpty(t, c.Causes, "%d: %s", n, want)
		assert.Equal(t, want, strings.TrimPrefix(c.Causes[0].Name, "unknown_service/"))
		if why != "" {
			assert.Equal(t, why, c.Causes[0].Why)
		}
		for _, x := range c.Causes[1:] { // its message beside its status
			assert.True(t, n%5 == 0 && strings.Contains(x.Name, of.name), "%+v", x)
		}
	}
}

// The failed trace is compared with one of the same operation without an error, unless others are named.
func TestChosenTraces(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(14, 4))
	root := &span{name: "berth", own: 5}
	var lines []string
	for n := range 5 {
		root.failed = n == 3
		root.attributes = map[string]string{"n": string(rune('a' + n))}
		lines = append(lines, traceOf(random, n+1, root))
	}
	r := openText(t, "traces.jsonl", strings.Join(lines, "\n"))
	c := compared(t, r, r, ask.CompareRequest{})
	require.GreaterOrEqual(t, len(c.Causes), 2)
	assert.Contains(t, c.Causes[0].Name, "status")
	assert.Equal(t, [2]string{`"d"`, `"a"`}, [2]string{c.Causes[len(c.Causes)-1].LeftValue, c.Causes[len(c.Causes)-1].RightValue})
	c = compared(t, r, r, ask.CompareRequest{Trace: fmt.Sprintf("%032x", 2), WithTrace: fmt.Sprintf("%032x", 5)})
	require.Len(t, c.Causes, 1)
	assert.Equal(t, [2]string{`"b"`, `"e"`}, [2]string{c.Causes[0].LeftValue, c.Causes[0].RightValue})
	for _, q := range []ask.CompareRequest{{Trace: "nowhere"}, {WithTrace: "00"}} {
		q.With, q.Count = "x", 1
		_, err := ask.Run(context.Background(), ask.Subject{Recording: r, Others: func(context.Context) ([]ask.Other, error) {
			return []ask.Other{{Name: "x", Recording: r}}, nil
		}}, ask.Request[ask.Comparison](q))
		assert.ErrorIs(t, err, fault.NotFound)
	}
}

const crashText = `panic: no berth for 0x%08x: %s

goroutine 1 [running]:
main.(*Book).At(0xc%09x, 0x5)
	/src/book.go:%d +0x1d
main.%s()
	/src/main.go:12 +0x25
main.main()
	/src/main.go:5 +0x17
exit status 2
`

// Crash texts are compared by their message and frames; addresses do not count.
func TestComparedCrashTexts(t *testing.T) {
	t.Parallel()
	text := func(message string, line int, caller string) replay.Recording {
		return openText(t, "crash.txt", fmt.Sprintf(crashText, rand.Uint32(), message, rand.Uint32(), line, caller))
	}
	left := text("Kelp", 31, "run")
	assert.Nil(t, compared(t, left, text("Kelp", 31, "run"), ask.CompareRequest{}).First)
	for want, right := range map[string]replay.Recording{"the failure": text("Ness", 31, "run"), "main.(*Book).At": text("Kelp", 36, "run"), "frames of the failing stack": text("Kelp", 31, "serve")} {
		c := compared(t, left, right, ask.CompareRequest{})
		assert.Equal(t, "frame", c.Of)
		require.Len(t, c.Causes, 1, want)
		assert.Equal(t, want, c.Causes[0].Name)
		assert.Equal(t, c.Causes[0], *c.First)
	}
	_, err := ask.Run(context.Background(), ask.Subject{Recording: left, Others: func(context.Context) ([]ask.Other, error) {
		return []ask.Other{{Name: "x", Recording: openText(t, "x.json", traceOf(rand.New(rand.NewPCG(1, 1)), 1, &span{name: "x"}))}}, nil
	}}, ask.Request[ask.Comparison](ask.CompareRequest{With: "x", Count: 1}))
	assert.ErrorIs(t, err, fault.NoHistory)
}
