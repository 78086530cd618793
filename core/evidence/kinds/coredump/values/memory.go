// Package values reads values from memory and registers, by the types of the debug information. An
// unknown value has a reason.
package values

import (
	"fmt"
	"math/big"
	"slices"
	"strings"
	"unicode/utf8"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/elfcore"
	"wraithology/core/evidence/kinds/coredump/location"
)

// Memory reads values from a dump's memory. It implements replay.Memory.
type Memory struct {
	Core  *elfcore.Memory
	Types *debuginfo.Types
	// Symbol names the code or data at an address; empty if it is unknown.
	Symbol func(address uint64) string
	// RuntimeType finds the type of a descriptor of Go's runtime at an address.
	RuntimeType func(address uint64) *debuginfo.Type
	// RuntimeName is the name of such a type; empty if it is not known.
	RuntimeName func(address uint64) string
	// Captured lists the captured variables of a closure, by the address of its code.
	Captured func(code uint64) []debuginfo.Captured
	// Implementer finds the Rust type whose dispatch table for a trait is at an address.
	Implementer func(table uint64) *debuginfo.Type
	// Freed reports whether an address is in memory that the program gave back to its allocator; nil if that is not known.
	Freed func(address uint64) bool
	// Named finds a type by name in the program.
	Named func(name string) *debuginfo.Type
}

// Bounds of one value.
const (
	maxText    = 64 << 10
	maxItems   = 4096
	maxDepth   = 64
	maxEntries = 100_000
	maxString  = 1 << 40
	shownBytes = 16 // of what is no text
	// maxFlexible limits the shown elements of an array without a length.
	maxFlexible = 1024
)

// Type implements replay.Memory.
func (m *Memory) Type(id event.TypeID) *event.Type {
	if t := m.Types.Get(id); t != nil {
		return &t.Type
	}
	return nil
}

// TypeNamed implements replay.TypeNames.
func (m *Memory) TypeNamed(name string) (*event.Type, error) {
	if pointee, ok := strings.CutSuffix(strings.TrimSpace(name), "*"); ok {
		if to := m.Named(strings.TrimSpace(pointee)); to != nil {
			return m.Types.PointerTo(to), nil
		}
	}
	if t := m.Named(name); t != nil {
		return &t.Type, nil
	}
	return nil, nil
}

// Load implements replay.Memory.
func (m *Memory) Load(address uint64, t *event.Type) event.Value {
	if t == nil {
		return Unknown(nil, "its type is not known")
	}
	if full := m.Types.Get(t.ID); full != nil && (full.Form == t.Form || full.Text != nil) {
		return m.decode(full, source{m: m, address: address, inMemory: true}, 0)
	}
	if t.Form == event.Pointer { // made by PointerTo
		if a, ok := m.Core.Pointer(address); ok {
			return event.Value{Type: t, State: event.Known, Address: a, Nil: a == 0}
		}
	}
	return Unknown(t, "its type is not known")
}

// Unknown is an unknown value with the reason.
func Unknown(t *event.Type, why string) event.Value {
	return event.Value{Type: t, State: event.Unrecorded, Text: why}
}

// source is the place of a value's bytes: memory, or bytes that were gathered from registers and
// elsewhere.
type source struct {
	m        *Memory
	address  uint64
	inMemory bool
	data     []byte
	missing  []Missing
}

// Missing marks bytes of a value as unknown, with the reason.
type Missing struct {
	From, To uint64
	State    event.State
	Why      string
}

func (s source) at(offset uint64) source {
	if s.inMemory {
		s.address += offset
		return s
	}
	n := min(offset, uint64(len(s.data)))
	s.data = s.data[n:]
	moved := make([]Missing, 0, len(s.missing))
	for _, x := range s.missing {
		if x.To > n {
			moved = append(moved, Missing{x.From - min(x.From, n), x.To - n, x.State, x.Why})
		}
	}
	s.missing = moved
	return s
}

// read returns the first n bytes, or a value with the reason why they are unknown.
func (s source) read(n uint64, t *event.Type) ([]byte, event.Value, bool) {
	if s.inMemory {
		if b, ok := s.m.Core.Read(s.address, n); ok {
			return b, event.Value{}, true
		}
		return nil, Unknown(t, s.m.whyNot(s.address)), false
	}
	for _, x := range s.missing {
		if x.From < n {
			return nil, event.Value{Type: t, State: x.State, Text: x.Why}, false
		}
	}
	if n > uint64(len(s.data)) {
		return nil, Unknown(t, "only a part of it is kept"), false
	}
	return s.data[:n], event.Value{}, true
}

// whyNot returns the reason why memory at an address cannot be read.
func (m *Memory) whyNot(address uint64) string {
	x, ok := m.Core.At(address)
	switch {
	case address < 4096:
		return fmt.Sprintf("the address 0x%x is in the first page, which is never mapped", address)
	case !ok:
		return fmt.Sprintf("nothing is mapped at 0x%x", address)
	case x.Path != "":
		return fmt.Sprintf("the core left out the memory at 0x%x, which is in %s", address, x.Path)
	}
	return fmt.Sprintf("the core left out the memory at 0x%x", address)
}

