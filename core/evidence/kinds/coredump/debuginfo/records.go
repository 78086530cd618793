package debuginfo

import (
	"debug/dwarf"
	"fmt"
	"math"
	"strings"

	"wraithology/core/event"
)

const (
	tagVariantPart    = 0x33
	tagVariant        = 0x19
	attrDiscriminant  = 0x15
	attrDiscrValue    = 0x16
	attrDataBitOffset = 0x6b
	tagArgumentPack   = 0x4107 // of GNU compilers
	tagTemplateType   = dwarf.TagTemplateTypeParameter
)

// unnamed is the name of anonymous members.
const unnamed = "(unnamed)"

// maxMembers limits the members of one record.
const maxMembers = 100_000

func (t *Types) fillRecord(x *Type, e *dwarf.Entry, depth int) {
	x.Kind, x.Form = Record, event.Struct
	if x.Name == "" {
		x.Name = tagWord(e.Tag) + "without a name"
	}
	x.Class = x.Name
	if e.Val(dwarf.AttrDeclaration) == true {
		if o, ok := t.definition(x, depth); ok {
			id := x.ID
			*x = *o
			x.ID = id
			return
		}
		x.Incomplete = true
	}
	if u := x.Debug.unitOf(x.Offset); u != nil && !u.Go() && !u.Rust() && e.Tag != dwarf.TagClassType && isC(u.Language) {
		x.Name = tagWord(e.Tag) + strings.TrimPrefix(x.Name, tagWord(e.Tag))
	}
	list, err := x.Debug.children(x.Offset)
	if err != nil {
		return
	}
	for _, c := range list {
		switch c.Tag {
		case dwarf.TagMember:
			t.member(x, c)
			x.Alignment = max(x.Alignment, alignmentOf(c))
		case dwarf.TagInheritance:
			m := Member{Type: t.typeOf(x, c), Base: true}
			switch at := c.Val(dwarf.AttrDataMemberLoc).(type) {
			case int64:
				m.Offset = uint64(at)
			case []byte:
				m.Virtual = at
			}
			if base := t.get(m.Type, depth+1); base != nil {
				if base.Kind == Record && len(base.Members) == 0 && !base.Incomplete {
					continue // an empty record
				}
				m.Name = base.Name
				x.Dynamic = x.Dynamic || base.Dynamic
			}
			x.Members = append(x.Members, m)
		case tagTemplateType:
			x.Arguments = append(x.Arguments, t.typeOf(x, c))
		case tagArgumentPack:
			pack, err := x.Debug.children(c.Offset)
			for _, a := range pack {
				if err == nil && a.Tag == tagTemplateType {
					x.Arguments = append(x.Arguments, t.typeOf(x, a))
				}
			}
		case tagVariantPart:
			t.variants(x, c)
		}
		if len(x.Members) > maxMembers {
			break
		}
	}
	if u := x.Debug.unitOf(x.Offset); u != nil && !u.Go() && !u.Rust() {
		x.Name = PlainName(x.Name)
	}
	for _, m := range x.Members {
		x.Fields = append(x.Fields, event.Field{Name: m.Name, Type: m.Type, Offset: m.Offset, Inner: m.Base || m.Name == unnamed})
	}
}

// isC reports whether the language is C, in which names of structures begin with struct.
func isC(language int64) bool {
	switch language {
	case 0x01, 0x02, 0x0c, 0x1d, 0x2c:
		return true
	}
	return false
}

// definition finds the definition, in another unit of the module, of a record that is only declared
// here.
func (t *Types) definition(x *Type, depth int) (*Type, bool) {
	o, ok := x.Debug.index().records[x.Name]
	if !ok || o.Offset == x.Offset && o.Debug == x.Debug {
		return nil, false
	}
	d := t.get(t.id(place{o.Debug, o.Offset, ""}), depth+1)
	return d, d != nil && d.Kind == Record && !d.Incomplete
}

func (t *Types) typeOf(x *Type, e *dwarf.Entry) event.TypeID {
	d, o, ok := entry{e, x.Debug}.reference(dwarf.AttrType)
	if !ok {
		return 0
	}
	return t.id(place{d, o, ""})
}

func (t *Types) member(x *Type, e *dwarf.Entry) {
	if e.Val(dwarf.AttrExternal) == true || e.Val(dwarf.AttrDeclaration) == true {
		return // a static member is a global variable
	}
	m := Member{Type: t.typeOf(x, e)}
	m.Name = entry{e, x.Debug}.text(dwarf.AttrName)
	switch at := e.Val(dwarf.AttrDataMemberLoc).(type) {
	case int64:
		m.Offset = uint64(at)
	case []byte:
		if len(at) > 1 && at[0] == 0x23 { // DW_OP_plus_uconst
			var n uint64
			for i, b := range at[1:] {
				n |= uint64(b&0x7f) << min(7*i, 63)
			}
			m.Offset = n
		}
	}
	if bits, ok := e.Val(dwarf.AttrBitSize).(int64); ok && bits > 0 && bits <= 64 {
		m.Bits = uint64(bits)
		if at, ok := e.Val(attrDataBitOffset).(int64); ok && at >= 0 {
			m.Bit = uint64(at)
		} else if at, ok := e.Val(dwarf.AttrBitOffset).(int64); ok {
			// DWARF 3 counts from the most significant bit of the storage unit.
			size, ok := e.Val(dwarf.AttrByteSize).(int64)
			if !ok {
				size = 4
			}
			m.Bit = uint64(int64(m.Offset)*8 + size*8 - at - bits)
		} else {
			m.Bit = m.Offset * 8
		}
		m.Offset = m.Bit / 8
	}
	if strings.HasPrefix(m.Name, "_vptr") {
		x.Dynamic = true
	}
	if m.Name == "" {
		m.Name = unnamed
	}
	x.Members = append(x.Members, m)
}

