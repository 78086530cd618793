package debuginfo

import (
	"debug/dwarf"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"strings"
	"sync"

	"wraithology/core/event"
)

// Kind is the memory layout of a type's values.
type Kind int

// The kinds. Plain is a number of the type's form.
const (
	Unknown Kind = iota
	Plain
	Enum
	Record // struct, class, union
	Array
	Pointer
	Reference
	CodePointer
	MemberPointer // of C++: Inner is the class; the form is Func for functions
	Code          // a function
	GoString      // the following are of Go
	GoSlice       //
	GoMap         //
	GoChan        //
	GoFunc        //
	GoEface       // an empty interface
	GoIface       // an interface with methods
	Container     // of a standard library, named by Type.Name
)

// Type is a type of a program. It is resolved from its own entry; other types are referred to by
// number.
type Type struct {
	event.Type
	Kind    Kind
	Debug   *Debug
	Offset  dwarf.Offset
	Members []Member
	Names   map[int64]string // the constants of an enumeration
	// Inner is the record behind a Go map or channel, or inside a container.
	Inner event.TypeID
	// Text is the same type for text: pointers to readable characters are shown as text.
	Text       *event.Type
	Character  bool // a character
	Byte       bool // a character type that stands for a small integer: arrays of it are bytes
	Signed     bool // a signed number
	Quad       bool // floating-point numbers of 16 bytes are IEEE 754 quadruple, not x87 extended
	Variants   *Variants
	Arguments  []event.TypeID // of a template
	Dynamic    bool           // a class with virtual functions
	Incomplete bool           // declared, but not defined in this module
	Bounds     []dwarf.Offset // the entries of dimensions whose lengths are known at run time only
	Rust       bool
	Flexible   bool   // a flexible array member
	Class      string // the name of the record itself, not of a typedef
	// Alignment is the declared alignment of the type or of one of its members; 0 if there is none.
	Alignment uint64
}

// Member is a part of a record. Bits is 0 except for bit-fields, whose lowest bit is Bit, from the
// beginning of the record.
type Member struct {
	Name   string
	Type   event.TypeID
	Offset uint64
	Bits   uint64
	Bit    uint64
	Base   bool // a base class
	// Virtual is the expression for the offset of a virtual base.
	Virtual []byte
}

// Variants are the alternatives of a Rust enum. The number at Offset selects one; Others is the
// alternative for numbers without one.
type Variants struct {
	Offset uint64
	Size   int
	List   []Variant
}

// Variant is one alternative. Default is used for numbers that no other has.
type Variant struct {
	Name    string
	Type    event.TypeID
	Offset  uint64
	Number  uint64
	Default bool
}

// Types numbers the types of all modules of a dump and resolves them on demand. It is safe for
// concurrent use.
type Types struct {
	mu     sync.Mutex
	places []place
	types  []*Type // nil before the first use
	ids    map[place]event.TypeID
	// resolving holds the types that are being resolved, because damaged debug information and
	// recursive typedefs can lead back to them.
	resolving map[event.TypeID]bool
}

type place struct {
	debug  *Debug
	offset dwarf.Offset
	// lengths are those of an array's dimensions that their entries do not have, each in eight bytes.
	lengths string
}

// NewTypes returns an empty table.
func NewTypes() *Types {
	return &Types{ids: map[place]event.TypeID{}, resolving: map[event.TypeID]bool{}}
}

// maxTypes limits the types of a dump that are resolved.
const maxTypes = 1 << 24

// ID returns a type's number; 0 for none.
func (t *Types) ID(r TypeRef) event.TypeID {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.id(place{r.Debug, r.Offset, ""})
}

func (t *Types) id(p place) event.TypeID {
	if p.offset == 0 || p.debug == nil {
		return 0
	}
	if id, ok := t.ids[p]; ok {
		return id
	}
	if len(t.places) >= maxTypes {
		return 0
	}
	t.places = append(t.places, p)
	t.types = append(t.types, nil)
	id := event.TypeID(len(t.places))
	t.ids[p] = id
	return id
}

// WithLengths returns an array type with the lengths that its Bounds do not have.
func (t *Types) WithLengths(array *Type, lengths []uint64) *Type {
	var key []byte
	for _, n := range lengths {
		key = binary.LittleEndian.AppendUint64(key, n)
	}
	t.mu.Lock()
	id := t.id(place{array.Debug, array.Offset, string(key)})
	t.mu.Unlock()
	out := t.Get(id)
	if out == nil {
		return array
	}
	return out
}

