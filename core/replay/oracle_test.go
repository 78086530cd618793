package replay_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"math/rand/v2"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/executionlog/logtest"
	"wraithology/core/execlog"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/core/replay/step/steptest"
	"wraithology/core/timeline"
)

// The streams of these tests come from a little machine that runs random
// programs: functions call each other, on several threads, write a local, a
// shared variable and the fields of objects, panic and recover. It keeps the
// plain list of what it did; the oracle answers from that list by scanning it.

const (
	functions = 4
	linesEach = 5
	objects   = 3

	typeInt     = 1
	typeObject  = 2
	typePointer = 3

	variableArgument = 0
	variableLocal    = 1
	variableShared   = 2
	variablePointer  = 3
)

// did is one thing that the machine did.
type did struct {
	kind    event.Kind
	thread  int
	call    int // index in machine.calls, -1 for none
	line    int
	value   int64
	address uint64
	time    int64
}

type called struct {
	function, parent int
	enter, leave     int // moments; leave is -1 while it is open
	unwound          bool
	shared           uint64 // where its shared variable is
}

type machine struct {
	random *rand.Rand
	calm   bool // calls last long
	list   []did
	calls  []called
	stacks [][]int
	clock  int64
	bytes  [][]byte
	base   []int64
	last   []int64
	blocks []struct {
		thread  int
		base    int64
		payload []byte
	}
}

func newMachine(seed uint64) *machine {
	m := &machine{random: rand.New(rand.NewPCG(seed, 7))}
	return m.run(60 + m.random.IntN(300))
}

// newLongMachine runs for long, in calls that last, so that lists grow beyond what is together in a
// timeline.
func newLongMachine(seed uint64) *machine {
	m := &machine{random: rand.New(rand.NewPCG(seed, 8)), calm: true}
	return m.run(40_000)
}

func (m *machine) run(steps int) *machine {
	threads := 1 + m.random.IntN(3)
	m.stacks, m.bytes = make([][]int, threads), make([][]byte, threads)
	m.base, m.last = make([]int64, threads), make([]int64, threads)
	for range steps {
		m.act(m.random.IntN(threads))
	}
	for t := range m.bytes {
		m.flush(t)
	}
	return m
}

func (m *machine) flush(t int) {
	if len(m.bytes[t]) > 0 {
		m.blocks = append(m.blocks, struct {
			thread  int
			base    int64
			payload []byte
		}{t, m.base[t], m.bytes[t]})
	}
	m.bytes[t] = nil
}

// emit adds an event to the list and to its thread's bytes.
func (m *machine) emit(d did, id uint64, rest ...byte) {
	m.clock += 1 + m.random.Int64N(3)
	if len(m.bytes[d.thread]) == 0 {
		m.base[d.thread], m.last[d.thread] = m.clock, m.clock
	}
	b := append(m.bytes[d.thread], byte(d.kind))
	b = binary.AppendUvarint(b, uint64(m.clock-m.last[d.thread]))
	m.last[d.thread] = m.clock
	switch d.kind {
	case event.Enter, event.Line, event.Write, event.Unwind:
		b = binary.AppendUvarint(b, id)
	case event.Cell:
		b = binary.AppendUvarint(binary.AppendUvarint(b, id), d.address)
	case event.Memory, event.Store:
		b = binary.AppendUvarint(b, d.address)
	}
	m.bytes[d.thread] = append(b, rest...)
	d.time = m.clock
	m.list = append(m.list, d)
	if m.random.IntN(20) == 0 {
		m.flush(d.thread)
	}
}

// small encodes a value from 0 to 23 with its type: CBOR needs one byte for it.
func small(v int64) []byte { return []byte{typeInt, byte(v)} }

