package coredump

import (
	"debug/elf"
	"fmt"

	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// threadLocal returns the address of a thread-local variable of a module (ELF Handling For
// Thread-Local Storage, section 3): in the program at a fixed offset from the thread's base, in
// libraries by a table.
func (d *Dump) threadLocal(l *loaded, regs *machine.Registers, offset uint64) (uint64, error) {
	unknown := func(why string) error {
		return fmt.Errorf("%w: the thread's local storage: %s", location.ErrUnavailable, why)
	}
	if regs.ThreadBase == 0 {
		return 0, unknown("the core does not say where it is")
	}
	if l == nil || l.Binary == nil {
		return 0, unknown("its binary was not found")
	}
	for _, p := range l.Binary.ELF.Progs {
		if p.Type != elf.PT_TLS {
			continue
		}
		align := max(p.Align, 1)
		if offset >= p.Memsz && offset >= p.Vaddr && offset-p.Vaddr < p.Memsz {
			// Split debug information has the offset in the file instead.
			offset -= p.Vaddr
		}
		if !l.Executable {
			return d.libraryLocal(l, regs, offset)
		}
		if d.core.Arch == machine.AMD64 {
			size := (p.Memsz + align - 1) / align * align
			return regs.ThreadBase - size + offset, nil
		}
		const header = 16
		return regs.ThreadBase + (header+align-1)/align*align + offset, nil
	}
	return 0, unknown("the module has none")
}

// libraryLocal finds the thread-local storage of a shared library through the C library's list of
// loaded objects.
func (d *Dump) libraryLocal(l *loaded, regs *machine.Registers, offset uint64) (uint64, error) {
	unknown := fmt.Errorf("%w: the thread's local storage of %s was not found", location.ErrUnavailable, l.Path)
	table := regs.ThreadBase
	if d.core.Arch == machine.AMD64 {
		table += 8
	}
	slots, ok := d.core.Memory.Pointer(table)
	id, known := d.tlsModule(l)
	if !ok || !known {
		return 0, unknown
	}
	block, ok := d.core.Memory.Pointer(slots + 16*id)
	if !ok || block == 0 || block == 1<<64-1 {
		return 0, unknown
	}
	return block + offset, nil
}

// tlsModule returns the C library's number of a module's thread-local storage. The C library
// describes its records for this purpose.
func (d *Dump) tlsModule(l *loaded) (uint64, bool) {
	for _, x := range d.modules {
		if x.Binary == nil {
			continue
		}
		number, ok := x.Binary.Symbols().Named("_thread_db_link_map_l_tls_modid")
		if !ok {
			continue
		}
		// Three 32-bit numbers: bits, count, and offset in the record.
		at, ok := d.core.Memory.Uint(number.Address+x.Bias+8, 4)
		if !ok {
			return 0, false
		}
		return d.linkMap(l, at)
	}
	return 0, false
}

// linkMap walks the list of loaded objects, which begins with the program, to the one of a module.
func (d *Dump) linkMap(l *loaded, at uint64) (uint64, bool) {
	const debugTag, maxObjects = 21, 10_000
	if d.program == nil || d.program.Binary == nil {
		return 0, false
	}
	dynamic := d.program.Binary.ELF.Section(".dynamic")
	if dynamic == nil {
		return 0, false
	}
	for entry := dynamic.Addr + d.program.Bias; entry < dynamic.Addr+d.program.Bias+dynamic.Size; entry += 16 {
		tag, _ := d.core.Memory.Pointer(entry)
		if tag != debugTag {
			continue
		}
		record, _ := d.core.Memory.Pointer(entry + 8)
		object, ok := d.core.Memory.Pointer(record + 8)
		for range maxObjects {
			if !ok || object == 0 {
				return 0, false
			}
			if base, _ := d.core.Memory.Pointer(object); base == l.Bias {
				return d.core.Memory.Uint(object+at, 8)
			}
			object, ok = d.core.Memory.Pointer(object + 24)
		}
	}
	return 0, false
}
