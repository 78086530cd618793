package debuginfo

import (
	"debug/dwarf"
	"strings"

	"wraithology/core/event"
)

// names finds what is declared outside of functions, by name.
type names struct {
	variables map[string][]Variable
	types     map[string]TypeRef
	records   map[string]TypeRef // of types, those that are structures, classes and unions
	byUnit    map[*Unit][]Variable
	runtime   map[uint64]TypeRef // Go: types by where the runtime describes them
}

const (
	maxNames         = 4 << 20
	attrGoRuntime    = 0x2904
	maxNamespaceDeep = 16
)

// index reads the declarations of all units, once: also of those that were split
// off, and of the supplementary file.
func (d *Debug) index() *names {
	if d.whole != nil {
		return d.whole.index()
	}
	d.named.Do(func() {
		d.names = &names{variables: map[string][]Variable{}, types: map[string]TypeRef{}, records: map[string]TypeRef{}, byUnit: map[*Unit][]Variable{}, runtime: map[uint64]TypeRef{}}
		var err error
		defer guard(&err) // what was read before damage counts
		n := 0
		units := d.units
		if d.shared != nil {
			units = append(append([]*Unit{}, units...), d.shared.units...)
		}
		for _, u := range units {
			u = u.full()
			r := u.Debug.data.Reader()
			r.Seek(u.first)
			if e, err := r.Next(); err == nil && e != nil && e.Children {
				d.names.read(u, r, "", &n, 0)
			}
		}
	})
	return d.names
}

// read reads the declarations of one scope, which is a unit or a namespace.
func (x *names) read(u *Unit, r *dwarf.Reader, prefix string, n *int, depth int) {
	for *n < maxNames {
		e, err := r.Next()
		if err != nil || e == nil || e.Tag == 0 {
			return
		}
		*n++
		name := entry{e, u.Debug}.text(dwarf.AttrName)
		here := TypeRef{u.Debug, e.Offset}
		switch e.Tag {
		case dwarf.TagNamespace:
			if e.Children && depth < maxNamespaceDeep {
				inner := prefix
				if name != "" {
					inner += name + "::"
				}
				x.read(u, r, inner, n, depth+1)
				continue
			}
		case dwarf.TagVariable:
			if e.Val(dwarf.AttrDeclaration) == true || e.Val(dwarf.AttrSpecification) != nil && e.Val(dwarf.AttrLocation) == nil {
				break
			}
			v := u.variable(e)
			v.Scope = event.Global
			if v.Name == "" {
				break
			}
			v.Name = prefix + v.Name
			x.variables[v.Name] = append(x.variables[v.Name], v)
			x.byUnit[u] = append(x.byUnit[u], v)
		case dwarf.TagStructType, dwarf.TagClassType, dwarf.TagUnionType, dwarf.TagTypedef, dwarf.TagBaseType, dwarf.TagEnumerationType, dwarf.TagPointerType:
			if at, ok := e.Val(attrGoRuntime).(uint64); ok {
				x.runtime[at] = here
			}
			if name == "" || e.Val(dwarf.AttrDeclaration) == true {
				break
			}
			full := prefix + name
			if _, ok := x.types[full]; !ok {
				x.types[full] = here
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

// Globals lists the global variables of a unit.
func (u *Unit) Globals() []Variable { return u.Debug.index().byUnit[u] }

// Global finds a global variable by name; of several, that of the unit in front.
// A name may be led by the end of its file's name and a colon.
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

// RuntimeType finds the type that Go's runtime describes at an address of the file.
func (d *Debug) RuntimeType(at uint64) (TypeRef, bool) {
	o, ok := d.index().runtime[at]
	return o, ok
}