func (m *machine) act(t int) {
	stack := m.stacks[t]
	top := -1
	if len(stack) > 0 {
		top = stack[len(stack)-1]
	}
	v := m.random.Int64N(24)
	choice := m.random.IntN(20)
	if m.calm && (choice < 3 || choice >= 17) && m.random.IntN(40) > 0 {
		choice = 3 + m.random.IntN(14)
	}
	switch {
	case top < 0 || choice < 3 && len(stack) < 7:
		f := m.random.IntN(functions)
		m.calls = append(m.calls, called{function: f, parent: top, enter: len(m.list), leave: -1, shared: 0x1000 + 8*uint64(len(m.calls))})
		c := len(m.calls) - 1
		m.stacks[t] = append(stack, c)
		m.emit(did{kind: event.Enter, thread: t, call: c, value: v}, uint64(f), append([]byte{1}, small(v)...)...)
	case choice < 9:
		k := m.random.IntN(linesEach)
		f := m.calls[top].function
		m.emit(did{kind: event.Line, thread: t, call: top, line: f*10 + k + 1}, uint64(f*linesEach+k))
	case choice < 11:
		m.emit(did{kind: event.Write, thread: t, call: top, value: v, address: variableLocal}, variableLocal, small(v)...)
	case choice < 13:
		m.emit(did{kind: event.Cell, thread: t, call: top, value: v, address: m.calls[top].shared}, variableShared, small(v)...)
	case choice < 14: // through a reference to a shared variable of any call
		c := m.random.IntN(len(m.calls))
		m.emit(did{kind: event.Store, thread: t, call: top, value: v, address: m.calls[c].shared}, 0, small(v)...)
	case choice < 16: // one field of an object
		a := 0x9000 + 16*uint64(m.random.IntN(objects)) + 8*uint64(m.random.IntN(2))
		m.emit(did{kind: event.Store, thread: t, call: top, value: v, address: a}, 0, small(v)...)
	case choice < 17:
		a := 0x9000 + 16*uint64(m.random.IntN(objects))
		rest := append([]byte{typePointer, 0x19}, byte(a>>8), byte(a))
		m.emit(did{kind: event.Write, thread: t, call: top, value: int64(a), address: variablePointer}, variablePointer, rest...)
		if m.random.IntN(2) == 0 { // and what it points to: both fields are v
			m.emit(did{kind: event.Memory, thread: t, call: top, value: v, address: a}, 0, typeObject, 0x82, byte(v), byte(v))
		}
	case choice < 18 && len(stack) > 1: // a panic that the caller of the caller, at most, recovers
		m.emit(did{kind: event.Panic, thread: t, call: top}, 0, 0)
		for n := 1 + m.random.IntN(2); n > 0 && len(m.stacks[t]) > 1; n-- {
			m.leave(t, true)
		}
	default:
		m.leave(t, false)
	}
}

func (m *machine) leave(t int, unwound bool) {
	stack := m.stacks[t]
	c := stack[len(stack)-1]
	m.calls[c].leave, m.calls[c].unwound = len(m.list), unwound
	m.stacks[t] = stack[:len(stack)-1]
	if unwound {
		m.emit(did{kind: event.Unwind, thread: t, call: c}, 1)
	} else {
		m.emit(did{kind: event.Leave, thread: t, call: c}, 0, 0)
	}
}

// open writes the machine's log and opens it for replay.
func (m *machine) open(t testing.TB) history.Replay { return history.Open(m.timeline(t)) }

