package replay

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"wraithology/core/event"
)

// Identity tells keys of a map apart, exactly.
func Identity(v event.Value) string {
	s := fmt.Sprintf("%t %d %d %v %v %q %x", v.Nil, v.Int, v.Uint, v.Float, v.Imag, v.Text, v.Address)
	if v.Type != nil && v.Type.Form == event.Interface && len(v.Items) == 1 && v.Items[0].Type != nil {
		s += " " + v.Items[0].Type.Name
	}
	for _, item := range v.Items {
		s += " (" + Identity(item) + ")"
	}
	return s
}

// Memory says what was at an address at a moment.
type Memory interface {
	// Load returns the value of a type at an address. Unknown parts of it are unrecorded.
	Load(address uint64, t *event.Type) event.Value
	// Entries returns the keys and values of the map at an address, alternating, and whether they
	// are complete.
	Entries(address uint64, t *event.Type) (pairs []event.Value, all bool)
	// Type returns a type by its number, or nil.
	Type(id event.TypeID) *event.Type
}

// Divisible is implemented by memories in which a part of an object can be loaded by its own address
// and type.
type Divisible interface {
	Memory
	Divisible()
}

// Steady is implemented by memories that know how long they stay as they are.
type Steady interface {
	Memory
	// SteadyUntil returns the next moment at which something changes the bytes from address to address+size, and MapSteadyUntil the map at an address;
	// event.NoMoment if nothing does.
	SteadyUntil(address, size uint64) event.Moment
	MapSteadyUntil(address uint64) event.Moment
	// IsBefore reports whether the memory is that before a moment. It is before event.NoMoment.
	IsBefore(until event.Moment) bool
}

// Sequences is implemented by memories with lists whose elements are not consecutive.
type Sequences interface {
	// Items returns elements from to to-1 of the list of a type at an address. Elements that cannot
	// be read have the reason. ok is false for lists with consecutive elements.
	Items(address uint64, t *event.Type, from, to uint64) (list []event.Value, ok bool)
}

// Value is a value with the memory in which its references are followed.
type Value struct {
	event.Value
	Memory Memory
}

func (v Value) With(x event.Value) Value { return Value{Value: x, Memory: v.Memory} }

func (v Value) ElemType() *event.Type {
	if v.Type == nil || v.Memory == nil {
		return nil
	}
	return v.Memory.Type(v.Type.Elem)
}

// Deref returns what a pointer points to.
func (v Value) Deref() Value {
	t := v.ElemType()
	if v.Form() != event.Pointer || v.Nil || t == nil || v.State != event.Known {
		return Value{Value: event.Value{Type: t, State: event.Unrecorded}, Memory: v.Memory}
	}
	return v.With(v.Memory.Load(v.Address, t))
}

// Settled follows interfaces and pointers to a value with fields.
func (v Value) Settled() Value {
	for range 8 {
		switch {
		case v.Form() == event.Interface && len(v.Items) == 1:
			v = v.With(v.Items[0])
		case v.Form() == event.Pointer && !v.Nil && v.State == event.Known:
			v = v.Deref()
		default:
			return v.Opened()
		}
	}
	return v.Opened()
}

// Field returns a field of a struct, also through a pointer or an interface. If there is no such
// field, the type is nil and the state is unrecorded.
func (v Value) Field(name string) Value {
	if f, ok := v.fieldAlone(name); ok {
		return f
	}
	s := v.Settled()
	if s.Form() == event.Struct || s.Form() == event.Func && s.Type != nil {
		for i, f := range s.Type.Fields {
			if f.Name == name && i < len(s.Items) {
				return s.With(s.Items[i])
			}
		}
		for i, f := range s.Type.Fields {
			if i >= len(s.Items) || !f.Inner && !Embeds(f, s.Items[i].Type) {
				continue
			}
			if x := s.With(s.Items[i]); x.Settled().Form() == event.Struct {
				if x = x.Field(name); x.Type != nil {
					return x
				}
			}
		}
	}
	return Value{Value: event.Value{State: event.Unrecorded}, Memory: v.Memory}
}

