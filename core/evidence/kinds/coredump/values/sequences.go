package values

import (
	"strconv"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// chain is a list whose elements are not contiguous: they are in nodes or blocks.
type chain struct {
	m      *Memory
	of     *debuginfo.Type
	length func() uint64
	each   func(from uint64, yield func(address uint64) bool) // elements from an index on, as far as they can be read
	// item reads an element that has no address of its own; nil for others.
	item func(i uint64) event.Value
}

// sequence finds the layout of a list whose elements are not contiguous.
func (m *Memory) sequence(t *debuginfo.Type, s source) (chain, bool) {
	if len(t.Arguments) == 0 || !s.inMemory {
		return chain{}, false
	}
	c := chain{m: m, of: m.Types.Get(t.Arguments[0])}
	switch {
	case c.of == nil:
		return c, false
	case t.Rust:
		return c, c.rust(t, s)
	case c.of.Size == 0:
		return c, false
	}
	return c, c.cpp(t, s) || c.libcpp(t, s)
}

// cpp reads std::list, forward_list, deque, and vector<bool> of libstdc++.
func (c *chain) cpp(t *debuginfo.Type, s source) bool {
	switch template(t.Class) {
	case "list":
		n, ok := c.m.path(t, s, "_M_impl", "_M_node", "_M_size")
		head, _, ok2 := c.m.walk(t, s, "_M_impl", "_M_node")
		c.length = func() uint64 { return n }
		c.linked(head.address, head.address, 0, c.behind(16))
		return ok && ok2 && n <= maxString
	case "forward_list":
		head, _, ok := c.m.walk(t, s, "_M_impl", "_M_head")
		c.counted(head.address)
		return ok
	case "deque":
		return c.blocks(t, s)
	case "vector":
		return c.bits(t, s)
	}
	return false
}

// behind is the offset of an element in a node that begins with a number of bytes of pointers.
func (c *chain) behind(pointers uint64) uint64 {
	return roundedUp(pointers, alignment(c.m, c.of, 0))
}

// counted is a chain from the pointer at head, whose length is not stored.
func (c *chain) counted(head uint64) {
	c.linked(head, head, 0, c.behind(8))
	c.length = func() (n uint64) {
		c.each(0, func(uint64) bool { n++; return n < maxEntries })
		return n
	}
}

// linked follows nodes from the pointer at first to a null pointer or the node at end. next is the offset of the
// pointer to the next node, element that of the element.
func (c *chain) linked(first, end, next, element uint64) {
	c.each = func(from uint64, yield func(uint64) bool) {
		node, ok := c.m.Core.Pointer(first)
		for i := uint64(0); ok && node != 0 && node != end && i < maxEntries; i++ {
			if i >= from && !yield(node+element) {
				return
			}
			node, ok = c.m.Core.Pointer(node + next)
		}
	}
}

// indexed reads elements by index.
func (c *chain) indexed(n uint64, at func(i uint64) (uint64, bool)) {
	c.length = func() uint64 { return n }
	c.each = func(from uint64, yield func(uint64) bool) {
		for i := from; i < n; i++ {
			if address, ok := at(i); !ok || !yield(address) {
				return
			}
		}
	}
}

// blocks reads the table of blocks of a deque: of 512 bytes each, or of one element.
func (c *chain) blocks(t *debuginfo.Type, s source) bool {
	const block = 512
	per := max(1, block/c.of.Size)
	part := func(which, name string) (uint64, bool) { return c.m.path(t, s, "_M_impl", which, name) }
	current, ok1 := part("_M_start", "_M_cur")
	first, ok2 := part("_M_start", "_M_first")
	node, ok3 := part("_M_start", "_M_node")
	endCurrent, ok4 := part("_M_finish", "_M_cur")
	endFirst, ok5 := part("_M_finish", "_M_first")
	endNode, ok6 := part("_M_finish", "_M_node")
	if !(ok1 && ok2 && ok3 && ok4 && ok5 && ok6) || endNode < node || current < first || endCurrent < endFirst {
		return false
	}
	skipped := (current - first) / c.of.Size
	whole := (endNode-node)/8*per + (endCurrent-endFirst)/c.of.Size
	if whole < skipped || whole > maxString {
		return false
	}
	c.indexed(whole-skipped, func(i uint64) (uint64, bool) {
		i += skipped
		at, ok := c.m.Core.Pointer(node + i/per*8)
		return at + i%per*c.of.Size, ok
	})
	return true
}

// bits reads a vector of booleans.
func (c *chain) bits(t *debuginfo.Type, s source) bool {
	part := func(which, name string) (uint64, bool) { return c.m.path(t, s, "_M_impl", which, name) }
	from, ok1 := part("_M_start", "_M_p")
	first, ok2 := part("_M_start", "_M_offset")
	to, ok3 := part("_M_finish", "_M_p")
	last, ok4 := part("_M_finish", "_M_offset")
	if !(ok1 && ok2 && ok3 && ok4) || to < from || (to-from)*8+last < first || to-from > maxString {
		return false
	}
	c.bitsFrom(from, first, (to-from)*8+last-first)
	return true
}

// bitsFrom reads n bits in memory, after the first ones.
func (c *chain) bitsFrom(from, first, n uint64) {
	c.length = func() uint64 { return n }
	c.item = func(i uint64) event.Value {
		i += first
		b, ok := c.m.Core.Read(from+i/8, 1)
		if !ok {
			return Unknown(&c.of.Type, c.m.whyNot(from+i/8))
		}
		return event.Value{Type: &c.of.Type, State: event.Known, Uint: uint64(b[0] >> (i % 8) & 1)}
	}
}

// Items implements replay.Sequences.
func (m *Memory) Items(address uint64, t *event.Type, from, to uint64) (list []event.Value, ok bool) {
	full := m.Types.Get(t.ID)
	if full == nil || full.Kind != debuginfo.Record || address == 0 {
		return nil, false
	}
	c, ok := m.sequence(full, source{m: m, address: address, inMemory: true})
	if !ok {
		return nil, false
	}
	if c.item == nil {
		c.each(from, func(at uint64) bool {
			if uint64(len(list)) < to-from {
				list = append(list, m.Load(at, &c.of.Type))
			}
			return uint64(len(list)) < to-from
		})
	}
	for i := from + uint64(len(list)); i < to; i++ {
		if c.item != nil {
			list = append(list, c.item(i))
			continue
		}
		list = append(list, Unknown(&c.of.Type, "the list ends before this element, or it is too deep in the list"))
	}
	return list, true
}

// gathered shows a list whose elements are not contiguous.
func (m *Memory) gathered(t *debuginfo.Type, s source) (event.Value, bool) {
	c, ok := m.sequence(t, s)
	if !ok {
		return event.Value{}, false
	}
	n := c.length()
	return list(t, c.of.ID, s.address, n, n), true
}

// cppSequence shows lists whose elements are not contiguous, and lists of fixed length.
func (m *Memory) cppSequence(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	none := event.Value{}
	if v, ok := m.gathered(t, s); ok {
		return v, true
	}
	switch template(t.Class) {
	case "array":
		at, of, ok := m.walk(t, s, "_M_elems")
		if !ok || of.Kind != debuginfo.Array {
			return none, false
		}
		return renamed(t, m.decode(of, at, depth+1)), true
	case "tuple":
		v := event.Value{Type: &event.Type{ID: t.ID, Name: t.Name, Form: event.Slice, Size: t.Size}, State: event.Known}
		ok := m.heads(t, s, depth, &v.Items)
		v.Length = uint64(len(v.Items))
		return v, ok && (v.Length > 0 || len(t.Arguments) == 0 && len(t.Members) == 0)
	case "span":
		p, ok := m.path(t, s, "_M_ptr")
		n, ok2 := m.path(t, s, "_M_extent", "_M_extent_value")
		if !ok2 {
			n, ok2 = lastNumber(t.Class)
		}
		if !ok || !ok2 || len(t.Arguments) == 0 || n > maxString {
			return none, false
		}
		return list(t, t.Arguments[0], p, n, n), true
	}
	return none, false
}

// heads gathers the elements of a tuple. Each is in a base class of its own with the element's
// number; the outermost class has the first element. ok is false if one is missing.
func (m *Memory) heads(t *debuginfo.Type, s source, depth int, out *[]event.Value) (ok bool) {
	if t == nil || len(*out) > maxItems || depth > maxDepth {
		return false
	}
	var rest []debuginfo.Member
	for _, x := range t.Members {
		of := m.Types.Get(x.Type)
		if of == nil || !x.Base {
			continue
		}
		if number, isHead := strings.CutPrefix(of.Class, "_Head_base<"); isHead {
			at, inner, ok := m.memberNamed(of, s.at(x.Offset), "_M_head_impl", anyType, 0)
			if !ok || !isNumber(number, len(*out)) {
				return false
			}
			*out = append(*out, m.decode(inner, at, depth+1))
			continue
		}
		rest = append(rest, x)
	}
	for _, x := range rest {
		if !m.heads(m.Types.Get(x.Type), s.at(x.Offset), depth+1, out) {
			return false
		}
	}
	return true
}

// isNumber reports whether a template argument is the number n, in compilers' notation: 2 or 2UL.
func isNumber(argument string, n int) bool {
	argument, _, _ = strings.Cut(argument, ",")
	return strings.TrimRight(argument, "UL") == strconv.Itoa(n)
}

// lastNumber returns the last argument of a template if it is a number.
func lastNumber(class string) (uint64, bool) {
	text := strings.TrimRight(class, "> ulUL")
	if i := strings.LastIndexAny(text, " ,<"); i >= 0 {
		text = text[i+1:]
	}
	n, err := strconv.ParseUint(text, 10, 64)
	return n, err == nil
}

// renamed shows a value under the name of the type that wraps it.
func renamed(t *debuginfo.Type, v event.Value) event.Value {
	if v.Type != nil {
		of := *v.Type
		of.Name = t.Name
		v.Type = &of
	}
	return v
}

// wrappers are the types that wrap one value, with the paths to it.
var wrappers = map[string][][]string{
	"stack": {{"c"}}, "queue": {{"c"}}, "priority_queue": {{"c"}},
	"atomic": {{"_M_i"}, {"_M_base", "_M_i"}, {"_M_b", "_M_p"}, {"__a_", "__a_value"}}, "__atomic_base": {{"_M_i"}},
	"complex": {{"_M_value"}}, "reference_wrapper": {{"_M_data"}},
}

// cppWrapper shows a type that wraps one value as that value, and durations with their unit.
func (m *Memory) cppWrapper(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	name := template(t.Class)
	for _, way := range wrappers[name] {
		if at, of, ok := m.walk(t, s, way...); ok {
			return renamed(t, m.decode(of, at, depth+1)), true
		}
	}
	switch name {
	case "duration":
		return m.duration(t, s, depth)
	case "time_point":
		at, of, ok := m.walk(t, s, "__d")
		if !ok {
			at, of, ok = m.walk(t, s, "__d_")
		}
		if !ok {
			return event.Value{}, false
		}
		v := renamed(t, m.decode(of, at, depth+1))
		if since, err := time.ParseDuration(v.Text); err == nil && v.State == event.Known && strings.Contains(t.Class, "system_clock") {
			v.Text = time.Unix(0, 0).UTC().Add(since).Format(time.RFC3339Nano)
		}
		return v, true
	}
	return event.Value{}, false
}

// duration writes a duration of C++ (ISO/IEC 14882, time.duration) with its unit, the ratio that is
// the type's second argument.
func (m *Memory) duration(t *debuginfo.Type, s source, depth int) (event.Value, bool) {
	at, of, ok := m.walk(t, s, "__r")
	if !ok {
		at, of, ok = m.walk(t, s, "__rep_")
	}
	if !ok || len(t.Arguments) < 2 {
		return event.Value{}, false
	}
	v := renamed(t, m.decode(of, at, depth+1))
	unit := m.Types.Get(t.Arguments[1])
	if unit == nil || v.State != event.Known || v.Form() != event.Int {
		return v, true
	}
	numerator, denominator, ok := ratio(unit.Class)
	if !ok {
		return v, true
	}
	const second = int64(time.Second)
	if whole := numerator * second; whole/second == numerator && whole%denominator == 0 {
		if each := whole / denominator; each != 0 && v.Int*each/each == v.Int {
			v.Text = time.Duration(v.Int * each).String()
		}
	}
	return v, true
}

// ratio reads the two numbers of std::ratio.
func ratio(class string) (numerator, denominator int64, ok bool) {
	_, text, ok := strings.Cut(strings.TrimRight(class, "> "), "<")
	n, d, ok2 := strings.Cut(text, ",")
	numerator, err := strconv.ParseInt(strings.TrimRight(n, "lL "), 10, 64)
	denominator, err2 := strconv.ParseInt(strings.Trim(d, "lL "), 10, 64)
	return numerator, denominator, ok && ok2 && err == nil && err2 == nil && denominator > 0
}