func (m *machine) timeline(t testing.TB) *timeline.Timeline {
	var out bytes.Buffer
	w, err := execlog.NewWriter(&out, event.Header{Program: "machine"}, execlog.Zstd)
	require.NoError(t, err)
	require.NoError(t, w.File(event.File{ID: 0, Path: "a/machine.go", Text: "package a"}))
	for f := range functions {
		local := func(name string, scope event.Scope) event.Variable {
			return event.Variable{Name: name, Scope: scope, Line: 0, EndLine: 1000}
		}
		require.NoError(t, w.Function(event.Function{ID: event.FunctionID(f), Name: string(rune('a' + f)), Own: true, Line: f * 10, EndLine: f*10 + 9,
			Variables:  []event.Variable{local("argument", event.Parameter), local("local", event.Local), local("shared", event.Local), local("pointer", event.Local)},
			Parameters: []event.VariableID{variableArgument}}))
		for k := range linesEach {
			require.NoError(t, w.Site(event.Site{ID: event.SiteID(f*linesEach + k), Function: event.FunctionID(f), Line: f*10 + k + 1}))
		}
	}
	require.NoError(t, w.Process(event.Process{ID: 0, PID: 1}))
	require.NoError(t, w.Type(0, event.Type{ID: typeInt, Name: "int", Form: event.Int, Size: 8}))
	require.NoError(t, w.Type(0, event.Type{ID: typeObject, Name: "object", Form: event.Struct, Size: 16, Fields: []event.Field{{Name: "A", Type: typeInt}, {Name: "B", Type: typeInt, Offset: 8}}}))
	require.NoError(t, w.Type(0, event.Type{ID: typePointer, Name: "*object", Form: event.Pointer, Size: 8, Elem: typeObject}))
	for _, b := range m.blocks {
		require.NoError(t, w.Events(0, event.ThreadID(b.thread+1), b.base, b.payload))
	}
	require.NoError(t, w.End(event.End{ExitCode: 0}))
	require.NoError(t, w.Flush())
	log, err := execlog.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	return logtest.Timeline(t, log)
}

// threadAt is the thread's number in the recording: by first appearance.
func (m *machine) numbers() map[int]event.ThreadID {
	out := map[int]event.ThreadID{}
	for _, d := range m.list {
		if _, ok := out[d.thread]; !ok {
			out[d.thread] = event.ThreadID(len(out) + 1)
		}
	}
	return out
}

// topAt finds the innermost call of a thread at a moment by scanning.
func (m *machine) topAt(thread, at int) int {
	for i := at; i >= 0; i-- {
		d := m.list[i]
		if d.thread != thread {
			continue
		}
		if i < at && (d.kind == event.Leave || d.kind == event.Unwind) {
			return m.calls[d.call].parent
		}
		return d.call
	}
	return -1
}

func (m *machine) lineAt(call, at int) int {
	for i := at; i >= 0; i-- {
		if d := m.list[i]; d.kind == event.Line && d.call == call {
			return d.line
		}
	}
	return m.calls[call].function * 10
}

// valueAt finds what a variable of a call held, by scanning.
func (m *machine) valueAt(call, variable, at int) (v int64, ok bool) {
	for i := at; i >= m.calls[call].enter; i-- {
		d := m.list[i]
		switch variable {
		case variableArgument:
			return m.list[m.calls[call].enter].value, true
		case variableShared:
			written := false
			for j := m.calls[call].enter; j <= at; j++ {
				written = written || m.list[j].kind == event.Cell && m.list[j].call == call
			}
			if !written {
				return 0, false
			}
			if (d.kind == event.Cell || d.kind == event.Store) && d.address == m.calls[call].shared {
				return d.value, true
			}
		default:
			if d.kind == event.Write && d.call == call && d.address == uint64(variable) {
				return d.value, true
			}
		}
	}
	return 0, false
}

// trailing counts the moments after one that belong to it: what a write refers to is said right after it.
func (m *machine) trailing(at int) int {
	if at+1 < len(m.list) && m.list[at].kind == event.Write && m.list[at+1].kind == event.Memory {
		return 1
	}
	return 0
}

func (m *machine) memoryAt(address uint64, at int) (int64, bool) {
	at += m.trailing(at)
	for i := at; i >= 0; i-- {
		d := m.list[i]
		if d.kind == event.Store && d.address == address || d.kind == event.Memory && d.address == address&^15 {
			return d.value, true
		}
	}
	return 0, false
}

// reading is the time that the thread of a moment has read at it, or before or after it.
func (m *machine) reading(i, step int) int64 {
	for k := i; k >= 0 && k < len(m.list); k += step {
		if d := m.list[k]; d.thread == m.list[i].thread && d.kind != event.Memory {
			return d.time
		}
	}
	return int64(step) << 60
}

// reached is when a moment was, and stored is when its event's memory changed.
func (m *machine) reached(i int) [2]int64 { return [2]int64{m.reading(i, -1), m.reading(i, 1)} }