// fieldAlone reads a field of the struct that a pointer leads to without the rest of it.
func (v Value) fieldAlone(name string) (Value, bool) {
	if v.Form() != event.Pointer || v.Nil || v.State != event.Known {
		return Value{}, false
	}
	m, ok := v.Memory.(Divisible)
	t := v.ElemType()
	if !ok || t == nil {
		return Value{}, false
	}
	f, ok := t.FieldNamed(name)
	of := m.Type(f.Type)
	if !ok || of == nil {
		return Value{}, false
	}
	return v.With(m.Load(v.Address+f.Offset, of)), true
}

// Embeds reports whether a field of a type is embedded in a Go struct: it has the name of its type.
func Embeds(f event.Field, t *event.Type) bool {
	if t == nil {
		return false
	}
	name := strings.TrimPrefix(t.Name, "*")
	if i := strings.IndexByte(name, '['); i >= 0 { // type arguments
		name = name[:i]
	}
	return name == f.Name || strings.HasSuffix(name, "."+f.Name)
}

// Fields lists the names of a struct's fields, also through a pointer.
func (v Value) Fields() []string {
	s := v.Settled()
	var names []string
	if s.Form() == event.Struct {
		for i, f := range s.Type.Fields {
			if names = append(names, f.Name); f.Inner && i < len(s.Items) && s.Items[i].Form() == event.Struct {
				names = append(names, s.With(s.Items[i]).Fields()...)
			}
		}
	}
	return names
}

// Element returns an element of a slice or array.
func (v Value) Element(i uint64) Value {
	s := v.Settled()
	t := s.ElemType()
	unknown := Value{Value: event.Value{Type: t, State: event.Unrecorded}, Memory: v.Memory}
	switch s.Form() {
	case event.Array:
		if i < uint64(len(s.Items)) {
			return s.With(s.Items[i])
		}
		if t != nil && s.Address != 0 && i < s.Length && s.Address <= math.MaxUint64-i*t.Size {
			return s.With(s.Memory.Load(s.Address+i*t.Size, t))
		}
	case event.Slice:
		if list, ok := s.Elements(i, i+1); ok && i < s.Length {
			return s.With(list[0])
		}
		if t != nil && i < s.Length && s.Address <= math.MaxUint64-i*t.Size {
			return s.With(s.Memory.Load(s.Address+i*t.Size, t))
		}
	}
	return unknown
}

// Elements returns elements from to to-1 of a list. ok is false for lists with consecutive
// elements.
func (v Value) Elements(from, to uint64) (list []event.Value, ok bool) {
	if len(v.Items) > 0 {
		return v.Items[min(from, uint64(len(v.Items))):min(to, uint64(len(v.Items)))], to <= uint64(len(v.Items))
	}
	if q, ok := v.Memory.(Sequences); ok && v.Form() == event.Slice && to <= v.Length {
		return q.Items(v.Address, v.Type, from, to)
	}
	return nil, false
}

// Beyond returns the value i elements after the target of a C pointer; ok is false for other
// values.
func (v Value) Beyond(i int64) (x Value, ok bool) {
	t := v.ElemType()
	if v.Form() != event.Pointer || !strings.HasSuffix(v.Type.Name, "*") || v.Nil || v.State != event.Known || t == nil || t.Size == 0 || t.Form == event.Array {
		return x, false
	}
	return v.With(v.Memory.Load(v.Address+uint64(i)*t.Size, t)), true
}

// Count returns the number of elements or entries of a list, map or channel, also through a
// pointer.
func (v Value) Count() uint64 {
	s := v.Settled()
	n := s.Length
	if s.Form() == event.Map && s.State == event.Known && !s.Nil {
		// The stored number of entries is that of the last write of the variable; if all entries
		// are known, their number is newer.
		if pairs, all := s.Memory.Entries(s.Address, s.Type); all || uint64(len(pairs)/2) > n {
			n = uint64(len(pairs) / 2)
		}
	}
	return n
}

