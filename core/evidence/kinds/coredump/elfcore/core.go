// Package elfcore reads ELF core dumps of Linux: the notes that the kernel
// writes about the process and its threads, and the memory that it kept.
package elfcore

import (
	"cmp"
	"debug/elf"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/fault"
)

// Errors that callers distinguish.
var (
	ErrNoCore = errors.New("not a core dump")
)

// Core is a core dump. It refers to the bytes that it was read from.
type Core struct {
	Arch *machine.Architecture
	// Threads begins with the thread that caused the dump.
	Threads []Thread
	Process Process
	Signal  Signal
	// Files are the files that were mapped, by address.
	Files []File
	// Auxiliary is the auxiliary vector, by type.
	Auxiliary map[uint64]uint64
	Memory    Memory
	// Missing is the number of bytes that are missing at the end of the file.
	Missing uint64
	// Troubles lists notes that could not be read.
	Troubles []string
}

// Thread is a thread of the process.
type Thread struct {
	ID        int // the kernel's thread ID
	Signal    int
	Registers machine.Registers
}

// Process describes the process. The kernel cuts Args at 80 bytes.
type Process struct {
	ID   int
	Name string
	Args string
}

// Signal is the signal that ended the process. Address is set for signals of the processor, Sender
// for signals that a process sent.
type Signal struct {
	Number  int
	Code    int
	Errno   int
	Address uint64
	Sender  int
	Known   bool // the core has a note about the signal
}

// File is a part of a file that was mapped.
type File struct {
	Start, End uint64
	Offset     uint64 // in the file, bytes
	Path       string
}

// The types of the auxiliary vector that are used (getauxval(3)).
const (
	ProgramHeaders = 3
	PageSize       = 6
	EntryPoint     = 9
	KernelModule   = 33
	ProgramPath    = 31
)

// The notes that are read (include/uapi/linux/elf.h).
const (
	noteStatus    = 1
	noteFloat     = 2
	noteProcess   = 3
	noteAuxiliary = 6
	noteThreadTLS = 0x401
	noteSignal    = 0x53494749
	noteFiles     = 0x46494c45
)

const (
	headerSize  = 64
	segmentSize = 56
	// maxSegments and maxThreads limit the tables of an untrusted core.
	maxSegments = 1 << 20
	maxThreads  = 1 << 17
)

// Is reports whether a file begins like an ELF core dump.
func Is(head []byte) bool {
	return len(head) >= 18 && string(head[:4]) == elf.ELFMAG && head[16] == byte(elf.ET_CORE) && head[17] == 0
}

// Read reads a core from its bytes and keeps references to them. If the bytes are cut off, Missing
// is the number of missing bytes by the headers.
func Read(data []byte) (*Core, error) {
	if !Is(data) {
		return nil, fmt.Errorf("%w: no ELF core header", ErrNoCore)
	}
	if data[elf.EI_CLASS] != byte(elf.ELFCLASS64) || data[elf.EI_DATA] != byte(elf.ELFDATA2LSB) {
		return nil, fmt.Errorf("%w: 32-bit or big-endian; x86-64 and arm64 are supported", fault.Processor)
	}
	h := cursor.At(data, 18)
	m := elf.Machine(h.U16())
	h.Skip(12)
	programs := h.U64()
	sections := h.U64()
	h.Skip(6)
	size, count := h.U16(), uint64(h.U16())
	if h.Err() != nil {
		return nil, fmt.Errorf("%w: its header %w", ErrNoCore, h.Err())
	}
	c := &Core{Arch: machine.Of(m), Auxiliary: map[uint64]uint64{}}
	if c.Arch == nil {
		return nil, fmt.Errorf("%w: %s; x86-64 and arm64 are supported", fault.Processor, m)
	}
	if count == 0xffff { // the number is in the first section header (gABI, e_phnum)
		s := cursor.At(data, sections)
		s.Skip(44)
		count = uint64(s.U32())
		if s.Err() != nil || sections == 0 {
			return nil, fmt.Errorf("%w: the section header with the number of segments is missing", ErrNoCore)
		}
	}
	if size < segmentSize || count > maxSegments {
		return nil, fmt.Errorf("%w: %d segment headers of %d bytes", ErrNoCore, count, size)
	}
	for i := range count {
		p := cursor.At(data, programs+i*uint64(size))
		c.segment(data, p)
		if p.Err() != nil {
			return nil, fmt.Errorf("%w: segment header %d of %d %w", ErrNoCore, i, count, p.Err())
		}
	}
	slices.SortFunc(c.Memory.segments, func(a, b segment) int { return cmp.Compare(a.start, b.start) })
	c.nameSegments()
	if len(c.Threads) == 0 {
		c.Troubles = append(c.Troubles, "no thread's registers were kept")
	}
	return c, nil
}

