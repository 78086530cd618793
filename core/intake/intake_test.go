package intake

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/ordered"
	"wraithology/core/timeline"
)

// Events come out as they went in, ordered by time, trace and order, also times before 1970 and
// far from each other.
func TestEventsAreKeptAndOrdered(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(5, 10))
	e := NewEvents(t.TempDir())
	defer e.Close()
	var want []Event
	for range 4000 {
		x := Event{
			Time: []int64{r.Int64N(1000), -r.Int64N(1000), math.MinInt64 / 2, math.MaxInt64 / 2, r.Int64()}[r.IntN(5)], Trace: r.Uint32N(4), Order: r.Uint32(),
			Strand: r.Uint32(), Process: uint16(r.Uint32()), Pooled: r.IntN(2) == 0, Ends: r.IntN(2) == 0, Span: r.IntN(2) == 0, Root: r.IntN(2) == 0,
			Raw: make([]byte, 1+r.IntN(40)),
		}
		for i := range x.Raw {
			x.Raw[i] = byte(r.Uint32())
		}
		if r.IntN(2) == 0 {
			x.Caller = 1 + r.Uint32N(math.MaxUint32)
		}
		if r.IntN(2) == 0 {
			x.Link, x.Linked = 1+r.Uint32N(math.MaxUint32), r.Uint32()
		}
		if r.IntN(3) == 0 {
			x.Begins = &timeline.Trace{Started: r.Int64() - r.Int64(), Duration: r.Int64(), Spans: r.Uint32(), Errors: r.Uint32(), Status: timeline.TraceStatus(r.IntN(3))}
			for i := range x.Begins.ID {
				x.Begins.ID[i] = byte(r.Uint32())
			}
		}
		want = append(want, x)
		require.NoError(t, e.Add(&x))
	}
	first, last := int64(math.MaxInt64), int64(math.MinInt64)
	for _, x := range want {
		first, last = min(first, x.Time), max(last, x.Time)
	}
	assert.Equal(t, first, e.First)
	assert.Equal(t, last, e.Last)
	slices.SortStableFunc(want, func(a, b Event) int {
		return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.Trace, b.Trace), cmp.Compare(a.Order, b.Order))
	})
	n := 0
	require.NoError(t, e.sorter.Each(context.Background(), func(k ordered.Key, b []byte) error {
		var got Event
		var trace timeline.Trace
		got.decode(k, bytes.Clone(b), &trace)
		require.Equal(t, want[n], got, "event %d", n)
		n++
		return nil
	}))
	assert.Equal(t, len(want), n)
}

