package values

import (
	"math"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// rustContainer reads the containers of Rust's standard library by the names of their members.
// These change between releases; an unknown layout is shown member by member.
func (m *Memory) rustContainer(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	none := event.Value{}
	name := t.Class
	is := func(prefixes ...string) bool {
		for _, p := range prefixes {
			if strings.HasPrefix(name, p) {
				return true
			}
		}
		return false
	}
	switch {
	case is("&dyn ", "&mut dyn ", "alloc::boxed::Box<dyn ", "Rc<dyn ", "Arc<dyn "):
		return m.rustObject(t, s)
	case is("&") || is("alloc::boxed::Box<"):
		return m.rustSlice(t, s)
	case name == "String":
		at, of, ok := m.walk(t, s, "vec")
		if !ok {
			return none, false
		}
		p, n, _, ok := m.rustVector(of, at)
		v := m.text(t, p, n)
		v.Address = p
		return v, ok
	case name == "PathBuf" || name == "OsString":
		at, of, ok := m.walk(t, s, "inner", "inner")
		if name == "PathBuf" && ok {
			at, of, ok = m.walk(of, at, "inner")
		}
		if !ok {
			return none, false
		}
		p, n, _, ok := m.rustVector(of, at)
		v := m.text(t, p, n)
		v.Address = p
		return v, ok
	case is("Vec<"):
		p, n, room, ok := m.rustVector(t, s)
		if !ok || len(t.Arguments) == 0 {
			return none, false
		}
		return list(t, t.Arguments[0], p, n, room), true
	case is("VecDeque<", "LinkedList<"):
		return m.gathered(t, s)
	case is("HashMap<", "HashSet<"):
		if h, ok := m.rustHashed(t, s); ok && s.inMemory {
			return m.table(t, s, h.key, h.elem, h.items), true
		}
	case is("BTreeMap<", "BTreeSet<"):
		if b, ok := m.rustTree(t, s); ok && s.inMemory {
			return m.table(t, s, b.key, b.elem, b.length), true
		}
	case is("Rc<", "Arc<", "Weak<"):
		return m.rustCounted(t, s)
	}
	return m.rustWrapper(t, s, depth)
}

// rustSlice reads a text or slice: pointer and length.
func (m *Memory) rustSlice(t *debuginfo.Type, s source) (event.Value, bool) {
	p, ok := m.path(t, s, "data_ptr")
	n, ok2 := m.path(t, s, "length")
	_, pointer, ok3 := m.walk(t, s, "data_ptr")
	if !ok || !ok2 || !ok3 {
		return event.Value{}, false
	}
	of := strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(t.Class, "alloc::boxed::Box<"), "&"), "mut ")
	switch of, _, _ = strings.Cut(of, ","); strings.TrimSuffix(of, ">") {
	case "str", "std::path::Path", "std::ffi::os_str::OsStr":
		return m.text(t, p, n), true
	}
	if !strings.HasPrefix(of, "[") {
		return event.Value{}, false
	}
	return list(t, pointer.Elem, p, n, n), true
}

// rustObject shows a pointer to a trait object as a pointer to the object's type, which its
// dispatch table gives. The table's third word is the alignment.
func (m *Memory) rustObject(t *debuginfo.Type, s source) (event.Value, bool) {
	at, of, counted := s, t, false
	if inner, is, ok := m.walk(t, s, "ptr", "pointer"); ok {
		at, of, counted = inner, is, true
	}
	address, ok := m.path(of, at, "pointer")
	table, ok2 := m.path(of, at, "vtable")
	if !ok || !ok2 || m.Implementer == nil {
		return event.Value{}, false
	}
	is := m.Implementer(table)
	if is == nil {
		return event.Value{}, false
	}
	if counted { // behind its two counts
		align, ok := m.Core.Uint(table+16, 8)
		if !ok || align == 0 || align > 1<<20 {
			return event.Value{}, false
		}
		address += (16 + align - 1) / align * align
	}
	return event.Value{Type: &event.Type{ID: t.ID, Name: t.Name + " (" + is.Name + ")", Form: event.Pointer, Size: t.Size, Elem: is.ID}, State: event.Known, Address: address, Nil: address == 0}, true
}

