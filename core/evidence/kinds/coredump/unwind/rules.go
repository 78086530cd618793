package unwind

import (
	"encoding/binary"
	"fmt"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// kind is the way in which a register of the caller is found.
type kind uint8

const (
	unspecified kind = iota
	undefined
	same
	atOffset  // in memory at CFA + offset
	isOffset  // CFA + offset
	register  // in another register
	atAddress // in memory, at the expression's value
	isValue   // the expression's value
)

type rule struct {
	kind       kind
	register   machine.Register
	offset     int64
	expression []byte
}

const maxRegister = 128

// row is the rules at one place of the code.
type row struct {
	cfa    rule // register + offset, or isValue
	of     [maxRegister]rule
	signed bool // the return address carries a pointer authentication code
}

const (
	maxInstructions = 100_000
	maxRemembered   = 64
)

// rules runs the programs of an entry up to a program counter.
func (e *entry) rules(pc uint64, arch *machine.Architecture) (*row, error) {
	now := &row{}
	if err := e.run(e.common.program, 1<<64-1, now, nil, arch); err != nil {
		return nil, err
	}
	initial := *now
	if err := e.run(e.program, pc, now, &initial, arch); err != nil {
		return nil, err
	}
	return now, nil
}

// run executes call frame instructions (DWARF 5, section 6.4.2) as far as they
// describe code up to pc.
func (e *entry) run(program []byte, pc uint64, now, initial *row, arch *machine.Architecture) error {
	c := cursor.New(program)
	at := e.start
	var remembered []row
	set := func(r uint64, x rule) {
		if r < maxRegister {
			now.of[r] = x
		}
	}
	factored := func(n uint64) int64 { return int64(n) * e.common.dataAlign }
	restore := func(r uint64) {
		if initial != nil && r < maxRegister {
			now.of[r] = initial.of[r]
		}
	}
	for n := 0; c.Len() > 0; n++ {
		if n > maxInstructions {
			return malformed("over %d instructions", maxInstructions)
		}
		op := c.U8()
		advance := uint64(0)
		switch op & 0xc0 {
		case 0x40: // DW_CFA_advance_loc
			advance = uint64(op&0x3f) * e.common.codeAlign
		case 0x80: // DW_CFA_offset
			set(uint64(op&0x3f), rule{kind: atOffset, offset: factored(c.Uleb())})
		case 0xc0: // DW_CFA_restore
			restore(uint64(op & 0x3f))
		default:
			switch op {
			case 0x00: // DW_CFA_nop
			case 0x01: // DW_CFA_set_loc
				at = c.U64()
				if at > pc {
					return c.Err()
				}
			case 0x02: // DW_CFA_advance_loc1
				advance = uint64(c.U8()) * e.common.codeAlign
			case 0x03: // DW_CFA_advance_loc2
				advance = uint64(c.U16()) * e.common.codeAlign
			case 0x04: // DW_CFA_advance_loc4
				advance = uint64(c.U32()) * e.common.codeAlign
			case 0x05: // DW_CFA_offset_extended
				r := c.Uleb()
				set(r, rule{kind: atOffset, offset: factored(c.Uleb())})
			case 0x06: // DW_CFA_restore_extended
				restore(c.Uleb())
			case 0x07: // DW_CFA_undefined
				set(c.Uleb(), rule{kind: undefined})
			case 0x08: // DW_CFA_same_value
				set(c.Uleb(), rule{kind: same})
			case 0x09: // DW_CFA_register
				r := c.Uleb()
				set(r, rule{kind: register, register: machine.Register(c.Uleb() & 0xffff)})
			case 0x0a: // DW_CFA_remember_state
				if len(remembered) == maxRemembered {
					return malformed("over %d remembered states", maxRemembered)
				}
				remembered = append(remembered, *now)
			case 0x0b: // DW_CFA_restore_state
				if len(remembered) == 0 {
					return malformed("it restores a state that it did not remember")
				}
				*now = remembered[len(remembered)-1]
				remembered = remembered[:len(remembered)-1]
			case 0x0c: // DW_CFA_def_cfa
				now.cfa = rule{kind: register, register: machine.Register(c.Uleb() & 0xffff), offset: int64(c.Uleb())}
			case 0x0d: // DW_CFA_def_cfa_register
				now.cfa.kind, now.cfa.register = register, machine.Register(c.Uleb()&0xffff)
			case 0x0e: // DW_CFA_def_cfa_offset
				now.cfa.offset = int64(c.Uleb())
			case 0x0f: // DW_CFA_def_cfa_expression
				now.cfa = rule{kind: isValue, expression: c.Bytes(c.Uleb())}
			case 0x10: // DW_CFA_expression
				r := c.Uleb()
				set(r, rule{kind: atAddress, expression: c.Bytes(c.Uleb())})
			case 0x11: // DW_CFA_offset_extended_sf
				r := c.Uleb()
				set(r, rule{kind: atOffset, offset: c.Sleb() * e.common.dataAlign})
			case 0x12: // DW_CFA_def_cfa_sf
				now.cfa = rule{kind: register, register: machine.Register(c.Uleb() & 0xffff), offset: c.Sleb() * e.common.dataAlign}
			case 0x13: // DW_CFA_def_cfa_offset_sf
				now.cfa.offset = c.Sleb() * e.common.dataAlign
			case 0x14: // DW_CFA_val_offset
				r := c.Uleb()
				set(r, rule{kind: isOffset, offset: factored(c.Uleb())})
			case 0x15: // DW_CFA_val_offset_sf
				r := c.Uleb()
				set(r, rule{kind: isOffset, offset: c.Sleb() * e.common.dataAlign})
			case 0x16: // DW_CFA_val_expression
				r := c.Uleb()
				set(r, rule{kind: isValue, expression: c.Bytes(c.Uleb())})
			case 0x2d: // DW_CFA_AARCH64_negate_ra_state, or register windows elsewhere
				if arch == machine.ARM64 {
					now.signed = !now.signed
				}
			case 0x2e: // DW_CFA_GNU_args_size
				c.Uleb()
			case 0x2f: // DW_CFA_GNU_negative_offset_extended
				r := c.Uleb()
				set(r, rule{kind: atOffset, offset: -factored(c.Uleb())})
			default:
				return malformed("instruction 0x%x is not known", op)
			}
		}
		if c.Err() != nil {
			return malformed("it %s", c.Err())
		}
		if advance != 0 {
			if at += advance; at > pc {
				return nil
			}
		}
	}
	return nil
}

// Frame is the call frame information of a frame.
type Frame struct {
	CFA uint64
	// Caller holds the registers that the caller had at the call.
	Caller machine.Registers
	// Signal is set for a frame that the kernel made to deliver a signal: the caller was
	// interrupted and is not in a call.
	Signal bool
	// Outermost is set if there is no caller according to the information.
	Outermost bool
}

// Caller finds the caller of the frame with the given registers. pc is an address of the file; bias
// is the difference between addresses in memory and in the file. ok is false if there is no
// information about pc.
func (t *Table) Caller(pc, bias uint64, regs *machine.Registers, read func(address, n uint64) ([]byte, bool)) (f Frame, ok bool, err error) {
	e, ok := t.find(pc)
	if !ok {
		return f, false, nil
	}
	rules, err := e.rules(pc, regs.Arch)
	if err != nil {
		return f, true, err
	}
	where := &location.Frame{Registers: regs, Read: read, Bias: bias}
	switch rules.cfa.kind {
	case register:
		v, known := regs.Get(rules.cfa.register)
		if !known {
			return f, true, malformed("the frame is found by register %s, which is not known", regs.Arch.NameOf(rules.cfa.register))
		}
		f.CFA = v + uint64(rules.cfa.offset)
	case isValue:
		if f.CFA, err = location.Number(rules.cfa.expression, where); err != nil {
			return f, true, err
		}
	default:
		return f, true, malformed("it does not say where the frame is")
	}
	f.Signal = e.common.signal
	f.Caller = regs.Kept()
	f.Caller.Set(regs.Arch.SP, f.CFA)
	for n := range machine.Register(maxRegister) {
		if err := f.apply(n, rules.of[n], regs, where, read); err != nil {
			return f, true, err
		}
	}
	returns := rules.of[e.common.returns]
	if returns.kind == undefined {
		f.Outermost = true
		return f, true, nil
	}
	address, known := f.Caller.Get(e.common.returns)
	if !known && returns.kind == unspecified && e.common.returns == regs.Arch.Link {
		// The return address is still in the link register: the function has called nothing yet.
		address, known = regs.Get(regs.Arch.Link)
	}
	if !known {
		return f, true, malformed("where the return address should be, memory was not kept")
	}
	if rules.signed {
		address = withoutCode(address)
	}
	f.Caller.Set(regs.Arch.PC, address)
	return f, true, nil
}

// withoutCode removes a pointer authentication code: addresses of user memory
// have at most 48 bits with the usual page tables of arm64.
func withoutCode(address uint64) uint64 { return address & (1<<48 - 1) }

// apply finds one register of the caller.
func (f *Frame) apply(n machine.Register, r rule, regs *machine.Registers, where *location.Frame, read func(address, n uint64) ([]byte, bool)) error {
	load := func(address uint64) {
		if b, ok := read(address, 8); ok {
			f.Caller.Set(n, binary.LittleEndian.Uint64(b))
			return
		}
		f.Caller.Forget(n)
	}
	switch r.kind {
	case unspecified:
	case undefined:
		f.Caller.Forget(n)
	case same:
		if v, ok := regs.Get(n); ok {
			f.Caller.Set(n, v)
		}
	case atOffset:
		load(f.CFA + uint64(r.offset))
	case isOffset:
		f.Caller.Set(n, f.CFA+uint64(r.offset))
	case register:
		if v, ok := regs.Get(r.register); ok {
			f.Caller.Set(n, v)
		} else {
			f.Caller.Forget(n)
		}
	case atAddress, isValue:
		v, err := location.Number(r.expression, where, f.CFA)
		if err != nil {
			return fmt.Errorf("where the caller's %s is: %w", regs.Arch.NameOf(n), err)
		}
		if r.kind == atAddress {
			load(v)
		} else {
			f.Caller.Set(n, v)
		}
	}
	return nil
}
