// Package module finds and reads the ELF files that a process ran: executable,
// shared libraries, the kernel's own, and the files with their debug information.
package module

import (
	"bytes"
	"debug/buildinfo"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/fault"
	"wraithology/core/mapped"
)

// File is an ELF file. Its sections are read on demand. It is safe for concurrent use.
type File struct {
	Path    string
	BuildID string // hexadecimal; empty if it has none
	ELF     *elf.File
	Data    []byte // all of it, mapped
	cache   string // folder where unpacked sections are kept, or empty

	mu       sync.Mutex
	sections map[string][]byte
	symbols  *Symbols
}

// Open opens an ELF file. Unpacked sections are kept in the folder cache, if it
// is not empty. Errors wrap fault.NotELF or are those of the file system.
func Open(path, cache string) (*File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: %w: it is not a regular file", path, fault.NotELF)
	}
	out := &File{Path: path, cache: cache}
	if out.Data, err = mapped.File(out, f); err != nil {
		return nil, err
	}
	return out, out.read()
}

// FromMemory reads an ELF file in memory, such as the one that the kernel maps into each process.
func FromMemory(name string, data []byte) (*File, error) {
	out := &File{Path: name, Data: data}
	return out, out.read()
}

func (f *File) read() (err error) {
	defer func() {
		if p := recover(); p != nil { // panics of debug/elf on a damaged file
			err = fmt.Errorf("%s: %w: %v", f.Path, fault.NotELF, p)
		}
	}()
	f.sections = map[string][]byte{}
	if len(f.Data) < 64 {
		return fmt.Errorf("%s: %w: it is too short", f.Path, fault.NotELF)
	}
	if f.ELF, err = elf.NewFile(bytes.NewReader(f.Data)); err != nil {
		return fmt.Errorf("%s: %w: %w", f.Path, fault.NotELF, err)
	}
	if f.ELF.Class != elf.ELFCLASS64 || f.ELF.ByteOrder.String() != "LittleEndian" {
		return fmt.Errorf("%s: %w: 32-bit or big-endian", f.Path, fault.NotELF)
	}
	for _, p := range f.ELF.Progs {
		if p.Type == elf.PT_NOTE && f.BuildID == "" {
			f.BuildID = buildIDIn(f.part(p.Off, p.Filesz))
		}
	}
	if f.BuildID == "" {
		if s := f.ELF.Section(".note.gnu.build-id"); s != nil && s.Type != elf.SHT_NOBITS {
			f.BuildID = buildIDIn(f.part(s.Offset, s.FileSize))
		}
	}
	return nil
}

// part returns bytes of the file, or nil if they are out of range.
func (f *File) part(offset, n uint64) []byte {
	if offset > uint64(len(f.Data)) || n > uint64(len(f.Data))-offset {
		return nil
	}
	return f.Data[offset : offset+n]
}

// buildIDIn finds the build ID among notes (NT_GNU_BUILD_ID).
func buildIDIn(notes []byte) string {
	const buildID = 3
	for c := cursor.New(notes); c.Len() >= 12; {
		nameSize, size, kind := uint64(c.U32()), uint64(c.U32()), c.U32()
		name := c.Bytes(nameSize)
		c.Align(4)
		body := c.Bytes(size)
		c.Align(4)
		if c.Err() != nil {
			return ""
		}
		if kind == buildID && string(name) == "GNU\x00" && size > 0 && size <= 64 {
			return hex.EncodeToString(body)
		}
	}
	return ""
}

// maxSection limits the unpacked size of a section.
const maxSection = 8 << 30

// Section returns the unpacked contents of a section, or nil if the file has none. Of a file that is not linked, in which type
// units have sections of their own with the same name, it returns all of them one after another.
func (f *File) Section(name string) ([]byte, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if b, ok := f.sections[name]; ok {
		return b, nil
	}
	var all []byte
	for _, s := range f.ELF.Sections {
		if s.Name != name || s.Type == elf.SHT_NOBITS {
			continue
		}
		b, err := f.contents(s)
		if err != nil {
			return nil, err
		}
		if all == nil {
			all = b
		} else {
			all = append(all[:len(all):len(all)], b...)
		}
		if f.ELF.Type != elf.ET_REL {
			break
		}
	}
	if all != nil {
		f.sections[name] = all
	}
	return all, nil
}

