package timeline_test

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"iter"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// The streams of this test are made at random. What happened is kept as a plain list, and
// each look-up is compared with a scan of that list.

const (
	genFunctions = 5
	genSites     = 12
	genVariables = 4
	typeNumber   = 1 // 8 bytes
	typePage     = 2 // 600 bytes, more than two regions
	typeFault    = 3
	mapAt        = 0x9000
	lockAt       = 0xa000
)

type happening struct {
	kind    event.Kind
	thread  int
	time    int64
	id      uint32
	address uint64
	size    uint64 // bytes of memory that it covers
	key     []byte // of a map's entry, encoded
	call    int
	wrote   []uint32
	raw     []byte
}

type generatedCall struct {
	function     uint32
	thread       int
	parent       int
	enter, leave int
	open         bool // its beginning was not seen
}

type stream struct {
	*rand.Rand
	halting bool
	threads int
	list    []happening
	calls   []generatedCall
	errors  []int
}

// process of a thread: the last one has its own process.
func (s *stream) process(thread int) uint16 {
	if !s.halting && thread == s.threads-1 {
		return 7
	}
	return 0
}

type threadModel struct {
	stack   []int
	current int
	fault   []byte // the error that was returned last, to the call below
	faultTo int
}

func newStream(seed uint64, halting bool) *stream {
	s := &stream{Rand: rand.New(rand.NewPCG(seed, 3)), halting: halting}
	s.threads = 1 + s.IntN(4)
	models := make([]threadModel, s.threads)
	for i := range models {
		models[i] = threadModel{current: -1, faultTo: -2}
	}
	at := int64(s.IntN(1 << 40))
	n := 100 + s.IntN(900)
	if seed%20 == 0 {
		n = 9000 // several chunks
	}
	for t := range s.threads { // each thread has an event
		s.happen(t, &models[t], at, event.Output)
	}
	for len(s.list) < n {
		at += int64(s.IntN(3)) * int64(s.IntN(500))
		t := s.IntN(s.threads)
		for range 1 + s.IntN(6) {
			s.happen(t, &models[t], at, s.kind())
		}
	}
	s.order()
	return s
}

// kind picks a kind of event, those of calls and lines more often.
func (s *stream) kind() event.Kind {
	often := []event.Kind{event.Enter, event.Enter, event.Line, event.Line, event.Line, event.Leave, event.Write, event.Store}
	if s.IntN(2) == 0 {
		return often[s.IntN(len(often))]
	}
	for {
		if k := event.Kind(1 + s.IntN(int(event.Made))); k != event.Spread && k != event.Cell || !s.halting {
			return k
		}
	}
}

