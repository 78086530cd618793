package execlog

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/fxamacker/cbor/v2"

	"wraithology/core/event"
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
	Outer    []event.Named
}

type gapRecord struct {
	_    struct{} `cbor:",toarray"`
	Kind int
	Gap  event.Gap
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

type fieldRecord struct {
	_      struct{} `cbor:",toarray"`
	Name   string
	Type   uint32
	Offset uint64
}

type processRecord struct {
	_       struct{} `cbor:",toarray"`
	Kind    int
	Process event.Process
}

type endRecord struct {
	_    struct{} `cbor:",toarray"`
	Kind int
	End  event.End
}

// decodeMode bounds what one record may make the decoder allocate.
var decodeMode = func() cbor.DecMode {
	mode, err := cbor.DecOptions{MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 16, MaxNestedLevels: 16}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return mode
}()

// Ceilings on table numbers, so that a hostile record cannot size a table.
const maxTable = 1 << 22

var errTableNumber = errors.New("a table number is out of bounds")

// addRecords takes the records of one table block into the log's tables.
func (l *Log) addRecords(payload []byte, process uint16) error {
	decoder := decodeMode.NewDecoder(bytes.NewReader(payload))
	for n := 0; ; n++ {
		var raw cbor.RawMessage
		if err := decoder.Decode(&raw); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return fmt.Errorf("table record %d: %w", n, err)
		}
		if err := l.addRecord(raw, process); err != nil {
			return fmt.Errorf("table record %d: %w", n, err)
		}
	}
}

func (l *Log) addRecord(raw cbor.RawMessage, process uint16) error {
	c := &cursor{b: raw}
	c.array()
	kind := c.uint()
	if c.err != nil {
		return c.err
	}
	switch kind {
	case recordFunction:
		var r functionRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		if r.ID >= maxTable {
			return errTableNumber
		}
		f := event.Function{ID: event.FunctionID(r.ID), Name: r.Name, File: event.FileID(r.File), Line: r.Line, EndLine: r.EndLine, Own: r.Own}
		for _, v := range r.Variables {
			f.Variables = append(f.Variables, event.Variable{Name: v.Name, Scope: event.Scope(v.Scope), Type: v.Type, Line: v.Line, EndLine: v.EndLine})
		}
		for _, p := range r.Parameters {
			f.Parameters = append(f.Parameters, event.VariableID(p))
		}
		for _, p := range r.Results {
			f.Results = append(f.Results, event.VariableID(p))
		}
		l.Functions[f.ID] = f
	case recordFile:
		var r fileRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		l.Files[event.FileID(r.ID)] = event.File{ID: event.FileID(r.ID), Path: r.Path, Text: r.Text}
	case recordSite:
		var r siteRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		if r.ID >= maxTable {
			return errTableNumber
		}
		site := l.Sites[event.SiteID(r.ID)]
		site.ID, site.Function, site.Line, site.Reads, site.Writes = event.SiteID(r.ID), event.FunctionID(r.Function), r.Line, r.Reads, r.Writes
		l.Sites[site.ID] = site
	case recordFlows:
		var r flowsRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		if r.Site >= maxTable {
			return errTableNumber
		}
		site := l.Sites[event.SiteID(r.Site)]
		for _, f := range r.Flows {
			site.Flows = append(site.Flows, event.Flow{Kind: event.FlowKind(f.Kind), Target: f.Target, Callee: f.Callee, Text: f.Text, Reads: f.Reads, Calls: f.Calls, Receives: f.Receives, Foreign: f.Foreign})
		}
		l.Sites[event.SiteID(r.Site)] = site
	case recordValues:
		var r valuesRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		if r.Site >= maxTable {
			return errTableNumber
		}
		site := l.Sites[event.SiteID(r.Site)]
		site.ID, site.File, site.Values = event.SiteID(r.Site), event.FileID(r.File), nil
		for _, v := range r.Variables {
			site.Values = append(site.Values, event.VariableID(v))
		}
		l.Sites[site.ID] = site
	case recordOuter:
		var r outerRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		if r.Function >= maxTable {
			return errTableNumber
		}
		f := l.Functions[event.FunctionID(r.Function)]
		f.ID, f.Outer = event.FunctionID(r.Function), r.Outer
		l.Functions[f.ID] = f
	case recordGap:
		var r gapRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		l.Gaps = append(l.Gaps, r.Gap)
	case recordThread:
		var r threadRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		l.Threads[threadKey{process, r.Thread}] = event.Thread{ID: event.ThreadID(r.Thread), Process: process, Number: r.Number, Creator: r.Creator, Started: r.Started}
	case recordType:
		var r typeRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		t := event.Type{ID: event.TypeID(r.ID), Name: r.Name, Form: event.Form(r.Form), Size: r.Size, Elem: event.TypeID(r.Elem), Key: event.TypeID(r.Key), Length: r.Length}
		for _, f := range r.Fields {
			t.Fields = append(t.Fields, event.Field{Name: f.Name, Type: event.TypeID(f.Type), Offset: f.Offset})
		}
		l.types[typeKey{process, t.ID}] = &t
	case recordProcess:
		var r processRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		r.Process.ID = process
		l.Processes = append(l.Processes, r.Process)
	case recordEnd:
		var r endRecord
		if err := decodeMode.Unmarshal(raw, &r); err != nil {
			return err
		}
		r.End.Process = process
		l.Ends[process] = r.End
	default:
		// A later version's record: what it explains is unknown here, the rest is not.
	}
	return nil
}