// Decode reads a value from bytes that were gathered from registers and elsewhere.
func (m *Memory) Decode(t *debuginfo.Type, data []byte, missing []Missing) event.Value {
	if len(missing) == 1 && missing[0].From == 0 && missing[0].To >= max(t.Size, 1) {
		return event.Value{Type: &t.Type, State: missing[0].State, Text: missing[0].Why}
	}
	return m.decode(t, source{m: m, data: data, missing: missing}, 0)
}

func le(b []byte) uint64 {
	var n uint64
	for i := min(len(b), 8) - 1; i >= 0; i-- {
		n = n<<8 | uint64(b[i])
	}
	return n
}

func (m *Memory) decode(t *debuginfo.Type, s source, depth int) event.Value {
	if depth > maxDepth {
		return Unknown(&t.Type, "it is nested too deep")
	}
	switch t.Kind {
	case debuginfo.Record:
		v := m.record(t, s, depth)
		if v.State == event.Known && strings.Contains(t.Name, "sync") && v.Form() == event.Struct {
			v.Text = goSync(t, v)
		}
		return v
	case debuginfo.Array:
		return m.array(t, s, depth)
	case debuginfo.Code:
		return event.Value{Type: &t.Type, State: event.Known, Text: m.codeAt(s.address), Address: s.address}
	case debuginfo.Unknown:
		return Unknown(&t.Type, "the debug information does not say how it is laid out")
	}
	size := t.Size
	if size == 0 || size > 64 {
		return Unknown(&t.Type, fmt.Sprintf("a value of %d bytes", size))
	}
	b, unknown, ok := s.read(size, &t.Type)
	if !ok {
		return unknown
	}
	v := event.Value{Type: &t.Type, State: event.Known}
	switch t.Kind {
	case debuginfo.Plain:
		return number(t, b)
	case debuginfo.Enum:
		v = number(t, b)
		v.Text = constant(t, v)
		return v
	case debuginfo.Pointer:
		return m.pointer(t, le(b))
	case debuginfo.Reference:
		return m.reference(t, le(b))
	case debuginfo.CodePointer:
		v.Address = le(b)
		v.Nil = v.Address == 0
		v.Text = m.codeAt(v.Address)
		return v
	case debuginfo.MemberPointer:
		return m.memberPointer(t, b)
	}
	return m.decodeGo(t, b, depth)
}

// codeAt names the code at an address.
func (m *Memory) codeAt(address uint64) string {
	if m.Symbol != nil {
		if name := m.Symbol(address); name != "" {
			return name
		}
	}
	return fmt.Sprintf("0x%x, where no function is known", address)
}

// pointer makes a pointer's value. A pointer to readable characters is shown as text; a pointer to
// a class with virtual functions has the type of the object.
func (m *Memory) pointer(t *debuginfo.Type, address uint64) event.Value {
	v := event.Value{Type: &t.Type, State: event.Known, Address: address, Nil: address == 0}
	if v.Nil {
		return v
	}
	freed := m.Freed != nil && m.Freed(address)
	if t.Text != nil && !freed {
		text, whole, ok := m.Core.Text(address, maxText)
		switch b, kept := m.Core.Read(address, shownBytes); {
		case ok && readable(text, whole):
			v.Type, v.Text = t.Text, string(text)
			if !whole {
				v.Whole = maxText
			}
		case kept:
			v.Text = fmt.Sprintf("no text: % x …", b)
		}
		return v
	}
	if text, ok := m.wideText(t, address); ok && !freed {
		return text
	}
	if freed {
		v.Text = "freed"
	}
	if to := m.Types.Get(t.Elem); to != nil && to.Dynamic {
		if is, at, ok := m.dynamic(to, address); ok && is.ID != to.ID {
			v.Address = at
			v.Type = &event.Type{ID: t.ID, Name: t.Name + " (" + is.Name + ")", Form: event.Pointer, Size: 8, Elem: is.ID}
		}
	}
	return v
}

// reference reads a C++ reference as the value that it refers to.
func (m *Memory) reference(t *debuginfo.Type, address uint64) event.Value {
	to := m.Types.Get(t.Elem)
	switch {
	case to == nil:
		return Unknown(&t.Type, "the type that it refers to is not known")
	case address == 0:
		return Unknown(&t.Type, "a reference to nothing: its address is 0")
	}
	if to.Dynamic {
		if is, at, ok := m.dynamic(to, address); ok {
			to, address = is, at
		}
	}
	return m.Load(address, &to.Type)
}

// readable reports whether bytes are text: valid UTF-8 without control characters.
func readable(text []byte, whole bool) bool {
	if !whole && len(text) > utf8.UTFMax {
		text = text[:len(text)-utf8.UTFMax]
	}
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		if r == utf8.RuneError && n == 1 || r < ' ' && !strings.ContainsRune("\n\t\r\x1b", r) {
			return false
		}
		text = text[n:]
	}
	return true
}

