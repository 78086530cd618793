// Package debuginfo reads the debug information of a module (DWARF 4 and 5): the functions, scopes
// and lines of a program counter, and the variables in scope with their locations and types. It
// reads only the units that are needed.
package debuginfo

import (
	"cmp"
	"debug/dwarf"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/module"
)

// ErrMalformed means that debug information is damaged.
var ErrMalformed = errors.New("the debug information is damaged")

// Languages that are distinguished (DWARF 5, table 7.17).
const (
	langGo   = 0x16
	langRust = 0x1c
)

// Debug is the debug information of one module. It is safe for concurrent use. Its addresses are
// those of the file.
type Debug struct {
	Path     string
	data     *dwarf.Data
	whole    *Debug // the module's, if this is a split part; else nil
	shared   *Debug // of the supplementary file; nil if there is none
	find     Finder
	file     *module.File // keeps the sections mapped
	str      []byte
	loc      []byte
	locLists []byte
	addr     []byte
	units    []*Unit // by offset
	// signatures is where the types of type units are; typesFrom is where such units of DWARF 4 begin, 0 for none.
	signatures map[uint64]dwarf.Offset
	typesFrom  uint64
	ranges     []unitRange

	named sync.Once
	names *names

	mu      sync.Mutex
	missing []string
}

type unitRange struct {
	low, high uint64
	unit      *Unit
}

// Finder returns the possible paths of a file that debug information names relative to the folder
// of the build.
type Finder func(dir, name string) []string

// Unit is a compilation unit.
type Unit struct {
	Debug    *Debug
	Name     string
	Dir      string
	Producer string
	Language int64
	entry    *dwarf.Entry
	start    dwarf.Offset // of its header
	first    dwarf.Offset // of its first entry
	end      dwarf.Offset
	version  int
	low      uint64
	locBase  uint64
	addrBase uint64
	id       uint64 // shared by a unit and its split part
	skeleton *Unit  // of a split part: the unit in the binary

	splitting sync.Once
	parted    *Unit // the split part; the unit itself if it is not split

	scan      sync.Once
	functions []*Function // by address

	scanInner sync.Once
	within    within
	listing   sync.Once
	globals   []Variable
	lined     sync.Once
	lines     []line
	files     []string
}

// Go reports whether the unit is written in Go.
func (u *Unit) Go() bool { return u.Language == langGo }

// Rust reports whether the unit is written in Rust.
func (u *Unit) Rust() bool { return u.Language == langRust }

var sectionNames = []string{".debug_abbrev", ".debug_info", ".debug_str", ".debug_line", ".debug_ranges", ".debug_str_offsets", ".debug_line_str", ".debug_rnglists", ".debug_addr", ".debug_loc", ".debug_loclists", ".debug_types"}

// Open reads the headers and first entries of all units. supplement is the file with which f shares
// entries, or nil. find finds split parts.
func Open(f, supplement *module.File, find Finder) (d *Debug, err error) {
	defer guard(&err)
	s := map[string][]byte{}
	for _, name := range sectionNames {
		if s[name], err = f.Section(name); err != nil {
			return nil, err
		}
	}
	var signatures map[uint64]dwarf.Offset
	typesFrom := uint64(0)
	if len(s[".debug_types"]) > 0 {
		typesFrom = uint64(len(s[".debug_info"]))
	}
	s[".debug_info"], signatures = withTypeUnits(s[".debug_info"], s[".debug_types"])
	data, err := dwarf.New(s[".debug_abbrev"], nil, nil, s[".debug_info"], s[".debug_line"], nil, s[".debug_ranges"], s[".debug_str"])
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", f.Path, ErrMalformed, err)
	}
	for _, name := range []string{".debug_addr", ".debug_line_str", ".debug_str_offsets", ".debug_rnglists"} {
		if err := data.AddSection(name, s[name]); err != nil {
			return nil, fmt.Errorf("%s: %w: %w", f.Path, ErrMalformed, err)
		}
	}
	d = &Debug{Path: f.Path, data: data, find: find, file: f, str: s[".debug_str"], loc: s[".debug_loc"], locLists: s[".debug_loclists"], addr: s[".debug_addr"], signatures: signatures, typesFrom: typesFrom}
	if supplement != nil {
		if d.shared, err = Open(supplement, nil, nil); err != nil {
			return nil, err
		}
		d.shared.whole = d
	}
	return d, d.readUnits(s[".debug_info"])
}

// guard turns a panic of debug/dwarf on damaged sections into an error.
func guard(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("%w: %v", ErrMalformed, p)
	}
}