// Child is a part of a value: a field, an element, an entry, a pointee.
type Child struct {
	Name  string
	Step  PathStep // the step of a path that leads to it
	Value Value
}

// Children lists a page of a value's parts and returns their total number.
func (v Value) Children(page Page) (list []Child, total int) {
	if v.State != event.Known || v.Nil || v.Type == nil {
		return nil, 0
	}
	v = v.Opened()
	switch v.Form() {
	case event.Interface:
		if len(v.Items) != 1 {
			break
		}
		inner := v.With(v.Items[0])
		if inner.Form() != event.Pointer || inner.Deref().Form() == event.Struct {
			return inner.Children(page)
		}
		list = []Child{{"*", PathStep{Deref: true}, inner}} // * of an interface is its dynamic value
	case event.Pointer:
		d := v.Deref()
		if d.Form() == event.Struct {
			return d.Children(page)
		}
		if d.State == event.Known {
			list = []Child{{"*", PathStep{Deref: true}, d}}
		}
	case event.Struct, event.Func: // of a function what it took along
		if isTime(v.Value) {
			return nil, 0
		}
		for i, f := range v.Type.Fields {
			if i < len(v.Items) {
				list = append(list, Child{f.Name, PathStep{Field: f.Name}, v.With(v.Items[i])})
			}
		}
	case event.Array, event.Slice:
		total = int(min(v.Length, math.MaxInt32))
		from, to := page.Cut(total)
		items, ok := v.Elements(uint64(from), uint64(to))
		for i := from; i < to; i++ {
			var x Value
			if ok {
				x = v.With(items[i-from])
			} else {
				x = v.Element(uint64(i))
			}
			list = append(list, Child{"[" + strconv.Itoa(i) + "]", numberStep(i), x})
		}
		return list, total
	case event.Chan:
		for i, x := range v.Items {
			list = append(list, Child{"[" + strconv.Itoa(i) + "]", numberStep(i), v.With(x)})
		}
	case event.Map:
		pairs, _ := v.Memory.Entries(v.Address, v.Type)
		for i := 0; i+1 < len(pairs); i += 2 {
			list = append(list, Child{"[" + v.With(pairs[i]).Text() + "]", keyStep(pairs[i], i/2), v.With(pairs[i+1])})
		}
	}
	from, to := page.Cut(len(list))
	return list[from:to], len(list)
}

// Bounds of a short text.
const (
	maxTextDepth  = 2
	maxTextParts  = 6
	maxTextLength = 120
)

// Text returns a short text for the value in the notation of the recorded language. It is empty if
// the value is not known.
func (v Value) Text() string {
	s := v.text(0, maxTextParts)
	if len(s) > maxTextLength {
		cut := strings.ToValidUTF8(s[:maxTextLength], "")
		return cut + "…"
	}
	return s
}

// TextTo is a text with up to parts parts of each composite value, of any length.
func (v Value) TextTo(parts int) string { return v.text(0, parts) }

// TextAs is Text with a whole number written in a format.
func (v Value) TextAs(f Format) string {
	if f != "" && f != Decimal && v.State == event.Known && !v.Nil && v.Type != nil {
		switch v.Form() {
		case event.Int:
			return f.Write(v.Int)
		case event.Uint, event.Opaque:
			return f.Write(int64(v.Uint))
		}
	}
	return v.Text()
}

