package event

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/fxamacker/cbor/v2"
)

// Record kinds of a table block; each record is a CBOR array that begins with
// its kind.
const (
	recordFunction = 1
	recordFile     = 2
	recordSite     = 3
	recordThread   = 4
	recordType     = 5
	recordProcess  = 6
	recordEnd      = 7
	recordFlows    = 8
	recordValues   = 9
	recordOuter    = 10
	recordGap      = 11
	recordVolatile = 12
	recordOmitted  = 13
)

type functionRecord struct {
	_          struct{} `cbor:",toarray"`
	Kind       int
	ID         uint32
	Name       string
	File       uint32
	Line       int
	EndLine    int
	Own        bool
	Variables  []variableRecord
	Parameters []uint32
	Results    []uint32
}

type variableRecord struct {
	_       struct{} `cbor:",toarray"`
	Name    string
	Scope   string
	Type    string
	Line    int
	EndLine int
}

type fileRecord struct {
	_    struct{} `cbor:",toarray"`
	Kind int
	ID   uint32
	Path string
	Text string
}

type siteRecord struct {
	_        struct{} `cbor:",toarray"`
	Kind     int
	ID       uint32
	Function uint32
	Line     int
	Reads    []string
	Writes   []string
}

// flowsRecord adds to the record of a site.
type flowsRecord struct {
	_     struct{} `cbor:",toarray"`
	Kind  int
	Site  uint32
	Flows []flowRecord
}

type flowRecord struct {
	_        struct{} `cbor:",toarray"`
	Kind     uint8
	Target   string
	Callee   string
	Text     string
	Reads    []string
	Calls    []string
	Receives []string
	Foreign  []string
}

// valuesRecord adds to the record of a site.
type valuesRecord struct {
	_         struct{} `cbor:",toarray"`
	Kind      int
	Site      uint32
	File      uint32
	Variables []uint32
}

// outerRecord adds to the record of a function.
type outerRecord struct {
	_        struct{} `cbor:",toarray"`
	Kind     int
	Function uint32
	Outer    []Named
}

type gapRecord struct {
	_    struct{} `cbor:",toarray"`
	Kind int
	Gap  Gap
}

type threadRecord struct {
	_       struct{} `cbor:",toarray"`
	Kind    int
	Thread  uint32
	Process uint16
	Number  uint64
	Creator string
	Started int64
}

type typeRecord struct {
	_       struct{} `cbor:",toarray"`
	Kind    int
	ID      uint32
	Process uint16
	Name    string
	Form    uint8
	Size    uint64
	Elem    uint32
	Key     uint32
	Length  uint64
	Fields  []fieldRecord
}

// volatileRecord adds to the record of a type.
type volatileRecord struct {
	_    struct{} `cbor:",toarray"`
	Kind int
	Type uint32
}

// omittedRecord counts the calls of a function that were left out.
type omittedRecord struct {
	_        struct{} `cbor:",toarray"`
	Kind     int
	Function uint32
	Calls    uint64
}

type fieldRecord struct {
	_      struct{} `cbor:",toarray"`
	Name   string
	Type   uint32
	Offset uint64
}

type processRecord struct {
	_       struct{} `cbor:",toarray"`
	Kind    int
	Process Process
}

type endRecord struct {
	_    struct{} `cbor:",toarray"`
	Kind int
	End  End
}

// decodeMode limits the allocations of decoding one record.
var decodeMode = func() cbor.DecMode {
	mode, err := cbor.DecOptions{MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 16, MaxNestedLevels: 16}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return mode
}()

// maxTable limits table numbers, and with them the size of tables of untrusted logs.
const maxTable = 1 << 22

// Record is a row of a table that AppendRecords encodes: a File, Function, Site, Type,
// Thread, Process, End or Gap.
type Record interface{ rows(process uint16) []any }

// AppendRecords appends a record of a process in the form of docs/formats/execution-log.md,
// "Tables".
func AppendRecords(b []byte, process uint16, r Record) ([]byte, error) {
	for _, row := range r.rows(process) {
		x, err := cbor.Marshal(row)
		if err != nil {
			return b, fmt.Errorf("encode a table record: %w", err)
		}
		b = append(b, x...)
	}
	return b, nil
}

func (f File) rows(uint16) []any {
	return []any{fileRecord{Kind: recordFile, ID: uint32(f.ID), Path: f.Path, Text: f.Text}}
}

