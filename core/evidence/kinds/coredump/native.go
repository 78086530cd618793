package coredump

import (
	"context"
	"encoding/binary"
	"fmt"
	"path/filepath"
	"strings"

	"golang.org/x/arch/arm64/arm64asm"
	"golang.org/x/arch/x86/x86asm"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// describeAddress describes the memory at an address.
func (d *Dump) describeAddress(address uint64) string {
	x, ok := d.core.Memory.At(address)
	if !ok {
		return "unmapped memory"
	}
	if l := d.at(address); l != nil {
		out := filepath.Base(l.Path)
		if l.Kernel {
			out = l.Path
		}
		if name := d.symbol(address); name != "" {
			out += ", " + name
		}
		return out
	}
	if d.golang != nil {
		for _, g := range d.golang.goroutines {
			s := g.record.In("stack")
			if address >= s.Uint("lo") && address < s.Uint("hi") {
				return fmt.Sprintf("the stack of goroutine %d", g.id)
			}
		}
	}
	for i := range d.core.Threads {
		t := &d.core.Threads[i]
		if sp := t.Registers.SP(); sp >= x.Start && sp < x.End {
			return fmt.Sprintf("the stack of thread %d", t.ID)
		}
	}
	if x.Path != "" {
		return "the mapped file " + x.Path
	}
	return d.anonymous(x.Start, x.Executable)
}

// anonymous describes memory without a file. The C library's heap is above the program.
func (d *Dump) anonymous(start uint64, executable bool) string {
	switch {
	case executable:
		return "code that was made at run time"
	case d.golang != nil:
		return "the Go heap"
	case d.program != nil && start >= d.program.End && start-d.program.End < maxBrkGap:
		return "the heap"
	}
	return "memory that the program mapped"
}

// maxMemory limits one answer about memory, in bytes.
const maxMemory = 64 << 10

// MemoryAt implements replay.Machine.
func (d *Dump) MemoryAt(ctx context.Context, address, count uint64) (replay.Stretch, error) {
	out := replay.Stretch{Address: address, What: d.describeAddress(address)}
	if chunk := d.describeChunk(address); chunk != "" {
		out.What += ", " + chunk
	}
	out.Bytes = append(out.Bytes, d.core.Memory.Known(address, min(count, maxMemory))...)
	if uint64(len(out.Bytes)) < count {
		out.Why = fmt.Sprintf("one answer has at most %d bytes", maxMemory)
		if len(out.Bytes) < maxMemory {
			at := address + uint64(len(out.Bytes))
			out.Why = fmt.Sprintf("the memory at 0x%x was not kept: %s", at, d.describeAddress(at))
		}
	}
	for i := 0; i+8 <= len(out.Bytes); i += 8 {
		v := binary.LittleEndian.Uint64(out.Bytes[i:])
		what := ""
		if v >= firstPage && d.isMapped(v) {
			what = d.describeAddress(v)
		}
		out.Words = append(out.Words, replay.Word{Address: address + uint64(i), Value: v, What: what})
	}
	return out, ctx.Err()
}

// Types implements replay.Machine.
func (d *Dump) Types() replay.TypeNames { return d.memory }

// maxHolders limits the places in one answer.
const maxHolders = 10_000

// Holders implements replay.Machine. It searches all memory in the core.
func (d *Dump) Holders(ctx context.Context, pointer uint64, page replay.Page) ([]replay.Word, int, error) {
	var want [8]byte
	binary.LittleEndian.PutUint64(want[:], pointer)
	total := 0
	var out []replay.Word
	from, to := page.Cut(maxHolders)
	d.core.Memory.Each(func(start uint64, data []byte) bool {
		for i := int(-start & 7); i+8 <= len(data); i += 8 {
			if i%(1<<20) < 8 && ctx.Err() != nil {
				return false
			}
			if binary.LittleEndian.Uint64(data[i:]) != pointer {
				continue
			}
			if total >= from && total < to {
				at := start + uint64(i)
				out = append(out, replay.Word{Address: at, Value: pointer, What: d.describeHolder(ctx, at)})
			}
			total++
		}
		return true
	})
	return out, total, ctx.Err()
}

// describeHolder describes the memory at an address: on a stack with the frame, and the variable that is there.
func (d *Dump) describeHolder(ctx context.Context, address uint64) string {
	what := d.describeAddress(address)
	x, ok := d.core.Memory.At(address)
	if !ok {
		return what
	}
	if d.heapSize() <= maxAskedHeap {
		if c, _, _, ok := d.chunkAt(address); ok && address >= c.User {
			return what + ", " + placeIn(c, address)
		}
	}
	for i := range d.threads {
		regs, _, ok := d.registersOf(&d.threads[i])
		if sp := regs.SP(); !ok || sp < x.Start || sp >= x.End || address < sp {
			continue
		}
		list, err := d.framesOf(ctx, 0, d.threads[i].ID)
		if err != nil {
			return what
		}
		for n := range list {
			s := &list[n].steps[list[n].at]
			if !s.hasCFA || address < s.regs.SP() || address >= s.cfa {
				continue
			}
			at := ""
			for _, v := range list[n].variables() {
				if start, size, ok := d.addressOf(&list[n], v); ok && address >= start && address < start+max(size, 1) {
					at = ", " + v.Name
				}
			}
			if at == "" && n+1 < len(list) && list[n+1].at == list[n].at {
				continue // a variable of the function that this one was inlined into
			}
			return fmt.Sprintf("%s, frame %d: %s%s", what, n, list[n].Function, at)
		}
	}
	return what
}

// Instructions implements replay.Machine: instructions before, at and after the program counter of
// a frame, with the values of the operands.
func (d *Dump) Instructions(ctx context.Context, at event.Moment, t event.ThreadID, index, before, after int) ([]replay.Instruction, error) {
	f, err := d.frameOf(ctx, at, t, index)
	if err != nil {
		return nil, err
	}
	s := &f.steps[f.at]
	start := s.pc
	if s.module != nil {
		if begin, ok := d.functionStart(s); ok {
			start = begin
		}
	}
	list := d.decode(start, s.pc, before+after+1)
	now := -1
	for i := range list {
		if list[i].Address == s.pc {
			now = i
		}
	}
	if now < 0 { // the instructions before are ambiguous
		list, now = d.decode(s.pc, s.pc, after+1), 0
	}
	list = list[max(0, now-before):min(len(list), now+after+1)]
	for i := range list {
		d.annotate(&list[i], s)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("frame %d of thread %d: %w: the code at 0x%x was not kept", index, t, fault.NoCode, s.pc)
	}
	return list, ctx.Err()
}

// functionStart returns the address of an activation's function.
func (d *Dump) functionStart(s *step) (uint64, bool) {
	pc := s.look - s.module.Bias
	if s.module.golang != nil {
		if f, ok := s.module.golang.At(pc); ok {
			return f.Entry + s.module.Bias, true
		}
	}
	if s.module.debug != nil {
		if f := s.module.debug.FunctionAt(pc); f != nil {
			for _, x := range f.Spans {
				if pc >= x.Low && pc < x.High {
					return x.Low + s.module.Bias, true
				}
			}
		}
	}
	if low, _, ok := s.module.table.Function(pc); ok {
		return low + s.module.Bias, true
	}
	return 0, false
}

// maxDecoded limits the instructions of a function that are decoded.
const maxDecoded = 1 << 20

// decode decodes instructions from start until enough of them are after pc.
func (d *Dump) decode(start, pc uint64, after int) []replay.Instruction {
	var list []replay.Instruction
	for n, left := 0, after; n < maxDecoded && (left > 0 || start < pc); n++ {
		code := d.core.Memory.Known(start, maxInstruction)
		if len(code) == 0 {
			break
		}
		x := replay.Instruction{Address: start, Here: start == pc}
		size := 1
		switch d.core.Arch {
		case machine.AMD64:
			inst, err := x86asm.Decode(code, 64)
			if err != nil {
				x.Text = fmt.Sprintf("byte 0x%02x, no known instruction", code[0])
			} else {
				size = inst.Len
				x.Text = textAMD64(inst, start, nil)
				if to, ok := inst.Args[0].(x86asm.Rel); ok && inst.Op == x86asm.CALL {
					x.Text += d.targetName(start + uint64(size) + uint64(int64(to)))
				}
			}
		case machine.ARM64:
			size = min(4, len(code))
			if inst, err := arm64asm.Decode(code); err == nil {
				x.Text = strings.ToLower(arm64asm.GNUSyntax(inst))
				if to, ok := inst.Args[0].(arm64asm.PCRel); ok && inst.Op == arm64asm.BL {
					x.Text += d.targetName(start + uint64(int64(to)))
				}
			} else {
				x.Text = "no known instruction"
			}
		}
		x.Bytes = append(x.Bytes, code[:min(size, len(code))]...)
		list = append(list, x)
		if start >= pc {
			left--
		}
		start += uint64(size)
	}
	return list
}

// targetName names the function that an instruction calls, in brackets; empty if it has no name.
func (d *Dump) targetName(address uint64) string {
	if name := d.symbol(address); name != "" {
		return " (" + name + ")"
	}
	return ""
}

// annotate describes the operands of the instruction at the frame's place.
func (d *Dump) annotate(x *replay.Instruction, s *step) {
	if name := d.symbol(x.Address); name != "" {
		x.Where = name
	}
	if !x.Here {
		return
	}
	a := d.accessAt(&s.regs)
	for _, n := range []machine.Register{a.base, a.index, a.divisor} {
		if v, ok := s.regs.Get(n); ok && n != s.regs.Arch.PC {
			x.Operands = append(x.Operands, fmt.Sprintf("%s = 0x%x", s.regs.Arch.NameOf(n), v))
		}
	}
	if a.hasAddress {
		x.Operands = append(x.Operands, fmt.Sprintf("address 0x%x: %s", a.address, d.describeAddress(a.address)))
	}
}