// PointerTo returns the type of pointers to a type.
func (t *Types) PointerTo(to *Type) *event.Type {
	return &event.Type{Name: pointerName(to.Name), Form: event.Pointer, Size: 8, Elem: to.ID}
}

// Get returns a type by its number, or nil.
func (t *Types) Get(id event.TypeID) *Type {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.get(id, 0)
}

// maxTypeDepth limits the depth of composed type names.
const maxTypeDepth = 40

func (t *Types) get(id event.TypeID, depth int) *Type {
	if id == 0 || int(id) > len(t.types) || depth > maxTypeDepth || t.resolving[id] {
		return nil
	}
	if x := t.types[id-1]; x != nil {
		return x
	}
	t.resolving[id] = true
	defer delete(t.resolving, id)
	p := t.places[id-1]
	x := &Type{Debug: p.debug, Offset: p.offset}
	x.ID = id
	e, err := p.debug.entryAt(p.offset)
	if err != nil {
		x.Name, x.Form = "a type that cannot be read", event.Opaque
	} else {
		t.fill(x, e, p.lengths, depth)
		x.Alignment = max(x.Alignment, alignmentOf(e))
		if x.Rust {
			x.Name = plainRust(x.Name)
		}
	}
	x.ID = id
	t.types[id-1] = x
	return x
}

// attrAlignment is an alignment that differs from the natural one (DWARF 5, section 2.24).
const attrAlignment = 0x88

func alignmentOf(e *dwarf.Entry) uint64 {
	n, _ := e.Val(attrAlignment).(int64)
	return uint64(max(n, 0))
}

// elem returns the type that an entry's type attribute names.
func (t *Types) elem(x *Type, e *dwarf.Entry, depth int) (event.TypeID, *Type) {
	d, o, ok := entry{e, x.Debug}.reference(dwarf.AttrType)
	if !ok {
		return 0, nil
	}
	id := t.id(place{d, o, ""})
	return id, t.get(id, depth+1)
}

func nameOr(t *Type, otherwise string) string {
	if t == nil || t.Name == "" {
		return otherwise
	}
	return t.Name
}

func pointerName(to string) string {
	if strings.HasSuffix(to, "*") {
		return to + "*"
	}
	return to + " *"
}

// fill resolves a type from its entry.
func (t *Types) fill(x *Type, e *dwarf.Entry, lengths string, depth int) {
	x.Name = entry{e, x.Debug}.text(dwarf.AttrName)
	size, _ := e.Val(dwarf.AttrByteSize).(int64)
	x.Size = uint64(max(size, 0))
	if u := x.Debug.unitOf(x.Offset); u != nil {
		x.Rust = u.Rust()
		if u.Go() && t.fillGo(x, e, depth) {
			return
		}
	}
	if debug, o, ok := (entry{e, x.Debug}).reference(attrSignature); ok { // its definition is in a type unit
		if d := t.get(t.id(place{debug, o, ""}), depth+1); d != nil {
			id := x.ID
			*x = *d
			x.ID = id
			return
		}
	}
	switch e.Tag {
	case dwarf.TagBaseType:
		t.fillBase(x, e)
	case dwarf.TagUnspecifiedType:
		x.Form, x.Kind = event.Opaque, Unknown
		if strings.Contains(x.Name, "nullptr") { // a type with one value
			x.Form, x.Kind, x.Size = event.Pointer, Pointer, 8
		}
	case dwarf.TagEnumerationType:
		t.fillEnum(x, e, depth)
	case dwarf.TagStructType, dwarf.TagClassType, dwarf.TagUnionType, dwarf.TagInterfaceType:
		t.fillRecord(x, e, depth)
	case dwarf.TagArrayType:
		t.fillArray(x, e, lengths, depth)
	case dwarf.TagPointerType, dwarf.TagReferenceType, dwarf.TagRvalueReferenceType:
		t.fillPointer(x, e, depth)
	case dwarf.TagSubroutineType:
		x.Form, x.Kind, x.Size = event.Func, Code, 1
		if x.Name == "" {
			x.Name = "function"
		}
	case dwarf.TagPtrToMemberType:
		t.fillMemberPointer(x, e, depth)
	case dwarf.TagTypedef, dwarf.TagConstType, dwarf.TagVolatileType, dwarf.TagRestrictType, tagAtomicType, dwarf.TagTemplateAlias:
		t.fillAlias(x, e, depth)
	default:
		x.Form = event.Opaque
	}
}

