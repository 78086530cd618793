package crashtext

import (
	"debug/elf"
	"path/filepath"

	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/traceback"
)

// binary is a file in which addresses are looked up.
type binary struct {
	name    string
	file    *module.File
	symbols *module.Symbols
	debug   *debuginfo.Debug // nil if there is no debug information
}

// binaries opens the files. Files with the same build ID belong together: debug information can be
// in a file of its own.
func (t *Text) binaries() (list []*binary) {
	for _, option := range t.options.Binaries {
		f, err := module.Open(option.Path, "")
		if err != nil {
			if !option.Offered {
				t.crash.Gaps = append(t.crash.Gaps, traceback.Gap{What: err.Error(), Remedy: "give a file that belongs to the program"})
			}
			continue
		}
		b := &binary{name: option.Name, file: f, symbols: f.Symbols()}
		if f.HasDebug() {
			if b.debug, err = debuginfo.Open(f, nil, func(string, string) []string { return nil }); err != nil && !option.Offered {
				t.crash.Gaps = append(t.crash.Gaps, traceback.Gap{What: err.Error(), Remedy: "give a file that belongs to the program"})
			}
		}
		list = append(list, b)
	}
	for _, b := range list {
		for _, other := range list {
			if b.file.BuildID == "" || b.file.BuildID != other.file.BuildID {
				continue
			}
			if b.debug == nil {
				b.debug = other.debug
			}
			if other.symbols.Len() > b.symbols.Len() {
				b.symbols = other.symbols
			}
		}
	}
	return list
}

// of returns the binary of a frame: by build ID, else by file name. If the text names no file, it
// is the only binary.
func of(list []*binary, f *traceback.Frame) *binary {
	for _, b := range list {
		switch {
		case f.BuildID != "":
			if b.file.BuildID == f.BuildID && b.file.HasText() {
				return b
			}
		case f.Module == "" && len(list) == 1, f.Module != "" && b.name == filepath.Base(f.Module):
			return b
		}
	}
	return nil
}

// resolve sets functions and lines of frames with addresses, if the binary is available. Inlined
// calls become frames.
func (t *Text) resolve() {
	if !t.wants() {
		return
	}
	list := t.binaries()
	if len(list) == 0 {
		return
	}
	for i := range t.crash.Threads {
		th := &t.crash.Threads[i]
		var frames []traceback.Frame
		for k, f := range th.Frames {
			b := of(list, &f)
			if b == nil || f.Line > 0 {
				frames = append(frames, f)
				continue
			}
			frames = append(frames, b.frames(f, k == 0)...)
		}
		th.Frames = frames
	}
}

// wants reports whether there is anything to look up.
func (t *Text) wants() bool {
	for i := range t.crash.Threads {
		for k := range t.crash.Threads[i].Frames {
			if f := &t.crash.Threads[i].Frames[k]; f.Address != 0 && f.Line == 0 {
				return true
			}
		}
	}
	return false
}

// frames resolves a frame. The address of a caller is the return address; the call is before it.
func (b *binary) frames(f traceback.Frame, innermost bool) []traceback.Frame {
	pc := b.place(f)
	switch {
	case f.Place == traceback.InFunction:
		s, ok := b.symbols.Named(f.Function)
		if !ok {
			return []traceback.Frame{f}
		}
		pc += s.Address
	case pc == 0: // of a program that is at its own addresses
		pc = f.Address
	}
	look := pc
	if !innermost && look > 0 {
		look--
	}
	if b.debug != nil {
		if fn := b.debug.FunctionAt(look); fn != nil {
			return b.scoped(f, fn, look)
		}
	}
	if s, ok := b.symbols.At(look); ok && f.Function == "" {
		f.Function = module.Readable(s.Name)
	}
	if b.debug != nil {
		if u := b.debug.UnitAt(look); u != nil {
			f.File, f.Line = u.LineAt(look)
		}
	}
	return []traceback.Frame{f}
}

// place returns the address, in the file, of a frame's offset.
func (b *binary) place(f traceback.Frame) uint64 {
	if f.Place != traceback.InFile && f.Place != traceback.InCode {
		return f.Offset
	}
	for _, p := range b.file.ELF.Progs {
		switch {
		case p.Type != elf.PT_LOAD || p.Flags&elf.PF_X == 0:
		case f.Place == traceback.InCode:
			const page = 4096
			return p.Vaddr&^(page-1) + f.Offset
		case f.Offset-p.Off < p.Filesz:
			return f.Offset - p.Off + p.Vaddr
		}
	}
	return f.Offset
}

// scoped returns the frames of a function and of the functions inlined into it.
func (b *binary) scoped(base traceback.Frame, fn *debuginfo.Function, pc uint64) []traceback.Frame {
	var out []traceback.Frame
	now := base
	now.File, now.Line = fn.Unit.LineAt(pc)
	for _, s := range fn.Scopes(pc) {
		if s.Inlined == "" && s.Parent != nil {
			continue // a block
		}
		now.Function, now.Inlined = fn.Name, false
		if s.Inlined != "" {
			now.Function, now.Inlined = s.Inlined, true
		}
		out = append(out, now)
		now = base
		now.File, now.Line = s.CallFile, s.CallLine
	}
	return out
}
