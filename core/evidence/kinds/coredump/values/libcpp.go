package values

import (
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// The classes of libc++, whose members have other names and places than those of libstdc++. What can be empty is in
// a __compressed_pair, whose first element is its first __value_.

// libcppContainer reads a class of libc++. ok is false for other classes.
func (m *Memory) libcppContainer(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	switch template(t.Class) {
	case "basic_string":
		return m.libcppString(t, s)
	case "basic_string_view", "span", "initializer_list":
		return m.libcppView(t, s)
	case "vector":
		return m.libcppVector(t, s)
	case "map", "multimap":
		return m.cppTable(t, s, "__tree_", "__pair3_", "__value_")
	case "set", "multiset":
		return m.cppTable(t, s, "__tree_", "__pair3_", "__value_")
	case "unordered_map", "unordered_multimap":
		return m.cppTable(t, s, "__table_", "__p2_", "__value_")
	case "unordered_set", "unordered_multiset":
		return m.cppTable(t, s, "__table_", "__p2_", "__value_")
	case "unique_ptr":
		return m.libcppWrapped(t, s, depth, "__ptr_", "__value_")
	case "shared_ptr", "weak_ptr":
		return m.libcppSharedPointer(t, s, depth)
	case "optional":
		engaged, ok := m.path(t, s, "__engaged_")
		at, of, ok2 := m.walk(t, s, "__val_")
		if !ok || !ok2 {
			return v, false
		}
		return m.held(t, engaged != 0, of, at, depth), true
	case "variant":
		return m.libcppVariant(t, s, depth)
	case "function":
		return m.libcppFunction(t, s)
	case "any":
		return m.libcppAny(t, s, depth)
	case "array":
		return m.libcppWrapped(t, s, depth, "__elems_")
	case "tuple":
		return m.libcppTuple(t, s, depth)
	case "bitset":
		return m.wordBits(t, s, "__first_")
	case "path":
		return m.libcppWrapped(t, s, depth, "__pn_")
	}
	return v, false
}

// libcppWrapped shows a class as the value at the end of a path of members.
func (m *Memory) libcppWrapped(t *debuginfo.Type, s source, depth int, names ...string) (v event.Value, ok bool) {
	at, of, ok := m.walk(t, s, names...)
	if !ok {
		return v, false
	}
	return renamed(t, m.decode(of, at, depth+1)), true
}

// libcppString reads std::string: a short one is in the object itself. The lowest bit of the object says which.
func (m *Memory) libcppString(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	size := m.sizeOf(argument(t, 0))
	// Since version 20 the representation is not in a pair.
	at, rep, ok := m.walk(t, s, "__r_", "__value_")
	if !ok {
		at, rep, ok = m.walk(t, s, "__rep_")
	}
	long, of, ok2 := m.walk(rep, at, "__l")
	short, _, ok3 := m.walk(rep, at, "__s", "__data_")
	if !ok || !ok2 || !ok3 || size == 0 || !s.inMemory {
		return v, false
	}
	if room, _, ok := m.walk(of, long, "__cap_"); ok && room.address != long.address {
		return v, false // the other layout of the library, which no distribution uses
	}
	first, ok := m.Core.Uint(long.address, 1)
	if !ok {
		return v, false
	}
	const isLong = 1
	if first&isLong == 0 {
		return m.textOf(t, short.address, first>>1, size), true
	}
	p, ok := m.path(of, long, "__data_")
	n, ok2 := m.path(of, long, "__size_")
	return m.textOf(t, p, n, size), ok && ok2
}

// libcppView reads what is a pointer and a number of elements.
func (m *Memory) libcppView(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	for _, names := range [][2]string{{"__data_", "__size_"}, {"__data", "__size"}, {"__begin_", "__size_"}} {
		p, ok := m.path(t, s, names[0])
		if !ok {
			continue
		}
		n, ok := m.path(t, s, names[1])
		if !ok && template(t.Class) == "span" {
			n, ok = lastNumber(t.Class)
		}
		of := argument(t, 0)
		switch {
		case !ok || of == 0 || n > maxString:
		case template(t.Class) == "basic_string_view":
			return m.textOf(t, p, n, m.sizeOf(of)), true
		default:
			return list(t, of, p, n, n), true
		}
	}
	return v, false
}

func (m *Memory) libcppVector(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	if _, ok := m.path(t, s, "__size_"); ok {
		return m.gathered(t, s) // of booleans
	}
	first, ok := m.path(t, s, "__begin_")
	end, ok2 := m.path(t, s, "__end_")
	room, ok3 := m.path(t, s, "__end_cap_", "__value_")
	if !ok3 {
		room, ok3 = m.path(t, s, "__cap_")
	}
	of := m.Types.Get(argument(t, 0))
	if !ok || !ok2 || !ok3 || of == nil || of.Size == 0 || end < first || room < end {
		return v, false
	}
	return list(t, of.ID, first, (end-first)/of.Size, (room-first)/of.Size), true
}

func (m *Memory) libcppSharedPointer(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	at, of, ok := m.walk(t, s, "__ptr_")
	control, ok2 := m.path(t, s, "__cntrl_")
	if !ok || !ok2 {
		return v, false
	}
	v = m.ownPointer(t, m.decode(of, at, depth+1))
	const furtherAt = 8 // __shared_count: after the pointer to the virtual table, the number of owners but one
	if further, ok := m.Core.Uint(control+furtherAt, 8); ok && control != 0 {
		v.Text = ownersText(further + 1)
	}
	return v, true
}

func (m *Memory) libcppVariant(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	i, ok := m.path(t, s, "__impl", "__index")
	at, _, ok2 := m.walk(t, s, "__impl", "__data")
	if !ok || !ok2 {
		if i, ok = m.path(t, s, "__impl_", "__index"); ok { // since version 16
			at, _, ok2 = m.walk(t, s, "__impl_", "__data")
		}
	}
	if !ok || !ok2 {
		return v, false
	}
	if i >= uint64(len(t.Arguments)) {
		return m.held(t, false, nil, s, depth), true
	}
	return m.held(t, true, m.Types.Get(argument(t, int(i))), at, depth), true
}

// libcppFunction reads std::function: its target is in an object whose class is made for the type of the target.
func (m *Memory) libcppFunction(t *debuginfo.Type, s source) (v event.Value, ok bool) {
	object, ok := m.path(t, s, "__f_", "__f_")
	if !ok || m.Symbol == nil {
		return v, false
	}
	v = event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Func, Size: t.Size}, State: event.Known, Address: object}
	if object == 0 {
		v.Nil = true
		return v, true
	}
	table, ok := m.Core.Pointer(object)
	if !ok {
		return Unknown(v.Type, m.whyNot(object)), true
	}
	class, is := strings.CutPrefix(m.Symbol(table), "vtable for std::__1::__function::__func<")
	arguments := splitArguments(class)
	if !is || len(arguments) == 0 {
		return v, false
	}
	v.Text = arguments[0]
	if strings.Contains(v.Text, "(*)") {
		if code, ok := m.Core.Pointer(object + 8); ok {
			v.Text, v.Address = m.codeAt(code), code
		}
	}
	return v, true
}