func (s *stream) happen(thread int, m *threadModel, at int64, kind event.Kind) {
	h := happening{kind: kind, thread: thread, time: at, call: -1}
	call := -1
	if m.current >= 0 {
		call = m.stack[m.current]
	}
	b := []byte{byte(kind), 0}
	memory := func() {
		h.address = uint64(0x1000 + s.IntN(0x800))
		b = binary.AppendUvarint(b, h.address)
	}
	value := func() { // a number, or a page
		if h.size = 8; s.IntN(3) == 0 {
			h.size = 600
			b = append(b, typePage, 0x80)
			return
		}
		b = append(b, typeNumber, byte(s.IntN(24)))
	}
	switch kind {
	case event.Enter, event.Open:
		f := uint32(s.IntN(genFunctions))
		if kind == event.Enter {
			h.id = f
			b = append(binary.AppendUvarint(b, uint64(f)), 1, typeNumber, 5)
		} else {
			h.id = uint32(s.IntN(genSites))
			depth := len(m.stack) + 1
			if s.IntN(3) == 0 {
				depth = 1 + s.IntN(len(m.stack)+2)
			}
			b = binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint(b, uint64(h.id)), uint64(depth)), uint64(f))
			if depth != len(m.stack)+1 {
				break
			}
		}
		s.calls = append(s.calls, generatedCall{function: f, thread: thread, parent: call, enter: len(s.list), leave: -1, open: kind == event.Open})
		call = len(s.calls) - 1
		m.stack = append(m.stack, call)
		m.current = len(m.stack) - 1
	case event.Leave, event.Unwind:
		if kind == event.Unwind {
			b = append(b, 0)
		} else {
			fault := []byte{typeFault, []byte{0xf6, 1, 2}[s.IntN(3)]} // nil, or one of two errors
			b = append(append(b, 1), fault...)
			if call >= 0 && returnsError(s.calls[call].function) && fault[1] != 0xf6 {
				if m.faultTo != call || !bytes.Equal(m.fault, fault) {
					s.errors = append(s.errors, len(s.list))
				}
				m.fault, m.faultTo = fault, s.calls[call].parent
			}
		}
		if m.current >= 0 {
			s.calls[call].leave = len(s.list)
			m.stack = m.stack[:m.current]
			m.current--
		}
	case event.Resume:
		h.id = uint32(s.IntN(len(m.stack) + 2))
		b = binary.AppendUvarint(b, uint64(h.id))
		if n := int(h.id); n >= 1 && n <= len(m.stack) {
			m.current = n - 1
			call = m.stack[m.current]
		}
	case event.Line:
		h.id = uint32(s.IntN(genSites))
		b = binary.AppendUvarint(b, uint64(h.id))
	case event.Exit:
		b = append(b, 0)
	case event.Write, event.Cell:
		h.id = uint32(s.IntN(genVariables))
		h.wrote = []uint32{h.id}
		b = binary.AppendUvarint(b, uint64(h.id))
		if kind == event.Cell {
			memory()
			value()
		} else {
			b = append(b, typeNumber, byte(s.IntN(24)))
		}
	case event.Fields, event.Message, event.Error:
		h.id = uint32(s.IntN(genSites))
		for _, v := range valuesOf(h.id) {
			h.wrote = append(h.wrote, uint32(v))
		}
		b = append(binary.AppendUvarint(b, uint64(h.id)), 1, typeNumber, 3)
	case event.Memory, event.Store:
		memory()
		value()
	case event.Spread:
		memory()
		n := 1 + s.IntN(100)
		h.size = uint64(8 * n)
		b = append(b, typeNumber, 0x98, byte(n))
		b = append(b, bytes.Repeat([]byte{7}, n)...)
	case event.Move:
		memory()
		h.size = uint64(s.IntN(1000))
		b = binary.AppendUvarint(binary.AppendUvarint(b, 0x5000), h.size)
	case event.Made:
		memory()
		h.size = uint64(s.IntN(1000))
		b = binary.AppendUvarint(b, h.size)
	case event.Exposed:
		if s.IntN(2) == 0 { // a map
			h.address = uint64(mapAt + 16*s.IntN(3))
			b = append(binary.AppendUvarint(b, h.address), 0)
		} else {
			memory()
			h.size = uint64(1 + s.IntN(1000))
			b = binary.AppendUvarint(b, h.size)
		}
		b = append(b, 3, 'f', 'o', 'g')
	case event.Snapshot:
		h.id = uint32(s.IntN(5))
		b = append(binary.AppendUvarint(b, uint64(h.id)), 0x80, 0x20, typeNumber, 1)
		h.address = 0x1000
	case event.Element, event.Delete, event.Entries:
		h.address = uint64(mapAt + 16*s.IntN(3))
		b = binary.AppendUvarint(b, h.address)
		if h.key = []byte{byte(s.IntN(5))}; kind == event.Entries {
			h.key = nil
			b = append(b, 4, 0x80)
			break
		}
		b = append(append(b, typeNumber), h.key...)
		if kind == event.Element {
			b = append(b, typeNumber, 1)
		}
	case event.Send, event.Receive:
		h.address = uint64(lockAt + 16*s.IntN(3))
		b = append(binary.AppendUvarint(b, h.address), typeNumber, 1)
	case event.Wait, event.Pass, event.Release:
		h.id, h.address = uint32(event.OpLock), uint64(lockAt+16*s.IntN(3))
		b = binary.AppendUvarint(append(b, byte(event.OpLock)), h.address)
	default: // Panic, Recover, Failure, Output
		b = append(b, 1, typeNumber, 9)
	}
	h.call, h.raw = call, b
	s.list = append(s.list, h)
}

func valuesOf(site uint32) []event.VariableID {
	return [][]event.VariableID{nil, {1}, {0, 2}}[site%3]
}

func returnsError(function uint32) bool { return function%2 == 1 }

