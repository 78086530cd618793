package debuginfo

import (
	"debug/dwarf"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/module"
)

// attrSplitName names the file with the entries of a split unit (DWARF 5, section 7.3.2).
// attrGNUSplitName is its predecessor; such files are not supported.
const (
	attrSplitName    = 0x76
	attrGNUSplitName = 0x2130
)

// Whole returns the debug information of the module, of which this can be a part.
func (d *Debug) Whole() *Debug {
	if d.whole != nil {
		return d.whole
	}
	return d
}

// full returns the unit with its entries: its split part if that was found, else the unit itself.
func (u *Unit) full() *Unit {
	u.splitting.Do(func() {
		u.parted = u
		name, ok := u.entry.Val(attrSplitName).(string)
		if !ok {
			if name, ok = u.entry.Val(attrGNUSplitName).(string); ok {
				u.Debug.addMissing(name + ", which is in the form that compilers used before DWARF 5")
			}
			return
		}
		if u.Debug.find == nil {
			return
		}
		for _, path := range u.Debug.find(u.Dir, name) {
			f, err := module.Open(path, "")
			if err != nil {
				continue
			}
			if x := u.openSplit(f); x != nil {
				u.parted = x
				return
			}
		}
		u.Debug.addMissing(name)
	})
	return u.parted
}

// The numbers of sections in the index of a package of split files (DWARF 5, section 7.3.5.3).
var shared = map[uint32]string{1: ".debug_info", 3: ".debug_abbrev", 4: ".debug_line", 5: ".debug_loclists", 6: ".debug_str_offsets", 8: ".debug_rnglists"}

// share is a part of a section.
type share struct{ offset, size uint64 }

// shares finds the parts of a unit's sections in the index of a package of split files. The index
// is a table of rows by unit number, then a table of offsets and one of sizes, with a column for
// each section.
func shares(index []byte, id uint64) map[string]share {
	c := cursor.New(index)
	version := c.U16()
	c.Skip(2)
	columns, units, slots := uint64(c.U32()), uint64(c.U32()), uint64(c.U32())
	if version != 5 || columns > 16 || slots > uint64(len(index))/12 || units > uint64(len(index))/8 {
		return nil
	}
	row := uint64(0)
	rows := cursor.At(index, 16+8*slots)
	for range slots {
		if n := uint64(rows.U32()); c.U64() == id && n != 0 {
			row = n
		}
	}
	if row == 0 || row > units || rows.Err() != nil {
		return nil
	}
	at := 16 + 12*slots
	out := map[string]share{}
	for i := range columns {
		kind := cursor.At(index, at+4*i)
		offset := cursor.At(index, at+4*(columns*row+i))
		size := cursor.At(index, at+4*(columns*(units+row)+i))
		name := shared[kind.U32()]
		out[name] = share{uint64(offset.U32()), uint64(size.U32())}
		if kind.Err() != nil || offset.Err() != nil || size.Err() != nil {
			return nil
		}
	}
	return out
}

// openSplit opens the split part of a unit, in its own file or in a package. It returns nil if the
// file does not contain the unit.
func (u *Unit) openSplit(f *module.File) (x *Unit) {
	var err error
	defer guard(&err)
	var parts map[string]share
	if index, err := f.Section(".debug_cu_index"); err == nil && len(index) > 0 {
		if parts = shares(index, u.id); parts == nil {
			return nil
		}
	}
	section := func(name string, skip int) []byte {
		b, err := f.Section(name + ".dwo")
		if p, ok := parts[name]; ok {
			if p.offset > uint64(len(b)) || p.size > uint64(len(b))-p.offset {
				return nil
			}
			b = b[p.offset : p.offset+p.size]
		}
		if err != nil || len(b) < skip {
			return nil
		}
		return b[skip:]
	}
	// In a split file, tables begin right after their headers.
	const offsetsHeader, listsHeader = 8, 12
	info, str := section(".debug_info", 0), section(".debug_str", 0)
	data, err := dwarf.New(section(".debug_abbrev", 0), nil, nil, info, nil, nil, nil, str)
	if err != nil {
		return nil
	}
	addr := u.Debug.addr
	if u.addrBase <= uint64(len(addr)) {
		addr = addr[u.addrBase:]
	}
	for name, b := range map[string][]byte{".debug_addr": addr, ".debug_str_offsets": section(".debug_str_offsets", offsetsHeader), ".debug_rnglists": section(".debug_rnglists", listsHeader)} {
		if err := data.AddSection(name, b); err != nil {
			return nil
		}
	}
	part := &Debug{Path: f.Path, data: data, file: f, whole: u.Debug.Whole(), shared: u.Debug.shared, str: str, locLists: section(".debug_loclists", 0), addr: addr, signatures: map[uint64]dwarf.Offset{}}
	if err := part.readUnits(info); err != nil {
		return nil
	}
	for _, x := range part.units {
		if x.id == u.id && x.entry.Tag == dwarf.TagCompileUnit {
			x.skeleton, x.low, x.locBase = u, u.low, listsHeader
			if x.Dir == "" {
				x.Dir = u.Dir
			}
			x.parted = x
			x.splitting.Do(func() {})
			return x
		}
	}
	return nil
}

// addMissing records a file that was not found.
func (d *Debug) addMissing(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.missing = append(d.missing, name)
}

// Missing lists the split files that were looked for and not found so far.
func (d *Debug) Missing() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string(nil), d.missing...)
}
