package timeline

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"wraithology/core/event"
	"wraithology/core/mask"
)

// maxMoments limits the moments of a timeline, which have 32 bits.
const maxMoments = math.MaxUint32 - 1

// maxWords limits the file of lists, whose offsets have 32 bits.
const maxWords = math.MaxUint32 - 2*segmentSize

// Source is the input of a timeline. Blocks are ordered by process, thread and sequence; they are
// nil for a Feed. File, Size bytes long, is the evidence itself; its checksum identifies it when
// the timeline is opened.
type Source struct {
	Tables  *event.Tables
	Blocks  []event.Block
	Losses  []event.Loss
	Payload func(event.Block) ([]byte, error)
	File    io.ReaderAt
	Size    int64
	// Mask masks what is secret: the timeline does not have it. Nil masks nothing.
	Mask *mask.Mask
}

// Build reads the events of a log once and writes their timeline to the folder dir, which must not
// exist. Memory holds only the open calls and a block of each thread. progress, if not nil, is
// called with the completed share, between 0 and 1. Damaged blocks are listed in the losses. The
// timeline has another name until it is complete. A lasting one is synced to disk; another one is
// valid until the machine restarts.
func Build(ctx context.Context, log Source, dir string, lasting bool, progress func(done float64)) error {
	partial, err := os.MkdirTemp(filepath.Dir(dir), "."+filepath.Base(dir)+".partial-*")
	if err != nil {
		return fmt.Errorf("create the timeline's folder: %w", err)
	}
	defer os.RemoveAll(partial)
	b, err := newBuilder(log, partial, lasting, progress)
	if err != nil {
		return err
	}
	if b.masking != nil {
		err = b.masking.gather(ctx, log)
	}
	if err == nil {
		err = b.merge(ctx)
	}
	if err != nil {
		b.abandon()
		return err
	}
	if err := b.finish(); err != nil {
		return err
	}
	return b.place(partial, dir)
}

// place gives a timeline that is whole its name.
func (b *builder) place(partial, dir string) error {
	if err := os.Rename(partial, dir); err != nil {
		if _, there := os.Stat(filepath.Join(dir, indexFile)); there == nil {
			return nil // somebody else has built it in the meantime
		}
		return fmt.Errorf("rename the timeline: %w", err)
	}
	return nil
}

type builder struct {
	log      Source
	dir      string
	progress func(float64)
	lasting  bool // what is written must outlast a power failure
	read     int
	unpacked chan struct{} // limits the blocks that are being unpacked ahead

	kinds     *column[event.Kind]
	calls     *bitPackedColumn
	ids       *bitPackedColumn
	places    *bitPackedColumn
	data      *eventBytesColumn
	times     *bitPackedColumn
	chunks    *column[uint32]
	runs      *column[runRecord]
	variables *column[variableRecord]
	words     listWriter
	threads   []*threadState
	creators  []byte
	table     callTable
	traces    pieces[traceRecord]
	addresses *addressWriter

	sites, enters, returns grouped
	notable                map[event.Kind]*growing
	errors                 growing
	globals                map[globalKey]uint32
	halting                bool // beginnings and ends of calls are halts
	losses                 []event.Loss
	functions              []functionState
	sizes                  map[typeKey]uint64
	latest                 int64 // time of the last moment
	last                   *cursor
	masking                *masking // nil if nothing is masked
}

type typeKey struct {
	process uint16
	id      event.TypeID
}

type globalKey struct {
	process uint16
	name    string
}

// functionState is the data of a function that the builder needs for each event.
type functionState struct {
	globals       []string // by variable: its name if it is global
	returnsErrors bool
}

// threadState is a thread whose events are being merged.
type threadState struct {
	record      threadRecord
	runs, calls growing
	lastError   []byte
	errorCaller event.CallID // of the call that returned it
}

// cursor walks the events of one thread.
type cursor struct {
	blocks  []event.Block
	next    chan unpackedBlock
	walk    *event.Walk
	payload []byte
	raw     []byte // the event's bytes, if it comes from a feed or was masked
	hidden  *hiddenThread
	caller  event.CallID // of the next outermost call, on another thread
	e       event.Event
	process uint16
	thread  event.ThreadID
	state   *threadState
	stack   []*activation
	current int // index in stack of the current call; -1 for none
	order   int
}