// order brings what happened into the order of a recording: by time; what happens at the same
// time keeps the order of the threads.
func (s *stream) order() {
	if s.halting {
		return // a feed takes events as they come
	}
	index := make([]int, len(s.list))
	for i := range index {
		index[i] = i
	}
	slices.SortStableFunc(index, func(a, b int) int {
		x, y := s.list[a], s.list[b]
		return cmp.Or(cmp.Compare(x.time, y.time), cmp.Compare(x.thread, y.thread))
	})
	list, moved := make([]happening, len(s.list)), make([]int, len(s.list))
	for to, from := range index {
		list[to], moved[from] = s.list[from], to
	}
	s.list = list
	// Calls are numbered in the order in which they begin.
	order := make([]int, len(s.calls))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(moved[s.calls[a].enter], moved[s.calls[b].enter]) })
	number := map[int]int{-1: -1}
	calls := make([]generatedCall, len(s.calls))
	for to, from := range order {
		calls[to], number[from] = s.calls[from], to
	}
	for i := range calls {
		c := &calls[i]
		c.parent, c.enter = number[c.parent], moved[c.enter]
		if c.leave >= 0 {
			c.leave = moved[c.leave]
		}
	}
	s.calls = calls
	for i := range s.list {
		s.list[i].call = number[s.list[i].call]
	}
	for i := range s.errors {
		s.errors[i] = moved[s.errors[i]]
	}
	slices.Sort(s.errors)
}

func (s *stream) tables(t *testing.T) *event.Tables {
	tables := event.NewTables()
	if s.halting {
		tables.Header.Kind = "event-trace"
	}
	for f := range genFunctions {
		x := event.Function{ID: event.FunctionID(f), Name: fmt.Sprint("f", f), Parameters: []event.VariableID{0}}
		for v := range genVariables {
			x.Variables = append(x.Variables, event.Variable{Name: fmt.Sprint("v", v), Scope: event.Local})
		}
		if f == 2 {
			x.Variables[3].Scope = event.Global
		}
		if returnsError(uint32(f)) {
			x.Results = []event.VariableID{2}
			x.Variables[2].Type = "error"
		}
		tables.Functions[x.ID] = x
	}
	for id := range genSites {
		tables.Sites[event.SiteID(id)] = event.Site{ID: event.SiteID(id), Function: event.FunctionID(id % genFunctions), Line: id, Values: valuesOf(uint32(id))}
	}
	for _, process := range []uint16{0, 7} {
		var records []byte
		for _, x := range []event.Type{{ID: typeNumber, Form: event.Int, Size: 8}, {ID: typePage, Form: event.Struct, Size: 600}, {ID: typeFault, Form: event.Int, Size: 8}, {ID: 4, Form: event.Map, Size: 8, Key: 1, Elem: 1}} {
			var err error
			records, err = event.AppendRecords(records, process, x)
			require.NoError(t, err)
		}
		require.NoError(t, tables.Take(records, process))
	}
	for i := range s.threads {
		b, err := event.AppendRecords(nil, s.process(i), event.Thread{ID: event.ThreadID(i + 1), Process: s.process(i), Number: uint64(100 + i), Creator: strings.Repeat("x", i), Started: int64(i)})
		require.NoError(t, err)
		require.NoError(t, tables.Take(b, s.process(i)))
	}
	return tables
}

// build writes the stream to a timeline: of blocks, or by a feed.
func (s *stream) build(t *testing.T) *timeline.Timeline {
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), "timeline")
	file := bytes.NewReader([]byte("the evidence"))
	source := timeline.Source{Tables: s.tables(t), File: file, Size: file.Size()}
	if s.halting {
		feed, err := timeline.NewFeed(source, dir, false)
		require.NoError(t, err)
		numbers := map[int]event.ThreadID{}
		for i, h := range s.list {
			if numbers[h.thread] == 0 {
				numbers[h.thread] = feed.Thread(event.Thread{Number: uint64(100 + h.thread), Creator: strings.Repeat("x", h.thread), Started: int64(h.thread)})
			}
			m, call, err := feed.Add(numbers[h.thread], h.time, h.raw, event.NoCall)
			require.NoError(t, err)
			require.EqualValues(t, i, m)
			if h.kind == event.Enter {
				require.EqualValues(t, h.call, call)
			} else {
				require.Equal(t, event.NoCall, call)
			}
		}
		require.NoError(t, feed.Finish(ctx))
	} else {
		var payloads [][]byte
		for i := range s.threads {
			var payload []byte
			var base, last int64
			end := func() {
				if payload != nil {
					source.Blocks = append(source.Blocks, event.Block{Process: s.process(i), Thread: uint32(i + 1), Base: base, Offset: int64(len(payloads))})
					payloads = append(payloads, payload)
					payload = nil
				}
			}
			for _, h := range s.list {
				if h.thread != i {
					continue
				}
				if payload == nil {
					base = h.time
					last = base
				}
				payload = append(payload, h.raw[0])
				payload = append(binary.AppendUvarint(payload, uint64(h.time-last)), h.raw[2:]...)
				if last = h.time; s.IntN(40) == 0 {
					end()
				}
			}
			end()
		}
		source.Payload = func(b event.Block) ([]byte, error) { return payloads[b.Offset], nil }
		require.NoError(t, timeline.Build(ctx, source, dir, false, nil))
	}
	tl, err := timeline.Open(dir, file, file.Size())
	require.NoError(t, err)
	return tl
}