// built makes a timeline of events and opens it.
func built(t *testing.T, e *Events, tables *Tables) (*timeline.Timeline, error) {
	path := filepath.Join(t.TempDir(), "evidence")
	require.NoError(t, os.WriteFile(path, []byte("evidence"), 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	folder := filepath.Join(t.TempDir(), "timeline")
	if err := e.Build(context.Background(), tables, Input{File: f, Size: 8, Folder: folder}); err != nil {
		return nil, err
	}
	return timeline.OpenKnown(folder)
}

// Pooled strands share threads: each gets the thread with the lowest number of its process that is
// free, so that there are as many threads as strands at the same time. Calls find their callers on
// other threads.
func TestStrandsShareThreads(t *testing.T) {
	t.Parallel()
	for seed := range uint64(5) {
		r := rand.New(rand.NewPCG(seed, 3))
		e := NewEvents(t.TempDir())
		defer e.Close()
		tables := NewTables("event-trace", "service", Input{})
		f := tables.Function([]byte("moor"), func() event.Function { return event.Function{Name: "moor", Own: true} })
		for p := range 2 {
			tables.Process(fmt.Sprint("harbour", p), func() event.Process { return event.Process{Program: fmt.Sprint("harbour", p)} })
		}
		type strand struct {
			from, to int64
			process  uint16
			caller   int // another strand, -1 for none
		}
		var strands []strand
		callers := map[int]uint32{}
		const distance = 10
		for n := range 60 {
			s := strand{from: distance * int64(n), process: uint16(r.IntN(2)), caller: -1}
			s.to = s.from + 1 + r.Int64N(8*distance)
			if n > 0 && r.IntN(2) == 0 {
				if c := r.IntN(n); strands[c].to > s.from+1 {
					s.caller = c
					callers[c]++
				}
			}
			strands = append(strands, s)
		}
		for n, s := range strands {
			x := Event{Time: s.from, Order: uint32(2 * n), Strand: uint32(n), Process: s.process, Pooled: true, Raw: event.AppendEvent(nil, event.Enter, uint32(f.ID), 0)}
			if s.caller >= 0 {
				x.Caller = uint32(s.caller) + 1
			}
			if callers[n] > 0 {
				x.Link, x.Linked = uint32(n)+1, callers[n]
			}
			require.NoError(t, e.Add(&x))
			require.NoError(t, e.Add(&Event{Time: s.to, Order: uint32(2*n + 1), Strand: uint32(n), Process: s.process, Pooled: true, Ends: true, Raw: event.AppendEvent(nil, event.Leave, 0, 0)}))
		}
		tl, err := built(t, e, tables)
		require.NoError(t, err)

		// A plain model: who is on which thread.
		busy := [2]map[int]int64{{}, {}} // by process: the end of the strand on a thread
		lane := make([]int, len(strands))
		most := [2]int{}
		for n, s := range strands { // in the order of their beginnings
			for number, end := range busy[s.process] {
				if end < s.from || end == s.from { // ends come first by their order
					delete(busy[s.process], number)
				}
			}
			number := 1
			for busy[s.process][number] != 0 {
				number++
			}
			busy[s.process][number] = s.to
			lane[n] = number
			most[s.process] = max(most[s.process], number)
		}
		require.Equal(t, len(strands), tl.Calls())
		assert.Equal(t, most[0]+most[1], tl.Threads())
		for n, s := range strands { // calls are numbered in the order of their beginnings, too
			c := tl.Call(event.CallID(n))
			th := tl.ThreadInfo(c.Thread)
			assert.Equal(t, s.process, th.Process, "strand %d", n)
			assert.Equal(t, uint64(lane[n]), th.Number, "strand %d of seed %d", n, seed)
			assert.Equal(t, s.from, tl.Time(c.Enter)-tl.Time(0)+strands[0].from)
			assert.Equal(t, s.to, tl.Time(c.Leave)-tl.Time(0)+strands[0].from)
			if s.caller >= 0 {
				assert.Equal(t, event.CallID(s.caller), c.Parent, "caller of strand %d", n)
			} else {
				assert.Equal(t, event.NoCall, c.Parent, "strand %d", n)
			}
		}
	}
}

// A strand that is not pooled has its own thread.
func TestNamedStrands(t *testing.T) {
	t.Parallel()
	e := NewEvents(t.TempDir())
	defer e.Close()
	tables := NewTables("structured-log", "log", Input{Damage: "the file was cut off"})
	f := tables.Function([]byte("log"), func() event.Function { return event.Function{Name: "log", Own: true} })
	tables.Process("harbour", func() event.Process { return event.Process{Program: "harbour"} })
	for n := range uint32(3) {
		e.Strand(n, event.Thread{Number: uint64(n) + 70, Name: fmt.Sprint("request ", n)})
		require.NoError(t, e.Add(&Event{Time: 1000 + int64(n), Strand: n, Raw: event.AppendEvent(nil, event.Enter, uint32(f.ID), 0)}))
		require.NoError(t, e.Add(&Event{Time: 2000 - int64(n), Strand: n, Ends: true, Raw: event.AppendEvent(nil, event.Leave, 0, 0)}))
	}
	tl, err := built(t, e, tables)
	require.NoError(t, err)
	require.Equal(t, 3, tl.Threads())
	for n := range 3 {
		th := tl.ThreadInfo(tl.Call(event.CallID(n)).Thread)
		assert.Equal(t, fmt.Sprint("request ", n), th.Name)
		assert.Equal(t, uint64(n)+70, th.Number)
		assert.Equal(t, int64(n), th.Started)
	}
	assert.Equal(t, int64(1000), tl.Processes[0].Started)
	assert.Equal(t, "the file was cut off", tables.Gaps[0].What)
}

func TestTimesThatAreTooFarApart(t *testing.T) {
	t.Parallel()
	e := NewEvents(t.TempDir())
	defer e.Close()
	for _, at := range []int64{math.MinInt64 + 1, 1} {
		require.NoError(t, e.Add(&Event{Time: at, Raw: event.AppendEvent(nil, event.Enter, 0, 0)}))
	}
	_, err := built(t, e, NewTables("event-trace", "service", Input{}))
	require.ErrorIs(t, err, fault.OutOfRange)
}

// Names are numbered once; what is beyond a limit is counted.
func TestTables(t *testing.T) {
	t.Parallel()
	tables := NewTables("event-trace", "service", Input{})
	named := func(name string) *Function {
		return tables.Function([]byte(name), func() event.Function { return event.Function{Name: name} })
	}
	a, b := named("moor"), named("cast off")
	assert.Same(t, a, named("moor"))
	assert.NotEqual(t, a.ID, b.ID)
	assert.Equal(t, event.FileID(1), tables.File("quay.go"))
	assert.Equal(t, event.FileID(2), tables.File("tide.go"))
	assert.Equal(t, event.FileID(1), tables.File("quay.go"))
	assert.Zero(t, tables.File(""))

	depth, ok := a.Variable([]byte("depth"))
	require.True(t, ok)
	again, _ := a.Variable([]byte("depth"))
	assert.Equal(t, depth, again)
	name, position, ok := a.Parameter([]byte("name"))
	assert.True(t, ok && position == 0 && name != depth)
	id, position, ok := a.Parameter([]byte("depth"))
	assert.True(t, ok && position == 1 && id == depth, "a variable becomes a parameter")
	_, position, _ = a.Parameter([]byte("name"))
	assert.Zero(t, position)
	for n := len(a.Parameters); n < event.MaxArgs; n++ {
		_, position, _ := a.Parameter(fmt.Append(nil, "p", n))
		assert.Equal(t, n, position)
	}
	_, position, ok = a.Parameter([]byte("one too many"))
	assert.True(t, ok && position == -1)
	for len(b.Variables) < MaxVariables {
		_, ok := b.Variable(fmt.Append(nil, len(b.Variables)))
		require.True(t, ok)
	}
	_, ok = b.Variable([]byte("one too many"))
	assert.False(t, ok)
	_, ok = b.Variable([]byte("7"))
	assert.True(t, ok, "known names stay known")

	first := tables.Site(a, 1, 10, []event.VariableID{0, 1})
	assert.Equal(t, first, tables.Site(a, 1, 10, []event.VariableID{0, 1}))
	different := map[event.SiteID]bool{first: true}
	for _, s := range []event.SiteID{tables.Site(b, 1, 10, []event.VariableID{0, 1}), tables.Site(a, 2, 10, []event.VariableID{0, 1}), tables.Site(a, 1, 11, []event.VariableID{0, 1}), tables.Site(a, 1, 10, []event.VariableID{1, 0}), tables.Site(a, 1, 10, nil)} {
		assert.False(t, different[s])
		different[s] = true
	}
	assert.False(t, tables.Full())

	for n := range MaxProcesses + 2 {
		id := tables.Process(fmt.Sprint(n), func() event.Process { return event.Process{Program: fmt.Sprint(n)} })
		require.EqualValues(t, min(n, MaxProcesses), id)
	}
	tables.Gap("lines that are cut off", "send them whole")
	tables.Gap("lines that are cut off", "send them whole")
	tables.Seal()
	require.Len(t, tables.Gaps, 2)
	assert.Contains(t, tables.Gaps[0].What, fmt.Sprint("more than ", MaxProcesses))
	assert.Equal(t, event.Gap{What: "2 × lines that are cut off", Remedy: "send them whole"}, tables.Gaps[1])
	assert.Equal(t, "moor", tables.Tables.Functions[a.ID].Name)
}

func TestTextsAndBytes(t *testing.T) {
	t.Parallel()
	const longest = 1 << 12
	tables := NewTables("event-trace", "service", Input{LongestText: longest})
	types := tables.Types(0)
	for _, s := range []string{"", "Kelp Quay", "Nørre Quay", "bad \xff byte", strings.Repeat("x", longest), strings.Repeat("x", longest+1), strings.Repeat("x", longest-1) + "ø and more", strings.Repeat("\U0001F6A2", longest/4) + "!"} {
		v, err := event.DecodeNth(tables.AppendString(nil, s), 1, 0, types)
		require.NoError(t, err)
		assert.True(t, utf8.ValidString(v.Text))
		switch {
		case len(s) > longest:
			assert.True(t, strings.HasPrefix(s, v.Text), "a character is not cut")
			assert.Greater(t, len(v.Text), longest-utf8.UTFMax)
			assert.EqualValues(t, len(s), v.Whole)
		default:
			assert.Equal(t, strings.ToValidUTF8(s, "\uFFFD"), v.Text)
			assert.Zero(t, v.Whole)
		}
	}
	for _, n := range []int{0, 1, longest, longest + 1} {
		b := bytes.Repeat([]byte{0xab}, n)
		v, err := event.DecodeNth(tables.AppendBytes(nil, b), 1, 0, types)
		require.NoError(t, err)
		assert.Equal(t, strings.Repeat("ab", min(n, longest)), v.Text)
		if n > longest {
			assert.EqualValues(t, 2*n, v.Whole)
		}
	}
	tables.Seal()
	require.Len(t, tables.Gaps, 1, "each text that is cut is counted")
	assert.Equal(t, "4 × texts of more than 4096 bytes", tables.Gaps[0].What)
	assert.Equal(t, DefaultLongest, NewTables("", "", Input{}).Longest())
}