func (m *machine) stored(i int) [2]int64 {
	for k := i - 1; k >= 0; k-- {
		if m.list[k].thread == m.list[i].thread {
			return [2]int64{m.reading(k, -1), m.reading(i, 1)}
		}
	}
	return [2]int64{-1 << 60, m.reading(i, 1)}
}

// certain reports whether every access to an address since a moment that may have been the last one
// before at gave it the same value, and no other thread stored something at the same time. Trailing is how many moments after at belong to it.
func (m *machine) certain(address uint64, since, at, trailing int, value int64) bool {
	own, now := m.list[at].thread, m.reached(at)
	// before reports whether the first of two moments was certainly before the second one; at is the
	// last of its thread that counts.
	before := func(x, y int) bool {
		switch {
		case m.list[x].thread == m.list[y].thread:
			return x < y
		default:
			return m.stored(x)[1] <= m.stored(y)[0]
		}
	}
	beforeNow := func(x int) bool {
		if m.list[x].thread == own {
			return x <= at+trailing
		}
		return m.stored(x)[1] <= now[0]
	}
	var accesses []int
	for i, d := range m.list {
		if i >= since && ((d.kind == event.Store || d.kind == event.Cell) && d.address == address || d.kind == event.Memory && address >= 0x9000 && d.address == address&^15) {
			accesses = append(accesses, i)
		}
	}
	for _, a := range accesses {
		maybe := m.list[a].thread == own && a <= at+trailing || m.list[a].thread != own && m.stored(a)[0] < now[1]
		for _, x := range accesses {
			maybe = maybe && !(before(a, x) && beforeNow(x))
		}
		if maybe && (m.list[a].value != value || m.list[a].thread != own && m.list[a].kind != event.Memory && m.stored(a)[0] < now[1] && now[0] < m.stored(a)[1]) {
			return false
		}
	}
	return true
}

// requireMemory holds the value of memory against a scan: what is not certain says so.
func (m *machine) requireMemory(t *testing.T, address uint64, since, at, trailing int, want int64, v event.Value, where ...any) {
	t.Helper()
	if m.certain(address, since, at, trailing, want) {
		require.Equal(t, event.Known, v.State, where...)
	} else {
		require.Equal(t, event.MayHaveChanged, v.State, where...)
		v = *v.Last
	}
	require.Equal(t, want, v.Int, where...)
}

func TestAgainstTheOracle(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	streams, long := 1000, 4
	if testing.Short() {
		streams, long = 50, 1
	}
	checked := 0
	for seed := range streams + long {
		m := newMachine(uint64(seed))
		if seed >= streams {
			m = newLongMachine(uint64(seed))
		}
		tl := m.timeline(t)
		r := history.Open(tl)
		require.Equal(t, int64(len(m.list)), r.Info().Moments, "seed %d", seed)
		numbers := m.numbers()
		for range 25 {
			at := m.random.IntN(len(m.list))
			thread := m.random.IntN(len(m.stacks))
			if numbers[thread] == 0 {
				continue
			}
			m.checkFarSteps(ctx, t, r, seed, at, thread, numbers[thread])
			if first, _ := m.span(thread); m.topAt(thread, at) < 0 && at < first {
				continue
			}
			m.checkFrames(ctx, t, r, seed, at, thread, numbers[thread])
			m.checkWrites(ctx, t, r, seed, at, thread, numbers[thread])
			for _, way := range []replay.Way{replay.Into, replay.Over, replay.Out} {
				for _, back := range []bool{false, true} {
					s := replay.Step{Way: way, Back: back}
					got, _, err := r.Step(ctx, event.Moment(at), numbers[thread], s)
					require.NoError(t, err)
					require.Equal(t, event.Moment(m.stepFrom(thread, at, s)), got, "seed %d, step %+v from %d on thread %d", seed, s, at, thread)
				}
			}
		}
		if seed%10 == 0 {
			checked += steptest.LeadBack(t, r, tl, 1)
		}
		m.checkHits(ctx, t, r, seed)
		m.checkKinds(ctx, t, r, seed)
	}
	assert.Greater(t, checked, streams)
}