func integers(list []event.Moment) []int {
	out := []int{}
	for _, m := range list {
		out = append(out, int(m))
	}
	return out
}

func moments(l timeline.List) []int {
	out := []int{}
	for i := range l.Len() {
		out = append(out, int(l.At(i)))
	}
	return out
}

func collect[T any](s iter.Seq[T]) []T {
	out := []T{}
	for x := range s {
		out = append(out, x)
	}
	return out
}

// where lists what happened that fits, in order.
func (s *stream) where(fits func(i int, h happening) bool) []int {
	out := []int{}
	for i, h := range s.list {
		if fits(i, h) {
			out = append(out, i)
		}
	}
	return out
}

func (c generatedCall) lines(s *stream, number int) []int {
	return s.where(func(i int, h happening) bool {
		switch {
		case h.call != number:
			return false
		case h.kind == event.Line, h.kind == event.Message, h.kind == event.Error:
			return true
		case h.kind == event.Open:
			return i == c.enter && h.id%genFunctions == c.function
		case h.kind == event.Enter, h.kind == event.Leave, h.kind == event.Unwind:
			return s.halting
		}
		return false
	})
}

func TestAgainstTheStream(t *testing.T) {
	t.Parallel()
	seeds := uint64(40)
	if testing.Short() {
		seeds = 12
	}
	for seed := range seeds {
		for _, halting := range []bool{false, true} {
			if testing.Short() && seed == 0 && halting {
				continue // the longest one, once
			}
			t.Run(fmt.Sprint(seed, " ", halting), func(t *testing.T) {
				t.Parallel()
				s := newStream(seed, halting)
				tl := s.build(t)
				numbers := map[int]event.ThreadID{}
				for _, h := range s.list {
					if numbers[h.thread] == 0 {
						numbers[h.thread] = event.ThreadID(len(numbers) + 1)
					}
				}
				s.checkMoments(t, tl, numbers)
				s.checkCalls(t, tl, numbers)
				s.checkThreads(t, tl, numbers)
				s.checkLists(t, tl)
				s.checkAddresses(t, tl)
			})
		}
	}
}

func (s *stream) checkMoments(t *testing.T, tl *timeline.Timeline, numbers map[int]event.ThreadID) {
	require.EqualValues(t, len(s.list), tl.Len())
	for i, h := range s.list {
		m := event.Moment(i)
		require.Equal(t, h.kind, tl.Kind(m), "moment %d", i)
		require.Equal(t, h.id, tl.ID(m), "moment %d", i)
		require.Equal(t, h.time, tl.Time(m), "moment %d", i)
		require.Equal(t, numbers[h.thread], tl.Thread(m), "moment %d", i)
		require.Equal(t, s.process(h.thread), tl.Process(m), "moment %d", i)
		call := event.NoCall
		if h.call >= 0 {
			call = event.CallID(h.call)
		}
		require.Equal(t, call, tl.CallOf(m), "moment %d, a %s", i, h.kind)
		want, _, err := event.EventAt(h.raw)
		require.NoError(t, err)
		got := tl.Event(m)
		want.Time = h.time
		if want.Args == 0 && want.Address == 0 { // all of it is in the columns
			want.Data, got.Data = nil, nil
		}
		require.Equal(t, want, got, "moment %d", i)
		if h.kind != event.Entries && h.kind != event.Spread { // these are read by other functions
			values, err := tl.Values(m)
			require.NoError(t, err)
			require.Len(t, values, want.Args)
		}
	}
}

