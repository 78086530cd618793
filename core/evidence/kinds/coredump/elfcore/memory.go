package elfcore

import (
	"cmp"
	"debug/elf"
	"encoding/binary"
	"slices"
)

// Memory is the memory of the process: what the core kept, and behind it what
// the kernel left out because a file has it.
type Memory struct {
	segments []segment
}

// segment is a mapped stretch of memory. data is what the core has of it, from
// its beginning; behind is what its file has, also from its beginning.
type segment struct {
	start, end uint64
	data       []byte
	cut        uint64 // bytes that the core should have after data, and has not
	behind     []byte
	flags      elf.ProgFlag
	path       string
	offset     uint64 // in the file at path
}

// Mapping describes a stretch of memory that was mapped.
type Mapping struct {
	Start, End uint64
	Readable   bool
	Writable   bool
	Executable bool
	Path       string // of the file, or empty
	Offset     uint64 // in the file, bytes
	Kept       uint64 // bytes that are known, from the start
}

func (s *segment) mapping() Mapping {
	return Mapping{Start: s.start, End: s.end, Readable: s.flags&elf.PF_R != 0, Writable: s.flags&elf.PF_W != 0, Executable: s.flags&elf.PF_X != 0,
		Path: s.path, Offset: s.offset, Kept: uint64(max(len(s.data), len(s.behind)))}
}

func (m *Memory) find(address uint64) *segment {
	i, found := slices.BinarySearchFunc(m.segments, address, func(s segment, a uint64) int { return cmp.Compare(s.start, a) })
	if !found {
		i--
	}
	if i < 0 || address >= m.segments[i].end {
		return nil
	}
	return &m.segments[i]
}

// At returns the mapping that an address lies in.
func (m *Memory) At(address uint64) (Mapping, bool) {
	if s := m.find(address); s != nil {
		return s.mapping(), true
	}
	return Mapping{}, false
}

// Mappings lists all mappings, by address.
func (m *Memory) Mappings() []Mapping {
	list := make([]Mapping, len(m.segments))
	for i := range m.segments {
		list[i] = m.segments[i].mapping()
	}
	return list
}

// Next returns the first mapping that begins at or after an address.
func (m *Memory) Next(address uint64) (Mapping, bool) {
	i, _ := slices.BinarySearchFunc(m.segments, address, func(s segment, a uint64) int { return cmp.Compare(s.start, a) })
	if i == len(m.segments) {
		return Mapping{}, false
	}
	return m.segments[i].mapping(), true
}

// Before returns the last mapping that ends at or before an address.
func (m *Memory) Before(address uint64) (Mapping, bool) {
	i, _ := slices.BinarySearchFunc(m.segments, address, func(s segment, a uint64) int { return cmp.Compare(s.end, a+1) })
	if i == 0 {
		return Mapping{}, false
	}
	return m.segments[i-1].mapping(), true
}

// Name says that the memory from start to end is of a file, from an offset in it
// on, where the core itself does not say of what it is.
func (m *Memory) Name(start, end uint64, path string, offset uint64) {
	for i := range m.segments {
		if s := &m.segments[i]; s.path == "" && s.start >= start && s.start < end {
			s.path, s.offset = path, offset+(s.start-start)
		}
	}
}

// Put lays a file's bytes behind the mappings of it: contents are the whole file.
func (m *Memory) Put(path string, contents []byte) {
	for i := range m.segments {
		s := &m.segments[i]
		if s.path != path || s.offset >= uint64(len(contents)) {
			continue
		}
		n := min(s.end-s.start, uint64(len(contents))-s.offset)
		s.behind = contents[s.offset : s.offset+n]
	}
}

// stretch returns what is known from an address on, at most n bytes.
func (m *Memory) stretch(address, n uint64) []byte {
	s := m.find(address)
	if s == nil {
		return nil
	}
	at := address - s.start
	known := s.data
	if at >= uint64(len(known)) && s.cut == 0 {
		known = s.behind
	}
	if at >= uint64(len(known)) {
		return nil
	}
	return known[at:min(uint64(len(known)), at+min(n, uint64(len(known))))]
}

// Read returns n bytes at an address, or false where they are not all known. The
// bytes must not be changed.
func (m *Memory) Read(address, n uint64) ([]byte, bool) {
	b := m.stretch(address, n)
	if uint64(len(b)) == n {
		return b, true
	}
	if n > maxRead {
		return nil, false
	}
	out := make([]byte, 0, n)
	for uint64(len(out)) < n {
		if len(b) == 0 {
			return nil, false
		}
		out = append(out, b...)
		b = m.stretch(address+uint64(len(out)), n-uint64(len(out)))
	}
	return out, true
}

// maxRead bounds a read that goes over several mappings.
const maxRead = 64 << 20

// Known returns as many of the n bytes at an address as are known, from the first on.
func (m *Memory) Known(address, n uint64) []byte {
	if b, ok := m.Read(address, n); ok {
		return b
	}
	var out []byte
	for uint64(len(out)) < n {
		b := m.stretch(address+uint64(len(out)), n-uint64(len(out)))
		if len(b) == 0 {
			break
		}
		out = append(out, b...)
	}
	return out
}

// Uint reads a number of 1, 2, 4 or 8 bytes.
func (m *Memory) Uint(address uint64, size int) (uint64, bool) {
	b, ok := m.Read(address, uint64(size))
	if !ok {
		return 0, false
	}
	switch size {
	case 1:
		return uint64(b[0]), true
	case 2:
		return uint64(binary.LittleEndian.Uint16(b)), true
	case 4:
		return uint64(binary.LittleEndian.Uint32(b)), true
	case 8:
		return binary.LittleEndian.Uint64(b), true
	}
	return 0, false
}

// Pointer reads an address.
func (m *Memory) Pointer(address uint64) (uint64, bool) { return m.Uint(address, 8) }

// Text reads a text up to its NUL, at most most bytes; whole is false where the
// NUL did not come.
func (m *Memory) Text(address, most uint64) (text []byte, whole, ok bool) {
	for uint64(len(text)) < most {
		b := m.stretch(address+uint64(len(text)), min(most-uint64(len(text)), 256))
		if len(b) == 0 {
			return text, false, len(text) > 0
		}
		if i := slices.Index(b, 0); i >= 0 {
			return append(text, b[:i]...), true, true
		}
		text = append(text, b...)
	}
	return text, false, true
}

// Each calls visit with every stretch of memory that the core itself kept, in
// the order of addresses, until it returns false.
func (m *Memory) Each(visit func(address uint64, data []byte) bool) {
	for i := range m.segments {
		if s := &m.segments[i]; len(s.data) > 0 && !visit(s.start, s.data) {
			return
		}
	}
}
