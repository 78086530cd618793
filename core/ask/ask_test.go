package ask_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// said is one line of a generated log. Its moment is its number from 1 on.
type logLine struct {
	Time  time.Time `json:"time"`
	Level string    `json:"level"`
	Msg   string    `json:"msg"`
	Depth float64   `json:"depth"`
	Quay  string    `json:"quay"`
	Order int       `json:"order"`
}

// aLog is a generated log and its recording.
func aLog(t *testing.T, random *rand.Rand, n int) ([]logLine, ask.Subject) {
	var lines []logLine
	var text bytes.Buffer
	at := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	for i := range n {
		at = at.Add(time.Duration(1+random.IntN(1000)) * time.Millisecond)
		x := logLine{at, []string{"INFO", "WARN", "ERROR"}[random.IntN(3)], []string{"berth free", "gate opens", "gate shuts"}[random.IntN(3)],
			float64(random.IntN(8)) + 0.25, fmt.Sprintf("Kelp Quay %d", random.IntN(2)), i}
		lines = append(lines, x)
		require.NoError(t, json.NewEncoder(&text).Encode(x))
	}
	path := filepath.Join(t.TempDir(), "log.jsonl")
	require.NoError(t, os.WriteFile(path, text.Bytes(), 0o600))
	r, err := kinds.All.Open(context.Background(), path, evidence.Options{}, nil)
	require.NoError(t, err)
	return lines, ask.Subject{Recording: r}
}

// condition is a condition on a line, and what it means.
type condition struct {
	text  string
	holds func(logLine) bool
}

func someCondition(random *rand.Rand) condition {
	depth, quay := float64(random.IntN(8)), fmt.Sprintf("Kelp Quay %d", random.IntN(3))
	return []condition{
		{"", func(logLine) bool { return true }},
		{fmt.Sprintf("depth > %.1f", depth), func(x logLine) bool { return x.Depth > depth }},
		{fmt.Sprintf("quay == %q && depth <= %.1f", quay, depth), func(x logLine) bool { return x.Quay == quay && x.Depth <= depth }},
		{`level in ["WARN", "ERROR"] || order % 7 == 3`, func(x logLine) bool { return x.Level != "INFO" || x.Order%7 == 3 }},
	}[random.IntN(4)]
}

// someNumber is a choice among hits, and what it means.
func someNumber(random *rand.Rand, lines int) (text string, choose func([]int) []int) {
	n := 1 + random.IntN(5)
	before := 1 + random.IntN(lines)
	switch random.IntN(5) {
	case 0:
		return strconv.Itoa(n), func(l []int) []int { return l[min(n-1, len(l)):min(n, len(l))] }
	case 1:
		return fmt.Sprintf("every %d", n), func(l []int) (out []int) {
			for i, m := range l {
				if (i+1)%n == 0 {
					out = append(out, m)
				}
			}
			return out
		}
	case 2:
		return "last", func(l []int) []int { return l[max(len(l)-1, 0):] }
	case 3:
		return fmt.Sprintf("last before %d", before), func(l []int) []int {
			k := 0
			for k < len(l) && l[k] < before {
				k++
			}
			return l[max(k-1, 0):k]
		}
	}
	return "", func(l []int) []int { return l }
}

// Hits, the ledger of hits with its marks, and runs along hits, against the lines of the log.
func TestHitsAgainstTheLog(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 1))
		lines, s := aLog(t, random, 20+random.IntN(150))
		for range 10 {
			when := someCondition(random)
			nth, choose := someNumber(random, len(lines))
			text := []string{"", "gate", "GATE OPENS", "fog"}[random.IntN(4)]
			var want []int
			for i, x := range lines {
				if strings.Contains(x.Msg, strings.ToLower(text)) && when.holds(x) {
					want = append(want, i+1)
				}
			}
			want = choose(want)
			on := ask.CheckpointOn{On: strings.TrimSpace("output " + text), When: when.text, Nth: nth}
			what := fmt.Sprintf("seed %d: %+v", seed, on)

			from, count := random.IntN(len(want)+2), random.IntN(12)
			got, err := ask.Run[ask.Hits](ctx, s, ask.HitsRequest{CheckpointOn: on, Place: ask.Place{Moment: event.NoMoment}, From: from, Count: count})
			require.NoError(t, err, what)
			require.Equal(t, len(want), got.Total, what)
			page := want[min(from, len(want)):min(from+count, len(want))]
			require.Len(t, got.Hits, len(page), what)
			for i, h := range got.Hits {
				x := lines[page[i]-1]
				require.Equal(t, event.Moment(page[i]), h.Moment, what)
				require.Equal(t, x.Msg, h.Text, what)
				require.Equal(t, x.Time.Sub(lines[0].Time).Nanoseconds(), h.TimeNs, what)
			}

			ledger, err := ask.Run[ask.Ledger](ctx, s, ask.LedgerRequest{Place: ask.Place{Moment: event.NoMoment}, Hits: on, Columns: []string{"depth", "quay", "nothing"}, From: from, Count: count})
			require.NoError(t, err, what)
			require.Equal(t, len(want), ledger.Total, what)
			require.Len(t, ledger.Rows, len(page), what)
			for i, row := range ledger.Rows {
				x := lines[page[i]-1]
				require.Equal(t, event.Moment(page[i]), row.Moment)
				require.Equal(t, []string{strconv.FormatFloat(x.Depth, 'g', -1, 64), strconv.Quote(x.Quay)}, []string{row.Cells[0].Value, row.Cells[1].Value}, what)
				require.Contains(t, row.Cells[2].Error, "name not found")
				changed := []bool{false, false, false}
				if from+i > 0 {
					before := lines[want[from+i-1]-1]
					changed = []bool{before.Depth != x.Depth, before.Quay != x.Quay, false}
				}
				require.Equal(t, changed, []bool{row.Cells[0].Changed, row.Cells[1].Changed, row.Cells[2].Changed}, "%s: marks of row %d", what, from+i)
			}

			if nth != "" {
				continue // a run counts from if it is
			}
			at := random.IntN(len(lines)) + 1
			for _, back := range []bool{false, true} {
				next := 0
				for _, m := range want {
					if back && m < at || !back && m > at && next == 0 {
						next = m
					}
				}
				ran, err := ask.Run[ask.Step](ctx, s, ask.RunRequest{Place: ask.Place{Moment: event.Moment(at)}, CheckpointOn: on, Back: back})
				if next == 0 {
					require.ErrorIs(t, err, fault.NoHit, "%s from %d", what, at)
					continue
				}
				require.NoError(t, err, what)
				require.Equal(t, event.Moment(next), ran.Moment, "%s from %d, back %t", what, at, back)
			}
		}
	}
}

