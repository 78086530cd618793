package coredump

import (
	"fmt"
	"strings"

	"golang.org/x/arch/arm64/arm64asm"
	"golang.org/x/arch/x86/x86asm"

	"wraithology/core/evidence/kinds/coredump/machine"
)

// access is the memory access of an instruction.
type access struct {
	text       string
	length     int
	base       machine.Register // of the address, or None
	index      machine.Register
	scale      uint64
	offset     int64
	reads      bool
	writes     bool
	size       int
	address    uint64
	hasAddress bool
	trap       bool // an instruction that always traps
	divisor    machine.Register
	// divisorSize is the width of the divisor's register, bytes.
	divisorSize int
	call        bool
}

// accessAt decodes the instruction at the program counter.
func (d *Dump) accessAt(regs *machine.Registers) access {
	none := access{base: machine.None, index: machine.None, divisor: machine.None}
	code := d.core.Memory.Known(regs.PC(), maxInstruction)
	if len(code) == 0 {
		return none
	}
	a := none
	switch d.core.Arch {
	case machine.AMD64:
		a = accessAMD64(code, regs.PC(), d.symbolFor)
	case machine.ARM64:
		a = accessARM64(code)
	}
	if a.base != machine.None {
		base, ok := regs.Get(a.base)
		if a.base == regs.Arch.PC {
			base += uint64(a.length)
		}
		a.address, a.hasAddress = base+uint64(a.offset), ok
		if a.index != machine.None {
			index, ok := regs.Get(a.index)
			a.address += index * a.scale
			a.hasAddress = a.hasAddress && ok
		}
	}
	return a
}

const maxInstruction = 15

// symbolFor returns names for addresses in instructions.
func (d *Dump) symbolFor(address uint64) (string, uint64) {
	name := d.symbol(address)
	name, _, _ = strings.Cut(name, " + ")
	if name == "" {
		return "", 0
	}
	return name, address
}

// numbersAMD64 are the numbers of x86asm's registers in debug information.
func numberAMD64(r x86asm.Reg) machine.Register {
	order := []machine.Register{0, 2, 1, 3, 7, 6, 4, 5} // ax cx dx bx sp bp si di
	of := func(i int) machine.Register {
		if i < len(order) {
			return order[i]
		}
		return machine.Register(i)
	}
	switch {
	case r >= x86asm.RAX && r <= x86asm.R15:
		return of(int(r - x86asm.RAX))
	case r >= x86asm.EAX && r <= x86asm.R15L:
		return of(int(r - x86asm.EAX))
	case r >= x86asm.AX && r <= x86asm.R15W:
		return of(int(r - x86asm.AX))
	case r >= x86asm.AL && r <= x86asm.BL:
		return of(int(r - x86asm.AL))
	case r >= x86asm.AH && r <= x86asm.BH: // the second byte of the first four
		return of(int(r - x86asm.AH))
	case r >= x86asm.SPB && r <= x86asm.R15B:
		return of(int(r-x86asm.SPB) + 4)
	case r == x86asm.RIP:
		return machine.AMD64.PC
	}
	return machine.None
}

// sizeAMD64 returns the width of a register, bytes; 0 for the second byte of one.
func sizeAMD64(r x86asm.Reg) int {
	switch {
	case r >= x86asm.RAX && r <= x86asm.R15:
		return 8
	case r >= x86asm.EAX && r <= x86asm.R15L:
		return 4
	case r >= x86asm.AX && r <= x86asm.R15W:
		return 2
	case r >= x86asm.AL && r <= x86asm.BL, r >= x86asm.SPB && r <= x86asm.R15B:
		return 1
	}
	return 0
}

// textAMD64 writes an instruction. The library leaves out an absolute address of 0.
func textAMD64(inst x86asm.Inst, pc uint64, symbol x86asm.SymLookup) string {
	return strings.ReplaceAll(strings.ToLower(x86asm.IntelSyntax(inst, pc, symbol)), "[]", "[0x0]")
}