// entry is the log's content about a variable or address at a moment. Sure means that the program
// stored there, so that the write counts even if the value stays the same.
type entry struct {
	at    int
	value int64
	sure  bool
}

// entriesOf lists what the stream says of a variable of a call, or of an address.
func (m *machine) entriesOf(call, variable int, address uint64) (list []entry) {
	for i, d := range m.list {
		switch {
		case address == 0 && d.kind == event.Write && d.call == call && d.address == uint64(variable):
			list = append(list, entry{i, d.value, true})
		case address != 0 && d.kind == event.Cell && d.address == address:
			list = append(list, entry{i, d.value, false})
		case address != 0 && d.kind == event.Store && d.address == address:
			list = append(list, entry{i, d.value, true})
		case address != 0 && d.kind == event.Memory && d.address == address&^15 && address >= 0x9000:
			list = append(list, entry{i, d.value, false})
		}
	}
	return list
}

// checkWrites holds the lists of writes, and the last one, against a scan.
func (m *machine) checkWrites(ctx context.Context, t *testing.T, r history.Replay, seed, at, thread int, number event.ThreadID) {
	call := m.topAt(thread, at)
	if call < 0 {
		return
	}
	check := func(path string, list []entry) {
		var want []entry
		for _, x := range list {
			if n := len(want); n > 0 && !x.sure && want[n-1].value == x.value {
				continue
			}
			want = append(want, x)
		}
		got, err := r.Writes(ctx, path, event.Moment(at), number, 0, replay.Page{Count: len(m.list)})
		require.NoError(t, err, "seed %d at %d: %s", seed, at, path)
		require.Equal(t, len(want), got.Total, "seed %d at %d: %s", seed, at, path)
		for i, w := range got.Page {
			require.Equal(t, event.Moment(want[i].at), w.Moment, "seed %d at %d: write %d of %s", seed, at, i, path)
			require.Equal(t, want[i].value, w.New.Int, "seed %d at %d: write %d of %s", seed, at, i, path)
			require.Equal(t, i == 0, w.Old == nil)
			if i > 0 {
				require.Equal(t, want[i-1].value, w.Old.Int)
			}
		}
		last := -1
		for i := len(list) - 1; i >= 0; i-- {
			if list[i].at > at {
				continue
			}
			if last >= 0 && list[i].value != list[last].value {
				break
			}
			last = i
			if list[i].sure {
				break
			}
		}
		one, found, err := r.LastWrite(ctx, path, event.Moment(at), number, 0)
		require.NoError(t, err)
		require.Equal(t, last >= 0, found, "seed %d at %d: last write of %s", seed, at, path)
		if found {
			require.Equal(t, event.Moment(list[last].at), one.Moment, "seed %d at %d: last write of %s", seed, at, path)
		}
	}
	check("local", m.entriesOf(call, variableLocal, 0))
	if _, ok := m.valueAt(call, variableShared, at); ok {
		check("shared", m.entriesOf(call, variableShared, m.calls[call].shared))
	}
	if pointer, ok := m.valueAt(call, variablePointer, at); ok {
		check("pointer.A", m.entriesOf(call, 0, uint64(pointer)))
		check("pointer.B", m.entriesOf(call, 0, uint64(pointer)+8))
	}
}

