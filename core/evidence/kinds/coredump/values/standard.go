package values

import (
	"fmt"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// cppStandard reads further classes: what holds any function or value, bits, and locks.
func (m *Memory) cppStandard(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	switch template(t.Class) {
	case "initializer_list":
		first, ok1 := m.path(t, s, "_M_array")
		length, ok2 := m.path(t, s, "_M_len")
		of := argument(t, 0)
		return list(t, of, first, length, length), ok1 && ok2 && of != 0 && length <= maxString
	case "function":
		return m.cppFunction(t, s)
	case "any":
		return m.cppAny(t, s, depth)
	case "bitset":
		return m.wordBits(t, s, "_M_w")
	case "mutex", "recursive_mutex", "timed_mutex", "recursive_timed_mutex":
		return m.cppMutex(t, s)
	}
	return v, false
}

// cppFunction reads std::function: its invoker is made for the type of its target.
func (m *Memory) cppFunction(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	manager, ok1 := m.path(t, s, "_M_manager")
	invoker, ok2 := m.path(t, s, "_M_invoker")
	functor, _, ok3 := m.walk(t, s, "_M_functor")
	if !ok1 || !ok2 || !ok3 {
		return v, false
	}
	v = event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Func, Size: t.Size}, State: event.Known, Address: invoker}
	if manager == 0 {
		v.Nil = true
		return v, true
	}
	handler, is := strings.CutPrefix(m.codeAt(invoker), "std::_Function_handler<")
	arguments := splitArguments(handler)
	if !is || len(arguments) != 2 {
		v.Text = m.codeAt(invoker)
		return v, true
	}
	v.Text = arguments[1]
	if strings.Contains(v.Text, "(*)") && functor.inMemory {
		if code, ok := m.Core.Pointer(functor.address); ok {
			v.Text, v.Address = m.codeAt(code), code
		}
	}
	return v, true
}

// splitArguments splits the arguments of a template up to its closing bracket.
func splitArguments(text string) (out []string) {
	depth, from := 0, 0
	for i, c := range text {
		switch {
		case strings.ContainsRune("<({[", c):
			depth++
		case c == '>' && depth == 0:
			return append(out, strings.TrimSpace(text[from:i]))
		case strings.ContainsRune(">)}]", c):
			depth--
		case c == ',' && depth == 0:
			out, from = append(out, strings.TrimSpace(text[from:i])), i+1
		}
	}
	return nil
}

// cppAny reads std::any: its manager is made for the type of its value, which is in it or, if it is large, elsewhere.
func (m *Memory) cppAny(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	manager, ok1 := m.path(t, s, "_M_manager")
	storage, _, ok2 := m.walk(t, s, "_M_storage")
	if !ok1 || !ok2 || !storage.inMemory {
		return v, false
	}
	name, inside := strings.CutPrefix(m.codeAt(manager), "std::any::_Manager_internal<")
	if !inside && manager != 0 {
		var outside bool
		if name, outside = strings.CutPrefix(name, "std::any::_Manager_external<"); !outside {
			return v, false
		}
	}
	return m.anyOf(t, manager == 0, splitArguments(name), storage, inside, depth)
}

// anyOf shows std::any with a value of the type of the only argument, which is in the storage or where it points.
func (m *Memory) anyOf(t *debuginfo.Type, empty bool, arguments []string, storage source, inside bool, depth int) (v event.Value, ok bool) {
	v = event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Interface, Size: t.Size}, State: event.Known, Nil: empty}
	if empty {
		return v, true
	}
	if len(arguments) != 1 || m.Named == nil || !storage.inMemory {
		return v, false
	}
	plain := strings.TrimPrefix(arguments[0], "std::")
	for _, name := range []string{arguments[0], strings.TrimPrefix(plain, "__cxx11::"), strings.TrimPrefix(plain, "__1::"), plain, debuginfo.PlainName(arguments[0])} {
		of := m.Named(name)
		if of == nil {
			continue
		}
		at := storage.address
		if !inside {
			if at, ok = m.Core.Pointer(storage.address); !ok {
				return v, false
			}
		}
		v.Items = []event.Value{m.decode(of, source{m: m, address: at, inMemory: true}, depth+1)}
		return v, true
	}
	return Unknown(v.Type, "it holds a value of type "+arguments[0]+", which has no debug information"), true
}

