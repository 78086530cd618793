package coredump

import (
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

// uncaught finds the exception that ended the program, by a pointer to it on the stack, and those that are nested in it,
// outermost first.
func (d *Dump) uncaught(list []frame) []replay.Cause {
	if len(list) == 0 {
		return nil
	}
	from := list[0].steps[list[0].at].regs.SP()
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
			if causes := d.exceptionsAt(info, mark+objectAfterMark); len(causes) > 0 {
				return causes
			}
		}
	}
	return nil
}

// maxNested limits the exceptions that are nested in one.
const maxNested = 16

// exceptionsAt reads an exception and those that are nested in it (std::nested_exception).
func (d *Dump) exceptionsAt(info, object uint64) (out []replay.Cause) {
	for len(out) < maxNested {
		c := d.exceptionAt(info, object)
		if c.Type == "" {
			return out
		}
		out = append(out, c)
		offset, ok := d.baseOffset(info, "St16nested_exception")
		if !ok {
			return out
		}
		inner, ok := d.core.Memory.Pointer(object + offset + 8) // the exception_ptr, after the pointer to the virtual table
		if !ok || inner == 0 {
			return out
		}
		if info, ok = d.core.Memory.Pointer(inner - objectAfterMark - typeBeforeMark); !ok {
			return out
		}
		object = inner
	}
	return out
}

// baseOffset returns where a direct base class is in objects of a class with several (Itanium C++ ABI, section 2.9.5).
func (d *Dump) baseOffset(info uint64, name string) (uint64, bool) {
	table, _ := d.core.Memory.Pointer(info)
	count, ok := d.core.Memory.Uint(info+20, 4)
	if !ok || !strings.Contains(d.symbol(table), "__vmi_class_type_info") {
		return 0, false
	}
	for i := range min(count, maxBases) {
		base, ok1 := d.core.Memory.Pointer(info + 24 + 16*i)
		flags, ok2 := d.core.Memory.Pointer(info + 32 + 16*i)
		if ok1 && ok2 && flags&1 == 0 && d.typeinfoName(base) == name {
			return flags >> 8, true
		}
	}
	return 0, false
}

// leftBy returns the function that an exception was not allowed to leave. The unwinder, which called the personality
// routine at an index of the stack, has the function that it asked about, followed by that routine, in its state on the stack
// (_Unwind_FrameState of GCC's unwinder).
func (d *Dump) leftBy(list []frame, routine int) (string, bool) {
	at := &list[routine].steps[list[routine].at]
	personality, ok := d.functionStart(at)
	if !ok || at.module == nil {
		return "", false
	}
	starts := map[uint64]string{}
	end := at.regs.SP()
	for i := routine + 1; i < len(list); i++ {
		s := &list[i].steps[list[i].at]
		if list[i].Function == "__cxa_throw" || list[i].Function == "__cxa_rethrow" {
			end = s.regs.SP()
		}
		if start, ok := d.functionStart(s); ok && s.module != nil && !list[i].Inlined {
			starts[start] = list[i].Function
			if list[i-1].at == list[i].at {
				starts[start] += ", or a function inlined into it"
			}
		}
	}
	for word := at.regs.SP() &^ 7; word+8 < min(end, at.regs.SP()+mostOfStack); word += 8 {
		pc, ok1 := d.core.Memory.Pointer(word)
		of, ok2 := d.core.Memory.Pointer(word + 8)
		if !ok1 || !ok2 || of != personality {
			continue
		}
		if x := (step{pc: pc, look: pc, module: d.at(pc)}); x.module != nil {
			if start, ok := d.functionStart(&x); ok && starts[start] != "" {
				return starts[start], true
			}
		}
	}
	return "", false
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
