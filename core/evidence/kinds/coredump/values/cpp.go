package values

import (
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// template returns the name of a class without arguments and version namespaces.
func template(name string) string {
	name, _, _ = strings.Cut(name, "<")
	name = strings.TrimPrefix(name, "std::")
	name = strings.TrimPrefix(name, "__cxx11::")
	return strings.TrimPrefix(name, "__1::")
}

// cppContainer reads containers of libstdc++ and libc++ by the names of their members. ok is false for
// other classes.
func (m *Memory) cppContainer(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	if v, ok := m.libstdcppContainer(t, s, depth); ok {
		return v, true
	}
	for _, read := range []func(*debuginfo.Type, source, int) (event.Value, bool){m.libcppContainer, m.cppSequence, m.cppStandard} {
		if v, ok := read(t, s, depth); ok {
			return v, true
		}
	}
	return m.cppWrapper(t, s, depth)
}

func (m *Memory) libstdcppContainer(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	switch template(t.Class) {
	case "basic_string":
		return m.cppString(t, s)
	case "basic_string_view":
		return m.cppStringView(t, s)
	case "vector":
		return m.cppVector(t, s, depth)
	case "map", "multimap":
		return m.cppTable(t, s, "_M_t", "_M_impl", "_M_node_count")
	case "set", "multiset":
		return m.cppTable(t, s, "_M_t", "_M_impl", "_M_node_count")
	case "unordered_map", "unordered_multimap":
		return m.cppTable(t, s, "_M_h", "_M_element_count")
	case "unordered_set", "unordered_multiset":
		return m.cppTable(t, s, "_M_h", "_M_element_count")
	case "unique_ptr":
		return m.cppUniquePointer(t, s, depth)
	case "shared_ptr", "weak_ptr":
		return m.cppSharedPointer(t, s, depth)
	case "optional":
		return m.cppOptional(t, s, depth)
	case "variant":
		return m.cppVariant(t, s, depth)
	}
	return v, false
}

// argument returns a template argument that is a type, or 0.
func argument(t *debuginfo.Type, i int) event.TypeID {
	if i >= 0 && i < len(t.Arguments) {
		return t.Arguments[i]
	}
	return 0
}

// contents returns the types of the keys and entries of a table; elem is 0 for a set. GCC leaves out the arguments of
// classes of libc++ with friends: the tree in them has them too.
func (m *Memory) contents(t *debuginfo.Type) (key, elem event.TypeID) {
	if tree, ok := member(t, "__tree_"); ok && len(t.Arguments) == 0 {
		if t = m.Types.Get(tree.Type); t == nil {
			return 0, 0
		}
		if pair := m.Types.Get(argument(t, 0)); pair != nil && template(pair.Class) == "__value_type" {
			return argument(pair, 0), argument(pair, 1)
		}
		return argument(t, 0), 0
	}
	if strings.Contains(template(t.Class), "map") {
		elem = argument(t, 1)
	}
	return argument(t, 0), elem
}

func (m *Memory) cppString(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	p, ok := m.path(t, s, "_M_dataplus", "_M_p")
	n, ok2 := m.path(t, s, "_M_string_length")
	if !ok || !ok2 {
		return v, false
	}
	return m.textOf(t, p, n, m.sizeOf(argument(t, 0))), true
}

func (m *Memory) cppStringView(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	p, ok := m.path(t, s, "_M_str")
	n, ok2 := m.path(t, s, "_M_len")
	if !ok || !ok2 {
		return v, false
	}
	return m.textOf(t, p, n, m.sizeOf(argument(t, 0))), true
}

func (m *Memory) cppVector(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	first, ok := m.path(t, s, "_M_impl", "_M_start")
	end, ok2 := m.path(t, s, "_M_impl", "_M_finish")
	room, ok3 := m.path(t, s, "_M_impl", "_M_end_of_storage")
	of := m.Types.Get(argument(t, 0))
	if _, bits, ok := m.walk(t, s, "_M_impl", "_M_start"); ok && bits.Kind == debuginfo.Record {
		return m.cppSequence(t, s, depth) // of booleans
	}
	if !ok || !ok2 || !ok3 || of == nil || of.Size == 0 || end < first || room < end {
		return v, false
	}
	return list(t, of.ID, first, (end-first)/of.Size, (room-first)/of.Size), true
}

// cppTable reads a table whose number of entries is at the end of a path.
func (m *Memory) cppTable(t *debuginfo.Type, s source, count ...string) (event.Value, bool) {
	n, ok := m.path(t, s, count...)
	key, elem := m.contents(t)
	return m.table(t, s, key, elem, n), ok && s.inMemory
}

func (m *Memory) cppUniquePointer(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	// The deleter is in a member of the same name.
	at, of, ok := m.walk(t, s, "_M_t", "_M_t")
	if ok {
		at, of, ok = m.memberNamed(of, at, "_M_head_impl", aPointer, 0)
	}
	if !ok {
		return v, false
	}
	return renamed(t, m.decode(of, at, depth+1)), true
}

func (m *Memory) cppSharedPointer(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	at, of, ok := m.walk(t, s, "_M_ptr")
	if !ok {
		return v, false
	}
	v = m.ownPointer(t, m.decode(of, at, depth+1))
	if control, ok := m.path(t, s, "_M_refcount", "_M_pi"); ok && control != 0 {
		if uses, ok := m.Core.Uint(control+8, 4); ok { // _Sp_counted_base: after the pointer to the virtual table
			v.Text = ownersText(uses)
		}
	}
	return v, true
}

// ownersText says how many pointers own an object together.
func ownersText(n uint64) string {
	switch n {
	case 0:
		return "expired"
	case 1:
		return "1 owner"
	}
	return fmt.Sprintf("%d owners", n)
}

// ownPointer shows the pointer in a smart pointer, whose own type has another name for what it points to.
func (m *Memory) ownPointer(t *debuginfo.Type, pointer event.Value) event.Value {
	v := renamed(t, pointer)
	if is := m.Types.Get(argument(t, 0)); is != nil && v.Type != nil && is.Kind == debuginfo.Record && m.sizeOf(v.Type.Elem) == is.Size && !is.Dynamic {
		v.Type.Elem = is.ID
	}
	return v
}

func (m *Memory) cppOptional(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	engaged, ok := m.path(t, s, "_M_payload", "_M_engaged")
	at, of, ok2 := m.walk(t, s, "_M_payload", "_M_payload", "_M_value")
	if !ok || !ok2 {
		return v, false
	}
	return m.held(t, engaged != 0, of, at, depth), true
}

func (m *Memory) cppVariant(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	i, ok := m.path(t, s, "_M_index")
	if !ok {
		return v, false
	}
	if i >= uint64(len(t.Arguments)) {
		return m.held(t, false, nil, s, depth), true
	}
	at, _, ok := m.walk(t, s, "_M_u")
	return m.held(t, true, m.Types.Get(argument(t, int(i))), at, depth), ok
}

func (m *Memory) sizeOf(id event.TypeID) uint64 {
	if t := m.Types.Get(id); t != nil {
		return t.Size
	}
	return 0
}

// held shows a value that can be absent.
func (m *Memory) held(t *debuginfo.Type, full bool, of *debuginfo.Type, s source, depth int) event.Value {
	v := event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Interface, Size: t.Size}, State: event.Known, Nil: !full || of == nil}
	if !v.Nil {
		v.Items = []event.Value{m.decode(of, s, depth+1)}
	}
	return v
}