// memberPointer reads a pointer to a member of a class of C++ (Itanium C++ ABI, section 2.3): the offset of a variable, -1 for
// none; the address of a function, or 1 more than the offset of a virtual one in the table.
func (m *Memory) memberPointer(t *debuginfo.Type, b []byte) event.Value {
	class := m.Types.Get(t.Inner)
	name := "the class"
	if class != nil {
		name = class.Name
	}
	v := event.Value{Type: &t.Type, State: event.Known}
	number := le(b[:8])
	if t.Form == event.Int {
		v.Int = int64(number)
		switch x, ok := memberAt(m, class, number, 0); {
		case v.Int == -1:
			v.Text = "null"
		case ok:
			v.Text = "&" + name + "::" + x
		}
		return v
	}
	const isVirtual = 1
	switch v.Address = number; {
	case number == 0:
		v.Nil = true
	case number&isVirtual != 0:
		v.Text = fmt.Sprintf("virtual function %d of %s", number/8, name)
	default:
		v.Text = m.codeAt(number)
	}
	return v
}

// memberAt returns the name of the member of a class at an offset, also in base classes.
func memberAt(m *Memory, class *debuginfo.Type, offset uint64, depth int) (string, bool) {
	if class == nil || depth > 8 {
		return "", false
	}
	for _, x := range class.Members {
		switch {
		case x.Base && offset >= x.Offset:
			if name, ok := memberAt(m, m.Types.Get(x.Type), offset-x.Offset, depth+1); ok {
				return name, true
			}
		case !x.Base && x.Offset == offset && x.Bits == 0 && !strings.HasPrefix(x.Name, "_vptr"):
			return x.Name, true
		}
	}
	return "", false
}

// bit is the type of the elements of std::bitset.
var bit = event.Type{Name: "bool", Form: event.Bool, Size: 1}

// wordBits reads std::bitset: its number of bits is in its name, the bits are in words.
func (m *Memory) wordBits(t *debuginfo.Type, s source, name string) (v event.Value, ok bool) {
	_, count, _ := strings.Cut(strings.TrimRight(t.Class, "> ulUL"), "<")
	n, err := strconv.ParseUint(strings.TrimSpace(count), 10, 64)
	words, _, ok := m.walk(t, s, name)
	if err != nil || !ok {
		return v, false
	}
	v = event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Array, Size: t.Size, Length: n}, State: event.Known, Length: n}
	shown := min(n, maxItems)
	b, unknown, ok := words.read((shown+63)/64*8, v.Type)
	if !ok {
		return unknown, true
	}
	for i := range shown {
		v.Items = append(v.Items, event.Value{Type: &bit, State: event.Known, Uint: uint64(b[i/8] >> (i % 8) & 1)})
	}
	if shown < n {
		v.Whole = n
	}
	return v, true
}

// cppMutex reads a lock of the C++ library: the thread that holds it (pthread_mutex_t of glibc).
func (m *Memory) cppMutex(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	lock := "_M_mutex"
	if _, _, ok := m.walk(t, s, "__m_"); ok {
		lock = "__m_" // of libc++
	}
	owner, ok1 := m.path(t, s, lock, "__data", "__owner")
	locked, ok2 := m.path(t, s, lock, "__data", "__lock")
	if !ok1 || !ok2 {
		return v, false
	}
	v = event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Int, Size: t.Size}, State: event.Known, Int: int64(owner)}
	switch {
	case locked == 0:
		v.Text, v.Int = "unlocked", 0
	case owner == 0:
		v.Text = "locked, by a thread that has not said so yet"
	default:
		v.Text = fmt.Sprintf("locked by thread %d", owner)
	}
	return v, true
}

// wideCharacters are the types of characters of several bytes, with their sizes.
var wideCharacters = map[string]uint64{"wchar_t": 4, "char16_t": 2, "char32_t": 4}

// wideText reads the text that a pointer to wide characters leads to. ok is false if it leads to none.
func (m *Memory) wideText(t *debuginfo.Type, address uint64) (v event.Value, ok bool) {
	to := m.Types.Get(t.Elem)
	if to == nil {
		return v, false
	}
	size := wideCharacters[strings.TrimPrefix(to.Name, "const ")]
	if size == 0 || to.Size != size {
		return v, false
	}
	n := uint64(0)
	for ; n < maxText/size; n++ {
		c, ok := m.Core.Uint(address+n*size, int(size))
		const lastCharacter = 0x10ffff
		if !ok || c > lastCharacter {
			return v, false
		}
		if c == 0 {
			break
		}
	}
	v = m.textOf(t, address, n, size)
	return v, v.State == event.Known
}
