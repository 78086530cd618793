package module

import (
	"bytes"
	"debug/elf"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"wraithology/core/evidence/kinds/coredump/elfcore"
	"wraithology/core/fault"
)

// Module is a mapped ELF file.
type Module struct {
	Path       string // by which the process mapped it
	Start, End uint64
	BuildID    string // from the core; empty if not known
	Bias       uint64 // difference between addresses in memory and in the file
	Executable bool   // it is the program itself
	Kernel     bool   // the kernel mapped it
	Binary     *File  // nil if not found
	Debug      *File  // the file with the debug information; nil if not found
	Supplement *File  // the supplementary file of Debug
	Wrong      string // build ID of the file at Path if it is another build
	header     bool   // its first page was kept
	code       bool   // some of it is executable
	spans      []span // its mappings, or what its program headers say of them
}

// span is a range of addresses, and the offset in the file of what is mapped there.
type span struct{ start, end, offset uint64 }

// Contains reports whether an address is in one of the module's own mappings. What else is mapped between them is not part of
// it.
func (m *Module) Contains(address uint64) bool {
	for _, s := range m.spans {
		if address >= s.start && address < s.end {
			return true
		}
	}
	return false
}

// has reports whether a mapping of the module's file is one that its program headers ask for.
func (m *Module) has(f elfcore.File) bool {
	for _, s := range m.spans {
		if f.Start >= s.start && f.Start < s.end && f.Start-s.start == f.Offset-s.offset {
			return true
		}
	}
	return false
}

// Sources are the places in which binaries and debug files are searched.
type Sources struct {
	Binaries []string          // files; each must belong to the dump
	Offered  []string          // files that are used if they fit
	Names    map[string]string // names of files by path, for messages
	Debug    []string          // folders
	Cache    string            // folder for unpacked sections
	// Alone restricts the search to Binaries and Debug, because the core comes from another
	// machine.
	Alone bool
}

// standardDebug is the folder in which Debian and others install debug files.
const standardDebug = "/usr/lib/debug"

// headerSpan is the size of the beginning of a module that the kernel keeps: one page.
const headerSpan = 4096

// List lists the modules of a core with their files. If a file in Binaries fits no module, the
// error wraps fault.WrongBuild.
func (s Sources) List(c *elfcore.Core) ([]*Module, error) {
	list := mappedModules(c)
	var left []*File
	var offered []*File
	for _, path := range s.Offered {
		if f, err := Open(path, s.Cache); err == nil && f.ELF.Machine == c.Arch.ELF {
			offered = append(offered, f)
		}
	}
	for _, path := range s.Binaries {
		f, err := Open(path, s.Cache)
		if err != nil {
			return nil, fmt.Errorf("open the binary: %w", err)
		}
		if elfMachine := f.ELF.Machine; elfMachine != c.Arch.ELF {
			return nil, fmt.Errorf("%s: %w: it is of %s, the core of %s", path, fault.WrongBuild, elfMachine, c.Arch.Name)
		}
		left = append(left, f)
	}
	candidates := append(append([]*File{}, left...), offered...)
	if len(c.Files) == 0 {
		if m := placed(c, candidates); m != nil {
			list = append([]*Module{m}, list...)
		}
	}
	for _, m := range list {
		m.find(c, s, candidates)
		if m.Binary != nil {
			if m.BuildID == "" {
				m.BuildID = m.Binary.BuildID
			}
			c.Memory.Put(m.Path, m.Binary.Data)
		}
	}
	return list, unused(left, list)
}

// unused returns an error for a given binary that fits no module.
func unused(candidates []*File, list []*Module) error {
	for _, f := range candidates {
		used := false
		for _, m := range list {
			used = used || m.Binary == f || m.Debug == f
		}
		if used {
			continue
		}
		want, who := "none", "the core"
		for _, m := range list {
			if m.Executable || filepath.Base(m.Path) == filepath.Base(f.Path) {
				want, who = orNone(m.BuildID), filepath.Base(m.Path)
			}
			if filepath.Base(m.Path) == filepath.Base(f.Path) {
				break
			}
		}
		return fmt.Errorf("%s: %w: its build ID is %s, that of %s in the core %s", f.Path, fault.WrongBuild, orNone(f.BuildID), who, want)
	}
	return nil
}

func orNone(id string) string {
	if id == "" {
		return "none"
	}
	return id
}

