package event

import (
	"encoding/binary"
	"math"
)

// MaxArgs is the maximum number of values in an event.
const MaxArgs = 255

// AppendEvent appends the head of an Enter, Leave, Fields, Message or Error event. Its n values, at
// most MaxArgs, follow. The time of the event is that of the block.
func AppendEvent(b []byte, k Kind, id uint32, n int) []byte {
	b = append(b, byte(k), 0)
	if k != Leave {
		b = binary.AppendUvarint(b, uint64(id))
	}
	return append(b, byte(n))
}

// AppendPlain appends a Line, Resume, Unwind or Exit event.
func AppendPlain(b []byte, k Kind, id uint32) []byte {
	return binary.AppendUvarint(append(b, byte(k), 0), uint64(id))
}

// AppendWaiting appends a Wait, Pass or Release event at an address.
func AppendWaiting(b []byte, k Kind, op Op, address uint64) []byte {
	return binary.AppendUvarint(binary.AppendUvarint(append(b, byte(k), 0), uint64(op)), address)
}

// appendHead appends the head of a CBOR item (RFC 8949, section 3).
func appendHead(b []byte, major byte, n uint64) []byte {
	major <<= 5
	switch {
	case n < 24:
		return append(b, major|byte(n))
	case n <= math.MaxUint8:
		return append(b, major|24, byte(n))
	case n <= math.MaxUint16:
		return binary.BigEndian.AppendUint16(append(b, major|25), uint16(n))
	case n <= math.MaxUint32:
		return binary.BigEndian.AppendUint32(append(b, major|26), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(b, major|27), n)
}

// AppendUnknown appends a value that is not known.
func AppendUnknown(b []byte, t TypeID) []byte {
	return append(binary.AppendUvarint(b, uint64(t)), majorSimple<<5|simpleUndefined)
}

// AppendText appends a text.
func AppendText(b []byte, t TypeID, s string) []byte {
	return append(appendHead(binary.AppendUvarint(b, uint64(t)), majorText, uint64(len(s))), s...)
}

// AppendInt appends a whole number.
func AppendInt(b []byte, t TypeID, n int64) []byte {
	b = binary.AppendUvarint(b, uint64(t))
	if n < 0 {
		return appendHead(b, majorNegative, uint64(-1-n))
	}
	return appendHead(b, majorUint, uint64(n))
}

// AppendUint appends a whole number that is not negative.
func AppendUint(b []byte, t TypeID, n uint64) []byte {
	return appendHead(binary.AppendUvarint(b, uint64(t)), majorUint, n)
}

// AppendFloat32 appends a floating-point number of single precision.
func AppendFloat32(b []byte, t TypeID, x float32) []byte {
	b = append(binary.AppendUvarint(b, uint64(t)), majorSimple<<5|26)
	return binary.BigEndian.AppendUint32(b, math.Float32bits(x))
}

// AppendFloat appends a floating-point number.
func AppendFloat(b []byte, t TypeID, x float64) []byte {
	b = append(binary.AppendUvarint(b, uint64(t)), majorSimple<<5|27)
	return binary.BigEndian.AppendUint64(b, math.Float64bits(x))
}

// AppendBool appends a boolean.
func AppendBool(b []byte, t TypeID, x bool) []byte {
	if x {
		return append(binary.AppendUvarint(b, uint64(t)), majorSimple<<5|simpleTrue)
	}
	return append(binary.AppendUvarint(b, uint64(t)), majorSimple<<5|simpleFalse)
}

// AppendNil appends nil.
func AppendNil(b []byte, t TypeID) []byte {
	return append(binary.AppendUvarint(b, uint64(t)), majorSimple<<5|simpleNull)
}

// AppendList appends the head of a list. Its n elements follow, each appended by AppendElement.
func AppendList(b []byte, t TypeID, n int) []byte {
	return appendHead(binary.AppendUvarint(b, uint64(t)), majorArray, uint64(n))
}

// AppendElement appends an element of a list: a value that one of the other functions encoded.
func AppendElement(b []byte, value []byte) []byte {
	id, n := binary.Uvarint(value)
	b = appendHead(b, majorArray, 2)
	b = appendHead(b, majorUint, id)
	return append(b, value[n:]...)
}

// AppendBeginning appends the beginning of a text whose full length is whole bytes.
func AppendBeginning(b []byte, t TypeID, s string, whole int) []byte {
	b = appendHead(binary.AppendUvarint(b, uint64(t)), majorTag, TagBeginning)
	b = appendHead(b, majorArray, 2)
	b = append(appendHead(b, majorText, uint64(len(s))), s...)
	return appendHead(b, majorUint, uint64(whole))
}
