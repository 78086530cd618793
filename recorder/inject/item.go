//go:build go1.23

package inject

import (
	"encoding/binary"
	"math"
	"unicode/utf8"
)

// CBOR (RFC 8949, section 3): major types, simple values, and the tag for the
// beginning of something longer (docs/formats/execution-log.md, "Values").
const (
	majorUint     = 0
	majorNegative = 1
	majorBytes    = 2
	majorText     = 3
	majorArray    = 4
	majorMap      = 5
	majorTag      = 6

	itemFalse     = 0xf4
	itemTrue      = 0xf5
	itemNull      = 0xf6
	itemUndefined = 0xf7
	itemFloat32   = 0xfa
	itemFloat64   = 0xfb

	tagBeginning = 60001
	tagRedacted  = 60002
)

// Records of a table block.
const (
	recordThread  = 4
	recordType    = 5
	recordProcess = 6

	recordGap      = 11
	recordVolatile = 12
	recordOmitted  = 13
)

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

func appendInt(b []byte, n int64) []byte {
	if n < 0 {
		return appendHead(b, majorNegative, uint64(^n))
	}
	return appendHead(b, majorUint, uint64(n))
}

func appendText(b []byte, s string) []byte {
	major := byte(majorText)
	if !utf8.ValidString(s) {
		major = majorBytes
	}
	return append(appendHead(b, major, uint64(len(s))), s...)
}
