package coredump

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// step is one activation: a call that has not returned.
type step struct {
	regs   machine.Registers
	pc     uint64
	look   uint64 // address for line and scopes: inside the call instruction
	cfa    uint64
	hasCFA bool
	module *loaded
	how    string // how it was found, if that is not certain
	signal bool   // the kernel's frame for a signal
}

// frame is a frame of the answer: an activation, or a function that was inlined into one.
type frame struct {
	replay.Frame
	steps    []step // in the thread's stack
	at       int    // index of its activation
	function *debuginfo.Function
	scopes   []*debuginfo.Scope // from the innermost block to the function
	inner    *frame             // that it called; nil at the top of the stack
	owners   *owners            // nil if they are not kept
}

const (
	// maxSteps limits the activations of a stack.
	maxSteps = 20_000
	// maxKept limits the threads whose frames are cached.
	maxKept = 64
)

// Frames implements replay.Recording.
func (d *Dump) Frames(ctx context.Context, at event.Moment, t event.ThreadID) ([]replay.Frame, error) {
	list, err := d.framesOf(ctx, at, t)
	out := make([]replay.Frame, len(list))
	for i := range list {
		out[i] = list[i].Frame
	}
	return out, err
}

func (d *Dump) framesOf(ctx context.Context, at event.Moment, t event.ThreadID) ([]frame, error) {
	th, err := d.thread(at, t)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	list, ok := d.stacks[t]
	d.mu.Unlock()
	if ok {
		return list, nil
	}
	regs, exact, ok := d.registersOf(th)
	if !ok {
		return nil, nil
	}
	steps := d.unwind(ctx, regs, exact, maxSteps)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	list = d.frames(steps)
	for i := range list {
		list[i].owners = &owners{}
		if i > 0 {
			list[i].inner = &list[i-1]
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if _, ok := d.stacks[t]; !ok {
		d.stacks[t] = list
		if d.recent = append(d.recent, t); len(d.recent) > maxKept {
			delete(d.stacks, d.recent[0])
			d.recent = d.recent[1:]
		}
	}
	return list, nil
}

func (d *Dump) frameOf(ctx context.Context, at event.Moment, t event.ThreadID, index int) (*frame, error) {
	list, err := d.framesOf(ctx, at, t)
	if err != nil {
		return nil, err
	}
	switch {
	case len(list) == 0:
		return nil, fmt.Errorf("frame %d of thread %d: %w; its stack could not be read", index, t, fault.NoFrame)
	case index < 0 || index >= len(list):
		return nil, fmt.Errorf("frame %d of thread %d: %w; its stack has frames 0 to %d", index, t, fault.NoFrame, len(list)-1)
	}
	return &list[index], nil
}

// registersOf returns the registers at the top of a thread's stack. exact is set if the program
// counter is that of the current instruction, not a return address.
func (d *Dump) registersOf(t *thread) (regs machine.Registers, exact, ok bool) {
	if t.goroutine != nil {
		return d.golang.registers(t.goroutine)
	}
	if t.lwp < 0 {
		return regs, false, false
	}
	return d.core.Threads[t.lwp].Registers, true, true
}

// unwind lists the activations of a stack, innermost first.
func (d *Dump) unwind(ctx context.Context, regs machine.Registers, exact bool, most int) []step {
	var list []step
	how := ""
	for len(list) < most && ctx.Err() == nil {
		s := step{regs: regs, pc: regs.PC(), look: regs.PC(), how: how}
		s.module = d.at(s.pc)
		if !exact && (s.module == nil || s.module.golang == nil || !s.module.golang.Begins(s.pc-s.module.Bias)) {
			s.look--
			s.module = d.at(s.look)
		}
		next, found := d.caller(&s, exact, len(list) == 0)
		list = append(list, s)
		if !found {
			break
		}
		pc, sp := next.regs.PC(), next.regs.SP()
		if pc == 0 {
			break
		}
		if inside := sp < regs.SP() || sp == regs.SP() && pc == regs.PC(); inside && !s.signal && !d.switches(&s) {
			list[len(list)-1].how = "the stack ends here: the next frame would lie inside this one"
			break
		}
		regs, exact, how = next.regs, s.signal, next.how
	}
	if len(list) == most {
		list[most-1].how = fmt.Sprintf("the stack goes on beyond %d frames", most)
	}
	return list
}

// switches reports whether the caller of an activation can be on another stack, as in Go between a
// goroutine's stack and that of its thread.
func (d *Dump) switches(s *step) bool { return d.golang != nil && s.module == d.program }

type caller struct {
	regs machine.Registers
	how  string
}

func (d *Dump) read(address, n uint64) ([]byte, bool) { return d.core.Memory.Read(address, n) }

// caller finds the caller of an activation by the kernel's signal frame, else by call frame
// information, else by the frame pointer, else by scanning the stack for a return address.
func (d *Dump) caller(s *step, exact, first bool) (caller, bool) {
	if regs, ok := d.signalFrame(s); ok {
		s.signal = true
		return caller{regs: regs}, true
	}
	if exact && first && (s.module == nil || !d.isCode(s.pc)) {
		// A call of an address without code.
		if regs, ok := d.afterCall(s); ok {
			return caller{regs: regs}, true
		}
	}
	if l := s.module; l != nil {
		pc := s.look - l.Bias
		if l.golang != nil && l.golang.Ends(pc) {
			return caller{}, false
		}
		f, ok, err := l.table.Caller(pc, l.Bias, &s.regs, d.read)
		switch {
		case ok && err == nil:
			s.cfa, s.hasCFA, s.signal = f.CFA, true, f.Signal
			if f.Outermost {
				return caller{}, false
			}
			if l.golang != nil {
				f.Caller = onlyFrame(f.Caller)
			}
			return caller{regs: f.Caller}, true
		case ok && s.how == "":
			s.how = err.Error()
		}
		if l.golang != nil {
			if size, ok := l.golang.FrameSize(pc); ok {
				return d.goCaller(s, size)
			}
		}
	}
	if s.module != nil && s.module.Binary == nil {
		// A library without its file usually has no frame pointers. Then the frame pointer is that
		// of a caller.
		if found, ok := d.byScan(s); ok {
			return found, true
		}
	}
	if exact && first {
		if regs, ok := d.calledHere(s); ok {
			return caller{regs: regs, how: "found by the call before the return address: the module has no call frame information"}, true
		}
	}
	if regs, ok := d.byFramePointer(s); ok {
		return caller{regs: regs, how: "found by the frame pointer: the module has no call frame information"}, true
	}
	return d.byScan(s)
}

// onlyFrame keeps the registers that Go functions preserve: stack pointer and frame pointer.
func onlyFrame(r machine.Registers) machine.Registers {
	out := machine.Registers{Arch: r.Arch, ThreadBase: r.ThreadBase}
	for _, n := range []machine.Register{r.Arch.PC, r.Arch.SP, r.Arch.FP, r.Arch.Link} {
		if v, ok := r.Get(n); ok {
			out.Set(n, v)
		}
	}
	return out
}

// goCaller finds the caller by the frame size in Go's function table.
func (d *Dump) goCaller(s *step, size uint64) (caller, bool) {
	regs := machine.Registers{Arch: s.regs.Arch, ThreadBase: s.regs.ThreadBase}
	top := s.regs.SP() + size
	returns := top
	if regs.Arch.Link == machine.None {
		s.cfa, s.hasCFA = top+8, true
		regs.Set(regs.Arch.SP, top+8)
		if fp, ok := d.core.Memory.Pointer(top - 8); ok && size >= 8 {
			regs.Set(regs.Arch.FP, fp)
		}
	} else {
		s.cfa, s.hasCFA = top, true
		returns = s.regs.SP()
		regs.Set(regs.Arch.SP, top)
		if size == 0 {
			if lr, ok := s.regs.Get(regs.Arch.Link); ok {
				regs.Set(regs.Arch.PC, lr)
				return caller{regs: regs}, true
			}
		}
	}
	pc, ok := d.core.Memory.Pointer(returns)
	if !ok {
		s.how = "the stack ends here: its memory was not kept"
		return caller{}, false
	}
	regs.Set(regs.Arch.PC, pc)
	return caller{regs: regs}, true
}

// signalFrame detects the code that returns from a signal handler and reads the registers that the
// kernel saved (struct ucontext of Linux).
func (d *Dump) signalFrame(s *step) (machine.Registers, bool) {
	code, ok := d.read(s.pc, 9)
	if !ok {
		return machine.Registers{}, false
	}
	regs := machine.Registers{Arch: s.regs.Arch, ThreadBase: s.regs.ThreadBase}
	load := func(n machine.Register, at uint64) bool {
		v, ok := d.core.Memory.Pointer(at)
		regs.Set(n, v)
		return ok
	}
	switch regs.Arch {
	case machine.AMD64:
		// mov $15,%rax; syscall
		if string(code) != "\x48\xc7\xc0\x0f\x00\x00\x00\x0f\x05" {
			return regs, false
		}
		const saved = 40
		for i, n := range []machine.Register{8, 9, 10, 11, 12, 13, 14, 15, 5, 4, 6, 3, 1, 0, 2, 7, 16} {
			if !load(n, s.regs.SP()+saved+8*uint64(i)) {
				return regs, false
			}
		}
	case machine.ARM64:
		// mov x8,#139; svc #0
		if string(code[:8]) != "\x68\x11\x80\xd2\x01\x00\x00\xd4" {
			return regs, false
		}
		const saved = 128 + 176 + 8
		for n := range machine.Register(33) {
			if !load(n, s.regs.SP()+saved+8*uint64(n)) {
				return regs, false
			}
		}
	}
	return regs, true
}

// afterCall reads the return address just after a call.
func (d *Dump) afterCall(s *step) (machine.Registers, bool) {
	regs := s.regs
	if link := regs.Arch.Link; link != machine.None {
		v, ok := regs.Get(link)
		regs.Set(regs.Arch.PC, v)
		return regs, ok && d.isCode(v)
	}
	v, ok := d.core.Memory.Pointer(regs.SP())
	regs.Set(regs.Arch.PC, v)
	regs.Set(regs.Arch.SP, regs.SP()+8)
	return regs, ok && d.isCode(v)
}

// calledHere is afterCall for a function that has not saved the frame pointer, if the call before the
// return address is one of this function. The frame pointer is then still that of the caller.
func (d *Dump) calledHere(s *step) (machine.Registers, bool) {
	regs, ok := d.afterCall(s)
	if !ok || s.module == nil {
		return regs, false
	}
	target, ok := d.callTarget(regs.PC())
	if !ok {
		return regs, false
	}
	for _, f := range []*module.File{s.module.Binary, s.module.Debug} {
		if f == nil {
			continue
		}
		if own, found := f.Symbols().At(s.pc - s.module.Bias); found && own.Address+s.module.Bias == target {
			return regs, true
		}
	}
	return regs, false
}

// callTarget returns the target of the direct call before an address.
func (d *Dump) callTarget(pc uint64) (uint64, bool) {
	if d.core.Arch == machine.ARM64 {
		b, ok := d.read(pc-4, 4)
		if !ok || b[3]&0xfc != 0x94 {
			return 0, false
		}
		words := int64(int32(binary.LittleEndian.Uint32(b)<<6)) >> 6
		return pc - 4 + uint64(4*words), true
	}
	b, ok := d.read(pc-5, 5)
	if !ok || b[0] != 0xe8 {
		return 0, false
	}
	return pc + uint64(int64(int32(binary.LittleEndian.Uint32(b[1:])))), true
}

// isCode reports whether an address is in executable memory.
func (d *Dump) isCode(address uint64) bool {
	x, ok := d.core.Memory.At(address)
	return ok && x.Executable
}

// byFramePointer finds the caller by the frame pointer: it points to the caller's frame pointer,
// followed by the return address.
func (d *Dump) byFramePointer(s *step) (machine.Registers, bool) {
	fp, ok := s.regs.Get(s.regs.Arch.FP)
	if !ok || fp < s.regs.SP() || fp%8 != 0 || fp-s.regs.SP() > 64<<20 {
		return machine.Registers{}, false
	}
	older, ok := d.core.Memory.Pointer(fp)
	pc, ok2 := d.core.Memory.Pointer(fp + 8)
	if !ok || !ok2 || !d.isCode(pc) || older != 0 && older <= fp {
		return machine.Registers{}, false
	}
	regs := machine.Registers{Arch: s.regs.Arch, ThreadBase: s.regs.ThreadBase}
	regs.Set(regs.Arch.PC, pc)
	regs.Set(regs.Arch.SP, fp+16)
	regs.Set(regs.Arch.FP, older)
	return regs, true
}

// maxScan limits the words of the stack that are scanned.
const maxScan = 512

// byScan takes the first word on the stack that follows a call instruction.
func (d *Dump) byScan(s *step) (caller, bool) {
	sp := s.regs.SP() &^ 7
	for i := range uint64(maxScan) {
		pc, ok := d.core.Memory.Pointer(sp + 8*i)
		if !ok {
			break
		}
		if !d.isCode(pc) || !d.followsCall(pc) {
			continue
		}
		regs := machine.Registers{Arch: s.regs.Arch, ThreadBase: s.regs.ThreadBase}
		regs.Set(regs.Arch.PC, pc)
		regs.Set(regs.Arch.SP, sp+8*i+8)
		if fp, ok := s.regs.Get(regs.Arch.FP); ok && fp > regs.SP() {
			regs.Set(regs.Arch.FP, fp)
		}
		return caller{regs: regs, how: "guessed: the first word on the stack that looks like a return address"}, true
	}
	if s.how == "" {
		s.how = "the stack ends here: nothing says where the caller is"
	}
	return caller{}, false
}

// followsCall reports whether the instruction before an address is a call.
func (d *Dump) followsCall(pc uint64) bool {
	if d.core.Arch == machine.ARM64 {
		b, ok := d.read(pc-4, 4)
		return ok && (b[3]&0xfc == 0x94 || b[3] == 0xd6 && b[2]&0xe0 == 0x20)
	}
	b, ok := d.read(pc-7, 7)
	if !ok {
		return false
	}
	if b[2] == 0xe8 { // relative call
		return true
	}
	for _, n := range []int{2, 3, 4, 6, 7} { // indirect call
		if b[7-n] == 0xff && b[8-n]>>3&7 == 2 {
			return true
		}
	}
	return false
}

// frames converts activations to frames.
func (d *Dump) frames(steps []step) []frame {
	var list []frame
	for i := range steps {
		list = append(list, d.framesAt(steps, i)...)
	}
	for i := range list {
		list[i].Index = i
	}
	return list
}

func (d *Dump) framesAt(steps []step, i int) []frame {
	s := &steps[i]
	base := frame{steps: steps, at: i}
	base.PC = s.pc
	base.Note = s.how
	if s.module == nil {
		base.Function = d.functionName(s)
		if base.Note == "" && d.isCode(s.pc) {
			base.Note = "code without a file, which the program made while it ran"
		}
		return []frame{base}
	}
	pc := s.look - s.module.Bias
	if debug := s.module.debug; debug != nil {
		if f := debug.FunctionAt(pc); f != nil {
			return d.scoped(base, f, pc)
		}
	}
	if s.module.golang != nil {
		if list := s.module.golang.Frames(pc); len(list) > 0 {
			var out []frame
			for _, x := range list {
				f := base
				f.Function, f.File, f.Line, f.Inlined = x.Function, x.File, x.Line, x.Inlined
				f.Own = d.own(&f)
				out = append(out, f)
			}
			return out
		}
	}
	base.Function = d.functionName(s)
	if s.signal {
		base.Function = d.signalFrameName(s)
	}
	if debug := s.module.debug; debug != nil {
		if u := debug.UnitAt(pc); u != nil {
			base.File, base.Line = u.LineAt(pc)
		}
	}
	base.Own = d.own(&base)
	return []frame{base}
}

// functionName returns the name of an activation's function without debug information.
func (d *Dump) functionName(s *step) string {
	if name := d.symbol(s.look); name != "" {
		name, _, _ = strings.Cut(name, " + ")
		return name
	}
	return fmt.Sprintf("0x%x", s.pc)
}

// scoped returns the frames of a function and of the functions inlined into it.
func (d *Dump) scoped(base frame, f *debuginfo.Function, pc uint64) []frame {
	var out []frame
	now := base
	now.function = f
	now.File, now.Line = f.Unit.LineAt(pc)
	for _, s := range f.Scopes(pc) {
		now.scopes = append(now.scopes, s)
		if s.Inlined == "" && s.Parent != nil {
			continue // a block
		}
		now.Function = f.Name
		if s.Inlined != "" {
			now.Function, now.Inlined = s.Inlined, true
		}
		now.Own = d.own(&now)
		out = append(out, now)
		now = base
		now.function = f
		now.File, now.Line = s.CallFile, s.CallLine
	}
	return out
}

// foreignFolders contain the libraries and headers of the system.
var foreignFolders = []string{"/usr/lib", "/usr/include/", "/usr/src/", "/lib/", "/lib64/"}

// foreignParts occur in source paths of libraries.
var foreignParts = []string{"/.cargo/", "/rustlib/", "/rustc/", "/library/std/", "/library/core/", "/vendor/", "/pkg/mod/", "/runtime/cgo/", "/cgo-gcc-prolog"}

// own reports whether code is the team's own. In Go that is the main module; in other languages it
// is code with source text that is not the system's.
func (d *Dump) own(f *frame) bool {
	m := f.steps[f.at].module
	if m == nil || m.Kernel || f.File == "" {
		return false
	}
	isC := f.function != nil && !f.function.Unit.Go()
	if m.golang != nil && d.build.Go != "" && !isC {
		name := goPackage(f.Function)
		return name == "main" || name == d.build.Main || strings.HasPrefix(name, d.build.Main+"/")
	}
	for _, dir := range foreignFolders {
		if strings.HasPrefix(m.Path, dir) || strings.HasPrefix(f.File, dir) {
			return false
		}
	}
	for _, part := range foreignParts {
		if strings.Contains(f.File, part) {
			return false
		}
	}
	return true
}

// goPackage returns the package in a function's name.
func goPackage(function string) string {
	slash := strings.LastIndexByte(function, '/') + 1
	if dot := strings.IndexByte(function[slash:], '.'); dot >= 0 {
		return function[:slash+dot]
	}
	return function
}