// readUnits reads the unit headers (DWARF 5, section 7.5.1).
func (d *Debug) readUnits(info []byte) error {
	reader := d.data.Reader()
	for at := uint64(0); at < uint64(len(info)); {
		c := cursor.At(info, at)
		length, wide := uint64(c.U32()), false
		if length == 0xffffffff {
			length, wide = c.U64(), true
		}
		body := uint64(c.Offset())
		if c.Err() != nil || length > uint64(len(info))-body {
			return fmt.Errorf("%s: %w: the unit at 0x%x is longer than its section", d.Path, ErrMalformed, at)
		}
		u := &Unit{Debug: d, start: dwarf.Offset(at), end: dwarf.Offset(body + length), version: int(c.U16())}
		offset := uint64(4)
		if wide {
			offset = 8
		}
		kind := uint8(0)
		if u.version >= 5 {
			kind = c.U8()
			c.Skip(1 + offset)
		} else {
			c.Skip(offset + 1)
		}
		const (
			unitType      = 2
			unitSkeleton  = 4
			unitSplit     = 5
			unitSplitType = 6
		)
		switch kind {
		case unitSkeleton, unitSplit:
			u.id = c.U64()
		case unitType, unitSplitType:
			signature := c.U64()
			place := uint64(c.U32())
			if wide {
				place |= uint64(c.U32()) << 32
			}
			if c.Err() == nil && at+place > at && at+place < body+length {
				d.signatures[signature] = dwarf.Offset(at + place)
			}
		}
		if at >= d.typesFrom && d.typesFrom > 0 {
			c.Skip(8 + offset) // what withTypeUnits has cleared
		}
		u.first = dwarf.Offset(c.Offset())
		at = body + length
		if c.Err() != nil || c.Len() == 0 {
			continue
		}
		reader.Seek(u.first)
		e, err := reader.Next()
		if err != nil || e == nil {
			continue // skip the damaged unit
		}
		u.fill(e)
		d.units = append(d.units, u)
		ranges, err := d.data.Ranges(e)
		if err != nil {
			continue
		}
		for _, r := range ranges {
			if r[0] < r[1] && r[0] != 0 {
				d.ranges = append(d.ranges, unitRange{r[0], r[1], u})
			}
		}
	}
	slices.SortStableFunc(d.ranges, func(a, b unitRange) int { return cmp.Compare(a.low, b.low) })
	return nil
}

func (u *Unit) fill(e *dwarf.Entry) {
	u.entry = e
	u.Name, _ = e.Val(dwarf.AttrName).(string)
	u.Dir, _ = e.Val(dwarf.AttrCompDir).(string)
	u.Producer, _ = e.Val(dwarf.AttrProducer).(string)
	u.Language, _ = e.Val(dwarf.AttrLanguage).(int64)
	u.low, _ = e.Val(dwarf.AttrLowpc).(uint64)
	if b, ok := e.Val(dwarf.AttrLoclistsBase).(int64); ok {
		u.locBase = uint64(b)
	}
	if b, ok := e.Val(dwarf.AttrAddrBase).(int64); ok {
		u.addrBase = uint64(b)
	}
}

// UnitAt returns the unit of the code at a program counter, or nil.
func (d *Debug) UnitAt(pc uint64) *Unit {
	if u := d.unitAt(pc); u != nil {
		return u.full()
	}
	return nil
}

func (d *Debug) unitAt(pc uint64) *Unit {
	i, _ := slices.BinarySearchFunc(d.ranges, pc, func(r unitRange, a uint64) int { return cmp.Compare(r.low, a+1) })
	for n := 0; i > 0 && n < 64; n++ {
		i--
		if pc < d.ranges[i].high {
			return d.ranges[i].unit
		}
	}
	return nil
}

// unitOf returns the unit of an entry, or nil.
func (d *Debug) unitOf(offset dwarf.Offset) *Unit {
	i, _ := slices.BinarySearchFunc(d.units, offset, func(u *Unit, o dwarf.Offset) int { return cmp.Compare(u.start, o+1) })
	if i == 0 || offset >= d.units[i-1].end {
		return nil
	}
	return d.units[i-1]
}

// entryAt reads one entry.
func (d *Debug) entryAt(offset dwarf.Offset) (e *dwarf.Entry, err error) {
	defer guard(&err)
	r := d.data.Reader()
	r.Seek(offset)
	e, err = r.Next()
	if err == nil && (e == nil || e.Tag == 0) {
		err = fmt.Errorf("%w: no entry at 0x%x", ErrMalformed, offset)
	}
	return e, err
}