// checkKinds holds checkpoints on calls and errors, hit numbers, and steps to
// places against a scan.
func (m *machine) checkKinds(ctx context.Context, t *testing.T, r history.Replay, seed int) {
	whole := replay.Page{Count: len(m.list)}
	function := m.random.IntN(functions)
	var enters, returns, errors []event.Moment
	for i, d := range m.list {
		switch {
		case d.kind == event.Enter && m.calls[d.call].function == function:
			enters = append(enters, event.Moment(i))
		case (d.kind == event.Leave || d.kind == event.Unwind) && m.calls[d.call].function == function:
			returns = append(returns, event.Moment(i))
		case d.kind == event.Panic:
			errors = append(errors, event.Moment(i))
		}
	}
	name := string(rune('a' + function))
	for _, x := range []struct {
		c    replay.Checkpoint
		want []event.Moment
	}{
		{replay.Checkpoint{Kind: "enter", About: name}, enters},
		{replay.Checkpoint{Kind: "return", About: name}, returns},
		{replay.Checkpoint{Kind: "error"}, errors},
	} {
		hits, err := r.Hits(ctx, x.c, whole)
		require.NoError(t, err)
		require.Equal(t, len(x.want), hits.Total, "seed %d, %s", seed, x.c.Kind)
		require.Equal(t, x.want, hits.Page, "seed %d, %s", seed, x.c.Kind)
		n := 1 + m.random.IntN(5)
		for text, want := range map[string][]event.Moment{
			strconv.Itoa(n):            cut(x.want, n-1, n, 1),
			"every " + strconv.Itoa(n): cut(x.want, n-1, len(x.want), n),
			"last":                     cut(x.want, len(x.want)-1, len(x.want), 1),
		} {
			x.c.Number, err = replay.ParseNumber(text)
			require.NoError(t, err)
			hits, err = r.Hits(ctx, x.c, whole)
			require.NoError(t, err)
			require.Equal(t, want, hits.Page, "seed %d, %s, %s", seed, x.c.Kind, text)
		}
		at := event.Moment(m.random.IntN(len(m.list)))
		x.c.Number = replay.Number{Last: true, Before: at + 1}
		hits, err = r.Hits(ctx, x.c, whole)
		require.NoError(t, err)
		before := 0
		for before < len(x.want) && x.want[before] <= at {
			before++
		}
		require.Equal(t, cut(x.want, before-1, before, 1), hits.Page, "seed %d, %s, last before %d", seed, x.c.Kind, at+1)
	}
	at := m.random.IntN(len(m.list))
	thread := m.list[at].thread
	number := m.numbers()[thread]
	line := 10*m.random.IntN(functions) + 1 + m.random.IntN(linesEach)
	got, why, err := r.Step(ctx, event.Moment(at), number, replay.Step{Way: replay.To, File: "machine.go", Line: line})
	require.NoError(t, err)
	want := -1
	for i := at + 1; i < len(m.list) && want < 0; i++ {
		if d := m.list[i]; d.kind == event.Line && d.line == line && d.thread == thread {
			want = i
		}
	}
	if want < 0 {
		require.Equal(t, replay.AtEnd, why)
	} else {
		require.Equal(t, event.Moment(want), got, "seed %d, to line %d from %d", seed, line, at)
	}
	if call := m.topAt(thread, at); call >= 0 {
		got, _, err = r.Step(ctx, event.Moment(at), number, replay.Step{Way: replay.Head})
		require.NoError(t, err)
		want = m.calls[call].enter
		for i, d := range m.list {
			if d.kind == event.Line && d.call == call {
				want = i
				break
			}
		}
		require.Equal(t, event.Moment(want), got, "seed %d, head from %d", seed, at)
	}
	got, _, err = r.Step(ctx, event.Moment(at), number, replay.Step{Way: replay.Line, AnyThread: true})
	require.NoError(t, err)
	want = len(m.list) - 1
	for i := at + 1; i < len(m.list); i++ {
		if halt(m.list[i]) {
			want = i
			break
		}
	}
	require.Equal(t, event.Moment(want), got, "seed %d, the next line of any thread from %d", seed, at)
}

// cut takes each nth of the moments between two places of a list.
func cut(list []event.Moment, from, to, n int) (out []event.Moment) {
	for i := from; i >= 0 && i < min(to, len(list)); i += n {
		out = append(out, list[i])
	}
	return out
}