// libcppAny reads std::any: its handler is made for the type of its value, which is in it or, if it is large, elsewhere.
func (m *Memory) libcppAny(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	handler, ok1 := m.path(t, s, "__h")
	if !ok1 {
		handler, ok1 = m.path(t, s, "__h_")
	}
	pointer, _, ok2 := m.walk(t, s, "__s", "__ptr")
	if !ok2 {
		pointer, _, ok2 = m.walk(t, s, "__s_", "__ptr")
	}
	if !ok1 || !ok2 {
		return v, false
	}
	const namespace = "std::__1::__any_imp::"
	name := m.codeAt(handler)
	small, inside := strings.CutPrefix(name, namespace+"_SmallHandler<")
	if large, outside := strings.CutPrefix(name, namespace+"_LargeHandler<"); outside {
		small = large
	} else if !inside && handler != 0 {
		return v, false
	}
	return m.anyOf(t, handler == 0, splitArguments(small), pointer, inside, depth)
}

// libcppTuple reads a tuple, each element of which is in a base class of its own.
func (m *Memory) libcppTuple(t *debuginfo.Type, s source, depth int) (v event.Value, ok bool) {
	at, base, ok := m.walk(t, s, "__base_")
	if !ok {
		return v, false
	}
	v = event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Slice, Size: t.Size}, State: event.Known}
	for _, x := range base.Members {
		of := m.Types.Get(x.Type)
		if of == nil || !x.Base {
			continue
		}
		number, is := strings.CutPrefix(of.Class, "__tuple_leaf<")
		inner, what, ok := m.memberNamed(of, at.at(x.Offset), "__value_", anyType, 0)
		if !is || !ok || !isNumber(number, len(v.Items)) {
			return v, false
		}
		v.Items = append(v.Items, m.decode(what, inner, depth+1))
	}
	v.Length = uint64(len(v.Items))
	return v, len(v.Items) == len(t.Arguments)
}

