package coredump

import (
	"encoding/binary"
	"fmt"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/values"
)

// bitRun is where the bits of one piece of a value come from.
type bitRun struct {
	bytes []byte      // nil if they are not known
	from  uint64      // the first bit of bytes that belongs to the piece
	bits  uint64      // number of bits of the piece
	state event.State // of unknown bits
	why   string
}

// gather assembles a value from its pieces.
func (d *Dump) gather(f *frame, v debuginfo.Variable, t *debuginfo.Type, pieces []location.Piece) event.Value {
	const most = 1 << 16
	if t.Size > most {
		return values.Unknown(&t.Type, fmt.Sprintf("it has %d bytes in pieces; up to %d are read", t.Size, most))
	}
	var list []bitRun
	left := t.Size * 8
	whole := len(pieces) == 1
	for _, p := range pieces {
		if p.Bits == 0 || p.Bits > left {
			p.Bits = left
		}
		left -= p.Bits
		const address = 64
		if err := p.CheckStack(p.Bits == address && (!whole || t.Form == event.Pointer)); err != nil {
			p = location.Piece{Kind: location.Gone, Bits: p.Bits, Why: err}
		}
		list = append(list, d.bitsOf(f, v, p))
	}
	data, missing := assemble(t.Size, list)
	return d.memory.Decode(t, data, missing)
}

// assemble puts pieces together, the lowest bits first (DWARF 5, 2.6.1.2, for little-endian machines). A byte of
// which any bit is unknown is missing.
func assemble(size uint64, list []bitRun) (data []byte, missing []values.Missing) {
	data = make([]byte, size)
	lack := func(from, to uint64, state event.State, why string) {
		if to = min(to, size*8); from < to {
			missing = append(missing, values.Missing{From: from / 8, To: (to + 7) / 8, State: state, Why: why})
		}
	}
	at := uint64(0)
	for _, x := range list {
		end := min(at+x.bits, size*8)
		known := uint64(len(x.bytes)) * 8
		known -= min(x.from, known)
		for i := at; i < min(at+known, end); {
			from := x.from + i - at
			n := min(8-i%8, 8-from%8, min(at+known, end)-i)
			data[i/8] |= x.bytes[from/8] >> (from % 8) & (1<<n - 1) << (i % 8)
			i += n
		}
		if x.bytes == nil {
			lack(at, end, x.state, x.why)
		} else if at+known < end {
			lack(at+known, end, event.OptimisedOut, fmt.Sprintf("its location has only %d bits", known))
		}
		at = end
	}
	lack(at, size*8, event.OptimisedOut, "no location for this part")
	return data, missing
}

// bitsOf reads a piece.
func (d *Dump) bitsOf(f *frame, v debuginfo.Variable, p location.Piece) bitRun {
	x := bitRun{from: p.From, bits: p.Bits, state: event.OptimisedOut}
	s := &f.steps[f.at]
	switch p.Kind {
	case location.InMemory:
		b, ok := d.read(p.Address+p.From/8, (p.From%8+p.Bits+7)/8)
		if x.from %= 8; ok {
			x.bytes = b
		} else {
			x.state, x.why = event.Unrecorded, fmt.Sprintf("the memory at 0x%x was not kept", p.Address)
		}
	case location.InRegister:
		if n, ok := s.regs.Get(p.Register); ok {
			x.bytes = binary.LittleEndian.AppendUint64(nil, n)
		} else if b, ok := s.regs.Vector(p.Register); ok {
			x.bytes = b[:]
		} else {
			x.why = fmt.Sprintf("it is in register %s, which the functions called from here did not keep", d.core.Arch.NameOf(p.Register))
		}
	case location.Constant:
		x.bytes = binary.LittleEndian.AppendUint64(nil, p.Number)
	case location.Literal:
		x.bytes = p.Bytes
	case location.ImplicitPointer:
		x.why = "the pointer itself does not exist"
		if to, err := v.Unit.Debug.Referred(p.Entry); err == nil {
			x.why += "; it would lead to " + to.Name
			if text, ok := d.referred(f, to); ok {
				x.why += ", which is " + text
			}
		}
	default:
		if x.why = "no location at this instruction"; p.Why != nil {
			x.why = whyUnavailable(p.Why)
		}
	}
	return x
}