func (v Value) text(depth, parts int) string {
	if v.State == event.MayHaveChanged && v.Last != nil && depth > 0 {
		return v.With(*v.Last).text(depth, parts) + "?"
	}
	if v.State != event.Known {
		return map[bool]string{true: "", false: "?"}[depth == 0]
	}
	if v.Nil {
		return v.nilText()
	}
	if v.Type == nil {
		return "?"
	}
	if v.Value.Text != "" {
		switch v.Form() {
		case event.Int:
			return fmt.Sprintf("%s (%d)", v.Value.Text, v.Int)
		case event.Uint:
			return fmt.Sprintf("%s (%d)", v.Value.Text, v.Uint)
		case event.Opaque, event.Float:
			return v.Value.Text
		}
	}
	switch v.Form() {
	case event.Bool:
		return strconv.FormatBool(v.Uint != 0)
	case event.Int:
		switch v.Type.Name {
		case "time.Duration", event.DurationType:
			return time.Duration(v.Int).String()
		case event.TimestampType:
			return time.Unix(0, v.Int).UTC().Format(time.RFC3339Nano)
		}
		return strconv.FormatInt(v.Int, 10)
	case event.Uint:
		return strconv.FormatUint(v.Uint, 10)
	case event.Opaque:
		return fmt.Sprintf("0x%x", v.Uint)
	case event.Float:
		return v.floatText(v.Float)
	case event.Complex:
		imaginary := v.floatText(v.Imag)
		if !strings.HasPrefix(imaginary, "-") && !strings.HasPrefix(imaginary, "+") {
			imaginary = "+" + imaginary
		}
		return "(" + v.floatText(v.Float) + imaginary + "i)"
	case event.Text:
		s := strconv.Quote(v.Value.Text)
		if v.Whole > 0 {
			s += fmt.Sprintf("… (%d bytes)", v.Whole)
		}
		return s
	case event.Func:
		return v.Value.Text
	case event.Chan:
		s := fmt.Sprintf("%s with %d of %d waiting", v.Type.Name, v.Length, v.Capacity)
		if v.Value.Text != "" {
			s += "; " + v.Value.Text
		}
		return s
	case event.Interface:
		if len(v.Items) == 1 {
			return v.With(v.Items[0]).text(depth, parts)
		}
	case event.Pointer:
		note := ""
		if v.Value.Text != "" {
			note = " (" + v.Value.Text + ")"
		}
		if d := v.Deref(); depth < maxTextDepth && d.State == event.Known {
			return "&" + d.text(depth+1, parts) + note
		}
		return fmt.Sprintf("0x%x", v.Address) + note
	}
	return v.compositeText(depth, parts)
}

// nilText writes a nil reference with the language's word for it.
func (v Value) nilText() string {
	if v.Type != nil && (v.Type.Form == event.Text || strings.HasSuffix(v.Type.Name, "*") || strings.HasPrefix(v.Type.Name, "*const ") || strings.HasPrefix(v.Type.Name, "*mut ") || strings.Contains(v.Type.Name, "::")) {
		return "null"
	}
	return "nil"
}

// Why is the reason why a value is not known; empty if there is none.
func (v Value) Why() string {
	switch {
	case v.State == event.Known:
		return ""
	case v.State == event.MayHaveChanged && v.Last != nil && v.Last.State == event.Known:
		return v.Value.Text + "; it was " + v.With(*v.Last).Text()
	}
	return v.Value.Text
}

func (v Value) floatText(f float64) string {
	if v.Type.Size == 4 || v.Type.Size == 8 && v.Form() == event.Complex {
		return strconv.FormatFloat(f, 'g', -1, 32)
	}
	return strconv.FormatFloat(f, 'g', -1, 64)
}