type unpackedBlock struct {
	payload []byte
	err     error
}

// activation is a call that is open.
type activation struct {
	id        event.CallID
	record    callRecord
	lines     growing
	variables []growing
	touched   []uint32
}

func newBuilder(log Source, dir string, lasting bool, progress func(float64)) (*builder, error) {
	b := &builder{log: log, dir: dir, lasting: lasting, progress: progress, unpacked: make(chan struct{}, max(runtime.GOMAXPROCS(0), 2)),
		notable: map[event.Kind]*growing{}, globals: map[globalKey]uint32{}, losses: slices.Clone(log.Losses), sizes: map[typeKey]uint64{}}
	var err error
	b.table.f, err = os.Create(filepath.Join(dir, tableFile))
	if err == nil {
		b.traces.f, err = os.Create(filepath.Join(dir, tracesFile))
	}
	b.halting = log.Tables.Header.Kind != ""
	err = errors.Join(err, begin(&b.kinds, dir, kindsFile), beginPacked(&b.calls, dir, callsFile), beginPacked(&b.ids, dir, idsFile), beginPacked(&b.places, dir, placesFile),
		beginPacked(&b.times, dir, timesFile), begin(&b.chunks, dir, chunksFile), begin(&b.runs, dir, runsFile), begin(&b.variables, dir, variableFile), beginPacked(&b.words.bitPackedColumn, dir, listsFile))
	if err == nil {
		b.data, err = newEventBytesColumn(dir)
	}
	b.addresses = &addressWriter{dir: dir}
	if err != nil {
		return nil, err
	}
	b.tables()
	if log.Mask != nil {
		b.masking = newMasking(log)
	}
	return b, nil
}

// begin creates a file of the timeline and sets c to its column.
func begin[T any](c **column[T], dir, name string) (err error) {
	*c, err = newColumn[T](dir, name)
	return err
}

// beginPacked is begin for a bit-packed column.
func beginPacked(c **bitPackedColumn, dir, name string) (err error) {
	*c, err = newBitPackedColumn(dir, name)
	return err
}

// tables prepares the log's tables for fast access.
func (b *builder) tables() {
	functions, sites := 0, 0
	for id := range b.log.Tables.Functions {
		functions = max(functions, int(id)+1)
	}
	for id := range b.log.Tables.Sites {
		sites = max(sites, int(id)+1)
	}
	b.sites, b.enters, b.returns = make(grouped, sites), make(grouped, functions), make(grouped, functions)
	b.functions = make([]functionState, functions)
	for id, f := range b.log.Tables.Functions {
		s := functionState{globals: make([]string, len(f.Variables))}
		for i, v := range f.Variables {
			if v.Scope == event.Global {
				s.globals[i] = v.Name
			}
		}
		if n := len(f.Results); n > 0 {
			last := int(f.Results[n-1])
			s.returnsErrors = last < len(f.Variables) && f.Variables[last].Type == "error"
		}
		b.functions[id] = s
	}
	b.log.Tables.EachType(func(process uint16, t *event.Type) { b.sizes[typeKey{process, t.ID}] = t.Size })
}