func (f Function) rows(uint16) []any {
	r := functionRecord{Kind: recordFunction, ID: uint32(f.ID), Name: f.Name, File: uint32(f.File), Line: f.Line, EndLine: f.EndLine, Own: f.Own,
		Parameters: numbersOf(f.Parameters), Results: numbersOf(f.Results)}
	for _, v := range f.Variables {
		r.Variables = append(r.Variables, variableRecord{Name: v.Name, Scope: string(v.Scope), Type: v.Type, Line: v.Line, EndLine: v.EndLine})
	}
	if len(f.Outer) == 0 {
		return []any{r}
	}
	return []any{r, outerRecord{Kind: recordOuter, Function: uint32(f.ID), Outer: f.Outer}}
}

func (s Site) rows(uint16) []any {
	rows := []any{siteRecord{Kind: recordSite, ID: uint32(s.ID), Function: uint32(s.Function), Line: s.Line, Reads: s.Reads, Writes: s.Writes}}
	if len(s.Values) > 0 {
		rows = append(rows, valuesRecord{Kind: recordValues, Site: uint32(s.ID), File: uint32(s.File), Variables: numbersOf(s.Values)})
	}
	if len(s.Flows) > 0 {
		r := flowsRecord{Kind: recordFlows, Site: uint32(s.ID)}
		for _, f := range s.Flows {
			r.Flows = append(r.Flows, flowRecord{Kind: uint8(f.Kind), Target: f.Target, Callee: f.Callee, Text: f.Text, Reads: f.Reads, Calls: f.Calls, Receives: f.Receives, Foreign: f.Foreign})
		}
		rows = append(rows, r)
	}
	return rows
}

func (t Type) rows(process uint16) []any {
	r := typeRecord{Kind: recordType, ID: uint32(t.ID), Process: process, Name: t.Name, Form: uint8(t.Form), Size: t.Size, Elem: uint32(t.Elem), Key: uint32(t.Key), Length: t.Length}
	for _, f := range t.Fields {
		r.Fields = append(r.Fields, fieldRecord{Name: f.Name, Type: uint32(f.Type), Offset: f.Offset})
	}
	if t.Volatile {
		return []any{r, volatileRecord{Kind: recordVolatile, Type: uint32(t.ID)}}
	}
	return []any{r}
}

func (t Thread) rows(uint16) []any {
	return []any{threadRecord{Kind: recordThread, Thread: uint32(t.ID), Process: t.Process, Number: t.Number, Creator: t.Creator, Started: t.Started}}
}

func (p Process) rows(uint16) []any { return []any{processRecord{Kind: recordProcess, Process: p}} }

func (e End) rows(uint16) []any { return []any{endRecord{Kind: recordEnd, End: e}} }

func (g Gap) rows(uint16) []any { return []any{gapRecord{Kind: recordGap, Gap: g}} }

func numbersOf[N ~uint32](list []N) []uint32 {
	var out []uint32
	for _, n := range list {
		out = append(out, uint32(n))
	}
	return out
}

func variablesOf(list []uint32) []VariableID {
	var out []VariableID
	for _, n := range list {
		out = append(out, VariableID(n))
	}
	return out
}

// Take adds encoded records of a process to the tables. The bytes are untrusted: the allocations of
// each record are limited. An error names the record.
func (t *Tables) Take(payload []byte, process uint16) error {
	decoder := decodeMode.NewDecoder(bytes.NewReader(payload))
	for n := 0; ; n++ {
		var raw cbor.RawMessage
		if err := decoder.Decode(&raw); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return fmt.Errorf("table record %d: %w", n, err)
		}
		c := &cursor{b: raw}
		c.array()
		kind := c.uint()
		if c.err != nil {
			return fmt.Errorf("table record %d: %w", n, c.err)
		}
		take, ok := takers[kind]
		if !ok {
			continue // a record of a later version: its contents are not known, the rest is
		}
		if err := take(t, raw, process); err != nil {
			return fmt.Errorf("table record %d: %w", n, err)
		}
	}
}

// takers add a record to the tables, by its kind.
var takers = map[uint64]func(t *Tables, raw []byte, process uint16) error{
	recordFunction: taker(func(r functionRecord) uint32 { return r.ID }, (*Tables).takeFunction),
	recordFile:     taker(nil, (*Tables).takeFile),
	recordSite:     taker(func(r siteRecord) uint32 { return r.ID }, (*Tables).takeSite),
	recordFlows:    taker(func(r flowsRecord) uint32 { return r.Site }, (*Tables).takeFlows),
	recordValues:   taker(func(r valuesRecord) uint32 { return r.Site }, (*Tables).takeValues),
	recordOuter:    taker(func(r outerRecord) uint32 { return r.Function }, (*Tables).takeOuter),
	recordVolatile: taker(func(r volatileRecord) uint32 { return r.Type }, (*Tables).takeVolatile),
	recordGap:      taker(nil, func(t *Tables, r gapRecord, _ uint16) { t.Gaps = append(t.Gaps, r.Gap) }),
	recordOmitted:  taker(func(r omittedRecord) uint32 { return r.Function }, func(t *Tables, r omittedRecord, _ uint16) { t.Omitted[FunctionID(r.Function)] += r.Calls }),
	recordThread:   taker(nil, (*Tables).takeThread),
	recordType:     taker(nil, (*Tables).takeType),
	recordProcess:  taker(nil, (*Tables).takeProcess),
	recordEnd:      taker(nil, (*Tables).takeEnd),
}

