package elfcore

import (
	"cmp"
	"debug/elf"
	"encoding/binary"
	"slices"
)

// Memory is the memory of the process: the contents of the core, and the contents of mapped files
// that the kernel left out.
type Memory struct {
	segments []segment
}

// segment is a mapped range of memory. data is the beginning of it in the core; behind is the
// beginning of it in its file.
type segment struct {
	start, end uint64
	data       []byte
	cut        uint64 // bytes after data that are missing in the core
	behind     []byte
	flags      elf.ProgFlag
	path       string
	offset     uint64 // in the file at path
}

// Mapping is a mapped range of memory.
type Mapping struct {
	Start, End uint64
	Readable   bool
	Writable   bool
	Executable bool
	Path       string // of the file, or empty
	Offset     uint64 // in the file, bytes
	Kept       uint64 // number of known bytes, from the start
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

// At returns the mapping of an address.
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

// Name sets the file of the mappings from start to end, beginning at an offset in it, if the core
// does not name one.
func (m *Memory) Name(start, end uint64, path string, offset uint64) {
	for i := range m.segments {
		if s := &m.segments[i]; s.path == "" && s.start >= start && s.start < end {
			s.path, s.offset = path, offset+(s.start-start)
		}
	}
}

// Put adds the contents of a file to its mappings.
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

// stretch returns the known bytes from an address on, at most n.
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

// Read returns n bytes at an address, or false if some of them are not known. The caller must not
// change them.
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

// maxRead limits a read over several mappings.
const maxRead = 64 << 20

// Known returns the known bytes at the beginning of the n bytes at an address.
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

// Text reads a text up to its NUL, at most most bytes. whole is false if there is no NUL.
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

// Each calls visit with every range of memory in the core, by address, until it returns false.
func (m *Memory) Each(visit func(address uint64, data []byte) bool) {
	for i := range m.segments {
		if s := &m.segments[i]; len(s.data) > 0 && !visit(s.start, s.data) {
			return
		}
	}
}