const tagAtomicType = 0x47

// fillMemberPointer makes a pointer to a member of a class: an offset, or for a function an address and a correction of the
// object's (Itanium C++ ABI, section 2.3).
func (t *Types) fillMemberPointer(x *Type, e *dwarf.Entry, depth int) {
	_, to := t.elem(x, e, depth)
	x.Form, x.Kind, x.Size = event.Int, MemberPointer, 8
	if to != nil && to.Kind == Code {
		x.Form, x.Size = event.Func, 16
	}
	x.Name = "pointer to a member"
	if d, o, ok := (entry{e, x.Debug}).reference(dwarf.AttrContainingType); ok {
		x.Inner = t.id(place{d, o, ""})
		if class := t.get(x.Inner, depth+1); class != nil {
			x.Name = "pointer to a member of " + class.Name
		}
	}
}

// fillAlias makes a typedef or a qualified type: the same under another name.
func (t *Types) fillAlias(x *Type, e *dwarf.Entry, depth int) {
	_, to := t.elem(x, e, depth)
	name := x.Name
	if to == nil {
		x.Form, x.Name = event.Opaque, nameOr(x, "void")
		return
	}
	id := x.ID
	*x = *to
	x.ID = id
	switch e.Tag {
	case dwarf.TagTypedef, dwarf.TagTemplateAlias:
		x.Name = name
	case dwarf.TagConstType:
		if !strings.HasSuffix(to.Name, "*") {
			x.Name = "const " + to.Name
		}
	case dwarf.TagVolatileType:
		x.Name = "volatile " + to.Name
	}
	if x.Text != nil {
		text := *x.Text
		text.Name, text.ID = x.Name, id
		x.Text = &text
	}
}

// Encodings of base types (DWARF 5, table 7.11).
const (
	encodingAddress      = 0x01
	encodingBoolean      = 0x02
	encodingComplex      = 0x03
	encodingFloat        = 0x04
	encodingSigned       = 0x05
	encodingSignedChar   = 0x06
	encodingUnsigned     = 0x07
	encodingUnsignedChar = 0x08
	encodingUTF          = 0x10
)

func (t *Types) fillBase(x *Type, e *dwarf.Entry) {
	encoding, _ := e.Val(dwarf.AttrEncoding).(int64)
	x.Kind = Plain
	switch encoding {
	case encodingBoolean:
		x.Form = event.Bool
	case encodingComplex:
		x.Form = event.Complex
	case encodingFloat:
		x.Form = event.Float
	case encodingSigned:
		x.Form = event.Int
	case encodingSignedChar:
		x.Form, x.Character = event.Int, x.Name == "char" || x.Name == "signed char"
		x.Byte = x.Name == "signed char"
	case encodingUnsigned:
		x.Form = event.Uint
	case encodingUnsignedChar:
		x.Form, x.Character = event.Uint, x.Name == "char" || x.Name == "unsigned char"
		x.Byte = x.Name == "unsigned char"
	case encodingUTF:
		x.Form, x.Character = event.Uint, true
	default:
		x.Form = event.Opaque
	}
	x.Signed = encoding == encodingSigned || encoding == encodingSignedChar
	x.Quad = strings.Contains(x.Name, "loat128") || x.Debug.file != nil && x.Debug.file.ELF.Machine == elf.EM_AARCH64
	if x.Size > 8 && x.Form != event.Float && x.Form != event.Complex {
		x.Form = event.Opaque // too wide for a number; shown as bytes
	}
}

func (t *Types) fillEnum(x *Type, e *dwarf.Entry, depth int) {
	x.Kind, x.Form = Enum, event.Int
	if _, under := t.elem(x, e, depth); under != nil {
		if under.Form == event.Uint || under.Form == event.Int {
			x.Form = under.Form
		}
		if x.Size == 0 {
			x.Size = under.Size
		}
	}
	if u := x.Debug.unitOf(x.Offset); x.Name == "" {
		x.Name = "enum without a name"
	} else if u != nil && isC(u.Language) {
		x.Name = "enum " + x.Name
	}
	x.Names = map[int64]string{}
	list, err := x.Debug.children(x.Offset)
	if err != nil {
		return
	}
	for _, c := range list {
		if name := (entry{c, x.Debug}).text(dwarf.AttrName); name != "" && c.Tag == dwarf.TagEnumerator {
			if n, ok := c.Val(dwarf.AttrConstValue).(int64); ok {
				if _, ok := x.Names[n]; !ok {
					x.Names[n] = name
				}
			}
		}
	}
}