// children reads the direct children of an entry.
func (d *Debug) children(offset dwarf.Offset) (list []*dwarf.Entry, err error) {
	defer guard(&err)
	r := d.data.Reader()
	r.Seek(offset)
	e, err := r.Next()
	if err != nil || e == nil || !e.Children {
		return nil, err
	}
	for {
		e, err := r.Next()
		if err != nil || e == nil || e.Tag == 0 {
			return list, err
		}
		list = append(list, e)
		if e.Children {
			r.SkipChildren()
		}
	}
}

// maxOrigins limits how far the origin of an entry is followed.
const maxOrigins = 8

// entry is an entry with its debug information.
type entry struct {
	*dwarf.Entry
	d *Debug
}

// reference returns the entry that an attribute refers to, possibly in the supplementary file. ok
// is false if there is none.
func (e entry) reference(a dwarf.Attr) (d *Debug, offset dwarf.Offset, ok bool) {
	f := e.AttrField(a)
	if f == nil {
		return nil, 0, false
	}
	switch v := f.Val.(type) {
	case dwarf.Offset:
		return e.d, v, true
	case int64:
		if f.Class == dwarf.ClassReferenceAlt && e.d.shared != nil {
			return e.d.shared, dwarf.Offset(v), true
		}
	}
	if o, ok := e.bySignature(f); ok {
		return e.d, o, true
	}
	return nil, 0, false
}

// text returns an attribute of a text, possibly in the supplementary file.
func (e entry) text(a dwarf.Attr) string {
	f := e.AttrField(a)
	if f == nil {
		return ""
	}
	switch v := f.Val.(type) {
	case string:
		return v
	case int64:
		if f.Class == dwarf.ClassStringAlt && e.d.shared != nil {
			c := cursor.At(e.d.shared.str, uint64(v))
			return c.Text()
		}
	}
	return ""
}

// origin returns the entry that an entry completes: its abstract origin or declaration.
func (e entry) origin() (entry, bool) {
	for _, a := range []dwarf.Attr{dwarf.AttrAbstractOrigin, dwarf.AttrSpecification} {
		if d, o, ok := e.reference(a); ok {
			if x, err := d.entryAt(o); err == nil {
				return entry{x, d}, true
			}
		}
	}
	return entry{}, false
}

// having returns the entry, or the one that it completes, that has an attribute.
func (e entry) having(a dwarf.Attr) (entry, bool) {
	for range maxOrigins {
		if e.AttrField(a) != nil {
			return e, true
		}
		var ok bool
		if e, ok = e.origin(); !ok {
			break
		}
	}
	return entry{}, false
}

// value returns an attribute of an entry, or of the entry that it completes.
func (e entry) value(a dwarf.Attr) any {
	if x, ok := e.having(a); ok {
		return x.Val(a)
	}
	return nil
}

// name returns an entry's name. Names of C++ and Rust functions include their scopes.
func (e entry) name() string {
	if name := e.linkage(); name != "" {
		return name
	}
	if x, ok := e.having(dwarf.AttrName); ok {
		// Functions of local classes have only their own name.
		if u := x.d.unitOf(x.Offset); u != nil && x.Tag == dwarf.TagSubprogram && x.Val(dwarf.AttrObjectPointer) != nil {
			if name, ok := u.inner().names[x.Offset]; ok {
				return name
			}
		}
		return x.text(dwarf.AttrName)
	}
	return ""
}

// linkage returns the name in an entry's linkage name, if that is one of C++ or Rust.
func (e entry) linkage() string {
	if x, ok := e.having(dwarf.AttrLinkageName); ok {
		linkage := x.text(dwarf.AttrLinkageName)
		if name := module.Readable(linkage); name != linkage {
			return withoutHash(name)
		}
	}
	return ""
}

// withoutHash removes the hash that Rust appends to names.
func withoutHash(name string) string {
	if i := strings.LastIndex(name, "::h"); i > 0 && len(name)-i == 19 && strings.Trim(name[i+3:], "0123456789abcdef") == "" {
		return name[:i]
	}
	return name
}

// Address returns an address of the unit by its index.
func (u *Unit) Address(index uint64) (uint64, error) {
	if u.skeleton != nil {
		return u.skeleton.Address(index)
	}
	c := cursor.At(u.Debug.addr, u.addrBase)
	if index > uint64(c.Len())/8 {
		return 0, fmt.Errorf("%w: no address %d", ErrMalformed, index)
	}
	c.Skip(index * 8)
	v := c.U64()
	if c.Err() != nil {
		return 0, fmt.Errorf("%w: no address %d", ErrMalformed, index)
	}
	return v, nil
}