func accessAMD64(code []byte, pc uint64, symbol x86asm.SymLookup) access {
	a := access{base: machine.None, index: machine.None, divisor: machine.None}
	inst, err := x86asm.Decode(code, 64)
	if err != nil {
		return a
	}
	a.length, a.size = inst.Len, inst.MemBytes
	a.text = textAMD64(inst, pc, symbol)
	a.call = inst.Op == x86asm.CALL || inst.Op == x86asm.JMP
	switch inst.Op {
	case x86asm.UD2, x86asm.UD1, x86asm.INT, x86asm.HLT:
		a.trap = true
	case x86asm.DIV, x86asm.IDIV:
		if r, ok := inst.Args[0].(x86asm.Reg); ok {
			a.divisor, a.divisorSize = numberAMD64(r), sizeAMD64(r)
		}
	case x86asm.STOSB, x86asm.STOSW, x86asm.STOSD, x86asm.STOSQ, x86asm.MOVSB, x86asm.MOVSW, x86asm.MOVSQ:
		a.base, a.writes = numberAMD64(x86asm.RDI), true
		return a
	case x86asm.PUSH, x86asm.CALL:
		a.writes, a.base, a.offset = true, machine.AMD64.SP, -8
	}
	for i, arg := range inst.Args {
		m, ok := arg.(x86asm.Mem)
		if !ok {
			continue
		}
		a.base, a.index, a.scale, a.offset = numberAMD64(m.Base), numberAMD64(m.Index), uint64(m.Scale), m.Disp
		if m.Index == 0 {
			a.index = machine.None
		}
		a.writes, a.reads = false, true
		if i == 0 {
			a.writes, a.reads = writesAMD64(inst.Op)
		}
		break
	}
	return a
}

// writesAMD64 reports how an instruction accesses a first operand in memory.
func writesAMD64(op x86asm.Op) (writes, reads bool) {
	name := op.String()
	switch op {
	case x86asm.CMP, x86asm.TEST, x86asm.CALL, x86asm.JMP, x86asm.PUSH, x86asm.DIV, x86asm.IDIV, x86asm.MUL, x86asm.IMUL, x86asm.BT, x86asm.COMISD, x86asm.UCOMISD, x86asm.COMISS, x86asm.UCOMISS:
		return false, true
	}
	if strings.HasPrefix(name, "MOV") || strings.HasPrefix(name, "SET") || op == x86asm.POP {
		return true, false
	}
	return true, true
}

func accessARM64(code []byte) access {
	a := access{base: machine.None, index: machine.None, divisor: machine.None, length: 4}
	inst, err := arm64asm.Decode(code)
	if err != nil {
		return a
	}
	a.text = strings.ToLower(arm64asm.GNUSyntax(inst))
	name := inst.Op.String()
	a.writes, a.reads = strings.HasPrefix(name, "ST"), strings.HasPrefix(name, "LD")
	a.trap = name == "BRK" || name == "UDF" || name == "HLT"
	a.call = name == "BLR" || name == "BR"
	for _, arg := range inst.Args {
		switch m := arg.(type) {
		case arm64asm.MemImmediate:
			a.base = numberARM64(arm64asm.Reg(m.Base))
			// The library does not export the offset, but prints it.
			var n int64
			if _, rest, ok := strings.Cut(m.String(), "#"); ok {
				if _, err := fmt.Sscanf(strings.TrimRight(rest, "]!"), "%v", &n); err == nil {
					a.offset = n
				}
			}
		case arm64asm.MemExtend:
			a.base, a.index, a.scale = numberARM64(arm64asm.Reg(m.Base)), numberARM64(m.Index), 1<<m.Amount
		}
	}
	return a
}

func numberARM64(r arm64asm.Reg) machine.Register {
	switch {
	case r >= arm64asm.X0 && r <= arm64asm.X30:
		return machine.Register(r - arm64asm.X0)
	case r >= arm64asm.W0 && r <= arm64asm.W30:
		return machine.Register(r - arm64asm.W0)
	case r == arm64asm.SP, r == arm64asm.XZR:
		return machine.ARM64.SP
	}
	return machine.None
}