func (t *Types) fillPointer(x *Type, e *dwarf.Entry, depth int) {
	x.Kind, x.Form = Pointer, event.Pointer
	if x.Size == 0 {
		x.Size = 8
	}
	id, to := t.elem(x, e, depth)
	x.Elem = id
	name := nameOr(to, "void")
	switch e.Tag {
	case dwarf.TagReferenceType:
		x.Kind, name = Reference, name+" &"
	case dwarf.TagRvalueReferenceType:
		x.Kind, name = Reference, name+" &&"
	default:
		name = pointerName(name)
	}
	if x.Name == "" {
		x.Name = name
	}
	if to == nil {
		return
	}
	if to.Kind == Code {
		x.Kind, x.Form = CodePointer, event.Func
		if strings.HasPrefix(x.Name, "function") {
			x.Name = "function *"
		}
		return
	}
	if to.Character && to.Size == 1 && x.Kind == Pointer {
		x.Text = &event.Type{ID: x.ID, Name: x.Name, Form: event.Text, Size: 8}
	}
}

// maxDimensions limits the rank of an array.
const maxDimensions = 16

// fillArray completes an array type. given are the lengths of dimensions whose entries do not have them.
func (t *Types) fillArray(x *Type, e *dwarf.Entry, given string, depth int) {
	id, of := t.elem(x, e, depth)
	x.Kind, x.Form, x.Elem = Array, event.Array, id
	list, err := x.Debug.children(x.Offset)
	if err != nil || of == nil {
		x.Form = event.Opaque
		return
	}
	var lengths []uint64
	for _, c := range list {
		if c.Tag != dwarf.TagSubrangeType || len(lengths) == maxDimensions {
			continue
		}
		n, known := uint64(0), false
		switch v := c.Val(dwarf.AttrCount).(type) {
		case int64:
			n, known = uint64(max(v, 0)), true
		case nil:
			if u, ok := c.Val(dwarf.AttrUpperBound).(int64); ok {
				low, _ := c.Val(dwarf.AttrLowerBound).(int64)
				n, known = uint64(max(u-low+1, 0)), true
				if u == 1<<32-1 || u == -1 {
					n = 0
				}
			}
		}
		if !known {
			x.Flexible = c.Val(dwarf.AttrUpperBound) == nil && c.Val(dwarf.AttrCount) == nil
			if !x.Flexible {
				x.Bounds = append(x.Bounds, c.Offset)
			}
			if len(given) >= 8 {
				n, given = binary.LittleEndian.Uint64([]byte(given[:8])), given[8:]
			}
		}
		lengths = append(lengths, n)
	}
	if len(lengths) == 0 {
		lengths = []uint64{0}
	}
	// The last dimension varies fastest: it is the innermost array.
	base, ranks := of.Name, ""
	for i := len(lengths) - 1; i > 0; i-- {
		ranks = fmt.Sprintf("[%d]", lengths[i]) + ranks
		inner := &Type{Kind: Array, Debug: x.Debug, Offset: x.Offset}
		inner.Form, inner.Elem, inner.Length = event.Array, id, lengths[i]
		inner.Size = times(of.Size, lengths[i])
		inner.Name = base + ranks
		t.places = append(t.places, place{x.Debug, x.Offset, ""})
		t.types = append(t.types, inner)
		inner.ID = event.TypeID(len(t.types))
		id, of = inner.ID, inner
	}
	x.Elem, x.Length, x.Size = id, lengths[0], times(of.Size, lengths[0])
	x.Name = fmt.Sprintf("%s[%d]%s", base, lengths[0], ranks)
	if x.Flexible = x.Flexible && lengths[0] == 0; x.Flexible {
		x.Name = base + "[]" + ranks
	}
}

func times(a, b uint64) uint64 {
	if a != 0 && b > (1<<62)/a {
		return 0
	}
	return a * b
}