func (m *machine) checkFrames(ctx context.Context, t *testing.T, r history.Replay, seed, at, thread int, number event.ThreadID) {
	frames, err := r.Frames(ctx, event.Moment(at), number)
	require.NoError(t, err)
	i := 0
	for c := m.topAt(thread, at); c >= 0; c = m.calls[c].parent {
		require.Less(t, i, len(frames), "seed %d at %d", seed, at)
		require.Equal(t, string(rune('a'+m.calls[c].function)), frames[i].Function, "seed %d at %d frame %d", seed, at, i)
		require.Equal(t, m.lineAt(c, at), frames[i].Line, "seed %d at %d frame %d", seed, at, i)
		list, err := r.Variables(ctx, event.Moment(at), number, i)
		require.NoError(t, err)
		for _, v := range list {
			variable := map[string]int{"argument": variableArgument, "local": variableLocal, "shared": variableShared, "pointer": variablePointer}[v.Name]
			want, known := m.valueAt(c, variable, at)
			require.Equal(t, known, v.Value.State == event.Known || v.Value.State == event.MayHaveChanged, "seed %d at %d frame %d: %s is %s", seed, at, i, v.Name, v.Value.State)
			if !known {
				continue
			}
			if variable == variableShared {
				m.requireMemory(t, m.calls[c].shared, m.calls[c].enter, at, m.trailing(at), want, v.Value.Value, "seed %d at %d frame %d: %s", seed, at, i, v.Name)
				continue
			}
			if variable != variablePointer {
				require.Equal(t, want, v.Value.Int, "seed %d at %d frame %d: %s", seed, at, i, v.Name)
				continue
			}
			for n, field := range []string{"A", "B"} {
				address := uint64(want) + 8*uint64(n)
				want, known := m.memoryAt(address, at)
				got := v.Value.Field(field)
				require.Equal(t, known, got.State == event.Known || got.State == event.MayHaveChanged, "seed %d at %d frame %d: field %s", seed, at, i, field)
				if known {
					m.requireMemory(t, address, 0, at, m.trailing(at), want, got.Value, "seed %d at %d frame %d: field %s", seed, at, i, field)
				}
			}
		}
		i++
	}
	require.Len(t, frames, i, "seed %d at %d", seed, at)
}

// even is a condition that reads the innermost frame.
type even struct{}

func (even) Holds(ctx context.Context, r replay.Recording, at event.Moment, t event.ThreadID) (bool, error) {
	v, _, err := r.Variable(ctx, at, t, 0, "argument")
	return v.Value.Int%2 == 0, err
}

func (m *machine) checkHits(ctx context.Context, t *testing.T, r history.Replay, seed int) {
	line := 10*m.random.IntN(functions) + 1 + m.random.IntN(linesEach)
	var all, some []event.Moment
	for i, d := range m.list {
		if d.kind != event.Line || d.line != line {
			continue
		}
		all = append(all, event.Moment(i))
		if m.list[m.calls[d.call].enter].value%2 == 0 {
			some = append(some, event.Moment(i))
		}
	}
	whole := replay.Page{Count: len(m.list)}
	hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("machine.go", line)}, whole)
	require.NoError(t, err)
	require.Equal(t, len(all), hits.Total, "seed %d", seed)
	require.Equal(t, all, hits.Page, "seed %d", seed)
	conditional := replay.Checkpoint{Kind: "line", About: find.LineText("a/machine.go", line), When: even{}}
	hits, err = r.Hits(ctx, conditional, whole)
	require.NoError(t, err)
	require.Equal(t, some, hits.Page, "seed %d", seed)
	page, err := r.Hits(ctx, conditional, replay.Page{From: 1, Count: 2})
	require.NoError(t, err)
	require.Equal(t, len(some), page.Total)
	from, to := replay.Page{From: 1, Count: 2}.Cut(len(some))
	assert.Equal(t, append([]event.Moment(nil), some[from:to]...), page.Page)

	at := m.random.IntN(len(m.list))
	next, previous := event.NoMoment, event.NoMoment
	for _, h := range some {
		if int(h) > at && next == event.NoMoment {
			next = h
		}
		if int(h) < at {
			previous = h
		}
	}
	got, which, err := r.NextHit(ctx, event.Moment(at), false, []replay.Checkpoint{conditional})
	require.NoError(t, err)
	require.Equal(t, next, got, "seed %d", seed)
	require.Equal(t, next == event.NoMoment, which == -1)
	got, _, err = r.NextHit(ctx, event.Moment(at), true, []replay.Checkpoint{conditional})
	require.NoError(t, err)
	require.Equal(t, previous, got, "seed %d", seed)
}