// mappedModules finds the ELF files among the mapped files. A file that is mapped again, for example to read it as data, is
// another mapping of it.
func mappedModules(c *elfcore.Core) []*Module {
	var list []*Module
	latest := map[string]*Module{}
	entry := c.Auxiliary[elfcore.EntryPoint]
	for _, f := range c.Files {
		m := latest[f.Path]
		if f.Offset == 0 && (m == nil || !m.has(f)) {
			head := c.Memory.Known(f.Start, headerSpan)
			if len(head) >= 4 && string(head[:4]) != elf.ELFMAG {
				continue // not an ELF file
			}
			m = &Module{Path: f.Path, Start: f.Start, BuildID: buildIDOf(head), header: len(head) > 0, spans: loadSpans(head, f.Start)}
			latest[f.Path] = m
			list = append(list, m)
		}
		switch {
		case m == nil, m.header && len(m.spans) > 0 && !m.has(f):
			continue
		case !m.header: // its program headers were not kept
			m.spans = append(m.spans, span{f.Start, f.End, f.Offset})
		}
		if x, ok := c.Memory.At(f.Start); ok && x.Executable {
			m.code = true
		}
		m.Executable = m.Executable || entry >= f.Start && entry < f.End
	}
	all := slices.Clone(list)
	list = slices.DeleteFunc(list, func(m *Module) bool { return !m.code && m.readAsData(all) })
	for _, m := range list {
		for _, s := range m.spans {
			m.End = max(m.End, s.end)
		}
	}
	// Without its first page, a file without code is not a module.
	list = slices.DeleteFunc(list, func(m *Module) bool { return !m.header && !m.code })
	if at := c.Auxiliary[elfcore.KernelModule]; at != 0 {
		if x, ok := c.Memory.At(at); ok {
			m := &Module{Path: "the kernel's own module", Start: x.Start, End: x.End, Kernel: true, spans: []span{{x.Start, x.End, 0}}}
			if data, ok := c.Memory.Read(x.Start, x.End-x.Start); ok {
				if f, err := FromMemory(m.Path, data); err == nil {
					m.Binary, m.BuildID = f, f.BuildID
					if first, ok := f.FirstAddress(); ok {
						m.Bias = x.Start - first
					}
				}
			}
			list = append(list, m)
		}
	}
	return list
}

// placed makes the module of the program for a core without a list of mapped files: of the file
// whose entry point fits.
func placed(c *elfcore.Core, files []*File) *Module {
	entry := c.Auxiliary[elfcore.EntryPoint]
	for _, f := range files {
		bias := entry - f.ELF.Entry
		if entry == 0 || f.ELF.Type == elf.ET_EXEC && bias != 0 || bias%headerSpan != 0 {
			continue
		}
		first, ok := f.FirstAddress()
		if !ok {
			continue
		}
		m := &Module{Path: f.Path, Start: first + bias, BuildID: f.BuildID, Executable: true}
		for _, p := range f.ELF.Progs {
			if p.Type == elf.PT_LOAD {
				page := p.Vaddr &^ (headerSpan - 1)
				c.Memory.Name(page+bias, p.Vaddr+p.Filesz+bias, f.Path, p.Off&^(headerSpan-1))
				m.End = max(m.End, p.Vaddr+p.Memsz+bias)
				m.spans = append(m.spans, span{page + bias, p.Vaddr + p.Memsz + bias, p.Off &^ (headerSpan - 1)})
			}
		}
		return m
	}
	return nil
}

// readAsData reports whether another mapping of the module's file has code, so that this one has been made to read it.
func (m *Module) readAsData(all []*Module) bool {
	return slices.ContainsFunc(all, func(other *Module) bool { return other.code && other.Path == m.Path })
}

// inFirstPage parses the ELF header and the program headers in the first page of a module, which the kernel keeps.
func inFirstPage(head []byte) *elf.File {
	if len(head) < 64 {
		return nil
	}
	// The section headers are in other pages; without them the header can be parsed.
	head = bytes.Clone(head)
	clear(head[40:48])
	clear(head[58:64])
	f, err := elf.NewFile(bytes.NewReader(head))
	if err != nil {
		return nil
	}
	return f
}

// loadSpans returns the addresses of a module that is mapped at start, by its program headers; nil without them.
func loadSpans(head []byte, start uint64) (out []span) {
	f := inFirstPage(head)
	if f == nil {
		return nil
	}
	first, found := uint64(0), false
	for _, p := range f.Progs {
		if p.Type != elf.PT_LOAD || p.Memsz == 0 {
			continue
		}
		page := p.Vaddr &^ (headerSpan - 1)
		if !found {
			first, found = page, true
		}
		if at := start + page - first; at+p.Memsz >= at && page >= first {
			end := start + (p.Vaddr - first) + p.Memsz
			out = append(out, span{at, (end + headerSpan - 1) &^ (headerSpan - 1), p.Off &^ (headerSpan - 1)})
		}
	}
	return out
}

// buildIDOf finds the build ID in the first page of a module.
func buildIDOf(head []byte) string {
	f := inFirstPage(head)
	if f == nil {
		return ""
	}
	for _, p := range f.Progs {
		if p.Type == elf.PT_NOTE && p.Off < uint64(len(head)) {
			// Go's linker writes the note after the declared ones.
			if id := buildIDIn(head[p.Off:]); id != "" {
				return id
			}
		}
	}
	return ""
}

// fits reports whether a file is the mapped one: by build ID, else by its first page.
func (m *Module) fits(c *elfcore.Core, f *File) bool {
	if f.ELF.Machine != c.Arch.ELF {
		return false
	}
	if m.BuildID != "" {
		return m.BuildID == f.BuildID
	}
	head := c.Memory.Known(m.Start, headerSpan)
	return len(f.Data) >= len(head) && bytes.Equal(head, f.Data[:len(head)])
}