func (s *stream) checkCalls(t *testing.T, tl *timeline.Timeline, numbers map[int]event.ThreadID) {
	require.Equal(t, len(s.calls), tl.Calls())
	for i, c := range s.calls {
		want := timeline.Call{Function: event.FunctionID(c.function), Thread: numbers[c.thread], Process: s.process(c.thread), Parent: event.NoCall, Enter: event.Moment(c.enter), Leave: event.Moment(c.leave)}
		if c.parent >= 0 {
			want.Parent = event.CallID(c.parent)
		}
		require.Equal(t, want, tl.Call(event.CallID(i)), "call %d", i)
		require.Equal(t, fmt.Sprint("f", c.function), tl.FunctionOf(event.CallID(i)).Name)
		lines := c.lines(s, i)
		require.Equal(t, lines, moments(tl.CallLines(event.CallID(i))), "call %d", i)
		at := s.IntN(len(s.list))
		last := event.NoMoment
		for _, l := range lines {
			if l <= at {
				last = event.Moment(l)
			}
		}
		require.Equal(t, last, tl.LastLine(event.CallID(i), event.Moment(at)), "call %d at %d", i, at)
		for v := range event.VariableID(genVariables) {
			writes := s.where(func(_ int, h happening) bool { return h.call == i && slices.Contains(h.wrote, uint32(v)) })
			require.Equal(t, writes, moments(tl.WritesOf(event.CallID(i), v)), "variable %d of call %d", v, i)
			want := event.NoMoment
			if v == 0 && c.enter <= at {
				want = event.Moment(c.enter)
			}
			for _, w := range writes {
				if w <= at {
					want = event.Moment(w)
				}
			}
			if v == 2 && returnsError(c.function) && c.leave >= 0 && c.leave <= at && s.list[c.leave].kind == event.Leave {
				want = event.Moment(c.leave)
			}
			require.Equal(t, want, tl.LastWrite(event.CallID(i), v, event.Moment(at)), "variable %d of call %d at %d", v, i, at)
		}
	}
}

func (s *stream) checkThreads(t *testing.T, tl *timeline.Timeline, numbers map[int]event.ThreadID) {
	require.Equal(t, s.threads, tl.Threads())
	for thread, id := range numbers {
		own := s.where(func(_ int, h happening) bool { return h.thread == thread })
		info := tl.ThreadInfo(id)
		require.Equal(t, event.Thread{ID: id, Process: s.process(thread), Number: uint64(100 + thread), Creator: strings.Repeat("x", thread), Started: int64(thread)}, info)
		first, last := tl.Span(id)
		require.EqualValues(t, own[0], first)
		require.EqualValues(t, own[len(own)-1], last)
		var calls []int
		open := false
		for i, c := range s.calls {
			if c.thread == thread {
				calls = append(calls, i)
			}
		}
		require.ElementsMatch(t, calls, moments(tl.ThreadCalls(id)))
		// A call is open at the end unless it, or one that it is in, has ended.
		for _, i := range calls {
			over := false
			for c := i; c >= 0 && !over; c = s.calls[c].parent {
				over = s.calls[c].leave >= 0
			}
			open = open || !over
		}
		for range 60 {
			at := s.IntN(len(s.list)+2) - 1
			m := event.Moment(at)
			before := slices.DeleteFunc(slices.Clone(own), func(i int) bool { return i > at })
			after := slices.DeleteFunc(slices.Clone(own), func(i int) bool { return i <= at })
			want := event.NoMoment
			if len(before) > 0 {
				want = event.Moment(before[len(before)-1])
			}
			require.Equal(t, want, tl.OnThread(id, m), "thread %d at %d", id, at)
			want = event.NoMoment
			if len(after) > 0 {
				want = event.Moment(after[0])
			}
			require.Equal(t, want, tl.Next(id, m), "thread %d at %d", id, at)
			var walked []int
			for x := range tl.Walk(id, m, false) {
				walked = append(walked, int(x))
			}
			require.ElementsMatch(t, after, walked)
			require.True(t, slices.IsSorted(walked))
			walked = nil
			for x := range tl.Walk(id, m, true) {
				walked = append(walked, int(x))
			}
			slices.Reverse(walked)
			earlier := slices.DeleteFunc(slices.Clone(own), func(i int) bool { return i >= at })
			require.Equal(t, len(earlier), len(walked))
			require.True(t, slices.Equal(earlier, walked), "thread %d back from %d", id, at)
			for x := range tl.Walk(id, m, at%2 == 0) {
				require.Equal(t, id, tl.Thread(x))
				break // a walk that is not finished ends
			}
			if at >= 0 && at < len(s.list) {
				require.Equal(t, len(after) == 0 && last < m && !open, tl.Ended(id, m), "thread %d at %d", id, at)
			}
			from, to := own[s.IntN(len(own))], own[s.IntN(len(own))]
			if from <= to {
				n := len(slices.DeleteFunc(slices.Clone(own), func(i int) bool { return i < from || i > to }))
				require.EqualValues(t, n, tl.CountOn(id, event.Moment(from), event.Moment(to)))
			}
		}
	}
}