func (m *Memory) array(t *debuginfo.Type, s source, depth int) event.Value {
	v := event.Value{Type: &t.Type, State: event.Known, Length: t.Length}
	of := m.Types.Get(t.Elem)
	if of == nil {
		return Unknown(&t.Type, "the type of its elements is not known")
	}
	if of.Character && !of.Byte && of.Size == 1 && t.Length > 1 {
		if text, ok := m.characters(t, s); ok {
			return text
		}
	}
	if s.inMemory {
		v.Address = s.address
		if t.Flexible && of.Size > 0 {
			// Its length is unknown: all readable memory counts.
			v.Length = uint64(len(m.Core.Known(s.address, maxFlexible*of.Size))) / of.Size
		}
		if _, ok := m.Core.Read(s.address, 1); !ok && t.Length > 0 {
			return Unknown(&t.Type, m.whyNot(s.address))
		}
		return v
	}
	for i := range min(t.Length, maxItems) {
		v.Items = append(v.Items, m.decode(of, s.at(i*of.Size), depth+1))
	}
	return v
}

// characters reads an array of characters that holds text up to a NUL.
func (m *Memory) characters(t *debuginfo.Type, s source) (event.Value, bool) {
	b, _, ok := s.read(min(t.Length, maxText), &t.Type)
	if !ok {
		return event.Value{}, false
	}
	end := slices.Index(b, 0)
	isEmpty := end == 0 && slices.ContainsFunc(b, func(c byte) bool { return c != 0 }) // bytes that begin with a zero
	if end < 0 || isEmpty || !readable(b[:end], true) {
		return event.Value{}, false
	}
	text := &event.Type{ID: t.ID, Name: t.Name, Form: event.Text, Size: t.Size}
	return event.Value{Type: text, State: event.Known, Text: string(b[:end])}, true
}

// record reads a structure's members, or the text, list or table that a structure of a standard
// library represents.
func (m *Memory) record(t *debuginfo.Type, s source, depth int) event.Value {
	if t.Incomplete {
		return Unknown(&t.Type, "the module declares this type, but does not define it")
	}
	if t.Variants != nil {
		return m.variant(t, s, depth)
	}
	if v, ok := m.container(t, s, depth); ok {
		return v
	}
	v := event.Value{Type: &t.Type, State: event.Known, Items: make([]event.Value, 0, len(t.Members))}
	if s.inMemory {
		v.Address = s.address
		if _, ok := m.Core.Read(s.address, 1); !ok && t.Size > 0 {
			return Unknown(&t.Type, m.whyNot(s.address))
		}
	}
	for _, x := range t.Members {
		v.Items = append(v.Items, m.memberOf(x, s, depth))
	}
	return v
}

func (m *Memory) memberOf(x debuginfo.Member, s source, depth int) event.Value {
	of := m.Types.Get(x.Type)
	switch {
	case of == nil:
		return Unknown(nil, "its type is not known")
	case x.Bits != 0:
		return bits(x, of, s)
	case x.Virtual != nil:
		return m.virtualBase(x, of, s, depth)
	}
	return m.decode(of, s.at(x.Offset), depth+1)
}

// virtualBase finds a virtual base class with the expression for its address (DWARF 5, section
// 5.7.3), which usually reads the table of virtual functions.
func (m *Memory) virtualBase(x debuginfo.Member, of *debuginfo.Type, s source, depth int) event.Value {
	if !s.inMemory {
		return Unknown(&of.Type, "a virtual base class of an object that is not in memory")
	}
	at, err := location.Number(x.Virtual, &location.Frame{Read: m.Core.Read}, s.address)
	if err != nil {
		return Unknown(&of.Type, "a virtual base class: "+err.Error())
	}
	return m.decode(of, source{m: m, address: at, inMemory: true}, depth+1)
}

// bits reads a bit-field.
func bits(x debuginfo.Member, of *debuginfo.Type, s source) event.Value {
	first := x.Bit / 8
	n := (x.Bit%8 + x.Bits + 7) / 8
	b, unknown, ok := s.at(first).read(n, &of.Type)
	if !ok {
		return unknown
	}
	whole := new(big.Int)
	for i := len(b) - 1; i >= 0; i-- {
		whole.Lsh(whole, 8).Or(whole, big.NewInt(int64(b[i])))
	}
	raw := whole.Rsh(whole, uint(x.Bit%8)).Uint64()
	if x.Bits < 64 {
		raw &= 1<<x.Bits - 1
		if of.Form == event.Int {
			raw = uint64(int64(raw<<(64-x.Bits)) >> (64 - x.Bits))
		}
	}
	var out [8]byte
	for i := range out {
		out[i] = byte(raw >> (8 * i))
	}
	v := number(of, out[:max(1, min(of.Size, 8))])
	if of.Kind == debuginfo.Enum {
		v.Text = constant(of, v)
	}
	return v
}