// Messages around a moment, values and expressions at it, against the lines of the log.
func TestWhatIsAtAMoment(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	random := rand.New(rand.NewPCG(7, 7))
	lines, s := aLog(t, random, 200)
	for range 100 {
		at, before, after := 1+random.IntN(len(lines)), random.IntN(20), random.IntN(20)
		place := ask.Place{Moment: event.Moment(at)}
		got, err := ask.Run[ask.Messages](ctx, s, ask.MessagesRequest{Place: place, Of: "all", Before: before, After: after})
		require.NoError(t, err)
		first, end := max(at-before, 0), min(at+after, len(lines))
		require.Len(t, got.Messages, end-first, "at %d, %d before, %d after", at, before, after)
		for i, m := range got.Messages {
			require.Equal(t, event.Moment(first+i+1), m.Moment)
			require.Equal(t, lines[first+i].Msg, m.Text)
		}
		x := lines[at-1]
		values, err := ask.Run[ask.Values](ctx, s, ask.ValuesRequest{Place: place, Width: 16})
		require.NoError(t, err)
		shown := map[string]string{}
		for _, v := range values.Variables {
			shown[v.Path] = v.Value
		}
		require.Equal(t, map[string]string{"msg": strconv.Quote(x.Msg), "level": strconv.Quote(x.Level), "depth": strconv.FormatFloat(x.Depth, 'g', -1, 64), "quay": strconv.Quote(x.Quay), "order": strconv.Itoa(x.Order)}, shown)
		sum, err := ask.Run[ask.Expression](ctx, s, ask.ExpressionRequest{Place: place, Expression: "order * 2 + 1"})
		require.NoError(t, err)
		require.Equal(t, strconv.Itoa(x.Order*2+1), sum.Value)
	}
	_, err := ask.Run[ask.Values](ctx, s, ask.ValuesRequest{Place: ask.Place{Moment: event.Moment(s.Recording.Info().Moments)}, Width: 1})
	require.ErrorIs(t, err, fault.OutOfRange)
}

// Requests of every question survive the way through a query string and through JSON.
func TestRequestsAreReadAsTheyWereWritten(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	for _, q := range ask.Questions() {
		for range 50 {
			request := q.New()
			v := reflect.ValueOf(request).Elem()
			fill(random, v)
			if !q.Nested() {
				read := q.New()
				require.NoError(t, ask.Decode(ask.Encode(v.Interface()), read), "%s %+v", q.Name, request)
				require.Equal(t, request, read, q.Name)
			}
			text, err := json.Marshal(request)
			require.NoError(t, err)
			read := reflect.New(q.Request).Interface()
			require.NoError(t, ask.DecodeJSON(bytes.NewReader(text), read), "%s %s", q.Name, text)
			require.Equal(t, request, read, "%s %s", q.Name, text)
		}
	}
}

