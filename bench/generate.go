package main

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"time"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// The generated program has a few threads that serve requests. Each request is a tree of calls
// whose leaves loop. The calls write locals and the fields of long-lived objects, and sometimes
// return an error.
const (
	threads   = 4
	functions = 24
	lines     = 12 // sites of each function; the first one is that of the loop
	objects   = 20_000

	typeInt     = 1
	typeFloat   = 2
	typeText    = 3
	typeObject  = 4
	typePointer = 5
	typeError   = 6

	varN      = 0
	varObject = 1
	varI      = 2
	varTotal  = 3
	varRate   = 4
	varName   = 5
	varResult = 6
	varErr    = 7

	objectSize = 32
	blockBytes = 64 << 10
)

var shipNames = []string{"Curlew Bank", "Morning Petrel", "Two Sisters of Ness", "Halcyon Drift", "Skerry Lass", "Dunlin Spray"}

// lane is one thread of the generated program.
type lane struct {
	id    int
	buf   []byte
	base  int64
	last  int64
	stack []frame
}

type frame struct {
	function int
	left     int // remaining iterations of its loop
	line     int
	total    int64
	object   int
}

type generator struct {
	w      *execlog.Writer
	random *rand.Rand
	lanes  []*lane
	clock  int64
	n      int64
	err    error
}

// generate writes a log of about n moments.
func generate(path string, n int64) (err error) {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() {
		if e := f.Close(); err == nil {
			err = e
		}
	}()
	out := bufio.NewWriterSize(f, 1<<20)
	w, err := execlog.NewWriter(out, event.Header{Program: "generated", Language: "Go", Host: "bench", Started: time.Unix(1_900_000_000, 0).UTC(), Recorder: "bench"}, execlog.Zstd)
	if err != nil {
		return err
	}
	tables(w)
	g := &generator{w: w, random: rand.New(rand.NewPCG(7, uint64(n)))}
	for i := range threads {
		g.lanes = append(g.lanes, &lane{id: i + 1})
	}
	for g.n < n && g.err == nil {
		l := g.lanes[g.random.IntN(threads)]
		for range 500 + g.random.IntN(4000) {
			g.act(l)
			if g.n >= n {
				break
			}
		}
	}
	for _, l := range g.lanes {
		g.flush(l)
	}
	if g.err != nil {
		return g.err
	}
	if err := w.End(event.End{Process: 1}); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return out.Flush()
}

func tables(w *execlog.Writer) {
	_ = w.File(event.File{ID: 0, Path: "harbour.go"}) // Flush returns the first error of the writer
	for f := range functions {
		_ = w.Function(event.Function{ID: event.FunctionID(f), Name: fmt.Sprintf("main.serve%d", f), Line: f*100 + 1, EndLine: f*100 + 99, Own: true,
			Variables: []event.Variable{
				{Name: "n", Scope: event.Parameter, Type: "int", Line: f*100 + 1, EndLine: f*100 + 99},
				{Name: "vessel", Scope: event.Parameter, Type: "*main.vessel", Line: f*100 + 1, EndLine: f*100 + 99},
				{Name: "i", Scope: event.Local, Type: "int", Line: f*100 + 1, EndLine: f*100 + 99},
				{Name: "total", Scope: event.Local, Type: "int", Line: f*100 + 1, EndLine: f*100 + 99},
				{Name: "rate", Scope: event.Local, Type: "float64", Line: f*100 + 1, EndLine: f*100 + 99},
				{Name: "name", Scope: event.Local, Type: "string", Line: f*100 + 1, EndLine: f*100 + 99},
				{Name: "result", Scope: event.Return, Type: "int", Line: f*100 + 100, EndLine: f*100 + 99},
				{Name: "result 2", Scope: event.Return, Type: "error", Line: f*100 + 100, EndLine: f*100 + 99},
			}, Parameters: []event.VariableID{varN, varObject}, Results: []event.VariableID{varResult, varErr}})
		for k := range lines {
			_ = w.Site(event.Site{ID: event.SiteID(f*lines + k), Function: event.FunctionID(f), Line: f*100 + 2 + k, Reads: []string{"i", "n"}, Writes: []string{"total"}})
		}
	}
	_ = w.Process(event.Process{ID: 1, PID: 1, Program: "generated", Started: 1_900_000_000_000_000_000})
	for _, t := range []event.Type{
		{ID: typeInt, Name: "int", Form: event.Int, Size: 8}, {ID: typeFloat, Name: "float64", Form: event.Float, Size: 8}, {ID: typeText, Name: "string", Form: event.Text, Size: 16},
		{ID: typeObject, Name: "main.vessel", Form: event.Struct, Size: objectSize, Fields: []event.Field{{Name: "Number", Type: typeInt, Offset: 0}, {Name: "Draught", Type: typeFloat, Offset: 8}, {Name: "Name", Type: typeText, Offset: 16}}},
		{ID: typePointer, Name: "*main.vessel", Form: event.Pointer, Size: 8, Elem: typeObject}, {ID: typeError, Name: "error", Form: event.Interface, Size: 16},
	} {
		_ = w.Type(1, t)
	}
	for i := range threads {
		_ = w.Thread(event.Thread{ID: event.ThreadID(i + 1), Process: 1, Number: uint64(i + 1)})
	}
}

