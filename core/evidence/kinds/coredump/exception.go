package coredump

import (
	"context"
	"fmt"
	"strings"

	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/replay"
)

// The layout of an exception of libstdc++ in flight (Itanium C++ ABI: Exception Handling, section
// 2.2.1): a header, which ends with the header of the unwinder, which begins with the exception
// class; then the object.
const (
	exceptionMark   = 0x474e5543432b2b00 // "GNUCC++\0"; the lowest byte is 1 for a dependent exception
	typeBeforeMark  = 80                 // from the pointer to the type information to the exception class
	objectAfterMark = 32
	mostOfStack     = 64 << 10 // part of the stack that is searched
	maxBases        = 16
)

// uncaught finds the exception that ended the program, by a pointer to it on the stack.
func (d *Dump) uncaught(ctx context.Context, f *failure) (replay.Cause, bool) {
	list, err := d.framesOf(ctx, 0, f.Thread)
	if err != nil || len(list) == 0 {
		return replay.Cause{}, false
	}
	from := list[0].steps[0].regs.SP()
	to := from + mostOfStack
	for _, x := range list {
		if s := x.steps[x.at]; x.Own && s.hasCFA && s.cfa > from {
			to = min(to, s.cfa)
			break
		}
	}
	for at := from &^ 7; at < to; at += 8 {
		mark, ok := d.core.Memory.Pointer(at)
		if !ok {
			break
		}
		if mark&7 != 0 || mark < firstPage {
			continue
		}
		class, ok := d.core.Memory.Uint(mark, 8)
		if !ok || class&^1 != exceptionMark {
			continue
		}
		if class&1 != 0 {
			object, ok := d.core.Memory.Pointer(mark - typeBeforeMark)
			if !ok {
				continue
			}
			mark = object - objectAfterMark
		}
		if info, ok := d.core.Memory.Pointer(mark - typeBeforeMark); ok {
			if c := d.exceptionAt(info, mark+objectAfterMark); c.Type != "" {
				return c, true
			}
		}
	}
	return replay.Cause{}, false
}

// exceptionAt reads an exception's type from its type information, and its message if the type, or a
// base class, stores one (Itanium C++ ABI, section 2.9.5).
func (d *Dump) exceptionAt(info, object uint64) (c replay.Cause) {
	name := d.typeinfoName(info)
	if name == "" {
		return c
	}
	c.Type = debuginfo.PlainName(strings.TrimPrefix(module.Readable("_ZTS"+name), "typeinfo name for "))
	text := func(address uint64) string {
		p, ok := d.core.Memory.Pointer(address)
		if !ok {
			return ""
		}
		b, _, _ := d.core.Memory.Text(p, 4096)
		return strings.ToValidUTF8(string(b), "�")
	}
	switch name {
	case "PKc", "Pc", "NSt7__cxx1112basic_stringIcSt11char_traitsIcESaIcEEE":
		c.Message = text(object)
		return c
	case "i":
		if n, ok := d.core.Memory.Uint(object, 4); ok {
			c.Message = fmt.Sprint(int32(n))
		}
		return c
	}
	for range maxBases {
		if name := d.typeinfoName(info); name == "St13runtime_error" || name == "St11logic_error" {
			c.Message = text(object + 8) // after the pointer to the virtual table
			return c
		}
		table, _ := d.core.Memory.Pointer(info)
		var ok bool
		switch kind := d.symbol(table); {
		case strings.Contains(kind, "__si_class_type_info"):
			info, ok = d.core.Memory.Pointer(info + 16)
		case strings.Contains(kind, "__vmi_class_type_info"):
			var offset uint64
			if offset, ok = d.core.Memory.Uint(info+32, 8); ok && offset&1 == 0 { // the first base, if it is not virtual
				object += offset >> 8
				info, ok = d.core.Memory.Pointer(info + 24)
			}
		}
		if !ok {
			return c
		}
	}
	return c
}

func (d *Dump) typeinfoName(info uint64) string {
	p, ok := d.core.Memory.Pointer(info + 8)
	if !ok {
		return ""
	}
	b, whole, ok := d.core.Memory.Text(p, 4096)
	if !ok || !whole {
		return ""
	}
	return strings.TrimPrefix(string(b), "*")
}
