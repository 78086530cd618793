// Package timeline indexes an execution log for replay: a total order of moments, a table of calls,
// and lists of moments by call, site, function, variable, address and kind. A timeline is built in
// one pass and bounded memory. It is a folder of mapped files, so that opening a long one is as
// fast as opening a short one. It is derived from the log and can be built again at any time.
package timeline

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"unsafe"

	"wraithology/core/event"
	"wraithology/core/mapped"
)

// Call is one activation of a function. Leave is event.NoMoment if the call was open at the end of
// the log.
type Call struct {
	Function event.FunctionID
	Thread   event.ThreadID
	Process  uint16
	Parent   event.CallID
	Enter    event.Moment
	Leave    event.Moment
}

// Timeline is an opened timeline. It is immutable and safe for concurrent use.
type Timeline struct {
	Header    event.Header
	Processes []event.Process
	Ends      map[uint16]event.End
	Functions map[event.FunctionID]event.Function
	Files     map[event.FileID]event.File
	Sites     map[event.SiteID]event.Site
	Gaps      []event.Gap
	Losses    []event.Loss

	functions []*event.Function // by number
	siteTable []*event.Site     // by number
	kinds     records[event.Kind]
	calls     bitPacked
	ids       bitPacked
	places    bitPacked
	data      eventBytes
	times     bitPacked
	chunks    records[uint32]
	runs      records[runRecord]
	table     records[callRecord]
	variables records[variableRecord]
	words     bitPacked
	threads   records[threadRecord]
	creators  records[byte]
	sites     records[listRecord]
	enters    records[listRecord]
	returns   records[listRecord]
	keys      records[keyRecord]
	posted    records[postingRecord]
	traces    records[traceRecord]
	notable   map[event.Kind]listRecord
	errors    listRecord
	globals   map[globalKey]event.Moment
	types     *event.Tables
}

// errRemoved is the error for a timeline that another process removes while it is opened.
var errRemoved = fmt.Errorf("%w: it was removed", errStale)

// Stale reports whether an error of Open means that the timeline must be built again.
func Stale(err error) bool { return errors.Is(err, errStale) }

// Open opens the timeline in dir of the log in r, size bytes long. The log is not needed after
// that. If the timeline is damaged, or belongs to another log or version, Stale(err) is true.
func Open(dir string, r io.ReaderAt, size int64) (*Timeline, error) {
	x, err := readIndex(dir)
	if err != nil {
		return nil, err
	}
	if sum, err := logSum(r, size); err != nil {
		return nil, err
	} else if size != x.LogSize || sum != x.LogSum {
		return nil, fmt.Errorf("%w: the log has changed", errStale)
	}
	return x.open(dir)
}

// OpenKnown opens the timeline in the folder dir without comparing it to the log.
func OpenKnown(dir string) (*Timeline, error) {
	x, err := readIndex(dir)
	if err != nil {
		return nil, err
	}
	return x.open(dir)
}