func (g *generator) flush(l *lane) {
	if len(l.buf) > 0 && g.err == nil {
		g.err = g.w.Events(1, event.ThreadID(l.id), l.base, l.buf)
	}
	l.buf = l.buf[:0]
}

func (g *generator) begin(l *lane, k event.Kind) {
	if len(l.buf) > blockBytes {
		g.flush(l)
	}
	g.clock += 20 + g.random.Int64N(80)
	if len(l.buf) == 0 {
		l.base, l.last = g.clock, g.clock
	}
	l.buf = append(l.buf, byte(k))
	l.buf = binary.AppendUvarint(l.buf, uint64(g.clock-l.last))
	l.last = g.clock
	g.n++
}

func (l *lane) number(n uint64) { l.buf = binary.AppendUvarint(l.buf, n) }

func (l *lane) head(major byte, n uint64) {
	switch {
	case n < 24:
		l.buf = append(l.buf, major<<5|byte(n))
	case n <= math.MaxUint8:
		l.buf = append(l.buf, major<<5|24, byte(n))
	case n <= math.MaxUint16:
		l.buf = binary.BigEndian.AppendUint16(append(l.buf, major<<5|25), uint16(n))
	case n <= math.MaxUint32:
		l.buf = binary.BigEndian.AppendUint32(append(l.buf, major<<5|26), uint32(n))
	default:
		l.buf = binary.BigEndian.AppendUint64(append(l.buf, major<<5|27), n)
	}
}

func (l *lane) int(n int64) {
	l.number(typeInt)
	l.head(0, uint64(n))
}

func (l *lane) float(x float64) {
	l.number(typeFloat)
	l.buf = binary.BigEndian.AppendUint64(append(l.buf, 7<<5|27), math.Float64bits(x))
}

func (l *lane) text(s string) {
	l.number(typeText)
	l.head(3, uint64(len(s)))
	l.buf = append(l.buf, s...)
}

func address(object int) uint64 { return 0xc000100000 + uint64(object)*objectSize }

func (g *generator) site(l *lane, k int) {
	g.begin(l, event.Line)
	l.number(uint64(l.stack[len(l.stack)-1].function*lines + k))
}

func (g *generator) write(l *lane, variable uint64) {
	g.begin(l, event.Write)
	l.number(variable)
}

// act executes the next step of a thread: one line of its current function.
func (g *generator) act(l *lane) {
	if len(l.stack) == 0 {
		g.enter(l)
		return
	}
	top := &l.stack[len(l.stack)-1]
	top.line++
	switch {
	case top.line == 1:
		g.site(l, 1)
		g.write(l, varName)
		l.text(shipNames[g.random.IntN(len(shipNames))])
	case top.line == 2 && len(l.stack) < 9 && g.random.IntN(3) > 0:
		g.site(l, 2)
		g.enter(l)
	case top.left > 0:
		g.loop(l, top)
	default:
		g.leave(l)
	}
}

func (g *generator) loop(l *lane, top *frame) {
	top.left--
	g.site(l, 0)
	g.write(l, varI)
	l.int(int64(top.left))
	g.site(l, 3+top.left%3)
	top.total += int64(top.left) * 7
	g.write(l, varTotal)
	l.int(top.total % 100_000)
	switch g.random.IntN(8) {
	case 0:
		g.site(l, 6)
		g.write(l, varRate)
		l.float(float64(top.total) / 3)
	case 1:
		g.site(l, 7)
		g.begin(l, event.Store)
		l.number(address(top.object))
		l.int(top.total % 1000)
	case 2:
		if len(l.stack) < 9 {
			g.site(l, 8)
			g.enter(l)
		}
	}
}

func (g *generator) enter(l *lane) {
	f := min(g.random.IntN(functions), g.random.IntN(functions), g.random.IntN(functions)) // some are called much more often than others
	if len(l.stack) == 0 {
		f = 0
	}
	o := g.random.IntN(objects)
	g.begin(l, event.Enter)
	l.number(uint64(f))
	l.buf = append(l.buf, 2)
	left := 2 + g.random.IntN(12)
	if g.random.IntN(2000) == 0 {
		left = 20_000 // sometimes a long one
	}
	l.int(int64(left))
	l.number(typePointer)
	l.head(0, address(o))
	g.begin(l, event.Memory)
	l.number(address(o))
	l.number(typeObject)
	l.buf = append(l.buf, 4<<5|3)
	l.head(0, uint64(o))
	l.buf = binary.BigEndian.AppendUint64(append(l.buf, 7<<5|27), math.Float64bits(float64(o)/100))
	l.head(3, 7)
	l.buf = append(l.buf, "Halcyon"...)
	l.stack = append(l.stack, frame{function: f, left: left, object: o})
}

func (g *generator) leave(l *lane) {
	g.site(l, lines-1)
	top := l.stack[len(l.stack)-1]
	g.begin(l, event.Leave)
	l.buf = append(l.buf, 2)
	l.int(top.total % 100_000)
	l.number(typeError)
	l.buf = append(l.buf, 7<<5|22)
	l.stack = l.stack[:len(l.stack)-1]
}