// rustVector finds the elements of a vector. The path to the pointer differs between releases.
func (m *Memory) rustVector(t *debuginfo.Type, s source) (address, length, capacity uint64, ok bool) {
	length, ok = m.path(t, s, "len")
	if !ok {
		return 0, 0, 0, false
	}
	for _, prefix := range [][]string{{"buf", "inner"}, {"buf"}} {
		for _, tail := range [][]string{{"ptr", "pointer", "pointer"}, {"ptr", "pointer"}} {
			if p, ok := m.path(t, s, append(append([]string{}, prefix...), tail...)...); ok {
				capacity, ok = m.path(t, s, append(append([]string{}, prefix...), "cap", "__0")...)
				if !ok {
					capacity, _ = m.path(t, s, append(append([]string{}, prefix...), "cap")...)
				}
				return p, length, capacity, true
			}
		}
	}
	return 0, 0, 0, false
}

// some returns the value of an Option, if it has one.
func (m *Memory) some(t *debuginfo.Type, s source) (source, *debuginfo.Type, bool) {
	if t == nil || t.Variants == nil {
		return s, nil, false
	}
	for _, x := range t.Variants.List {
		if x.Name == "Some" {
			return m.memberNamed(m.Types.Get(x.Type), s.at(x.Offset), "__0", anyType, 0)
		}
	}
	return s, nil, false
}

// rust reads VecDeque, a ring buffer, and LinkedList.
func (c *chain) rust(t *debuginfo.Type, s source) bool {
	m := c.m
	switch {
	case strings.HasPrefix(t.Class, "VecDeque<"):
		first, ok := m.path(t, s, "head")
		p, n, room, ok2 := m.rustVector(t, s)
		if !ok || !ok2 || n > room && c.of.Size > 0 {
			return false
		}
		c.indexed(n, func(i uint64) (uint64, bool) {
			at := first + i
			if at >= room {
				at -= room
			}
			return p + at*c.of.Size, true
		})
		return true
	case strings.HasPrefix(t.Class, "LinkedList<"):
		n, ok := m.path(t, s, "len")
		head, option, ok2 := m.walk(t, s, "head")
		_, held, ok3 := m.some(option, head)
		if !ok || !ok2 || !ok3 {
			return false
		}
		pointer, _ := member(held, "pointer")
		to := m.Types.Get(pointer.Type)
		if to == nil || !aPointer(to) {
			return false
		}
		node := m.Types.Get(to.Elem)
		next, ok := member(node, "next")
		element, ok2 := member(node, "element")
		c.length = func() uint64 { return n }
		c.linked(head.address, head.address, next.Offset, element.Offset)
		return ok && ok2
	}
	return false
}

// rustCounted shows a counted pointer as a pointer to the value, which follows the counts.
func (m *Memory) rustCounted(t *debuginfo.Type, s source) (event.Value, bool) {
	if v, ok := m.rustCountedSlice(t, s); ok {
		return v, true
	}
	at, of, ok := m.walk(t, s, "ptr")
	if ok {
		at, of, ok = m.memberNamed(of, at, "pointer", aPointer, 0)
	}
	if !ok {
		return event.Value{}, false
	}
	b, unknown, ok := at.read(8, &t.Type)
	if !ok {
		return unknown, true
	}
	inner := m.Types.Get(of.Elem)
	for _, name := range []string{"value", "data"} {
		if value, ok := member(inner, name); ok {
			address := le(b)
			v := event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Pointer, Size: 8, Elem: value.Type}, State: event.Known, Address: address + value.Offset}
			if address == 0 || address == math.MaxUint64 { // a Weak without a target
				v.Address, v.Nil = 0, true
			}
			if strong, ok := member(inner, "strong"); ok && !v.Nil {
				if uses, ok := m.Core.Uint(address+strong.Offset, 8); ok {
					v.Text = ownersText(uses)
				}
			}
			return v, true
		}
	}
	return event.Value{}, false
}