// libcpp reads lists whose elements are not contiguous.
func (c *chain) libcpp(t *debuginfo.Type, s source) bool {
	switch template(t.Class) {
	case "list":
		n, ok := c.m.path(t, s, "__size_alloc_", "__value_")
		end, _, ok2 := c.m.walk(t, s, "__end_")
		c.length = func() uint64 { return n }
		const nextAt = 8
		c.linked(end.address+nextAt, end.address, nextAt, c.behind(16))
		return ok && ok2 && n <= maxString
	case "forward_list":
		head, _, ok := c.m.walk(t, s, "__before_begin_", "__value_")
		c.counted(head.address)
		return ok
	case "deque":
		return c.libcppBlocks(t, s)
	case "vector":
		words, ok := c.m.path(t, s, "__begin_")
		n, ok2 := c.m.path(t, s, "__size_")
		c.bitsFrom(words, 0, n)
		return ok && ok2 && n <= maxString
	}
	return false
}

// libcppBlocks reads the table of blocks of a deque: of 4,096 bytes each, or of 16 elements.
func (c *chain) libcppBlocks(t *debuginfo.Type, s source) bool {
	const block, large, few = 4096, 256, 16
	per := uint64(few)
	if c.of.Size < large {
		per = block / c.of.Size
	}
	table, ok1 := c.m.path(t, s, "__map_", "__begin_")
	end, ok2 := c.m.path(t, s, "__map_", "__end_")
	start, ok3 := c.m.path(t, s, "__start_")
	n, ok4 := c.m.path(t, s, "__size_", "__value_")
	if !ok4 {
		n, ok4 = c.m.path(t, s, "__size_")
	}
	if !(ok1 && ok2 && ok3 && ok4) || end < table || n > maxString || start > maxString || start+n > (end-table)/8*per {
		return false
	}
	c.indexed(n, func(i uint64) (uint64, bool) {
		i += start
		at, ok := c.m.Core.Pointer(table + i/per*8)
		return at + i%per*c.of.Size, ok
	})
	return true
}

// libcppHashed walks the chain of all nodes of a hash table: a pointer to the next, the hash, then the value.
func (m *Memory) libcppHashed(t *debuginfo.Type, s source, e *entries, align uint64, add func(uint64)) {
	node, ok := m.path(t, s, "__table_", "__p1_", "__value_", "__next_")
	n, ok2 := m.path(t, s, "__table_", "__p2_", "__value_")
	e.cut = !ok || !ok2
	m.nodes(node, n, e, func(node uint64) { add(node + roundedUp(16, align)) })
}

// libcppOrdered walks a red-black tree in the order of its keys. A node begins with left, right, parent and
// colour; the value follows. The left child of the end is the root.
func (m *Memory) libcppOrdered(t *debuginfo.Type, s source, e *entries, align uint64, add func(uint64)) {
	first, ok := m.path(t, s, "__tree_", "__begin_node_")
	end, _, ok2 := m.walk(t, s, "__tree_", "__pair1_", "__value_")
	n, ok3 := m.path(t, s, "__tree_", "__pair3_", "__value_")
	if !ok || !ok2 || !ok3 {
		e.cut = true
		return
	}
	const valueAt = 25
	m.inOrder(tree{end: end.address, left: 0, right: 8, parent: 16}, first, n, e, func(node uint64) { add(node + roundedUp(valueAt, align)) })
}