func (m *Memory) table(t *debuginfo.Type, s source, key, elem event.TypeID, n uint64) event.Value {
	of := &event.Type{ID: t.ID, Name: t.Name, Form: event.Map, Size: t.Size, Key: key, Elem: elem}
	return event.Value{Type: of, State: event.Known, Address: s.address, Length: n}
}

// containerEntries reads the entries of a table of C++.
func (m *Memory) containerEntries(t *debuginfo.Type, address uint64, e *entries) {
	s := source{m: m, address: address, inMemory: true}
	if t.Rust {
		m.rustEntries(t, s, e)
		return
	}
	key, elem := m.contents(t)
	isMap := elem != 0
	e.key = m.Types.Get(key)
	e.elem = e.key
	if isMap {
		e.elem = m.Types.Get(elem)
	}
	if e.key == nil || e.elem == nil {
		e.cut = true
		return
	}
	second, ok := m.secondOf(t)
	if isMap && !ok {
		e.cut = true // a packed class is not aligned: where it is, only the declaration of the pair says
		return
	}
	add := func(at uint64) {
		if !isMap {
			v := m.Load(at, &e.key.Type)
			e.pairs = append(e.pairs, v, v)
			return
		}
		e.pairs = append(e.pairs, m.Load(at, &e.key.Type), m.Load(at+second, &e.elem.Type))
	}
	align := alignment(m, e.key, 0)
	if of := alignment(m, e.elem, 0); isMap && second%of == 0 { // otherwise the class is packed
		align = max(align, of)
	}
	if _, _, other := m.walk(t, s, "__table_"); other {
		m.libcppHashed(t, s, e, align, add)
	} else if _, _, other := m.walk(t, s, "__tree_"); other {
		m.libcppOrdered(t, s, e, align, add)
	} else if strings.HasPrefix(template(t.Class), "unordered") {
		m.hashed(t, s, e, max(align, 8), add)
	} else {
		m.ordered(t, s, e, align, add)
	}
}

