package debuginfo

import (
	"debug/dwarf"
	"encoding/binary"

	"wraithology/core/evidence/kinds/coredump/cursor"
)

// attrSignature leads from a declaration to its definition in a type unit (DWARF 5, section 5.7.1).
const attrSignature = 0x69

// withTypeUnits appends the type units of DWARF 4, which have a section of their own (DWARF 4, section 7.5.1.2), to the other
// units. debug/dwarf reads only entries of the latter: the signature and the offset of the type, which follow the
// common part of the header, become null entries. What is damaged is left out with all that follows. signatures is where types
// are, by signature.
func withTypeUnits(info, types []byte) (all []byte, signatures map[uint64]dwarf.Offset) {
	signatures = map[uint64]dwarf.Offset{}
	if len(types) == 0 {
		return info, signatures
	}
	all = append(append([]byte(nil), info...), types...)
	for at := uint64(len(info)); at < uint64(len(all)); {
		c := cursor.At(all, at)
		length, offset := uint64(c.U32()), uint64(4)
		if length == 0xffffffff {
			length, offset = c.U64(), 8
		}
		body := uint64(c.Offset())
		if c.Err() != nil || length > uint64(len(all))-body {
			return all[:at], signatures
		}
		version := c.U16()
		c.Skip(offset + 1)
		from := uint64(c.Offset())
		signature := c.U64()
		place := uint64(c.U32())
		if offset == 8 {
			place |= uint64(c.U32()) << 32
		}
		if c.Err() != nil || version != 4 || uint64(c.Offset()) > body+length {
			return all[:at], signatures
		}
		clear(all[from:c.Offset()])
		if at+place > at && at+place < body+length {
			signatures[signature] = dwarf.Offset(at + place)
		}
		at = body + length
	}
	return all, signatures
}

// bySignature returns the entry that an attribute names by a signature.
func (e entry) bySignature(f *dwarf.Field) (offset dwarf.Offset, ok bool) {
	var signature uint64
	switch v := f.Val.(type) {
	case uint64:
		signature = v
	case []byte:
		if len(v) != 8 {
			return 0, false
		}
		signature = binary.LittleEndian.Uint64(v)
	default:
		return 0, false
	}
	offset, ok = e.d.signatures[signature]
	return offset, ok && f.Class == dwarf.ClassReferenceSig
}