// take appends the cursor's event to the columns.
func (b *builder) take(c *cursor) {
	e := &c.e
	m := uint32(b.kinds.n)
	if c.thread == 0 {
		b.begin(c)
	}
	if b.masking != nil {
		b.masking.apply(c)
	}
	if c != b.last {
		b.words.add(&c.state.runs, uint32(b.runs.n))
		b.runs.add(runRecord{m, uint32(c.thread)})
		b.last = c
	}
	var a *activation
	call := event.NoCall
	if c.current >= 0 {
		a = c.stack[c.current]
		call = a.id
	}
	var ended *activation
	switch e.Kind {
	case event.Enter:
		if c.current < 0 {
			call = c.caller
		}
		a = b.table.open(event.FunctionID(e.ID), c.thread, call, m)
		call = a.id
		c.stack = append(c.stack, a)
		c.current = len(c.stack) - 1
		b.words.add(&c.state.calls, uint32(call))
		b.enters.add(b.words, e.ID, m)
		if b.halting {
			b.words.add(&a.lines, m)
		}
	case event.Leave, event.Unwind:
		if a != nil {
			a.record.leave = m
			if b.halting {
				b.words.add(&a.lines, m)
			}
			for _, inner := range c.stack[c.current+1:] {
				b.end(inner) // calls that never said how they ended
			}
			c.stack = c.stack[:c.current]
			c.current--
			b.returns.add(b.words, a.record.function, m)
			ended = a
		}
	case event.Open:
		depth, f := event.DecodeOpen(e.Data)
		if depth == uint64(len(c.stack)+1) { // else it is known already
			a = b.table.open(f, c.thread, call, m)
			call = a.id
			c.stack = append(c.stack, a)
			c.current = len(c.stack) - 1
			b.words.add(&c.state.calls, uint32(call))
			if site, ok := b.log.Tables.Sites[event.SiteID(e.ID)]; ok && site.Function == f {
				b.words.add(&a.lines, m)
			}
		}
	case event.Resume:
		if n := int(e.ID); n >= 1 && n <= len(c.stack) {
			c.current = n - 1
			a = c.stack[c.current]
			call = a.id
		}
	}
	kind := e.Kind
	if e.Estimated {
		kind |= event.Estimated
	}
	if m == 0 || e.Time > b.latest {
		b.latest = e.Time
	}
	if m%chunkSize == 0 {
		b.chunks.add(uint32(b.runs.n) - 1)
	}
	if e.Args == 0 && e.Address == 0 {
		b.places.add(b.data.place())
	} else {
		kind |= hasData
		b.places.add(b.data.add(c.bytes()))
	}
	b.kinds.add(kind)
	b.calls.add(uint64(call))
	b.ids.add(uint64(e.ID))
	b.times.add(uint64(b.latest) + timeZero)
	c.state.record.last = m
	b.post(m, e, a, c)
	if ended != nil {
		b.end(ended)
	}
}

// bytes returns the encoded event of a cursor.
func (c *cursor) bytes() []byte {
	if c.raw == nil {
		return c.walk.Raw(c.payload)
	}
	return c.raw
}

// post adds an event to the lists by key.
func (b *builder) post(m uint32, e *event.Event, a *activation, c *cursor) {
	switch e.Kind {
	case event.Line:
		b.sites.add(b.words, e.ID, m)
		if a != nil {
			b.words.add(&a.lines, m)
		}
	case event.Write, event.Cell:
		if a != nil {
			a.wrote(b, e.ID, m)
			if e.Kind == event.Cell {
				b.global(a, e.ID, m, c.process)
			}
		}
	case event.Fields, event.Message, event.Error:
		b.sites.add(b.words, e.ID, m)
		if a != nil {
			if e.Kind != event.Fields {
				b.words.add(&a.lines, m)
			}
			for _, v := range b.log.Tables.Sites[event.SiteID(e.ID)].Values {
				a.wrote(b, uint32(v), m)
			}
		}
		if e.Kind != event.Fields {
			b.note(e.Kind, m)
		}
	case event.Leave:
		if a != nil && int(a.record.function) < len(b.functions) && b.functions[a.record.function].returnsErrors {
			b.returned(m, e, a, c.state)
		}
	case event.Element, event.Delete, event.Entries:
		tag := uint32(0)
		if e.Kind != event.Entries {
			tag = keyTag(event.FirstItem(e.Data))
		}
		b.addresses.add(addressKey(keyMap, c.process, e.Address), m, tag)
	case event.Exposed:
		if size, _ := event.DecodeExposed(e.Data); size == 0 {
			b.addresses.add(addressKey(keyMap, c.process, e.Address), m, 0)
		}
	case event.Snapshot:
		b.note(e.Kind, m)
		return // it says nothing of the program's own
	case event.Panic, event.Recover, event.Failure, event.Exit, event.Output:
		b.note(e.Kind, m)
	case event.Wait, event.Pass, event.Send, event.Receive, event.Release:
		b.addresses.add(addressKey(keySync, c.process, e.Address), m, uint32(e.Kind))
	}
	if e.Address != 0 {
		b.cover(m, e, c.process)
	}
}

