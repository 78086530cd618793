package debuginfo

import (
	"debug/dwarf"

	"wraithology/core/coredump/module"
)

// attrSplitName names the file in which a unit's entries are, where they were
// split off (DWARF 5, section 7.3.2). attrGNUSplitName is what came before the
// standard; such files are not read.
const (
	attrSplitName    = 0x76
	attrGNUSplitName = 0x2130
)

// Whole returns the debug information of the module, of which this may be a part.
func (d *Debug) Whole() *Debug {
	if d.whole != nil {
		return d.whole
	}
	return d
}

// full returns the unit with its entries: what was split off from it, where
// that was found; else the unit itself.
func (u *Unit) full() *Unit {
	u.splitting.Do(func() {
		u.parted = u
		name, ok := u.entry.Val(attrSplitName).(string)
		if !ok {
			if name, ok = u.entry.Val(attrGNUSplitName).(string); ok {
				u.Debug.lack(name + ", which is in the form that compilers used before DWARF 5")
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
		u.Debug.lack(name)
	})
	return u.parted
}

// openSplit opens the part of a unit that is in a file of its own; it returns nil
// where that is not what is in the file.
func (u *Unit) openSplit(f *module.File) (x *Unit) {
	var err error
	defer guard(&err)
	section := func(name string, skip int) []byte {
		b, err := f.Section(name + ".dwo")
		if err != nil || len(b) < skip {
			return nil
		}
		return b[skip:]
	}
	// In such a file tables begin behind their headers without saying so.
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
	part := &Debug{Path: f.Path, data: data, file: f, whole: u.Debug.Whole(), shared: u.Debug.shared, str: str, locLists: section(".debug_loclists", 0), addr: addr}
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

// lack remembers a file that was not found.
func (d *Debug) lack(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.lacking = append(d.lacking, name)
}

// Lacking lists the files with entries that were split off, as far as they have
// been looked for and not found.
func (d *Debug) Lacking() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string(nil), d.lacking...)
}
