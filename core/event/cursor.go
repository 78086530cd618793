package event

import (
	"encoding/binary"
	"errors"
	"math"
)

// Major types of CBOR (RFC 8949, section 3.1).
const (
	majorUint = iota
	majorNegative
	majorBytes
	majorText
	majorArray
	majorMap
	majorTag
	majorSimple
)

// Simple values and tags in values. TagBeginning wraps [item, whole]: the item is the beginning of
// a text or list with the full length whole. TagRedacted wraps null: the value is secret.
const (
	simpleFalse     = 20
	simpleTrue      = 21
	simpleNull      = 22
	simpleUndefined = 23

	TagBeginning = 60001
	TagRedacted  = 60002
)

// maxDepth limits the nesting of an item, so that no input exhausts the stack.
const maxDepth = 64

var errItem = errors.New("malformed value")

// cursor reads untrusted bytes. Every read is checked. After the first error, all reads return
// zero.
type cursor struct {
	filled int // missing fields that were filled in
	b      []byte
	err    error
}

func (c *cursor) fail() {
	if c.err == nil {
		c.err = errItem
	}
	c.b = nil
}

func (c *cursor) byte() byte {
	if len(c.b) == 0 {
		c.fail()
		return 0
	}
	x := c.b[0]
	c.b = c.b[1:]
	return x
}

func (c *cursor) uvarint() uint64 {
	if len(c.b) > 0 && c.b[0] < 0x80 {
		x := c.b[0]
		c.b = c.b[1:]
		return uint64(x)
	}
	x, n := binary.Uvarint(c.b)
	if n <= 0 {
		c.fail()
		return 0
	}
	c.b = c.b[n:]
	return x
}

func (c *cursor) take(n uint64) []byte {
	if n > uint64(len(c.b)) {
		c.fail()
		return nil
	}
	x := c.b[:n]
	c.b = c.b[n:]
	return x
}

// head reads the head of a CBOR item: its major type, the argument, and the
// additional information (which tells the width of a float).
func (c *cursor) head() (major byte, arg uint64, info byte) {
	first := c.byte()
	major, info = first>>5, first&31
	switch {
	case info < 24:
		arg = uint64(info)
	case info == 24:
		arg = uint64(c.byte())
	case info == 25:
		if b := c.take(2); b != nil {
			arg = uint64(binary.BigEndian.Uint16(b))
		}
	case info == 26:
		if b := c.take(4); b != nil {
			arg = uint64(binary.BigEndian.Uint32(b))
		}
	case info == 27:
		if b := c.take(8); b != nil {
			arg = binary.BigEndian.Uint64(b)
		}
	default:
		c.fail()
	}
	return major, arg, info
}

// skip skips one item.
func (c *cursor) skip(depth int) {
	if depth > maxDepth {
		c.fail()
		return
	}
	major, arg, _ := c.head()
	if c.err != nil {
		return
	}
	switch major {
	case majorBytes, majorText:
		c.take(arg)
	case majorArray, majorMap:
		if arg > uint64(len(c.b)) {
			c.fail()
			return
		}
		if major == majorMap {
			arg *= 2
		}
		for ; arg > 0 && c.err == nil; arg-- {
			c.skip(depth + 1)
		}
	case majorTag:
		c.skip(depth + 1)
	}
}

// peek returns the next byte without consuming it.
func (c *cursor) peek() byte {
	if len(c.b) == 0 {
		c.fail()
		return 0
	}
	return c.b[0]
}

// null consumes a null or undefined if one is next.
func (c *cursor) null() (isNull, isUndefined bool) {
	switch c.peek() {
	case majorSimple<<5 | simpleNull:
		c.byte()
		return true, false
	case majorSimple<<5 | simpleUndefined:
		c.byte()
		return false, true
	}
	return false, false
}

func (c *cursor) uint() uint64 {
	major, arg, _ := c.head()
	if major != majorUint {
		c.fail()
	}
	return arg
}

func (c *cursor) array() uint64 {
	major, arg, _ := c.head()
	if major != majorArray || arg > uint64(len(c.b)) {
		c.fail()
		return 0
	}
	return arg
}

func (c *cursor) float() float64 {
	major, arg, info := c.head()
	switch {
	case major == majorSimple && info == 27:
		return math.Float64frombits(arg)
	case major == majorSimple && info == 26:
		return float64(math.Float32frombits(uint32(arg)))
	}
	c.fail()
	return 0
}

// redacted consumes a TagRedacted if one is next.
func (c *cursor) redacted() bool {
	const size = 4 // the tag and null
	if len(c.b) < size || c.b[0] != majorTag<<5|25 || binary.BigEndian.Uint16(c.b[1:]) != TagRedacted || c.b[3] != majorSimple<<5|simpleNull {
		return false
	}
	c.b = c.b[size:]
	return true
}

// beginning consumes the head of a TagBeginning if one is next.
func (c *cursor) beginning() bool {
	if c.peek()>>5 != majorTag {
		return false
	}
	_, tag, _ := c.head()
	if tag != TagBeginning || c.array() != 2 {
		c.fail()
	}
	return true
}
