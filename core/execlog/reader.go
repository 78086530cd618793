package execlog

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"sort"

	"wraithology/core/event"
)

// Loss is a part of a log that could not be read. Offset is where it begins.
type Loss struct {
	Offset int64
	Bytes  int64
	What   string
}

// Block is one event block: where it lies and whose it is.
type Block struct {
	BlockHeader
	Offset int64 // of the payload
}

type threadKey struct {
	process uint16
	thread  uint32
}

type typeKey struct {
	process uint16
	id      event.TypeID
}

// Log is an opened log: its tables, and where its event blocks lie. Threads are
// keyed by process and the thread number that the blocks use.
type Log struct {
	Header    event.Header
	Processes []event.Process
	Functions map[event.FunctionID]event.Function
	Files     map[event.FileID]event.File
	Sites     map[event.SiteID]event.Site
	Threads   map[threadKey]event.Thread
	Ends      map[uint16]event.End
	Gaps      []event.Gap
	Blocks    []Block
	Losses    []Loss

	types map[typeKey]*event.Type
	r     io.ReaderAt
	size  int64
}

// ErrNotALog says that the bytes are not an execution log at all.
var ErrNotALog = errors.New("not a .wraith execution log")

// Open reads the prefix and tables of the log in r, size bytes long, and finds
// its event blocks. Damage does not fail the opening: it is listed in Losses.
func Open(r io.ReaderAt, size int64) (*Log, error) {
	l := NewTables(r, size)
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
	if v := binary.LittleEndian.Uint16(prefix[8:]); v != Version {
		return nil, fmt.Errorf("the log is of format version %d, this program reads version %d: use a newer wraith", v, Version)
	}
	if err := l.scan(); err != nil {
		return nil, err
	}
	sort.SliceStable(l.Blocks, func(i, j int) bool {
		a, b := l.Blocks[i], l.Blocks[j]
		if a.Process != b.Process {
			return a.Process < b.Process
		}
		if a.Thread != b.Thread {
			return a.Thread < b.Thread
		}
		return a.Sequence < b.Sequence
	})
	return l, nil
}

// NewTables returns the empty tables of a log that is made of the evidence in r,
// size bytes long.
func NewTables(r io.ReaderAt, size int64) *Log {
	return &Log{
		Functions: map[event.FunctionID]event.Function{}, Files: map[event.FileID]event.File{},
		Sites: map[event.SiteID]event.Site{}, Threads: map[threadKey]event.Thread{},
		Ends: map[uint16]event.End{}, types: map[typeKey]*event.Type{}, r: r, size: size,
	}
}

// AddType adds a type that all processes share.
func (l *Log) AddType(t event.Type) { l.types[typeKey{0, t.ID}] = &t }

// OpenFile opens the log at path; Close gives the file back.
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

// Close gives back the file of a log opened with OpenFile.
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

// take keeps an event block for later and reads any other at once.
func (l *Log) take(h BlockHeader, payload int64) error {
	if h.Stored == 0 {
		return nil // room that a recorder kept for later
	}
	if h.Type == EventBlock {
		l.Blocks = append(l.Blocks, Block{h, payload})
		return nil
	}
	plain, err := l.read(h, payload)
	if err != nil {
		return err
	}
	if h.Type == HeaderBlock {
		return decodeMode.Unmarshal(plain, &l.Header)
	}
	return l.addRecords(plain, h.Process)
}

func (l *Log) lose(at, n int64, what string) {
	l.Losses = append(l.Losses, Loss{Offset: at, Bytes: n, What: what})
}

func (l *Log) read(h BlockHeader, at int64) ([]byte, error) { return ReadPayload(l.r, Block{h, at}) }

// ReadPayload reads and unpacks the payload of a block of the log in r.
func ReadPayload(r io.ReaderAt, b Block) ([]byte, error) {
	stored := make([]byte, b.Stored)
	if _, err := r.ReadAt(stored, b.Offset); err != nil {
		return nil, fmt.Errorf("read the block at byte %d: %w", b.Offset, err)
	}
	return b.unpack(stored)
}

// Reader returns what the log is read from.
func (l *Log) Reader() io.ReaderAt { return l.r }

// Size returns the log's length in bytes.
func (l *Log) Size() int64 { return l.size }

// WriteTables writes the log's tables, but for its threads, as a log without events.
func (l *Log) WriteTables(to io.Writer) error {
	w, err := NewWriter(to, l.Header, Zstd)
	if err != nil {
		return err
	}
	for _, f := range l.Files {
		_ = w.File(f) // the writer's errors stick and Flush returns them
	}
	for _, f := range l.Functions {
		_ = w.Function(f)
	}
	for _, s := range l.Sites {
		_ = w.Site(s)
	}
	for _, p := range l.Processes {
		_ = w.Process(p)
	}
	l.EachType(func(process uint16, t *event.Type) { _ = w.Type(process, *t) })
	for _, e := range l.Ends {
		_ = w.End(e)
	}
	for _, g := range l.Gaps {
		_ = w.Gap(g)
	}
	return w.Flush()
}

// Payload returns the plain payload of an event block. Where its bytes are
// damaged the error says so and the block counts as lost.
func (l *Log) Payload(b Block) ([]byte, error) { return l.read(b.BlockHeader, b.Offset) }

// nextBlock finds the next place from at on where a whole block header lies, or
// the end of the log.
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

// Types returns the type table of a process. What was not recorded by a program
// has the same types everywhere, those of process 0.
func (l *Log) Types(process uint16) Types {
	if l.Header.Kind != "" {
		process = 0
	}
	return func(id event.TypeID) *event.Type { return l.types[typeKey{process, id}] }
}

// EachType calls f for every type of the log with its process.
func (l *Log) EachType(f func(process uint16, t *event.Type)) {
	for k, t := range l.types {
		f(k.process, t)
	}
}

// Thread returns what the log says of a thread.
func (l *Log) Thread(process uint16, thread uint32) (event.Thread, bool) {
	t, ok := l.Threads[threadKey{process, thread}]
	return t, ok
}