func TestPlacesThatAreNotThere(t *testing.T) {
	ctx := context.Background()
	r := newMachine(3).open(t)
	n := event.Moment(r.Info().Moments)
	_, err := r.Frames(ctx, n, 1)
	require.ErrorIs(t, err, fault.OutOfRange)
	_, err = r.Frames(ctx, 0, 99)
	require.ErrorIs(t, err, fault.NoThread)
	_, err = r.Variables(ctx, n-1, 1, 99)
	require.ErrorIs(t, err, fault.NoFrame)
	_, err = r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("machine.go", 8)}, replay.Page{})
	require.ErrorIs(t, err, fault.NoCode)
	require.ErrorContains(t, err, "machine.go:5 and machine.go:11")
	_, err = r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("other.go", 8)}, replay.Page{})
	require.ErrorContains(t, err, "a/machine.go")
	_, err = r.Source("other.go")
	require.ErrorIs(t, err, fault.NoSource)
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	_, err = r.Hits(stopped, replay.Checkpoint{Kind: "line", About: find.LineText("machine.go", 1), When: even{}}, replay.Page{})
	require.ErrorIs(t, err, context.Canceled)
}

// FuzzRecording feeds damaged logs to everything that is asked of a recording.
func FuzzRecording(f *testing.F) {
	for seed := range uint64(3) {
		f.Add(newMachine(seed).blocks[0].payload, uint16(3))
	}
	f.Fuzz(func(t *testing.T, payload []byte, at uint16) {
		m := newMachine(1)
		m.blocks[0].payload = payload
		r := m.open(t)
		ctx := context.Background()
		info := r.Info()
		if info.Moments == 0 {
			return
		}
		moment := event.Moment(int64(at) % info.Moments)
		threads, err := r.Threads(ctx, moment)
		require.NoError(t, err)
		for _, th := range threads {
			frames, err := r.Frames(ctx, moment, th.ID)
			require.NoError(t, err)
			for i := range frames {
				list, err := r.Variables(ctx, moment, th.ID, i)
				require.NoError(t, err)
				for _, v := range list {
					_ = v.Value.Text()
					_, _ = v.Value.Children(replay.Page{Count: 10})
				}
			}
			for _, way := range []replay.Way{replay.Into, replay.Over, replay.Out} {
				_, _, err := r.Step(ctx, moment, th.ID, replay.Step{Way: way})
				require.NoError(t, err)
				_, _, err = r.Step(ctx, moment, th.ID, replay.Step{Way: way, Back: true})
				require.NoError(t, err)
			}
		}
		_, _ = r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("machine.go", 1)}, replay.Page{Count: 5})
		_, _ = r.Hits(ctx, replay.Checkpoint{Kind: "error", About: "x"}, replay.Page{Count: 5})
		for _, path := range []string{"pointer.A", "shared", "local"} {
			if thread, err := r.ThreadOf(moment); err == nil {
				_, _ = r.Writes(ctx, path, moment, thread, 0, replay.Page{Count: 5})
				_, _ = r.Origin(ctx, path, moment, thread, 0, replay.OriginOptions{Depth: 6})
				_, _ = r.Changed(ctx, moment, thread, 0)
			}
		}
		_, _ = r.Search(ctx, replay.NewSearch("7", ""), replay.Page{Count: 5})
	})
}

// FuzzPath feeds texts to the reader of paths; what it reads it must write so that
// it reads the same.
func FuzzPath(f *testing.F) {
	for _, text := range []string{"quay.Depth", `table["Inner Ness"][3].x`, "*p", "a[b[c]]", "(*p).x", "result 2", "x[]", "&y"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := replay.ParsePath(text)
		if err != nil {
			require.ErrorIs(t, err, fault.InvalidPath)
			return
		}
		again, err := replay.ParsePath(p.String())
		require.NoError(t, err, "%q was written as %q", text, p.String())
		require.Equal(t, p.String(), again.String())
	})
}