// contents returns the unpacked contents of one section.
func (f *File) contents(s *elf.Section) ([]byte, error) {
	b := f.part(s.Offset, s.FileSize)
	if b == nil {
		return nil, fmt.Errorf("%s: %w: section %s is beyond its end", f.Path, fault.NotELF, s.Name)
	}
	if s.Flags&elf.SHF_COMPRESSED != 0 {
		var err error
		if b, err = f.unpacked(s); err != nil {
			return nil, fmt.Errorf("%s: unpack section %s: %w", f.Path, s.Name, err)
		}
	}
	return b, nil
}

// unpacked returns a compressed section's contents, from the cache if it is there.
func (f *File) unpacked(s *elf.Section) ([]byte, error) {
	if s.Size > maxSection {
		return nil, fmt.Errorf("%w: declared size of %d bytes", fault.NotELF, s.Size)
	}
	if f.cache == "" || f.BuildID == "" {
		return limited(s)
	}
	dir := filepath.Join(f.cache, f.BuildID)
	// Files with the same build ID can have different sections: a binary and its debug file.
	path := filepath.Join(dir, fmt.Sprintf("%s-%d-%d", strings.TrimPrefix(s.Name, "."), s.FileSize, s.Size))
	if b, err := f.mapCached(path, s.Size); err == nil {
		return b, nil
	}
	if err := f.keep(s, dir, path); err != nil {
		return limited(s) // without a cache
	}
	return f.mapCached(path, s.Size)
}

func limited(s *elf.Section) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(s.Open(), int64(s.Size)))
	if err == nil && uint64(len(b)) != s.Size {
		err = fmt.Errorf("%w: %d bytes instead of %d", fault.NotELF, len(b), s.Size)
	}
	return b, err
}

func (f *File) mapCached(path string, size uint64) ([]byte, error) {
	c, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	b, err := mapped.File(f, c)
	if err == nil && uint64(len(b)) != size {
		err = fmt.Errorf("%s: %w: it is of another size", path, fault.NotELF)
	}
	return b, err
}

func (f *File) keep(s *elf.Section, dir, path string) (err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	t, err := os.CreateTemp(dir, ".partial-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(t.Name()))
		}
	}()
	_, err = io.Copy(t, io.LimitReader(s.Open(), int64(s.Size)))
	if err = errors.Join(err, t.Close()); err != nil {
		return err
	}
	return os.Rename(t.Name(), path)
}

// HasDebug reports whether the file has debug information in DWARF.
func (f *File) HasDebug() bool {
	s := f.ELF.Section(".debug_info")
	return s != nil && s.Type != elf.SHT_NOBITS && s.Size > 0
}

// HasText reports whether the file contains code; a separate debug file does not.
func (f *File) HasText() bool {
	s := f.ELF.Section(".text")
	return s != nil && s.Type != elf.SHT_NOBITS
}

// FirstAddress returns the link-time address of the file's first byte.
func (f *File) FirstAddress() (uint64, bool) {
	for _, p := range f.ELF.Progs {
		if p.Type == elf.PT_LOAD {
			return p.Vaddr - p.Off, true
		}
	}
	return 0, false
}

// link returns name and checksum of the separate debug file.
func (f *File) link() (name string, sum uint32) {
	b, err := f.Section(".gnu_debuglink")
	if err != nil || len(b) == 0 {
		return "", 0
	}
	c := cursor.New(b)
	name = c.Text()
	c.Align(4)
	sum = c.U32()
	if c.Err() != nil || strings.Contains(name, "/") {
		return "", 0
	}
	return name, sum
}

// Build describes how a Go binary was built.
type Build struct {
	Main     string // the path of the main module
	Go       string
	Revision string
	Modified bool
}

// GoBuild returns the build information of a Go binary; ok is false for other files.
func (f *File) GoBuild() (b Build, ok bool) {
	info, err := buildinfo.Read(bytes.NewReader(f.Data))
	if err != nil {
		return b, false
	}
	b = Build{Main: info.Main.Path, Go: info.GoVersion}
	if b.Main == "" {
		b.Main = info.Path
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Revision = s.Value
		case "vcs.modified":
			b.Modified = s.Value == "true"
		}
	}
	return b, true
}
