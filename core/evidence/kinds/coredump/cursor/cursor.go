// Package cursor reads numbers and texts from untrusted bytes. Every read is checked. The first
// error stays, and all reads after it return zero, so that decoders check once, at the end.
package cursor

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
)

// ErrShort means that the bytes end too early.
var ErrShort = errors.New("ends too early")

// Cursor reads little-endian data from a slice.
type Cursor struct {
	data []byte
	at   int
	err  error
}

// New returns a cursor at the beginning of data.
func New(data []byte) *Cursor { return &Cursor{data: data} }

// At returns a cursor at an offset of data. If the offset is out of range, it has an error.
func At(data []byte, offset uint64) *Cursor {
	c := &Cursor{data: data}
	if offset > uint64(len(data)) {
		c.fail(offset)
		return c
	}
	c.at = int(offset)
	return c
}

func (c *Cursor) fail(n uint64) {
	if c.err == nil {
		c.err = fmt.Errorf("byte %d of %d, %d more wanted: %w", c.at, len(c.data), n, ErrShort)
	}
	c.at = len(c.data)
}

// Err returns the first error, or nil.
func (c *Cursor) Err() error { return c.err }

// Offset returns how many bytes have been read.
func (c *Cursor) Offset() int { return c.at }

// Len returns how many bytes are left.
func (c *Cursor) Len() int { return len(c.data) - c.at }

// Bytes returns the next n bytes; they are not copied.
func (c *Cursor) Bytes(n uint64) []byte {
	if n > uint64(c.Len()) {
		c.fail(n)
		return nil
	}
	b := c.data[c.at : c.at+int(n)]
	c.at += int(n)
	return b
}

// Skip skips n bytes.
func (c *Cursor) Skip(n uint64) { c.Bytes(n) }

// U8 reads one byte.
func (c *Cursor) U8() uint8 {
	if c.at >= len(c.data) {
		c.fail(1)
		return 0
	}
	c.at++
	return c.data[c.at-1]
}

// U16 reads two bytes.
func (c *Cursor) U16() uint16 {
	if b := c.Bytes(2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

// U32 reads four bytes.
func (c *Cursor) U32() uint32 {
	if b := c.Bytes(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

// U64 reads eight bytes.
func (c *Cursor) U64() uint64 {
	if b := c.Bytes(8); b != nil {
		return binary.LittleEndian.Uint64(b)
	}
	return 0
}

// Uint reads a number of 1, 2, 4 or 8 bytes; any other size yields an error.
func (c *Cursor) Uint(size int) uint64 {
	switch size {
	case 1:
		return uint64(c.U8())
	case 2:
		return uint64(c.U16())
	case 4:
		return uint64(c.U32())
	case 8:
		return c.U64()
	}
	c.fail(uint64(size))
	return 0
}

// Uleb reads an unsigned number in LEB128 (DWARF 5, section 7.6). Bits beyond 64
// are dropped.
func (c *Cursor) Uleb() uint64 {
	var n uint64
	for shift := uint(0); ; shift += 7 {
		b := c.U8()
		if shift < 64 {
			n |= uint64(b&0x7f) << shift
		}
		if b < 0x80 {
			return n
		}
	}
}

// Sleb reads a signed number in LEB128.
func (c *Cursor) Sleb() int64 {
	var n int64
	for shift := uint(0); ; {
		b := c.U8()
		if shift < 64 {
			n |= int64(b&0x7f) << shift
		}
		shift += 7
		if b < 0x80 {
			if shift < 64 && b&0x40 != 0 {
				n |= -1 << shift
			}
			return n
		}
	}
}

// Text reads a text up to its NUL.
func (c *Cursor) Text() string {
	n := bytes.IndexByte(c.data[c.at:], 0)
	if n < 0 {
		c.fail(uint64(c.Len()) + 1)
		return ""
	}
	s := string(c.data[c.at : c.at+n])
	c.at += n + 1
	return s
}

// Align skips bytes up to a multiple of n from the beginning.
func (c *Cursor) Align(n int) {
	if rest := c.at % n; rest != 0 {
		c.Skip(uint64(min(n-rest, c.Len())))
	}
}

// Move moves the cursor forward or back. It returns false, and does nothing, if the new position is
// outside the data.
func (c *Cursor) Move(by int) bool {
	to := c.at + by
	if to < 0 || to > len(c.data) {
		return false
	}
	c.at = to
	return true
}
