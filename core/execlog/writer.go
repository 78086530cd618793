package execlog

import (
	"encoding/binary"
	"fmt"
	"io"

	"github.com/fxamacker/cbor/v2"

	"wraithology/core/event"
)

// Writer writes a log block by block. Errors stick: after the first one every
// call returns it. Records are gathered and written before the next events.
type Writer struct {
	w        io.Writer
	err      error
	tables   map[uint16][]byte
	sequence uint32
	codec    Codec
}

// NewWriter writes the prefix and the header block of a log to w. Blocks are
// stored with the codec (Plain or Zstd).
func NewWriter(w io.Writer, header event.Header, codec Codec) (*Writer, error) {
	lw := &Writer{w: w, tables: map[uint16][]byte{}, codec: codec}
	prefix := make([]byte, PrefixSize)
	copy(prefix, Magic)
	binary.LittleEndian.PutUint16(prefix[8:], Version)
	if _, err := w.Write(prefix); err != nil {
		return nil, fmt.Errorf("write the log's prefix: %w", err)
	}
	payload, err := cbor.Marshal(header)
	if err != nil {
		return nil, fmt.Errorf("encode the log's header: %w", err)
	}
	return lw, lw.block(BlockHeader{Type: HeaderBlock}, payload)
}

func (w *Writer) block(h BlockHeader, payload []byte) error {
	if w.err != nil {
		return w.err
	}
	stored := payload
	h.Codec = Plain
	if w.codec == Zstd && len(payload) > 128 {
		if packed := packer.EncodeAll(payload, nil); len(packed) < len(payload) {
			stored, h.Codec = packed, Zstd
		}
	}
	h.Stored, h.Capacity, h.Unpacked = uint32(len(stored)), uint32(len(stored)), uint32(len(payload))
	h.Checksum = Checksum(stored)
	h.Sequence = w.sequence
	w.sequence++
	if _, err := w.w.Write(append(h.encode(), stored...)); err != nil {
		w.err = fmt.Errorf("write a block: %w", err)
	}
	return w.err
}

// maxTableBlock is the size at which gathered records are written out.
const maxTableBlock = 1 << 20

func (w *Writer) record(process uint16, r any) error {
	if w.err != nil {
		return w.err
	}
	b, err := cbor.Marshal(r)
	if err != nil {
		w.err = fmt.Errorf("encode a table record: %w", err)
		return w.err
	}
	w.tables[process] = append(w.tables[process], b...)
	if len(w.tables[process]) > maxTableBlock {
		return w.Flush()
	}
	return nil
}

// Flush writes the records that are gathered.
func (w *Writer) Flush() error {
	for process, payload := range w.tables {
		if len(payload) > 0 {
			w.tables[process] = nil
			if err := w.block(BlockHeader{Type: TableBlock, Process: process}, payload); err != nil {
				return err
			}
		}
	}
	return w.err
}

// Function adds a function to the tables.
func (w *Writer) Function(f event.Function) error {
	r := functionRecord{Kind: recordFunction, ID: uint32(f.ID), Name: f.Name, File: uint32(f.File), Line: f.Line, EndLine: f.EndLine, Own: f.Own}
	for _, v := range f.Variables {
		r.Variables = append(r.Variables, variableRecord{Name: v.Name, Scope: string(v.Scope), Type: v.Type, Line: v.Line, EndLine: v.EndLine})
	}
	for _, p := range f.Parameters {
		r.Parameters = append(r.Parameters, uint32(p))
	}
	for _, p := range f.Results {
		r.Results = append(r.Results, uint32(p))
	}
	if err := w.record(0, r); err != nil || len(f.Outer) == 0 {
		return err
	}
	return w.record(0, outerRecord{Kind: recordOuter, Function: uint32(f.ID), Outer: f.Outer})
}

// File adds a source file to the tables.
func (w *Writer) File(f event.File) error {
	return w.record(0, fileRecord{Kind: recordFile, ID: uint32(f.ID), Path: f.Path, Text: f.Text})
}

// Site adds a site to the tables.
func (w *Writer) Site(s event.Site) error {
	if err := w.record(0, siteRecord{Kind: recordSite, ID: uint32(s.ID), Function: uint32(s.Function), Line: s.Line, Reads: s.Reads, Writes: s.Writes}); err != nil {
		return err
	}
	if len(s.Values) > 0 {
		r := valuesRecord{Kind: recordValues, Site: uint32(s.ID), File: uint32(s.File)}
		for _, v := range s.Values {
			r.Variables = append(r.Variables, uint32(v))
		}
		if err := w.record(0, r); err != nil {
			return err
		}
	}
	if len(s.Flows) == 0 {
		return nil
	}
	r := flowsRecord{Kind: recordFlows, Site: uint32(s.ID)}
	for _, f := range s.Flows {
		r.Flows = append(r.Flows, flowRecord{Kind: uint8(f.Kind), Target: f.Target, Callee: f.Callee, Text: f.Text, Reads: f.Reads, Calls: f.Calls, Receives: f.Receives, Foreign: f.Foreign})
	}
	return w.record(0, r)
}

// Type adds a type of one process to the tables.
func (w *Writer) Type(process uint16, t event.Type) error {
	r := typeRecord{Kind: recordType, ID: uint32(t.ID), Process: process, Name: t.Name, Form: uint8(t.Form), Size: t.Size, Elem: uint32(t.Elem), Key: uint32(t.Key), Length: t.Length}
	for _, f := range t.Fields {
		r.Fields = append(r.Fields, fieldRecord{Name: f.Name, Type: uint32(f.Type), Offset: f.Offset})
	}
	return w.record(process, r)
}

// Thread adds a thread to the tables.
func (w *Writer) Thread(t event.Thread) error {
	return w.record(t.Process, threadRecord{Kind: recordThread, Thread: uint32(t.ID), Process: t.Process, Number: t.Number, Creator: t.Creator, Started: t.Started})
}

// Process adds a process to the tables.
func (w *Writer) Process(p event.Process) error {
	return w.record(p.ID, processRecord{Kind: recordProcess, Process: p})
}

// End says how a process ended.
func (w *Writer) End(e event.End) error {
	return w.record(e.Process, endRecord{Kind: recordEnd, End: e})
}

// Gap says what the evidence lacks.
func (w *Writer) Gap(g event.Gap) error {
	return w.record(0, gapRecord{Kind: recordGap, Gap: g})
}

// Events writes one thread's events, encoded as WalkEvents reads them, whose
// times count from base. Blocks of one thread must be written in their order.
func (w *Writer) Events(process uint16, thread event.ThreadID, base int64, payload []byte) error {
	if err := w.Flush(); err != nil {
		return err
	}
	return w.block(BlockHeader{Type: EventBlock, Process: process, Thread: uint32(thread), Base: base}, payload)
}