// hashed walks the chain of all nodes of a hash table: a pointer to the next,
// then the value.
func (m *Memory) hashed(t *debuginfo.Type, s source, e *entries, align uint64, add func(uint64)) {
	node, ok := m.path(t, s, "_M_h", "_M_before_begin", "_M_nxt")
	n, ok2 := m.path(t, s, "_M_h", "_M_element_count")
	e.cut = !ok || !ok2
	m.nodes(node, n, e, func(node uint64) { add(node + roundedUp(8, align)) })
}

// nodes follows a chain of up to n nodes, each of which begins with a pointer to the next one.
func (m *Memory) nodes(node, n uint64, e *entries, yield func(node uint64)) {
	for i := uint64(0); node != 0 && i < min(n, maxEntries) && !e.cut; i++ {
		yield(node)
		var ok bool
		if node, ok = m.Core.Pointer(node); !ok {
			e.cut = true
		}
	}
	e.cut = e.cut || n > maxEntries
}

// ordered walks a red-black tree in the order of its keys. A node begins with
// its colour, parent, left and right; the value follows.
func (m *Memory) ordered(t *debuginfo.Type, s source, e *entries, align uint64, add func(uint64)) {
	const valueAt = 32
	header, _, ok := m.walk(t, s, "_M_t", "_M_impl", "_M_header")
	if !ok {
		e.cut = true
		return
	}
	x := tree{end: header.address, parent: 8, left: 16, right: 24}
	n, _ := m.path(t, s, "_M_t", "_M_impl", "_M_node_count")
	first, ok := m.Core.Pointer(header.address + x.left)
	e.cut = !ok
	m.inOrder(x, first, n, e, func(node uint64) { add(node + roundedUp(valueAt, align)) })
}

// tree is the layout of a binary tree: the node after its last one, and offsets of pointers in its nodes.
type tree struct{ end, left, right, parent uint64 }

// inOrder walks up to n nodes of a tree in the order of its keys, from the first one on.
func (m *Memory) inOrder(x tree, node, n uint64, e *entries, yield func(node uint64)) {
	steps := uint64(0)
	follow := func(at uint64) uint64 {
		if steps++; steps > 4*maxEntries {
			e.cut = true
			return x.end
		}
		p, ok := m.Core.Pointer(at)
		if !ok {
			e.cut = true
			return x.end
		}
		return p
	}
	for i := uint64(0); node != x.end && node != 0 && i < min(n, maxEntries) && !e.cut; i++ {
		yield(node)
		if right := follow(node + x.right); right != 0 && !e.cut {
			node = right
			for left := follow(node + x.left); left != 0 && !e.cut; left = follow(node + x.left) {
				node = left
			}
			continue
		}
		for !e.cut {
			parent := follow(node + x.parent)
			last := parent == x.end || follow(parent+x.right) != node
			node = parent
			if last {
				break
			}
		}
	}
	e.cut = e.cut || n > maxEntries
}

// secondOf returns where the second member of the pairs of a map is. The pair is the argument of the allocator, the last
// one of the map; GCC leaves out the arguments of classes with friends, so the map's own table is asked too.
func (m *Memory) secondOf(t *debuginfo.Type) (offset uint64, ok bool) {
	from := []*debuginfo.Type{m.Types.Get(argument(t, len(t.Arguments)-1))}
	for _, name := range []string{"_M_h", "_M_t", "__table_", "__tree_"} {
		if x, ok := member(t, name); ok {
			from = append(from, m.Types.Get(x.Type))
		}
	}
	for _, x := range from {
		if x == nil {
			continue
		}
		for _, id := range x.Arguments {
			pair := m.Types.Get(id)
			if wrapped, ok := member(pair, "__cc"); ok { // __value_type of libc++
				pair = m.Types.Get(wrapped.Type)
			} else if wrapped, ok := member(pair, "__cc_"); ok {
				pair = m.Types.Get(wrapped.Type)
			}
			if pair != nil && template(pair.Class) == "pair" {
				if second, ok := member(pair, "second"); ok {
					return second.Offset, true
				}
			}
		}
	}
	return 0, false
}

func roundedUp(n, align uint64) uint64 { return (n + align - 1) / align * align }

// alignment returns the alignment of a type in bytes.
func alignment(m *Memory, t *debuginfo.Type, depth int) uint64 {
	const deepest = 32 // variants are nested once for each of their types
	if t == nil || depth > deepest {
		return 8
	}
	switch t.Kind {
	case debuginfo.Record:
		most := max(1, t.Alignment)
		for _, x := range t.Members {
			most = max(most, alignment(m, m.Types.Get(x.Type), depth+1))
		}
		return most
	case debuginfo.Array:
		return alignment(m, m.Types.Get(t.Elem), depth+1)
	}
	if t.Alignment != 0 {
		return t.Alignment
	}
	return max(1, min(t.Size, 16))
}
