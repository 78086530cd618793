package reproduce

import (
	"go/types"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// outerLock is a lock of a rebuilt object that was held when the call began.
type outerLock struct {
	replay.OuterLock
	in     *object
	offset uint64      // from the beginning of the object
	of     *event.Type // of the lock
	isRW   bool
}

// outerLocks finds the locks that the call gives back in what is rebuilt. Those that are not in it are gaps.
func (b *builder) outerLocks() (list []outerLock) {
	for _, l := range b.call.Held {
		if !l.IsCertain {
			b.gap(b.call.Function.Name, "it unlocks a lock, and how that was taken is not recorded; it is free")
			continue
		}
		x, ok := b.lockAt(l)
		if !ok {
			b.gap(b.call.Function.Name, "it unlocks a lock that was held, and is not in what is rebuilt; it is free")
			continue
		}
		list = append(list, x)
		x.in.refs++ // so that it has a name
	}
	return list
}

// lockAt finds the object that a lock is in.
func (b *builder) lockAt(l replay.OuterLock) (outerLock, bool) {
	for _, o := range b.order {
		o = o.root()
		if o.isMap || o.gt == nil || l.Address < o.address || l.Address >= o.address+o.size {
			continue
		}
		offset := l.Address - o.address
		t, gt := o.value.Type, o.gt
		if o.isList {
			if t = o.value.ElemType(); t != nil && t.Size > 0 {
				offset %= t.Size
			}
		}
		if of, name := lockIn(gt, t, offset, o.value.Memory); of != nil {
			return outerLock{l, o, l.Address - o.address, of, name == "RWMutex"}, true
		}
	}
	return outerLock{}, false
}

// lockIn returns the recorded type and the name of the lock at an offset in a value; nil if there is none.
func lockIn(gt types.Type, t *event.Type, offset uint64, m replay.Memory) (*event.Type, string) {
	for range 32 {
		if t == nil {
			return nil, ""
		}
		if n, ok := types.Unalias(gt).(*types.Named); ok && n.Obj().Pkg() != nil && n.Obj().Pkg().Path() == "sync" {
			if name := n.Obj().Name(); offset == 0 && (name == "Mutex" || name == "RWMutex") {
				return t, name
			}
			return nil, ""
		}
		switch u := gt.Underlying().(type) {
		case *types.Struct:
			i, inner, ok := fieldAt(u, t, offset, m)
			if !ok {
				return nil, ""
			}
			gt, t, offset = u.Field(i).Type(), inner, offset-t.Fields[i].Offset
		case *types.Array:
			inner := m.Type(t.Elem)
			if inner == nil || inner.Size == 0 {
				return nil, ""
			}
			gt, t, offset = u.Elem(), inner, offset%inner.Size
		default:
			return nil, ""
		}
	}
	return nil, ""
}

// locks describes the locks that were held when the call began.
func (e *encoder) locks(held []outerLock) {
	for _, l := range held {
		e.out.Locks = append(e.out.Locks, lockData{O: e.object(l.in), I: l.offset, Read: l.Read, RW: l.isRW})
	}
}

// locks writes the statements that take the locks that were held when the call began.
func (a *assembly) locks(held []outerLock) {
	b := a.b
	for _, l := range held {
		at, open, ok := b.inside(&object{spot: spot{address: l.Address}, within: l.in}, l.of, place{path: l.in.path})
		if !ok || open {
			b.gap(l.in.path, "its lock was held and cannot be named here; it is free")
			continue
		}
		method := ".Lock()"
		if l.Read {
			method = ".RLock()"
		}
		b.fixes = append(b.fixes, at+method)
	}
}