func (b *builder) note(k event.Kind, m uint32) {
	if b.notable[k] == nil {
		b.notable[k] = &growing{}
	}
	b.words.add(b.notable[k], m)
}

// maxVariable limits the variable numbers of a call.
const maxVariable = 1 << 14

func (a *activation) wrote(b *builder, variable, m uint32) {
	if variable >= maxVariable {
		return
	}
	for int(variable) >= len(a.variables) {
		a.variables = append(a.variables, growing{})
	}
	if a.variables[variable].count == 0 {
		a.touched = append(a.touched, variable)
	}
	b.words.add(&a.variables[variable], m)
}

// global records the first moment with the address of a global variable.
func (b *builder) global(a *activation, variable, m uint32, process uint16) {
	if int(a.record.function) >= len(b.functions) {
		return
	}
	names := b.functions[a.record.function].globals
	if int(variable) >= len(names) || names[variable] == "" {
		return
	}
	k := globalKey{process, names[variable]}
	if _, ok := b.globals[k]; !ok {
		b.globals[k] = m
	}
}

// returned records the return of an error, unless the call just got it from one of its own calls.
func (b *builder) returned(m uint32, e *event.Event, a *activation, th *threadState) {
	last, isNil := event.LastValue(e.Data, e.Args)
	if isNil || last == nil {
		return
	}
	passedOn := th.errorCaller == a.id && string(th.lastError) == string(last)
	th.lastError, th.errorCaller = append(th.lastError[:0], last...), event.CallID(a.record.parent)
	if !passedOn {
		b.words.add(&b.errors, m)
	}
}

// Limits of the postings by address, for any log and for each moment. Beyond them an event is
// posted under its first region only.
const (
	freePostings = 1 << 20
	postingsEach = 64
)

// cover posts a memory event under its regions.
func (b *builder) cover(m uint32, e *event.Event, process uint16) {
	var size uint64
	switch e.Kind {
	case event.Cell, event.Memory, event.Store:
		id, _ := event.TypeOf(e.Data)
		size = b.sizes[typeKey{process, id}]
	case event.Spread:
		id, n := event.TypeOf(e.Data)
		if s := b.sizes[typeKey{process, id}]; s < maxCovered {
			size = s * n
		}
	}
	most := uint64(maxCovered)
	switch e.Kind {
	case event.Move:
		_, size = event.DecodeMove(e.Data)
		most = maxMoved
	case event.Made:
		size = event.DecodeMade(e.Data)
		most = maxMoved
	case event.Exposed:
		size, _ = event.DecodeExposed(e.Data)
		most = maxMoved
	}
	if size == 0 || e.Address > math.MaxUint64-maxMoved {
		return
	}
	if b.addresses.n > freePostings+postingsEach*b.kinds.n {
		most = regionSize // an invalid log must not fill the disk
	}
	last := e.Address + min(size, most) - 1
	for r := e.Address / regionSize; r <= last/regionSize; r++ {
		lo, hi := uint32(0), uint32(regionSize-1)
		if r == e.Address/regionSize {
			lo = uint32(e.Address % regionSize)
		}
		if r == last/regionSize {
			hi = uint32(last % regionSize)
		}
		b.addresses.add(addressKey(keyMemory, process, r), m, lo|hi<<8|uint32(e.Kind)<<16)
	}
}

// end writes a call that is over.
func (b *builder) end(a *activation) {
	a.record.lines = b.words.end(&a.lines)
	slices.Sort(a.touched)
	a.record.variables, a.record.written = uint32(b.variables.n), uint32(len(a.touched))
	for _, v := range a.touched {
		g := &a.variables[v]
		if g.count == 1 {
			b.variables.add(variableRecord{v, 1, g.buf[0]})
			g.buf, g.count = g.buf[:0], 0
			continue
		}
		r := b.words.end(g)
		b.variables.add(variableRecord{v, r.count, r.at})
	}
	b.table.end(a)
}