// taker returns a function that decodes a record and adds it. number returns its table number,
// which is limited.
func taker[R any](number func(R) uint32, take func(*Tables, R, uint16)) func(*Tables, []byte, uint16) error {
	return func(t *Tables, raw []byte, process uint16) error {
		var r R
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		if number != nil && number(r) >= maxTable {
			return fmt.Errorf("table row %d: at most %d rows are supported", number(r), maxTable)
		}
		take(t, r, process)
		return nil
	}
}

func (t *Tables) takeFunction(r functionRecord, _ uint16) {
	f := Function{ID: FunctionID(r.ID), Name: r.Name, File: FileID(r.File), Line: r.Line, EndLine: r.EndLine, Own: r.Own, Parameters: variablesOf(r.Parameters), Results: variablesOf(r.Results)}
	for _, v := range r.Variables {
		f.Variables = append(f.Variables, Variable{Name: v.Name, Scope: Scope(v.Scope), Type: v.Type, Line: v.Line, EndLine: v.EndLine})
	}
	t.Functions[f.ID] = f
}

func (t *Tables) takeFile(r fileRecord, _ uint16) {
	t.Files[FileID(r.ID)] = File{ID: FileID(r.ID), Path: r.Path, Text: r.Text}
}

func (t *Tables) takeSite(r siteRecord, _ uint16) {
	site := t.Sites[SiteID(r.ID)]
	site.ID, site.Function, site.Line, site.Reads, site.Writes = SiteID(r.ID), FunctionID(r.Function), r.Line, r.Reads, r.Writes
	t.Sites[site.ID] = site
}

func (t *Tables) takeFlows(r flowsRecord, _ uint16) {
	site := t.Sites[SiteID(r.Site)]
	for _, f := range r.Flows {
		site.Flows = append(site.Flows, Flow{Kind: FlowKind(f.Kind), Target: f.Target, Callee: f.Callee, Text: f.Text, Reads: f.Reads, Calls: f.Calls, Receives: f.Receives, Foreign: f.Foreign})
	}
	t.Sites[SiteID(r.Site)] = site
}

func (t *Tables) takeValues(r valuesRecord, _ uint16) {
	site := t.Sites[SiteID(r.Site)]
	site.ID, site.File, site.Values = SiteID(r.Site), FileID(r.File), variablesOf(r.Variables)
	t.Sites[site.ID] = site
}

func (t *Tables) takeOuter(r outerRecord, _ uint16) {
	f := t.Functions[FunctionID(r.Function)]
	f.ID, f.Outer = FunctionID(r.Function), r.Outer
	t.Functions[f.ID] = f
}

func (t *Tables) takeThread(r threadRecord, process uint16) {
	t.threads[threadKey{process, r.Thread}] = Thread{ID: ThreadID(r.Thread), Process: process, Number: r.Number, Creator: r.Creator, Started: r.Started}
}

func (t *Tables) takeType(r typeRecord, process uint16) {
	x := Type{ID: TypeID(r.ID), Name: r.Name, Form: Form(r.Form), Size: r.Size, Elem: TypeID(r.Elem), Key: TypeID(r.Key), Length: r.Length}
	for _, f := range r.Fields {
		x.Fields = append(x.Fields, Field{Name: f.Name, Type: TypeID(f.Type), Offset: f.Offset})
	}
	t.types[keyOfType(process, x.ID)] = &x
}

func (t *Tables) takeVolatile(r volatileRecord, process uint16) {
	if x, ok := t.types[keyOfType(process, TypeID(r.Type))]; ok {
		x.Volatile = true
	}
}

func (t *Tables) takeProcess(r processRecord, process uint16) {
	r.Process.ID = process
	t.Processes = append(t.Processes, r.Process)
}

func (t *Tables) takeEnd(r endRecord, process uint16) {
	r.End.Process = process
	t.Ends[process] = r.End
}