// fill gives the fields of a request random values.
func fill(random *rand.Rand, v reflect.Value) {
	for _, f := range ask.Fields(v.Type()) {
		at := v.FieldByIndex(f.At)
		switch at.Kind() {
		case reflect.String:
			if one := f.Tag.Get("enum"); one != "" {
				at.SetString(strings.Split(one, ",")[0])
			} else {
				at.SetString([]string{"quay", "a b&c=d", "ü+%", `"[]"`}[random.IntN(4)])
			}
		case reflect.Bool:
			at.SetBool(random.IntN(2) == 0)
		case reflect.Int, reflect.Int64:
			at.SetInt(1 + random.Int64N(1<<20))
		case reflect.Uint32, reflect.Uint64:
			at.SetUint(1 + uint64(random.Uint32()))
		case reflect.Slice:
			if at.Type().Elem().Kind() == reflect.Struct {
				at.Set(reflect.MakeSlice(at.Type(), 2, 2))
				fill(random, at.Index(1))
				continue
			}
			at.Set(reflect.ValueOf([]string{"depth", "a,b"}))
		case reflect.Struct:
			fill(random, at)
		default:
			panic("no value for " + f.Name)
		}
	}
}

// Every bound of every parameter is checked, at the bound and one beyond it, and the error
// names the parameter.
func TestBoundsOfParameters(t *testing.T) {
	t.Parallel()
	checked := 0
	name := func(f ask.Field) string { return "<" + f.Name + ">" }
	for _, q := range ask.Questions() {
		for _, f := range ask.Fields(q.Request) {
			try := func(set func(reflect.Value), fine bool) {
				request := q.New()
				v := reflect.ValueOf(request).Elem()
				for _, other := range ask.Fields(q.Request) {
					if at := v.FieldByIndex(other.At); at.Kind() == reflect.String && at.String() == "" {
						at.SetString(strings.Split(other.Tag.Get("enum")+",x", ",")[0])
						if at.String() == "" {
							at.SetString("x")
						}
					}
				}
				set(v.FieldByIndex(f.At))
				err := ask.Validate(v.Interface(), name)
				checked++
				if fine {
					assert.NoError(t, err, "%s %s", q.Name, f.Name)
					return
				}
				assert.ErrorIs(t, err, fault.InvalidRequest, "%s %s", q.Name, f.Name)
				assert.ErrorContains(t, err, "<"+f.Name+">", "%s %s", q.Name, f.Name)
			}
			bound := func(tag string) (int64, bool) {
				n, err := strconv.ParseInt(f.Tag.Get(tag), 10, 64)
				return n, err == nil
			}
			number := func(n int64) func(reflect.Value) {
				return func(v reflect.Value) {
					if v.CanInt() {
						v.SetInt(n)
					} else {
						v.SetUint(uint64(n))
					}
				}
			}
			if n, ok := bound("minimum"); ok {
				try(number(n), true)
				if f.Type.Kind() != reflect.Uint64 || n > 0 {
					try(number(n-1), false)
				}
			}
			if n, ok := bound("maximum"); ok {
				try(number(n), true)
				try(number(n+1), false)
			}
			if n, ok := bound("maxLength"); ok && f.Type.Kind() == reflect.String {
				try(func(v reflect.Value) { v.SetString(strings.Repeat("x", int(n))) }, true)
				try(func(v reflect.Value) { v.SetString(strings.Repeat("x", int(n)+1)) }, false)
			}
			if n, ok := bound("maxItems"); ok {
				items := func(n int64) func(reflect.Value) {
					return func(v reflect.Value) {
						v.Set(reflect.MakeSlice(v.Type(), int(n), int(n)))
						for i := range v.Len() {
							if v.Index(i).Kind() == reflect.Struct {
								fill(rand.New(rand.NewPCG(1, 2)), v.Index(i))
							}
						}
					}
				}
				try(items(n), true)
				try(items(n+1), false)
			}
			if f.Tag.Get("enum") != "" {
				try(func(v reflect.Value) { v.SetString("sideways") }, false)
			}
		}
	}
	assert.Greater(t, checked, 150)
}

// failing is a recording whose questions fail in a certain way.
type failing struct {
	replay.Recording
	with func() replay.Info
}

func (f failing) Info() replay.Info { return f.with() }

// A failure inside a question ends that question with an error of its kind.
func TestFailuresEndTheQuestion(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	_, s := aLog(t, rand.New(rand.NewPCG(1, 1)), 20)
	broken := ask.Subject{Recording: failing{s.Recording, func() replay.Info { panic("fog") }}}
	_, err := ask.Run[ask.Peek](ctx, broken, ask.PeekRequest{})
	require.ErrorIs(t, err, fault.Internal)
	assert.ErrorContains(t, err, "fog")

	slow := ask.Subject{Limit: time.Nanosecond, Recording: s.Recording}
	_, err = ask.Run[ask.Hits](ctx, slow, ask.HitsRequest{CheckpointOn: ask.CheckpointOn{On: "output", When: "depth > 1.0"}, Place: ask.Place{Moment: event.NoMoment}, Count: 1})
	require.ErrorIs(t, err, fault.TimeLimit)
	assert.ErrorContains(t, err, "1ns")

	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = ask.Run[ask.Hits](gone, s, ask.HitsRequest{CheckpointOn: ask.CheckpointOn{On: "output", When: "depth > 1.0"}, Place: ask.Place{Moment: event.NoMoment}, Count: 1})
	require.ErrorIs(t, err, context.Canceled)
}