// rustCountedSlice reads a counted text or slice: a pointer to the counts, behind which the elements are, and the length.
func (m *Memory) rustCountedSlice(t *debuginfo.Type, s source) (event.Value, bool) {
	p, ok := m.path(t, s, "ptr", "data_ptr")
	if !ok {
		p, ok = m.path(t, s, "ptr", "pointer", "data_ptr")
	}
	n, ok2 := m.path(t, s, "ptr", "length")
	if !ok2 {
		n, ok2 = m.path(t, s, "ptr", "pointer", "length")
	}
	_, pointer, ok3 := m.walk(t, s, "ptr", "data_ptr")
	if !ok3 {
		_, pointer, ok3 = m.walk(t, s, "ptr", "pointer", "data_ptr")
	}
	if !ok || !ok2 || !ok3 || n > maxString {
		return event.Value{}, false
	}
	inner := m.Types.Get(pointer.Elem)
	for _, name := range []string{"value", "data"} {
		value, ok := member(inner, name)
		if !ok {
			continue
		}
		_, of, _ := strings.Cut(t.Class, "<")
		switch of, _, _ = strings.Cut(of, ","); strings.TrimSuffix(of, ">") {
		case "str", "std::path::Path", "std::ffi::os_str::OsStr":
			return m.text(t, p+value.Offset, n), true
		}
		if strings.HasPrefix(of, "[") {
			return list(t, value.Type, p+value.Offset, n, n), true
		}
	}
	return event.Value{}, false
}

// rustWrapper shows a type that wraps one value as that value, and times as times.
func (m *Memory) rustWrapper(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	kept := func(names ...string) (event.Value, bool) {
		at, of, ok := m.walk(t, s, names...)
		if !ok {
			return event.Value{}, false
		}
		return renamed(t, m.decode(of, at, depth+1)), true
	}
	moment := func(form func(int64) string, seconds, nanoseconds []string) (event.Value, bool) {
		sec, ok := m.path(t, s, seconds...)
		nsec, ok2 := m.path(t, s, nanoseconds...)
		if !ok || !ok2 || sec > math.MaxInt64/uint64(time.Second)-1 || nsec >= uint64(time.Second) {
			return event.Value{}, false
		}
		n := int64(sec)*int64(time.Second) + int64(nsec)
		return event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Int, Size: t.Size}, State: event.Known, Int: n, Text: form(n)}, true
	}
	name, _, _ := strings.Cut(t.Class, "<")
	switch {
	case name == "Cell" || name == "UnsafeCell":
		return kept("value")
	case name == "BinaryHeap":
		return kept("data")
	case name == "NonNull":
		return kept("pointer")
	case name == "AtomicBool":
		v, ok := kept("v", "value")
		if v.Form() == event.Uint {
			v.Type = &event.Type{ID: t.ID, Name: t.Name, Form: event.Bool, Size: 1}
		}
		return v, ok
	case strings.HasPrefix(name, "Atomic"):
		return kept("v", "value")
	case name == "Duration":
		return moment(func(n int64) string { return time.Duration(n).String() }, []string{"secs"}, []string{"nanos", "__0"})
	case name == "SystemTime":
		return moment(func(n int64) string { return time.Unix(0, n).UTC().Format(time.RFC3339Nano) }, []string{"__0", "t", "tv_sec"}, []string{"__0", "t", "tv_nsec", "__0"})
	}
	return event.Value{}, false
}

// variant reads the active alternative of an enum: it becomes the enum's only item, or its name if
// it has no fields.
func (m *Memory) variant(t *debuginfo.Type, s source, depth int) event.Value {
	var number uint64
	if t.Variants.Size > 0 {
		b, unknown, ok := s.at(t.Variants.Offset).read(uint64(t.Variants.Size), &t.Type)
		if !ok {
			return unknown
		}
		number = le(b)
	}
	var holds *debuginfo.Variant
	for i := range t.Variants.List {
		if x := &t.Variants.List[i]; !x.Default && x.Number == number || x.Default && holds == nil {
			holds = x
		}
	}
	if holds == nil {
		return Unknown(&t.Type, "no alternative of the enum has the number that is stored")
	}
	of := m.Types.Get(holds.Type)
	if of == nil {
		return Unknown(&t.Type, "the type of the alternative is not known")
	}
	if len(of.Members) == 0 {
		return event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Func, Size: t.Size}, State: event.Known, Text: holds.Name}
	}
	inner := m.decode(of, s.at(holds.Offset), depth+1)
	return event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Interface, Size: t.Size}, State: event.Known, Items: []event.Value{inner}}
}
