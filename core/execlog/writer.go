package execlog

import (
	"encoding/binary"
	"fmt"
	"io"

	"github.com/fxamacker/cbor/v2"

	"wraithology/core/event"
)

// Writer writes a log block by block. After the first error every call returns it. Records are
// collected and written before the next events.
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

// maxTableBlock is the size at which collected records are written.
const maxTableBlock = 1 << 20

func (w *Writer) record(process uint16, r event.Record) error {
	if w.err != nil {
		return w.err
	}
	if w.tables[process], w.err = event.AppendRecords(w.tables[process], process, r); w.err != nil {
		return w.err
	}
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
func (w *Writer) Function(f event.Function) error { return w.record(0, f) }

// File adds a source file to the tables.
func (w *Writer) File(f event.File) error { return w.record(0, f) }

// Site adds a site to the tables.
func (w *Writer) Site(s event.Site) error { return w.record(0, s) }

// Type adds a type of one process to the tables.
func (w *Writer) Type(process uint16, t event.Type) error { return w.record(process, t) }

// Thread adds a thread to the tables.
func (w *Writer) Thread(t event.Thread) error { return w.record(t.Process, t) }

// Process adds a process to the tables.
func (w *Writer) Process(p event.Process) error { return w.record(p.ID, p) }

// End says how a process ended.
func (w *Writer) End(e event.End) error { return w.record(e.Process, e) }

// Gap says what the evidence lacks.
func (w *Writer) Gap(g event.Gap) error { return w.record(0, g) }

// Events writes events of one thread, encoded for event.Walk, whose times count from base. Blocks
// of one thread must be written in order.
func (w *Writer) Events(process uint16, thread event.ThreadID, base int64, payload []byte) error {
	if err := w.Flush(); err != nil {
		return err
	}
	return w.block(BlockHeader{Type: EventBlock, Process: process, Thread: uint32(thread), Base: base}, payload)
}