func (x index) open(dir string) (*Timeline, error) {
	encoded, err := os.ReadFile(filepath.Join(dir, tablesFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errRemoved
	}
	if err != nil {
		return nil, fmt.Errorf("open the timeline's tables: %w", err)
	}
	if crc32.Checksum(encoded, castagnoli) != x.TablesSum {
		return nil, fmt.Errorf("%w: its tables are damaged", errStale)
	}
	tables, err := event.DecodeTables(encoded)
	if err != nil {
		return nil, fmt.Errorf("%w: its tables: %w", errStale, err)
	}
	t := &Timeline{Header: tables.Header, Processes: tables.Processes, Ends: tables.Ends, Functions: tables.Functions, Files: tables.Files, Sites: tables.Sites, Gaps: tables.Gaps,
		Losses: x.Losses, types: tables, notable: map[event.Kind]listRecord{}, globals: map[globalKey]event.Moment{}, errors: listRecord{x.Errors[0], x.Errors[1]}}
	for k, r := range x.Notable {
		t.notable[k] = listRecord{r[0], r[1]}
	}
	for _, g := range x.Globals {
		t.globals[globalKey{g.Process, g.Name}] = event.Moment(g.Moment)
	}
	slices.SortFunc(t.Processes, func(a, b event.Process) int { return int(a.ID) - int(b.ID) })
	for id, f := range t.Functions {
		for len(t.functions) <= int(id) {
			t.functions = append(t.functions, nil)
		}
		t.functions[id] = &f
	}
	for id, s := range t.Sites {
		for len(t.siteTable) <= int(id) {
			t.siteTable = append(t.siteTable, nil)
		}
		t.siteTable[id] = &s
	}
	if err := t.mapFiles(dir, x.Sizes); errors.Is(err, fs.ErrNotExist) {
		return nil, errRemoved
	} else if err != nil {
		return nil, err
	}
	return t, nil
}

// columnFile is a column of a timeline, with the name of its file.
type columnFile struct {
	name string
	mapping
}

// mapping is the interface of records of any type.
type mapping interface {
	size() uintptr
	mapFrom(owner *Timeline, dir, name string, sums []uint32) error
}

func (t *Timeline) columns() []columnFile {
	list := []columnFile{
		{kindsFile, &t.kinds}, {dataFile, &t.data.file}, {chunksFile, &t.chunks}, {runsFile, &t.runs}, {tableFile, &t.table}, {variableFile, &t.variables},
		{threadsFile, &t.threads}, {creatorsFile, &t.creators}, {sitesFile, &t.sites}, {entersFile, &t.enters},
		{returnsFile, &t.returns}, {keysFile, &t.keys}, {postedFile, &t.posted}, {tracesFile, &t.traces},
	}
	for name, p := range map[string]*bitPacked{callsFile: &t.calls, idsFile: &t.ids, placesFile: &t.places, startsFile: &t.data.starts, timesFile: &t.times, listsFile: &t.words} {
		list = append(list, columnFile{name, &p.words}, columnFile{groupsOf(name), &p.groups})
	}
	slices.SortFunc(list, func(a, b columnFile) int { return strings.Compare(a.name, b.name) })
	return list
}

// mapFiles maps the files of the timeline in dir with their sizes.
func (t *Timeline) mapFiles(dir string, sizes map[string]int64) error {
	f, err := os.Open(filepath.Join(dir, sumsFile))
	if err != nil {
		return fmt.Errorf("%w: %w", errStale, err)
	}
	defer f.Close()
	b, err := mapped.File(t, f)
	if err != nil {
		return fmt.Errorf("open the timeline: %w", err)
	}
	sums := unsafe.Slice((*uint32)(unsafe.Pointer(unsafe.SliceData(b))), len(b)/4)
	for _, c := range t.columns() {
		n := min(blocks(int(sizes[c.name]), c.size()), len(sums))
		if err := c.mapFrom(t, dir, c.name, sums[:n]); err != nil {
			return err
		}
		sums = sums[n:]
	}
	t.data.open(t)
	return nil
}

// noFunction is returned for functions that are not in the log's tables.
var noFunction event.Function

// Function returns a function of the program.
func (t *Timeline) Function(id event.FunctionID) *event.Function {
	if int(id) < len(t.functions) && t.functions[id] != nil {
		return t.functions[id]
	}
	return &noFunction
}

// FunctionOf returns the function of a call.
func (t *Timeline) FunctionOf(c event.CallID) *event.Function {
	return t.Function(event.FunctionID(t.table.ref(int(c)).function))
}

// Len returns the number of moments.
func (t *Timeline) Len() event.Moment { return event.Moment(t.kinds.len()) }

// Kind returns the kind of the event at a moment; m must be in range, as in all methods.
func (t *Timeline) Kind(m event.Moment) event.Kind {
	t.kinds.need(int(m))
	return t.kinds.list[m] &^ (event.Estimated | hasData)
}

// Estimated reports whether the time of a moment was not read from a clock.
func (t *Timeline) Estimated(m event.Moment) bool {
	t.kinds.need(int(m))
	return t.kinds.list[m]&event.Estimated != 0
}

// ID returns the Event.ID of a moment: the site of a line, the function of an
// enter, the variable of a write.
func (t *Timeline) ID(m event.Moment) uint32 {
	return uint32(t.ids.at(int(m)))
}

// Time returns a moment's time in nanoseconds since the start of the log.
func (t *Timeline) Time(m event.Moment) int64 {
	return int64(t.times.at(int(m)) - timeZero)
}

// run returns the run that a moment is in.
func (t *Timeline) run(m event.Moment) *runRecord {
	from := int(t.chunks.at(int(m / chunkSize)))
	to := t.runs.len()
	if next := int(m/chunkSize) + 1; next < t.chunks.len() {
		to = int(t.chunks.at(next)) + 1
	}
	i := sort.Search(to-from, func(i int) bool { return t.runStart(from+i) > m })
	return t.runs.ref(from + i - 1)
}

// runStart returns the first moment of a run.
func (t *Timeline) runStart(i int) event.Moment {
	t.runs.need(i)
	return event.Moment(t.runs.list[i].moment)
}

// Thread returns the thread on which a moment is.
func (t *Timeline) Thread(m event.Moment) event.ThreadID {
	if c := t.CallOf(m); c != event.NoCall {
		t.table.need(int(c))
		return event.ThreadID(t.table.list[c].thread)
	}
	return event.ThreadID(t.run(m).thread)
}

// CallOf returns the call that a moment belongs to, or event.NoCall.
func (t *Timeline) CallOf(m event.Moment) event.CallID {
	return event.CallID(t.calls.at(int(m)))
}

// Call returns a call.
func (t *Timeline) Call(c event.CallID) Call {
	r := t.table.ref(int(c))
	call := Call{Function: event.FunctionID(r.function), Thread: event.ThreadID(r.thread), Parent: event.CallID(r.parent), Enter: event.Moment(r.enter), Leave: event.Moment(r.leave)}
	call.Process = uint16(t.threads.ref(int(r.thread) - 1).process)
	if r.leave == math.MaxUint32 {
		call.Leave = event.NoMoment
	}
	return call
}

// Calls returns the number of calls.
func (t *Timeline) Calls() int { return t.table.len() }

// Threads returns the number of threads; they are numbered from 1.
func (t *Timeline) Threads() int { return t.threads.len() }

// ThreadInfo returns what is known of a thread.
func (t *Timeline) ThreadInfo(id event.ThreadID) event.Thread {
	r := t.threads.ref(int(id) - 1)
	creator, name, _ := strings.Cut(string(t.creators.slice(int(r.creator), int(r.creator+r.length))), "\x00")
	return event.Thread{ID: id, Process: uint16(r.process), Number: r.number, Name: name, Started: r.started, Creator: creator}
}

// Span returns a thread's first and last moment.
func (t *Timeline) Span(id event.ThreadID) (first, last event.Moment) {
	r := t.threads.ref(int(id) - 1)
	return event.Moment(r.first), event.Moment(r.last)
}

// Ended reports whether a thread has no more moments after m, and no open calls at its end.
func (t *Timeline) Ended(id event.ThreadID, m event.Moment) bool {
	r := t.threads.ref(int(id) - 1)
	return event.Moment(r.last) < m && r.open == 0
}

// Event decodes the event at a moment.
func (t *Timeline) Event(m event.Moment) event.Event {
	if t.kinds.at(int(m))&hasData == 0 {
		return event.Event{Kind: t.Kind(m), ID: t.ID(m), Time: t.Time(m)}
	}
	place := t.places.at(int(m))
	e, _, err := event.EventAt(t.data.from(place))
	if err != nil { // it was walked when the timeline was built
		t.data.file.damaged(err.Error())
	}
	e.Time = t.Time(m)
	return e
}

// Values decodes the values of the event at a moment.
func (t *Timeline) Values(m event.Moment) ([]event.Value, error) {
	e := t.Event(m)
	return event.DecodeValues(e.Data, e.Args, t.Types(t.Process(m)))
}

// Process returns the process of a moment.
func (t *Timeline) Process(m event.Moment) uint16 {
	return uint16(t.threads.ref(int(t.Thread(m)) - 1).process)
}

// Types returns the types of a process.
func (t *Timeline) Types(process uint16) event.Types { return t.types.Types(process) }

// noSite is returned for sites that are not in the log's tables.
var noSite event.Site

// Site returns the site of a Line moment.
func (t *Timeline) Site(m event.Moment) *event.Site {
	if id := int(t.ID(m)); id < len(t.siteTable) && t.siteTable[id] != nil {
		return t.siteTable[id]
	}
	return &noSite
}

func (t *Timeline) list(r listRecord) List { return List{&t.words, r} }

func (t *Timeline) listOf(of *records[listRecord], i int) List {
	if i >= of.len() {
		return List{}
	}
	return t.list(of.at(i))
}

// runsOf lists the runs of a thread.
func (t *Timeline) runsOf(id event.ThreadID) List { return t.list(t.threads.ref(int(id) - 1).runs) }

// runEnd returns the moment after the last one of a run.
func (t *Timeline) runEnd(i int) event.Moment {
	if i+1 < t.runs.len() {
		return t.runStart(i + 1)
	}
	return t.Len()
}

// OnThread returns the last moment of a thread that is at most m, or NoMoment.
func (t *Timeline) OnThread(thread event.ThreadID, m event.Moment) event.Moment {
	if m < 0 {
		return event.NoMoment
	}
	if m < t.Len() {
		if c := t.CallOf(m); c != event.NoCall && event.ThreadID(t.table.ref(int(c)).thread) == thread {
			return m
		}
	}
	runs := t.runsOf(thread)
	i := sort.Search(runs.Len(), func(i int) bool { return t.runStart(int(runs.At(i))) > m }) - 1
	if i < 0 {
		return event.NoMoment
	}
	return min(m, t.runEnd(int(runs.At(i)))-1)
}

// Next returns the first moment of a thread after m, or NoMoment.
func (t *Timeline) Next(thread event.ThreadID, m event.Moment) event.Moment {
	runs := t.runsOf(thread)
	i := sort.Search(runs.Len(), func(i int) bool { return t.runEnd(int(runs.At(i))) > m+1 })
	if i == runs.Len() {
		return event.NoMoment
	}
	return max(m+1, t.runStart(int(runs.At(i))))
}

// Walk yields a thread's moments after m, or those before it, latest first.
func (t *Timeline) Walk(thread event.ThreadID, m event.Moment, back bool) func(yield func(event.Moment) bool) {
	runs := t.runsOf(thread)
	return func(yield func(event.Moment) bool) {
		if back {
			i := sort.Search(runs.Len(), func(i int) bool { return t.runStart(int(runs.At(i))) >= m }) - 1
			for ; i >= 0; i-- {
				r := int(runs.At(i))
				for x := min(m, t.runEnd(r)) - 1; x >= t.runStart(r); x-- {
					if !yield(x) {
						return
					}
				}
			}
			return
		}
		i := sort.Search(runs.Len(), func(i int) bool { return t.runEnd(int(runs.At(i))) > m+1 })
		for ; i < runs.Len(); i++ {
			r := int(runs.At(i))
			for x := max(m+1, t.runStart(r)); x < t.runEnd(r); x++ {
				if !yield(x) {
					return
				}
			}
		}
	}
}

// CallLines lists the moments at which a call reached a line.
func (t *Timeline) CallLines(c event.CallID) List { return t.list(t.table.ref(int(c)).lines) }

// SiteMoments lists the moments at which a site was reached.
func (t *Timeline) SiteMoments(s event.SiteID) List { return t.listOf(&t.sites, int(s)) }

// Enters lists the moments at which a function was entered.
func (t *Timeline) Enters(f event.FunctionID) List { return t.listOf(&t.enters, int(f)) }

// Returns lists the moments at which calls of a function ended, by a return or a panic.
func (t *Timeline) Returns(f event.FunctionID) List { return t.listOf(&t.returns, int(f)) }

// ThreadCalls lists the numbers of a thread's calls.
func (t *Timeline) ThreadCalls(id event.ThreadID) List {
	return t.list(t.threads.ref(int(id) - 1).calls)
}

// Notable lists the moments of one of the rare kinds: Panic, Recover, Failure,
// Exit, Output.
func (t *Timeline) Notable(k event.Kind) List { return t.list(t.notable[k]) }

// ErrorReturns lists the moments at which a call returned an error that it did not just get from
// one of its own calls.
func (t *Timeline) ErrorReturns() List { return t.list(t.errors) }

// LastLine returns the last line moment of a call that is at most m, or NoMoment.
func (t *Timeline) LastLine(c event.CallID, m event.Moment) event.Moment {
	if m >= 0 && t.CallOf(m) == c && t.Kind(m) == event.Line {
		return m
	}
	list := t.CallLines(c)
	if i := list.Before(m); i >= 0 {
		return list.At(i)
	}
	return event.NoMoment
}

// WritesOf lists the moments at which a variable of a call was written, without arguments and
// results.
func (t *Timeline) WritesOf(c event.CallID, v event.VariableID) List {
	r := t.table.ref(int(c))
	list := t.variables.slice(int(r.variables), int(r.variables+r.written))
	i := sort.Search(len(list), func(i int) bool { return list[i].variable >= uint32(v) })
	switch {
	case i == len(list) || list[i].variable != uint32(v):
		return List{}
	case list[i].count == 1:
		return List{nil, listRecord{1, list[i].at}}
	}
	return t.list(listRecord{list[i].count, list[i].at})
}

// LastWrite returns the last moment at or before m at which a variable of a call got a value,
// including arguments and results; or NoMoment.
func (t *Timeline) LastWrite(c event.CallID, v event.VariableID, m event.Moment) event.Moment {
	call := t.Call(c)
	f := t.Function(call.Function)
	if call.Leave != event.NoMoment && call.Leave <= m && t.Kind(call.Leave) == event.Leave && slices.Contains(f.Results, v) {
		return call.Leave
	}
	list := t.WritesOf(c, v)
	if i := list.Before(m); i >= 0 {
		return list.At(i)
	}
	if call.Enter <= m && slices.Contains(f.Parameters, v) {
		return call.Enter
	}
	return event.NoMoment
}

// Global returns a moment with the address of a global variable.
func (t *Timeline) Global(process uint16, name string) event.Moment {
	if m, ok := t.globals[globalKey{process, name}]; ok {
		return m
	}
	return event.NoMoment
}

// CountOn counts the moments of a thread from first to last.
func (t *Timeline) CountOn(thread event.ThreadID, first, last event.Moment) int64 {
	runs := t.runsOf(thread)
	n := int64(0)
	i := sort.Search(runs.Len(), func(i int) bool { return t.runEnd(int(runs.At(i))) > first })
	for ; i < runs.Len(); i++ {
		r := int(runs.At(i))
		begin := max(t.runStart(r), first)
		if begin > last {
			break
		}
		n += int64(min(t.runEnd(r)-1, last) - begin + 1)
	}
	return n
}
