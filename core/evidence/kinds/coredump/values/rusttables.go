package values

import (
	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// hashedTable is the table of Rust's HashMap or HashSet. Slots are below an array of control bytes,
// the first one directly below it. A slot is full if the highest bit of its control byte is clear.
type hashedTable struct {
	slot          *debuginfo.Type // a pair of key and value
	key, elem     event.TypeID    // elem is 0 for a set
	keyAt, elemAt uint64
	control, mask uint64
	items         uint64
}

// rustHashed finds the table in the types that wrap it.
func (m *Memory) rustHashed(t *debuginfo.Type, s source) (h hashedTable, ok bool) {
	for _, way := range [][]string{{"base", "table"}, {"base", "map", "table"}, {"table"}, {"map", "table"}, {"map", "base", "table"}} {
		at, raw, found := m.walk(t, s, way...)
		if !found || len(raw.Arguments) == 0 {
			continue
		}
		mask, ok1 := m.path(raw, at, "table", "bucket_mask")
		control, ok2 := m.path(raw, at, "table", "ctrl", "pointer")
		items, ok3 := m.path(raw, at, "table", "items")
		h = hashedTable{slot: m.Types.Get(raw.Arguments[0]), mask: mask, control: control, items: items}
		if !ok1 || !ok2 || !ok3 || h.slot == nil {
			continue
		}
		key, ok1 := member(h.slot, "__0")
		elem, ok2 := member(h.slot, "__1")
		if !ok1 || !ok2 {
			continue
		}
		h.key, h.keyAt = key.Type, key.Offset
		if m.sizeOf(elem.Type) > 0 {
			h.elem, h.elemAt = elem.Type, elem.Offset
		}
		return h, true
	}
	return h, false
}

// rustEntries reads the entries of a Rust table.
func (m *Memory) rustEntries(t *debuginfo.Type, s source, e *entries) {
	if h, ok := m.rustHashed(t, s); ok {
		e.hashedOfRust(h)
		return
	}
	if b, ok := m.rustTree(t, s); ok {
		e.tree(b)
		return
	}
	e.cut = true
}

// pair adds an entry; the entry of a set is its key.
func (e *entries) pair(key uint64, keyType event.TypeID, elem uint64, elemType event.TypeID) {
	k := e.m.Load(key, e.m.Type(keyType))
	v := k
	if elemType != 0 {
		v = e.m.Load(elem, e.m.Type(elemType))
	}
	e.pairs = append(e.pairs, k, v)
}

func (e *entries) hashedOfRust(h hashedTable) {
	found := uint64(0)
	for i := uint64(0); i <= h.mask && found < h.items && !e.full(); i++ {
		control, ok := e.m.Core.Read(h.control+i, 1)
		if !ok || i > 64*maxEntries { // a table is usually at least an eighth full
			e.cut = true
			return
		}
		if control[0]&0x80 == 0 {
			slot := h.control - (i+1)*h.slot.Size
			e.pair(slot+h.keyAt, h.key, slot+h.elemAt, h.elem)
			found++
		}
	}
	e.cut = e.cut || found < h.items
}

// orderedTree is the tree of a BTreeMap or BTreeSet. Nodes have up to eleven entries; in inner
// nodes the pointers to the children follow.
type orderedTree struct {
	node                   *debuginfo.Type // a leaf
	key, elem              event.TypeID    // elem is 0 for a set
	keysAt, elemsAt, lenAt uint64
	root, height, length   uint64
}

const entriesOfNode = 11

func (m *Memory) rustTree(t *debuginfo.Type, s source) (b orderedTree, ok bool) {
	if at, inner, found := m.walk(t, s, "map"); found {
		t, s = inner, at
	}
	length, ok1 := m.path(t, s, "length")
	root, option, ok2 := m.walk(t, s, "root")
	at, held, ok3 := m.some(option, root)
	if !ok1 || !ok2 || !ok3 || len(t.Arguments) < 2 {
		return b, false
	}
	height, ok1 := m.path(held, at, "height")
	address, ok2 := m.path(held, at, "node", "pointer")
	_, pointer, ok3 := m.walk(held, at, "node", "pointer")
	if !ok1 || !ok2 || !ok3 {
		return b, false
	}
	b = orderedTree{node: m.Types.Get(pointer.Elem), key: t.Arguments[0], root: address, height: height, length: length}
	if b.node == nil {
		return b, false
	}
	keys, ok1 := member(b.node, "keys")
	elems, ok2 := member(b.node, "vals")
	count, ok3 := member(b.node, "len")
	b.keysAt, b.elemsAt, b.lenAt = keys.Offset, elems.Offset, count.Offset
	if m.sizeOf(t.Arguments[1]) > 0 {
		b.elem = t.Arguments[1]
	}
	return b, ok1 && ok2 && ok3
}

func (e *entries) tree(b orderedTree) {
	const maxHeight = 24
	if b.length == 0 {
		return
	}
	if b.height > maxHeight {
		e.cut = true
		return
	}
	keySize, elemSize := e.m.sizeOf(b.key), e.m.sizeOf(b.elem)
	children := (b.node.Size + 7) / 8 * 8
	var visit func(node, height uint64)
	visit = func(node, height uint64) {
		n, ok := e.m.Core.Uint(node+b.lenAt, 2)
		if !ok || n > entriesOfNode || n == 0 {
			e.cut = true
			return
		}
		for i := uint64(0); i <= n && !e.full(); i++ {
			if height > 0 {
				child, ok := e.m.Core.Pointer(node + children + 8*i)
				if !ok {
					e.cut = true
					return
				}
				visit(child, height-1)
			}
			if i < n && !e.full() {
				e.pair(node+b.keysAt+i*keySize, b.key, node+b.elemsAt+i*elemSize, b.elem)
			}
		}
	}
	visit(b.root, b.height)
	e.cut = e.cut || uint64(len(e.pairs)/2) < b.length
}
