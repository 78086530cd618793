package coredump

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/replay"
)

// A variable of Rust that was moved or dropped keeps its bytes, and the debug information does not say so. Its memory
// does: it is free, or belongs to another variable too, although memory in Rust has one owner.

// owner is a variable with the addresses of the memory that it owns, and where it is declared.
type owner struct {
	name  string
	line  int
	owned []uint64
}

// owners are the variables of a frame that own memory.
type owners struct {
	once sync.Once
	list []owner
}

// moved returns why a variable of Rust does not have its value any more; empty if nothing says that.
func (d *Dump) moved(f *frame, v debuginfo.Variable, value replay.Value) string {
	if !v.Unit.Rust() || v.Scope == event.Global {
		return ""
	}
	mine := d.owned(value, 0, nil)
	if len(mine) == 0 {
		return ""
	}
	if slices.ContainsFunc(mine, d.isFreed) {
		return "its memory was freed: it was dropped, or moved to something that was dropped"
	}
	has := func(x owner) bool {
		return slices.ContainsFunc(x.owned, func(address uint64) bool { return slices.Contains(mine, address) })
	}
	for _, x := range d.ownersIn(f) {
		if x.name != v.Name && x.line > v.Line && has(x) {
			return fmt.Sprintf("%s, which is declared later, has the same memory: one of the two was moved to the other, or dropped before", x.name)
		}
	}
	if f.inner != nil && !f.inner.Inlined {
		for _, x := range d.ownersIn(f.inner) {
			if x.line == 0 && has(x) {
				return fmt.Sprintf("it was moved to %s, to the parameter %s", f.inner.Function, x.name)
			}
		}
	}
	return ""
}

// ownersIn lists the variables of a frame of Rust that own memory. The line of a parameter is 0.
func (d *Dump) ownersIn(f *frame) []owner {
	if f.owners == nil {
		return nil
	}
	f.owners.once.Do(func() {
		const most = 256
		for _, v := range f.variables() {
			if v.Scope == event.Global || !v.Unit.Rust() || len(f.owners.list) >= most {
				continue
			}
			x := d.bare(f, v)
			if v.Scope == event.Local && d.notReached(f, v) != "" {
				continue
			}
			o := owner{name: v.Name, line: v.Line, owned: d.owned(x.Value, 0, nil)}
			if v.Scope == event.Parameter {
				o.line = 0
			}
			if len(o.owned) > 0 {
				f.owners.list = append(f.owners.list, o)
			}
		}
	})
	return f.owners.list
}

// owned appends the addresses of the memory that a value owns: that of its texts, lists and boxes, also in its parts.
func (d *Dump) owned(v replay.Value, depth int, list []uint64) []uint64 {
	const deepest, parts, most, lowest = 4, 32, 64, 4096 // below are the addresses of what is empty
	if v.State != event.Known || v.Type == nil || depth > deepest || len(list) >= most {
		return list
	}
	name := strings.TrimPrefix(strings.TrimPrefix(v.Type.Name, "alloc::boxed::"), "alloc::vec::")
	switch v.Form() {
	case event.Text, event.Slice:
		if v.Address >= lowest && (name == "String" || name == "PathBuf" || name == "OsString" || strings.HasPrefix(name, "Vec<")) {
			list = append(list, v.Address)
		}
		return list
	case event.Pointer:
		if v.Address >= lowest && strings.HasPrefix(name, "Box<") {
			list = d.owned(v.Deref(), depth+1, append(list, v.Address))
		}
		return list
	case event.Struct, event.Interface, event.Array:
		children, _ := v.Children(replay.Page{Count: parts})
		for _, c := range children {
			list = d.owned(c.Value, depth+1, list)
		}
	}
	return list
}