func (s *stream) checkLists(t *testing.T, tl *timeline.Timeline) {
	for site := range uint32(genSites + 1) {
		want := s.where(func(_ int, h happening) bool {
			return h.id == site && slices.Contains([]event.Kind{event.Line, event.Fields, event.Message, event.Error}, h.kind)
		})
		list := tl.SiteMoments(event.SiteID(site))
		require.Equal(t, want, moments(list), "site %d", site)
		at := s.IntN(len(s.list))
		i, _ := slices.BinarySearch(want, at+1)
		require.Equal(t, i-1, list.Before(event.Moment(at)))
		require.Equal(t, i, list.After(event.Moment(at)))
		if at%97 == 0 {
			require.Equal(t, moments(list), integers(list.AppendTo(nil)))
		}
	}
	for f := range uint32(genFunctions + 1) {
		enters := s.where(func(_ int, h happening) bool { return h.kind == event.Enter && h.id == f })
		require.Equal(t, enters, moments(tl.Enters(event.FunctionID(f))), "function %d", f)
		returns := s.where(func(i int, h happening) bool {
			return (h.kind == event.Leave || h.kind == event.Unwind) && h.call >= 0 && s.calls[h.call].function == f
		})
		require.Equal(t, returns, moments(tl.Returns(event.FunctionID(f))), "function %d", f)
	}
	for _, k := range []event.Kind{event.Panic, event.Recover, event.Failure, event.Exit, event.Output, event.Message, event.Error} {
		require.Equal(t, s.where(func(_ int, h happening) bool { return h.kind == k }), moments(tl.Notable(k)), k.String())
	}
	require.Equal(t, append([]int{}, s.errors...), moments(tl.ErrorReturns()))
	for _, process := range []uint16{0, 7, 8} {
		cells := s.where(func(_ int, h happening) bool {
			return h.kind == event.Cell && h.id == 3 && h.call >= 0 && s.calls[h.call].function == 2 && s.process(h.thread) == process
		})
		want := event.NoMoment
		if len(cells) > 0 {
			want = event.Moment(cells[0])
		}
		require.Equal(t, want, tl.Global(process, "v3"))
		require.Equal(t, event.NoMoment, tl.Global(process, "v2"))
	}
}

func (s *stream) checkAddresses(t *testing.T, tl *timeline.Timeline) {
	for range 60 {
		process := []uint16{0, 7}[s.IntN(2)]
		at := s.IntN(len(s.list))
		address, size := uint64(0x0f00+s.IntN(0xd00)), uint64(s.IntN(900))
		want, after := []timeline.Covered{}, []timeline.Covered{}
		for i := len(s.list) - 1; i >= 0; i-- {
			h := s.list[i]
			ofMemory := slices.Contains([]event.Kind{event.Cell, event.Memory, event.Store, event.Spread, event.Move, event.Exposed, event.Made}, h.kind)
			from, to := max(address, h.address), min(address+max(size, 1), h.address+h.size)
			if !ofMemory || s.process(h.thread) != process || from >= to {
				continue
			}
			if c := (timeline.Covered{At: event.Moment(i), From: from, To: to}); i <= at {
				want = append(want, c)
			} else {
				after = append([]timeline.Covered{c}, after...)
			}
		}
		require.Equal(t, want, collect(tl.Covering(process, address, size, event.Moment(at))), "%d bytes at %#x, until %d", size, address, at)
		require.Equal(t, after, collect(tl.CoveringAfter(process, address, size, event.Moment(at))), "%d bytes at %#x, after %d", size, address, at)

		mapped, key := uint64(mapAt+16*s.IntN(4)), []byte{byte(s.IntN(6))}
		all, ofKey, later := []event.Moment{}, []event.Moment{}, []event.Moment{}
		for i := len(s.list) - 1; i >= 0; i-- {
			h := s.list[i]
			if !slices.Contains([]event.Kind{event.Element, event.Delete, event.Entries, event.Exposed}, h.kind) || h.address != mapped || s.process(h.thread) != process {
				continue
			}
			if i > at {
				later = append([]event.Moment{event.Moment(i)}, later...)
				continue
			}
			all = append(all, event.Moment(i))
			if h.key == nil || bytes.Equal(h.key, key) {
				ofKey = append(ofKey, event.Moment(i))
			}
		}
		require.Equal(t, all, collect(tl.MapEvents(process, mapped, nil, event.Moment(at))))
		require.Equal(t, later, collect(tl.MapEventsAfter(process, mapped, event.Moment(at))))
		require.Equal(t, ofKey, collect(tl.MapEvents(process, mapped, key, event.Moment(at))))

		lock := uint64(lockAt + 16*s.IntN(4))
		synced := []event.Moment{}
		for i := at; i >= 0; i-- {
			h := s.list[i]
			if slices.Contains([]event.Kind{event.Wait, event.Pass, event.Send, event.Receive, event.Release}, h.kind) && h.address == lock && s.process(h.thread) == process {
				synced = append(synced, event.Moment(i))
			}
		}
		require.Equal(t, synced, collect(tl.SyncEvents(process, lock, event.Moment(at))))
	}
}