// variants reads the alternatives of a Rust enum (DWARF 5, section 5.7.10).
func (t *Types) variants(x *Type, e *dwarf.Entry) {
	v := &Variants{}
	list, err := x.Debug.children(e.Offset)
	if err != nil {
		return
	}
	if o, ok := e.Val(attrDiscriminant).(dwarf.Offset); ok {
		if d, err := x.Debug.entryAt(o); err == nil {
			at, _ := d.Val(dwarf.AttrDataMemberLoc).(int64)
			v.Offset = uint64(max(at, 0))
			if of := t.get(t.typeOf(x, d), 1); of != nil {
				v.Size = int(min(of.Size, math.MaxInt8))
			}
		}
	}
	for _, c := range list {
		if c.Tag != tagVariant {
			continue
		}
		one := Variant{Default: true}
		switch n := c.Val(attrDiscrValue).(type) {
		case int64:
			one.Number, one.Default = uint64(n), false
		case []byte:
			for i := len(n) - 1; i >= 0; i-- {
				one.Number = one.Number<<8 | uint64(n[i])
			}
			one.Default = false
		}
		members, err := x.Debug.children(c.Offset)
		if err != nil {
			continue
		}
		for _, m := range members {
			if m.Tag == dwarf.TagMember {
				one.Name = entry{m, x.Debug}.text(dwarf.AttrName)
				one.Type = t.typeOf(x, m)
				at, _ := m.Val(dwarf.AttrDataMemberLoc).(int64)
				one.Offset = uint64(max(at, 0))
			}
		}
		v.List = append(v.List, one)
	}
	if len(v.List) > 0 {
		x.Variants = v
	}
}

// Attributes of Go's own (cmd/internal/dwarf).
const (
	attrGoKind = 0x2900
	attrGoKey  = 0x2901
	attrGoElem = 0x2902
)

// fillGo resolves types with a layout of Go's own. It returns false for types whose layout is that
// of other languages.
func (t *Types) fillGo(x *Type, e *dwarf.Entry, depth int) bool {
	kind, _ := e.Val(attrGoKind).(int64)
	attribute := func(a dwarf.Attr) event.TypeID {
		if o, ok := e.Val(a).(dwarf.Offset); ok {
			return t.id(place{x.Debug, o, ""})
		}
		return 0
	}
	const (
		kindChan      = 18
		kindFunc      = 19
		kindInterface = 20
		kindMap       = 21
		kindPointer   = 22
		kindSlice     = 23
		kindString    = 24
		kindUnsafe    = 26
	)
	switch kind {
	case kindString:
		x.Kind, x.Form = GoString, event.Text
	case kindSlice:
		x.Kind, x.Form, x.Elem = GoSlice, event.Slice, attribute(attrGoElem)
		t.get(x.Elem, depth+1)
	case kindMap, kindChan:
		x.Kind, x.Form = GoMap, event.Map
		if kind == kindChan {
			x.Kind, x.Form = GoChan, event.Chan
		}
		x.Key, x.Elem, x.Size = attribute(attrGoKey), attribute(attrGoElem), 8
		if _, pointer := t.elem(x, e, depth); pointer != nil {
			x.Inner = pointer.Elem
		}
	case kindFunc:
		x.Kind, x.Form, x.Size = GoFunc, event.Func, 8
	case kindInterface:
		x.Kind, x.Form, x.Size = GoIface, event.Interface, 16
		if _, under := t.elem(x, e, depth); under != nil && under.Name == "runtime.eface" {
			x.Kind = GoEface
		}
	case kindPointer:
		x.Kind, x.Form, x.Size = Pointer, event.Pointer, 8
		x.Elem = t.typeOf(x, e)
	case kindUnsafe:
		x.Kind, x.Form, x.Size = Pointer, event.Pointer, 8
	default:
		if e.Tag == dwarf.TagArrayType {
			return t.fillGoArray(x, e, depth)
		}
		return false
	}
	return true
}

func (t *Types) fillGoArray(x *Type, e *dwarf.Entry, depth int) bool {
	name := x.Name
	t.fillArray(x, e, "", depth)
	if name != "" {
		x.Name = name
	} else if of := t.get(x.Elem, depth+1); of != nil {
		x.Name = fmt.Sprintf("[%d]%s", x.Length, of.Name)
	}
	return true
}
