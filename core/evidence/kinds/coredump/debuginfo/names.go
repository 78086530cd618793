package debuginfo

import (
	"debug/dwarf"
	"encoding/binary"
	"strings"

	"wraithology/core/event"
)

// names finds declarations outside of functions, by name.
type names struct {
	count     int        // number of entries read
	inOrder   []Variable // in order of declaration
	variables map[string][]Variable
	types     map[string]TypeRef
	records   map[string]TypeRef      // only structures, classes and unions
	runtime   map[uint64]TypeRef      // Go: types by the address of their runtime descriptor
	tables    map[uint64]TypeRef      // Rust: types by the address of their dispatch tables
	declared  map[dwarf.Offset]string // in a type unit: names of types by their declarations in namespaces, which the definitions refer to
}

const (
	maxNames         = 4 << 20
	attrGoRuntime    = 0x2904
	maxNamespaceDeep = 16
)

// index reads the declarations of all units once, including split units and the supplementary file.
func (d *Debug) index() *names {
	if d.whole != nil {
		return d.whole.index()
	}
	d.named.Do(func() {
		d.names = newNames()
		units := d.units
		if d.shared != nil {
			units = append(append([]*Unit{}, units...), d.shared.units...)
		}
		for _, u := range units {
			full := u.full()
			d.names.unit(full)
			if full == u {
				continue
			}
			for _, other := range full.Debug.units { // the type units of a split part
				if other != full && other.entry.Tag == dwarf.TagTypeUnit {
					d.names.unit(other)
				}
			}
		}
	})
	return d.names
}

func newNames() *names {
	return &names{variables: map[string][]Variable{}, types: map[string]TypeRef{}, records: map[string]TypeRef{}, runtime: map[uint64]TypeRef{}, tables: map[uint64]TypeRef{}}
}

// unit reads the declarations of one unit.
func (x *names) unit(u *Unit) {
	var err error
	defer guard(&err) // keep what was read before the damage
	r := u.Debug.data.Reader()
	r.Seek(u.first)
	if e, err := r.Next(); err == nil && e != nil && e.Children {
		if x.declared = nil; e.Tag == dwarf.TagTypeUnit {
			x.declared = map[dwarf.Offset]string{}
		}
		x.read(u, r, "", 0)
	}
}

// read reads the declarations of a unit or a namespace.
func (x *names) read(u *Unit, r *dwarf.Reader, prefix string, depth int) {
	for x.count < maxNames {
		e, err := r.Next()
		if err != nil || e == nil || e.Tag == 0 {
			return
		}
		x.count++
		name := entry{e, u.Debug}.text(dwarf.AttrName)
		here := TypeRef{u.Debug, e.Offset}
		switch e.Tag {
		case dwarf.TagNamespace:
			if e.Children && depth < maxNamespaceDeep {
				inner := prefix
				if name != "" {
					inner += name + "::"
				}
				x.read(u, r, inner, depth+1)
				continue
			}
		case dwarf.TagVariable:
			if e.Val(dwarf.AttrDeclaration) == true || e.Val(dwarf.AttrSpecification) != nil && e.Val(dwarf.AttrLocation) == nil {
				break
			}
			if strings.HasSuffix(name, "::{vtable}") && u.Rust() {
				x.table(u, e)
				break
			}
			v := u.variable(e)
			v.Scope = event.Global
			if v.Name == "" {
				break
			}
			v.Name = prefix + v.Name
			x.variables[v.Name] = append(x.variables[v.Name], v)
			x.inOrder = append(x.inOrder, v)
		case dwarf.TagStructType, dwarf.TagClassType, dwarf.TagUnionType, dwarf.TagTypedef, dwarf.TagBaseType, dwarf.TagEnumerationType, dwarf.TagPointerType:
			if at, ok := e.Val(attrGoRuntime).(uint64); ok {
				x.runtime[at] = here
			}
			if name == "" {
				break
			}
			full := prefix + name
			if e.Val(dwarf.AttrDeclaration) == true {
				if x.declared != nil {
					x.declared[e.Offset] = full
				}
				break
			}
			if o, ok := e.Val(dwarf.AttrSpecification).(dwarf.Offset); ok && x.declared[o] != "" {
				full = x.declared[o]
			}
			if _, ok := x.types[full]; !ok {
				x.types[full] = here
			}
			plain := full
			switch {
			case u.Rust():
				plain = plainRust(full)
			case !u.Go():
				plain = PlainName(full)
			}
			if plain != full {
				if _, ok := x.types[plain]; !ok {
					x.types[plain] = here
				}
			}
			switch e.Tag {
			case dwarf.TagStructType, dwarf.TagClassType, dwarf.TagUnionType:
				if _, ok := x.records[full]; !ok {
					x.records[full] = here
				}
			}
			switch e.Tag {
			case dwarf.TagStructType, dwarf.TagClassType, dwarf.TagUnionType, dwarf.TagEnumerationType:
				if word := tagWord(e.Tag); !u.Go() {
					if _, ok := x.types[word+full]; !ok {
						x.types[word+full] = here
					}
				}
			}
		}
		if e.Children {
			r.SkipChildren()
		}
	}
}

