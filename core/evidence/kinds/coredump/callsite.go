package coredump

import (
	"encoding/binary"

	"golang.org/x/arch/arm64/arm64asm"
	"golang.org/x/arch/x86/x86asm"

	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// What a call site says that it passed holds for the function that it called. A function that ends with a jump
// to another one (a tail call) leaves no activation: the other one then returns to the same call site, with
// other values in the registers.

// checkCall returns an error unless the call of the activation up, which has the function caller, led to the
// activation at of the stack itself.
func (d *Dump) checkCall(steps []step, at int, up *step, caller *debuginfo.Function, depth int) error {
	callee := &steps[at]
	if callee.module == nil {
		return notPassed("whether the caller called this function itself is not known")
	}
	var starts []uint64
	var f *debuginfo.Function
	if callee.module.debug != nil {
		if f = callee.module.debug.FunctionAt(callee.look - callee.module.Bias); f != nil {
			for _, x := range f.Spans {
				starts = append(starts, x.Low+callee.module.Bias)
			}
		}
	}
	if start, ok := d.functionStart(callee); ok {
		starts = append(starts, start)
	}
	targets := d.callTargets(up)
	if expression, ok := caller.Target(up.pc - up.module.Bias); ok {
		if target, err := location.Number(expression, d.evaluation(steps, at+1, caller, depth+1)); err == nil {
			targets = append(targets, target)
		}
	}
	if len(targets) == 0 {
		return notPassed("the caller " + caller.Name + " called through a pointer that is not known: it may have called a function that jumped here")
	}
	for _, target := range targets {
		for _, start := range starts {
			if !d.leadsTo(target, start) {
				continue
			}
			if f != nil && d.jumpsBack(callee.module, f) {
				return notPassed("this function can jump to its own beginning through others, with other arguments")
			}
			return nil
		}
	}
	return notPassed("the caller " + caller.Name + " called another function, which jumped here" + d.targetName(targets[0]))
}

// callTargets returns where the call before the return address of an activation may have led to; none if it
// went through a register or memory that is not known.
func (d *Dump) callTargets(up *step) (list []uint64) {
	add := func(target uint64, ok bool) {
		if ok {
			list = append(list, target)
		}
	}
	if d.core.Arch == machine.ARM64 {
		if b, ok := d.read(up.pc-4, 4); ok {
			if inst, err := arm64asm.Decode(b); err == nil {
				switch to := inst.Args[0].(type) {
				case arm64asm.PCRel:
					add(up.pc-4+uint64(int64(to)), inst.Op == arm64asm.BL)
				case arm64asm.Reg:
					if v, ok := up.regs.Get(numberARM64(to)); inst.Op == arm64asm.BLR {
						add(v, ok)
					}
				}
			}
		}
		return list
	}
	// Where an instruction begins is not known: the bytes before the return address can be a call in several ways.
	const shortest, longest = 2, 8
	for n := uint64(shortest); n <= longest; n++ {
		if b, ok := d.read(up.pc-n, n); ok {
			if inst, err := x86asm.Decode(b, 64); err == nil && inst.Op == x86asm.CALL && inst.Len == int(n) {
				add(d.operandTarget(&inst, up.pc, &up.regs))
			}
		}
	}
	return list
}

// operandTarget returns where a call or jump leads to. next is the address after it; regs may be nil.
func (d *Dump) operandTarget(inst *x86asm.Inst, next uint64, regs *machine.Registers) (uint64, bool) {
	register := func(r x86asm.Reg) (uint64, bool) {
		switch {
		case r == 0:
			return 0, true
		case r == x86asm.RIP:
			return next, true
		case regs == nil:
			return 0, false
		}
		return regs.Get(numberAMD64(r))
	}
	switch to := inst.Args[0].(type) {
	case x86asm.Rel:
		return next + uint64(int64(to)), true
	case x86asm.Reg:
		return register(to)
	case x86asm.Mem:
		base, ok := register(to.Base)
		index, ok2 := register(to.Index)
		if !ok || !ok2 || to.Segment != 0 {
			return 0, false
		}
		return d.core.Memory.Pointer(base + index*uint64(to.Scale) + uint64(to.Disp))
	}
	return 0, false
}

// leadsTo reports whether code at an address is a function, or begins with a jump there that changes no register
// of an argument: an entry of a procedure linkage table.
func (d *Dump) leadsTo(from, to uint64) bool {
	for range maxStubs {
		if from == to {
			return true
		}
		next, ok := d.jumpFrom(from)
		if !ok {
			return false
		}
		from = next
	}
	return from == to
}

// jumpFrom returns where code that begins with a jump leads to.
func (d *Dump) jumpFrom(at uint64) (uint64, bool) {
	if d.core.Arch == machine.ARM64 {
		b, ok := d.read(at, 16)
		if !ok {
			return 0, false
		}
		page, err1 := arm64asm.Decode(b)
		load, err2 := arm64asm.Decode(b[4:])
		if err1 != nil {
			return 0, false
		}
		to, ok := page.Args[0].(arm64asm.PCRel)
		if page.Op == arm64asm.B && ok {
			return at + uint64(int64(to)), true
		}
		// adrp x16, PAGE; ldr x17, [x16, OFFSET]; add; br x17
		offset, ok := page.Args[1].(arm64asm.PCRel)
		if err2 != nil || page.Op != arm64asm.ADRP || !ok || load.Op != arm64asm.LDR || binary.LittleEndian.Uint32(b[12:]) != 0xd61f0220 {
			return 0, false
		}
		const scale = 8
		slot := at&^0xfff + uint64(int64(offset)) + uint64(binary.LittleEndian.Uint32(b[4:])>>10&0xfff)*scale
		return d.core.Memory.Pointer(slot)
	}
	code := d.core.Memory.Known(at, 2*maxInstruction)
	const endbr64 = "\xf3\x0f\x1e\xfa"
	if len(code) > len(endbr64) && string(code[:len(endbr64)]) == endbr64 {
		code, at = code[len(endbr64):], at+uint64(len(endbr64))
	}
	inst, err := x86asm.Decode(code, 64)
	if err != nil || inst.Op != x86asm.JMP {
		return 0, false
	}
	return d.operandTarget(&inst, at+uint64(inst.Len), nil)
}

// maxStubs limits the jumps from one piece of code to the next one that only jumps.
const maxStubs = 4

func functionAt(m *loaded, address uint64) *debuginfo.Function {
	if !m.Contains(address) {
		return nil
	}
	return m.debug.FunctionAt(address - m.Bias)
}

// maxJumps limits the functions that are searched for tail calls.
const maxJumps = 256

// jumpsBack reports whether a function may lead to its own beginning by tail calls alone. A jump whose target is
// not known may lead anywhere; one into another module is taken to end there.
func (d *Dump) jumpsBack(m *loaded, f *debuginfo.Function) bool {
	seen := map[*debuginfo.Function]bool{f: true}
	for list := []*debuginfo.Function{f}; len(list) > 0; list = list[1:] {
		back := false
		list[0].Jumps(func(begins, ends uint64) bool {
			target, ok := d.jumpTarget(begins, ends, m.Bias)
			to := functionAt(m, target)
			for range maxStubs { // through the procedure linkage table
				if next, jumps := d.jumpFrom(target); ok && to == nil && jumps {
					target, to = next, functionAt(m, next)
				}
			}
			switch {
			case !ok || to == f:
				back = true
			case to == nil || seen[to]:
			case len(seen) >= maxJumps:
				back = true
			default:
				seen[to] = true
				list = append(list, to)
			}
			return !back
		})
		if back {
			return true
		}
	}
	return false
}

// jumpTarget returns where a jump leads to, by the address of the instruction or the address after it.
func (d *Dump) jumpTarget(begins, ends, bias uint64) (uint64, bool) {
	if begins != 0 {
		return d.jumpFrom(begins + bias)
	}
	if ends += bias; d.core.Arch == machine.ARM64 {
		return d.jumpFrom(ends - 4)
	}
	const short, near = 2, 5
	for _, n := range []uint64{near, short} {
		if b, ok := d.read(ends-n, n); ok {
			if inst, err := x86asm.Decode(b, 64); err == nil && inst.Op == x86asm.JMP && inst.Len == int(n) {
				return d.operandTarget(&inst, ends, nil)
			}
		}
	}
	return 0, false
}