// segment reads one segment: notes, or memory.
func (c *Core) segment(data []byte, p *cursor.Cursor) {
	kind, flags := elf.ProgType(p.U32()), elf.ProgFlag(p.U32())
	offset, start := p.U64(), p.U64()
	p.Skip(8)
	inFile, inMemory := p.U64(), p.U64()
	if p.Err() != nil || kind != elf.PT_NOTE && kind != elf.PT_LOAD {
		return
	}
	from := min(offset, uint64(len(data)))
	n := min(inFile, uint64(len(data))-from)
	c.Missing += inFile - n
	if kind == elf.PT_NOTE {
		c.notes(data[from : from+n])
		return
	}
	if inMemory < inFile {
		inMemory = inFile
	}
	if inMemory == 0 || start+inMemory < start {
		return
	}
	c.Memory.segments = append(c.Memory.segments, segment{start: start, end: start + inMemory, cut: inFile - n, data: data[from : from+n : from+n], flags: flags})
}

func (c *Core) notes(data []byte) {
	for n := cursor.New(data); n.Len() >= 12; {
		nameSize, size, kind := uint64(n.U32()), uint64(n.U32()), n.U32()
		name := strings.TrimRight(string(n.Bytes(nameSize)), "\x00")
		n.Align(4)
		body := n.Bytes(size)
		n.Align(4)
		if n.Err() != nil {
			c.Troubles = append(c.Troubles, "the notes of the core "+n.Err().Error())
			return
		}
		if name != "CORE" && name != "LINUX" {
			continue
		}
		if err := c.note(kind, body); err != nil {
			c.Troubles = append(c.Troubles, fmt.Sprintf("a note of type %d: %s", kind, err))
		}
	}
}

// lastThread returns the thread of a note: the notes of a thread follow its status.
func (c *Core) lastThread() *Thread {
	if len(c.Threads) == 0 {
		return &Thread{Registers: machine.Registers{Arch: c.Arch}}
	}
	return &c.Threads[len(c.Threads)-1]
}

func (c *Core) note(kind uint32, body []byte) error {
	b := cursor.New(body)
	switch kind {
	case noteStatus: // struct elf_prstatus
		b.Skip(12)
		t := Thread{Signal: int(b.U16())}
		b.Skip(18)
		t.ID = int(b.U32())
		b.Skip(76)
		words := make([]uint64, 0, 34)
		for b.Len() >= 8 && len(words) < cap(words) {
			words = append(words, b.U64())
		}
		if b.Err() != nil {
			return b.Err()
		}
		if len(c.Threads) < maxThreads {
			t.Registers = c.Arch.FromStatus(words)
			c.Threads = append(c.Threads, t)
		}
	case noteFloat:
		c.lastThread().Registers.AddVectors(body)
	case noteThreadTLS:
		c.lastThread().Registers.ThreadBase = b.U64()
	case noteProcess: // struct elf_prpsinfo
		b.Skip(24)
		c.Process.ID = int(b.U32())
		b.Skip(12)
		c.Process.Name = untilNUL(b.Bytes(16))
		c.Process.Args = strings.TrimSpace(untilNUL(b.Bytes(80)))
	case noteAuxiliary:
		for b.Len() >= 16 {
			kind, value := b.U64(), b.U64()
			c.Auxiliary[kind] = value
		}
	case noteSignal: // siginfo_t
		c.Signal = Signal{Number: int(int32(b.U32())), Errno: int(int32(b.U32())), Code: int(int32(b.U32())), Known: true}
		b.Skip(4)
		c.Signal.Address = b.U64()
		c.Signal.Sender = int(int32(c.Signal.Address))
	case noteFiles:
		return c.files(b)
	}
	return b.Err()
}

func untilNUL(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\x00")
	return s
}

func (c *Core) files(b *cursor.Cursor) error {
	count, page := b.U64(), b.U64()
	if count > uint64(b.Len())/24 {
		return fmt.Errorf("%d files do not fit in the note", count)
	}
	list := make([]File, count)
	for i := range list {
		list[i] = File{Start: b.U64(), End: b.U64(), Offset: b.U64() * page}
	}
	for i := range list {
		list[i].Path = b.Text()
	}
	if b.Err() != nil {
		return b.Err()
	}
	slices.SortFunc(list, func(x, y File) int { return cmp.Compare(x.Start, y.Start) })
	c.Files = list
	return nil
}

// FileAt returns the mapped file that an address is in.
func (c *Core) FileAt(address uint64) (File, bool) {
	i, found := slices.BinarySearchFunc(c.Files, address, func(f File, a uint64) int { return cmp.Compare(f.Start, a) })
	if !found {
		i--
	}
	if i < 0 || address >= c.Files[i].End {
		return File{}, false
	}
	return c.Files[i], true
}

func (c *Core) nameSegments() {
	for i := range c.Memory.segments {
		s := &c.Memory.segments[i]
		if f, ok := c.FileAt(s.start); ok {
			s.path, s.offset = f.Path, f.Offset+(s.start-f.Start)
		}
	}
}