func (m *Module) find(c *elfcore.Core, s Sources, candidates []*File) {
	if m.Kernel {
		return
	}
	for _, f := range candidates {
		switch {
		case m.BuildID != "" && f.BuildID != "":
			if m.BuildID == f.BuildID {
				m.use(f)
			}
		case m.Binary == nil && (m.Executable || filepath.Base(f.Path) == filepath.Base(m.Path)) && m.fits(c, f):
			m.use(f)
		}
	}
	for _, dir := range s.Debug {
		m.tryBinary(c, filepath.Join(dir, m.Path), s)
		m.tryBinary(c, filepath.Join(dir, filepath.Base(m.Path)), s)
		if len(m.BuildID) > 2 {
			m.tryBinary(c, filepath.Join(dir, ".build-id", m.BuildID[:2], m.BuildID[2:]), s)
		}
	}
	if !s.Alone {
		m.tryBinary(c, strings.TrimSuffix(m.Path, " (deleted)"), s)
	}
	if m.Debug == nil {
		m.findDebug(s)
	}
	if m.Debug != nil {
		m.findSupplement(s)
	}
	file := m.Binary
	if file == nil {
		file = m.Debug
	}
	if file != nil {
		if first, ok := file.FirstAddress(); ok {
			m.Bias = m.Start - first
		}
	}
}

// use takes a file as the module's binary, or as its debug file if it contains no code.
func (m *Module) use(f *File) {
	if f.ELF.Section(".text") != nil && !f.HasText() {
		m.Debug = f
		return
	}
	m.Binary = f
	if f.HasDebug() && m.Debug == nil {
		m.Debug = f
	}
}

func (m *Module) tryBinary(c *elfcore.Core, path string, s Sources) {
	if m.Binary != nil {
		return
	}
	f, err := Open(path, s.Cache)
	if err != nil {
		return
	}
	if m.fits(c, f) {
		m.use(f)
	} else if m.Wrong == "" {
		m.Wrong = orNone(f.BuildID)
	}
}

// findDebug searches the file with the module's debug information.
func (m *Module) findDebug(s Sources) {
	folders := s.Debug
	if !s.Alone {
		folders = append(append([]string{}, folders...), standardDebug)
	}
	if len(m.BuildID) > 2 {
		for _, dir := range folders {
			for _, path := range []string{filepath.Join(dir, ".build-id", m.BuildID[:2], m.BuildID[2:]+".debug"), filepath.Join(dir, m.BuildID+".debug"), filepath.Join(dir, m.BuildID)} {
				if m.tryDebug(path, s, 0) {
					return
				}
			}
		}
	}
	if m.Binary == nil {
		return
	}
	name, sum := m.Binary.link()
	if name == "" {
		return
	}
	near := filepath.Dir(m.Binary.Path)
	places := []string{filepath.Join(near, name), filepath.Join(near, ".debug", name)}
	for _, dir := range folders {
		places = append(places, filepath.Join(dir, name), filepath.Join(dir, filepath.Dir(m.Path), name))
	}
	for _, path := range places {
		if path != m.Binary.Path && m.tryDebug(path, s, sum) {
			return
		}
	}
}

// tryDebug uses the file at path as the debug file if it fits: by build ID, or without one by the
// checksum in the binary.
func (m *Module) tryDebug(path string, s Sources, sum uint32) bool {
	f, err := Open(path, s.Cache)
	if err != nil || !f.HasDebug() {
		return false
	}
	if m.BuildID != "" && f.BuildID != "" {
		if m.BuildID != f.BuildID {
			return false
		}
	} else if sum == 0 || crc32.ChecksumIEEE(f.Data) != sum {
		return false
	}
	m.Debug = f
	return true
}

// findSupplement searches the supplementary file of the debug file (.gnu_debugaltlink).
func (m *Module) findSupplement(s Sources) {
	b, err := m.Debug.Section(".gnu_debugaltlink")
	if err != nil || len(b) == 0 {
		return
	}
	name, id, _ := bytes.Cut(b, []byte{0})
	want := fmt.Sprintf("%x", id)
	places := []string{filepath.Join(filepath.Dir(m.Debug.Path), string(name))}
	for _, dir := range append(append([]string{}, s.Debug...), standardDebug) {
		if len(want) > 2 {
			places = append(places, filepath.Join(dir, ".build-id", want[:2], want[2:]+".debug"))
		}
		places = append(places, filepath.Join(dir, ".dwz", filepath.Base(string(name))))
	}
	if filepath.IsAbs(string(name)) && !s.Alone {
		places = append(places, string(name))
	}
	for _, path := range places {
		if _, err := os.Stat(path); err != nil {
			continue
		}
		if f, err := Open(path, s.Cache); err == nil && f.BuildID == want {
			m.Supplement = f
			return
		}
	}
}