// Traces that overlap are numbered by their beginnings, each with its calls.
func TestTracesOfAFeed(t *testing.T) {
	t.Parallel()
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 4))
		s := &stream{Rand: r, halting: true, threads: 1}
		file := bytes.NewReader(nil)
		dir := filepath.Join(t.TempDir(), "timeline")
		feed, err := timeline.NewFeed(timeline.Source{Tables: s.tables(t), File: file}, dir, false)
		require.NoError(t, err)
		type trace struct {
			key   uint32
			info  timeline.TraceInfo
			calls []int
			left  int
		}
		var all, open []*trace
		thread := feed.Thread(event.Thread{Number: 1})
		calls := 0
		for range 200 {
			switch {
			case len(open) == 0 || r.IntN(4) == 0:
				spans := 1 + r.IntN(4)
				x := &trace{key: uint32(len(all)), left: spans}
				x.info.Trace = timeline.Trace{ID: [16]byte{1, byte(len(all))}, Started: r.Int64(), Duration: r.Int64(), Spans: uint32(spans), Errors: uint32(r.IntN(3)), Status: timeline.TraceStatus(r.IntN(3))}
				x.info.Root = event.NoCall
				// A trace begins with its first span, so that its first moment is its own.
				feed.BeginTrace(x.key, x.info.Trace)
				m, call, err := feed.Add(thread, int64(calls), event.AppendEvent(nil, event.Enter, 1, 0), event.NoCall)
				require.NoError(t, err)
				x.info.First, x.info.Root = m, call
				feed.SpanBegins(x.key, call, false)
				x.calls = append(x.calls, int(call))
				calls++
				all, open = append(all, x), append(open, x)
			case r.IntN(2) == 0:
				x := open[r.IntN(len(open))]
				_, call, err := feed.Add(thread, int64(calls), event.AppendEvent(nil, event.Enter, 1, 0), event.NoCall)
				require.NoError(t, err)
				isRoot := r.IntN(3) == 0
				feed.SpanBegins(x.key, call, isRoot)
				if isRoot {
					x.info.Root = call
				}
				x.calls = append(x.calls, int(call))
				calls++
			default:
				i := r.IntN(len(open))
				x := open[i]
				m, _, err := feed.Add(thread, int64(calls), event.AppendEvent(nil, event.Leave, 0, 0), event.NoCall)
				require.NoError(t, err)
				feed.SpanEnds(x.key, m)
				x.info.Last = m
				if x.left--; x.left == 0 {
					open = slices.Delete(open, i, i+1)
				}
			}
		}
		feed.SpanBegins(4711, 0, true) // of no trace that is open
		feed.SpanEnds(4711, 5)
		require.NoError(t, feed.Finish(context.Background()))
		tl, err := timeline.Open(dir, file, 0)
		require.NoError(t, err)
		require.Equal(t, len(all), tl.Traces())
		for i, x := range all {
			require.Equal(t, x.info, tl.TraceAt(i), "seed %d, trace %d", seed, i)
			require.Equal(t, x.calls, moments(tl.TraceCalls(i)))
		}
	}
}