func tagWord(t dwarf.Tag) string {
	switch t {
	case dwarf.TagUnionType:
		return "union "
	case dwarf.TagEnumerationType:
		return "enum "
	}
	return "struct "
}

// Globals lists the global variables of a unit. It reads only that unit.
func (u *Unit) Globals() []Variable {
	u.listing.Do(func() {
		x := newNames()
		x.unit(u)
		u.globals = x.inOrder
	})
	return u.globals
}

// Global finds a global variable by name. If there are several, the one in the given unit is
// preferred. The name can have a prefix: the end of a file name and a colon.
func (d *Debug) Global(name string, in *Unit) (Variable, bool) {
	file, rest, ok := strings.Cut(name, ":")
	if !ok || strings.HasPrefix(rest, ":") {
		file, rest = "", name
	}
	var found Variable
	for _, v := range d.index().variables[rest] {
		if file != "" && !strings.HasSuffix(v.Unit.Name, file) {
			continue
		}
		if v.Unit == in {
			return v, true
		}
		if found.Unit == nil {
			found = v
		}
	}
	return found, found.Unit != nil
}

// TypeNamed finds a type by its name.
func (d *Debug) TypeNamed(name string) (TypeRef, bool) {
	o, ok := d.index().types[name]
	return o, ok
}

// table records the address of a type's dispatch table for a trait.
func (x *names) table(u *Unit, e *dwarf.Entry) {
	at, _ := e.Val(dwarf.AttrLocation).([]byte)
	of, ok := e.Val(dwarf.AttrType).(dwarf.Offset)
	const opAddr = 0x03 // DWARF 5, table 7.9
	if !ok || len(at) != 9 || at[0] != opAddr {
		return
	}
	address, here := binary.LittleEndian.Uint64(at[1:]), TypeRef{u.Debug, of}
	if _, ok := x.tables[address]; ok {
		here = TypeRef{} // identical tables may be merged: their type is ambiguous
	}
	x.tables[address] = here
}

// Implementer returns the Rust type of the dispatch table at an address of the file.
func (d *Debug) Implementer(at uint64) (TypeRef, bool) {
	o, ok := d.index().tables[at]
	if !ok || o.Debug == nil {
		return o, false
	}
	e, err := o.Debug.entryAt(o.Offset)
	if err != nil {
		return o, false
	}
	of, ok := e.Val(dwarf.AttrContainingType).(dwarf.Offset)
	return TypeRef{o.Debug, of}, ok
}

// RuntimeType returns the type whose Go runtime descriptor is at an address of the file.
func (d *Debug) RuntimeType(at uint64) (TypeRef, bool) {
	o, ok := d.index().runtime[at]
	return o, ok
}
