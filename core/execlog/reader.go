package execlog

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"wraithology/core/event"
)

// Log is an opened log: its tables, and its event blocks by process, thread and sequence. Damage is
// listed in Losses.
type Log struct {
	*event.Tables
	Blocks []event.Block
	// Summary says how the recording ended; nil if the log has none.
	Summary *Summary
	Losses  []event.Loss

	headers map[int64]BlockHeader // by the offset of the payload
	r       io.ReaderAt
	size    int64
}

// ErrNotALog means that the bytes are not an execution log.
var ErrNotALog = errors.New("not a .wraith execution log")

// Open reads the prefix and tables of the log in r, size bytes long, and finds
// its event blocks. Damage does not fail the opening: it is listed in Losses.
func Open(r io.ReaderAt, size int64) (*Log, error) {
	l := &Log{Tables: event.NewTables(), headers: map[int64]BlockHeader{}, r: r, size: size}
	if size == 0 {
		return nil, fmt.Errorf("%w: the file is empty", ErrNotALog)
	}
	prefix := make([]byte, PrefixSize)
	if size < PrefixSize {
		return nil, fmt.Errorf("%w: it has %d bytes, fewer than a log's prefix", ErrNotALog, size)
	}
	if _, err := r.ReadAt(prefix, 0); err != nil {
		return nil, fmt.Errorf("read the log's prefix: %w", err)
	}
	if string(prefix[:8]) != Magic {
		return nil, fmt.Errorf("%w: it begins with %q", ErrNotALog, prefix[:8])
	}
	if v := binary.LittleEndian.Uint16(prefix[8:]); v < 1 || v > Version {
		return nil, fmt.Errorf("the log is of format version %d, this program reads versions 1 to %d: use a newer wraith", v, Version)
	}
	if err := l.scan(); err != nil {
		return nil, err
	}
	slices.SortStableFunc(l.Blocks, func(a, b event.Block) int {
		return cmp.Or(cmp.Compare(a.Process, b.Process), cmp.Compare(a.Thread, b.Thread), cmp.Compare(l.headers[a.Offset].Sequence, l.headers[b.Offset].Sequence))
	})
	return l, nil
}

// OpenFile opens the log at path. Close closes the file.
func OpenFile(path string) (*Log, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%w: %s is not a file", ErrNotALog, path)
	}
	if err == nil {
		var l *Log
		if l, err = Open(f, info.Size()); err == nil {
			return l, nil
		}
	}
	f.Close()
	return nil, err
}

// Close closes the file of a log that was opened with OpenFile.
func (l *Log) Close() error {
	if c, ok := l.r.(io.Closer); ok {
		return c.Close()
	}
	return nil
}

func (l *Log) scan() error {
	head := make([]byte, HeaderSize)
	for at := int64(PrefixSize); at < l.size; {
		n, err := l.r.ReadAt(head, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("read the log at byte %d: %w", at, err)
		}
		h, err := decodeHeader(head[:n])
		if err != nil {
			next := l.nextBlock(at + 1)
			if !l.unused(at, next) {
				what := err.Error()
				if next == l.size && n < HeaderSize {
					what = "the log was cut off within a block's header"
				}
				l.lose(at, next-at, what)
			}
			at = next
			continue
		}
		payload := at + HeaderSize
		end := payload + int64(h.Capacity)
		if end > l.size && (h.Codec != Live || payload+int64(h.Stored) > l.size) {
			l.lose(at, l.size-at, "the log was cut off within a block")
			return nil
		}
		if err := l.take(h, payload); err != nil {
			l.lose(payload, int64(h.Stored), err.Error())
		}
		at = end
	}
	return nil
}

// take keeps an event block for later and reads any other block now.
func (l *Log) take(h BlockHeader, payload int64) error {
	if h.Stored == 0 || h.Type > SummaryBlock {
		return nil // room that a recorder kept for later, or a block of a later version
	}
	if h.Type == EventBlock {
		l.Blocks = append(l.Blocks, event.Block{Process: h.Process, Thread: h.Thread, Base: h.Base, Offset: payload, Bytes: int64(h.Stored)})
		l.headers[payload] = h
		return nil
	}
	plain, err := ReadPayload(l.r, h, payload)
	if err != nil {
		return err
	}
	if h.Type == SummaryBlock {
		l.Summary, err = decodeSummary(plain)
		return err
	}
	if h.Type == HeaderBlock {
		return event.DecodeHeader(plain, &l.Header)
	}
	return l.Take(plain, h.Process)
}

func (l *Log) lose(at, n int64, what string) {
	l.Losses = append(l.Losses, event.Loss{Offset: at, Bytes: n, What: what})
}

// ReadPayload reads and unpacks the payload of a block at an offset of the log in r.
func ReadPayload(r io.ReaderAt, h BlockHeader, at int64) ([]byte, error) {
	stored := make([]byte, h.Stored)
	if _, err := r.ReadAt(stored, at); err != nil {
		return nil, fmt.Errorf("read the block at byte %d: %w", at, err)
	}
	return h.unpack(stored)
}

// Reader returns what the log is read from.
func (l *Log) Reader() io.ReaderAt { return l.r }

// Size returns the log's length in bytes.
func (l *Log) Size() int64 { return l.size }

// Payload returns the plain payload of an event block. If its bytes are damaged, it returns an
// error.
func (l *Log) Payload(b event.Block) ([]byte, error) {
	return ReadPayload(l.r, l.headers[b.Offset], b.Offset)
}

// nextBlock finds the next place from at on where a whole block header is, or the end of the log.
func (l *Log) nextBlock(at int64) int64 {
	magic := binary.LittleEndian.AppendUint32(nil, BlockMagic)
	buf := make([]byte, 1<<20)
	for at < l.size {
		n, _ := l.r.ReadAt(buf, at)
		for from := 0; ; {
			i := bytes.Index(buf[from:n], magic)
			if i < 0 {
				break
			}
			head := make([]byte, HeaderSize)
			m, _ := l.r.ReadAt(head, at+int64(from+i))
			if _, err := decodeHeader(head[:m]); err == nil {
				return at + int64(from+i)
			}
			from += i + 1
		}
		if n <= len(magic) {
			break
		}
		at += int64(n - len(magic) + 1)
	}
	return l.size
}

// unused reports whether the bytes between from and to were never written: a
// recorder reserves room ahead of its events.
func (l *Log) unused(from, to int64) bool {
	buf := make([]byte, 1<<16)
	for from < to {
		n, _ := l.r.ReadAt(buf[:min(int64(len(buf)), to-from)], from)
		if n == 0 || len(bytes.Trim(buf[:n], "\x00")) > 0 {
			return false
		}
		from += int64(n)
	}
	return true
}