// endThread ends the calls that are open at the end of a thread's events.
func (b *builder) endThread(c *cursor) {
	if c.state != nil {
		c.state.record.open = uint32(len(c.stack))
	}
	for i := len(c.stack) - 1; i >= 0; i-- {
		b.end(c.stack[i])
	}
	c.stack, c.current = nil, -1
	if c.state != nil {
		c.state.record.runs, c.state.record.calls = b.words.end(&c.state.runs), b.words.end(&c.state.calls)
		c.state.lastError = nil
	}
}

// abandon closes the files of a timeline that is not finished.
func (b *builder) abandon() {
	for _, f := range []*os.File{b.kinds.f, b.chunks.f, b.runs.f, b.variables.f, b.table.f, b.traces.f} {
		f.Close()
	}
	for _, c := range []*bitPackedColumn{b.calls, b.ids, b.places, b.times, b.words.bitPackedColumn} {
		c.abandon()
	}
	b.data.abandon()
	b.addresses.abandon()
}

// finish writes the data in memory, the index last.
func (b *builder) finish() error {
	write := func(name string, list grouped) error {
		c, err := newColumn[listRecord](b.dir, name)
		if err != nil {
			return err
		}
		list.end(b.words, c)
		return c.close()
	}
	err := errors.Join(write(sitesFile, b.sites), write(entersFile, b.enters), write(returnsFile, b.returns))
	x := index{LogSize: b.log.Size, Moments: b.kinds.n, Losses: b.losses, Notable: map[event.Kind][2]uint32{}, Sizes: map[string]int64{}}
	for k, g := range b.notable {
		r := b.words.end(g)
		x.Notable[k] = [2]uint32{r.count, r.at}
	}
	r := b.words.end(&b.errors)
	x.Errors = [2]uint32{r.count, r.at}
	for k, m := range b.globals {
		x.Globals = append(x.Globals, globalRecord{k.process, k.name, m})
	}
	threads, e := newColumn[threadRecord](b.dir, threadsFile)
	if e != nil {
		return e
	}
	for _, th := range b.threads {
		if th.record.runs.count == 0 { // the merge ended before the thread did
			th.record.runs, th.record.calls = b.words.end(&th.runs), b.words.end(&th.calls)
		}
		threads.add(th.record)
	}
	err = errors.Join(err, b.kinds.close(), b.calls.close(), b.ids.close(), b.places.close(), b.data.close(), b.times.close(), b.chunks.close(), b.runs.close(),
		b.variables.close(), b.words.close(), threads.close(), b.table.close(), b.traces.close(), b.addresses.end(),
		os.WriteFile(filepath.Join(b.dir, creatorsFile), b.creators, 0o600))
	if err == nil {
		x.TablesSum, err = b.writeTables()
	}
	if err == nil {
		err = writeSums(b.dir)
	}
	if err != nil {
		return err
	}
	entries, err := os.ReadDir(b.dir)
	if err != nil {
		return fmt.Errorf("list the timeline's files: %w", err)
	}
	for _, entry := range entries {
		info, err := entry.Info()
		if err != nil {
			return fmt.Errorf("list the timeline's files: %w", err)
		}
		x.Sizes[entry.Name()] = info.Size()
	}
	if x.LogSum, err = logSum(b.log.File, x.LogSize); err != nil {
		return err
	}
	if !b.lasting {
		x.Boot = boot()
	}
	if x.Boot == "" {
		if err := syncAll(b.dir); err != nil {
			return err
		}
	}
	return writeIndex(b.dir, x)
}

// writeTables writes the log's tables, so that opening need not read the log, and returns their
// checksum.
func (b *builder) writeTables() (uint32, error) {
	tables := b.log.Tables
	if b.masking != nil {
		tables = b.masking.tables(tables)
	}
	encoded, err := tables.Encode()
	if err == nil {
		err = os.WriteFile(filepath.Join(b.dir, tablesFile), encoded, 0o600)
	}
	if err != nil {
		return 0, fmt.Errorf("write the timeline's tables: %w", err)
	}
	return crc32.Checksum(encoded, castagnoli), nil
}