func (v Value) compositeText(depth, most int) string {
	if isTime(v.Value) {
		return timeText(v.Value)
	}
	if v.Form() == event.Struct && v.Value.Text != "" { // its parts say the same in bits
		return v.Type.Name + "{" + v.Value.Text + "}"
	}
	if depth >= maxTextDepth {
		return v.Type.Name + "{…}"
	}
	n := v.Count()
	if n == 0 && (v.Form() == event.Map || v.Form() == event.Slice) {
		return v.Type.Name + "{}"
	}
	if text, ok := v.bytesText(n); ok {
		return text
	}
	parts, total := v.Children(Page{Count: most})
	var b strings.Builder
	b.WriteString(v.Type.Name)
	if v.Form() == event.Map || v.Form() == event.Slice {
		fmt.Fprintf(&b, "(%d)", n)
	}
	b.WriteString("{")
	for i, p := range parts {
		if i > 0 {
			b.WriteString(", ")
		}
		switch v.Form() {
		case event.Struct:
			b.WriteString(p.Name + ": ")
		case event.Map:
			if v.Type.Elem != 0 { // else it is a set
				b.WriteString(strings.Trim(p.Name, "[]") + ": ")
			}
		}
		b.WriteString(p.Value.text(depth+1, most))
	}
	if total > len(parts) || v.Form() == event.Map && uint64(total) < n {
		if len(parts) > 0 {
			b.WriteString(", ")
		}
		b.WriteString("…")
	}
	b.WriteString("}")
	return b.String()
}

// maxTextBytes limits the bytes of a list that are shown as text.
const maxTextBytes = 64

// bytesText writes a list of n bytes as text, if all of its beginning is known and printable.
func (v Value) bytesText(n uint64) (text string, ok bool) {
	e := v.ElemType()
	if v.Form() != event.Slice && v.Form() != event.Array || e == nil || e.Form != event.Uint || e.Size != 1 || n == 0 {
		return "", false
	}
	parts, _ := v.Children(Page{Count: maxTextBytes})
	b := make([]byte, 0, maxTextBytes)
	for _, p := range parts {
		if p.Value.State != event.Known {
			return "", false
		}
		b = append(b, byte(p.Value.Uint))
	}
	if uint64(len(b)) < n { // a character may be cut
		for i := 0; i < utf8.UTFMax && len(b) > 0 && !utf8.Valid(b); i++ {
			b = b[:len(b)-1]
		}
	}
	if !utf8.Valid(b) || strings.ContainsFunc(string(b), func(r rune) bool { return !unicode.IsPrint(r) && !strings.ContainsRune("\n\r\t", r) }) {
		return "", false
	}
	if text = v.Type.Name + "(" + strconv.Quote(string(b)); uint64(len(b)) < n {
		return text + fmt.Sprintf("… %d bytes)", n), true
	}
	return text + ")", true
}

func isTime(v event.Value) bool {
	return v.Type != nil && v.Type.Name == "time.Time" && len(v.Items) == 3 && v.Items[0].State == event.Known
}

// Instant returns the time that a known time.Time holds, in UTC: if bit 63 of wall is set, its bits 30 to 62 are the seconds
// since 1885; else ext is the seconds since year 1. The low 30 bits of wall are the nanoseconds.
func Instant(v event.Value) (at time.Time, ok bool) {
	const (
		toYear1885  = 59453308800
		year1ToUnix = 62135596800
	)
	if !isTime(v) {
		return at, false
	}
	wall, ext := v.Items[0].Uint, v.Items[1].Int
	seconds := ext
	if wall>>63 != 0 {
		seconds = toYear1885 + int64(wall<<1>>31)
	}
	return time.Unix(seconds-year1ToUnix, int64(wall&(1<<30-1))).UTC(), true
}

func timeText(v event.Value) string {
	at, _ := Instant(v)
	return at.Format(time.RFC3339Nano)
}

// TypeName returns the name of the value's type, with the dynamic type of an interface.
func (v Value) TypeName() string {
	if v.Type == nil {
		return ""
	}
	if v.Form() == event.Interface && len(v.Items) == 1 && v.Items[0].Type != nil {
		return v.Type.Name + " (" + v.Items[0].Type.Name + ")"
	}
	return v.Type.Name
}

// Inside follows one step of a path within a value.
func (v Value) Inside(s PathStep) Value {
	switch {
	case s.Field != "":
		return v.Field(s.Field)
	case s.Number != nil:
		return v.Element(uint64(*s.Number))
	case s.Deref && v.Form() == event.Interface && len(v.Items) == 1:
		return v.With(v.Items[0])
	}
	return v
}
