package location

import (
	"fmt"
	"math"
	mathbits "math/bits"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// The operations, with the numbers of DWARF 5, table 7.9, and their predecessors of GNU compilers.
const (
	opAddr            = 0x03
	opDeref           = 0x06
	opConst1u         = 0x08
	opConst1s         = 0x09
	opConst2u         = 0x0a
	opConst2s         = 0x0b
	opConst4u         = 0x0c
	opConst4s         = 0x0d
	opConst8u         = 0x0e
	opConst8s         = 0x0f
	opConstu          = 0x10
	opConsts          = 0x11
	opDup             = 0x12
	opDrop            = 0x13
	opOver            = 0x14
	opPick            = 0x15
	opSwap            = 0x16
	opRot             = 0x17
	opAbs             = 0x19
	opAnd             = 0x1a
	opDiv             = 0x1b
	opMinus           = 0x1c
	opMod             = 0x1d
	opMul             = 0x1e
	opNeg             = 0x1f
	opNot             = 0x20
	opOr              = 0x21
	opPlus            = 0x22
	opPlusUconst      = 0x23
	opShl             = 0x24
	opShr             = 0x25
	opShra            = 0x26
	opXor             = 0x27
	opBra             = 0x28
	opEq              = 0x29
	opGe              = 0x2a
	opGt              = 0x2b
	opLe              = 0x2c
	opLt              = 0x2d
	opNe              = 0x2e
	opSkip            = 0x2f
	opLit0            = 0x30
	opLit31           = 0x4f
	opReg0            = 0x50
	opReg31           = 0x6f
	opBreg0           = 0x70
	opBreg31          = 0x8f
	opRegx            = 0x90
	opFbreg           = 0x91
	opBregx           = 0x92
	opPiece           = 0x93
	opDerefSize       = 0x94
	opNop             = 0x96
	opPushObject      = 0x97
	opCall2           = 0x98
	opCall4           = 0x99
	opCallRef         = 0x9a
	opFormTLS         = 0x9b
	opCallFrameCFA    = 0x9c
	opBitPiece        = 0x9d
	opImplicitValue   = 0x9e
	opStackValue      = 0x9f
	opImplicitPointer = 0xa0
	opAddrx           = 0xa1
	opConstx          = 0xa2
	opEntryValue      = 0xa3
	opConstType       = 0xa4
	opRegvalType      = 0xa5
	opDerefType       = 0xa6
	opConvert         = 0xa8
	opReinterpret     = 0xa9

	opGNUPushTLS         = 0xe0
	opUninit             = 0xf0
	opGNUImplicitPointer = 0xf2
	opGNUEntryValue      = 0xf3
	opGNUConstType       = 0xf4
	opGNURegvalType      = 0xf5
	opGNUDerefType       = 0xf6
	opGNUConvert         = 0xf7
	opGNUReinterpret     = 0xf9
	opGNUParameterRef    = 0xfa
	opGNUAddrIndex       = 0xfb
	opGNUConstIndex      = 0xfc
)

// operands returns the number of stack entries that an operation consumes.
func operands(op byte) int {
	switch op {
	case opDeref, opDerefSize, opDup, opDrop, opAbs, opNeg, opNot, opPlusUconst, opBra, opStackValue, opFormTLS, opGNUPushTLS,
		opDerefType, opGNUDerefType, opConvert, opGNUConvert, opReinterpret, opGNUReinterpret:
		return 1
	case opOver, opSwap, opAnd, opDiv, opMinus, opMod, opMul, opOr, opPlus, opShl, opShr, opShra, opXor, opEq, opGe, opGt, opLe, opLt, opNe:
		return 2
	case opRot:
		return 3
	}
	return 0
}

// constant executes operations that push a constant.
func (e *evaluation) constant(op byte, c *cursor.Cursor) bool {
	var v uint64
	switch op {
	case opConst1u:
		v = uint64(c.U8())
	case opConst1s:
		v = uint64(int8(c.U8()))
	case opConst2u:
		v = uint64(c.U16())
	case opConst2s:
		v = uint64(int16(c.U16()))
	case opConst4u:
		v = uint64(c.U32())
	case opConst4s:
		v = uint64(int32(c.U32()))
	case opConst8u, opConst8s:
		v = c.U64()
	case opConstu:
		v = c.Uleb()
	case opConsts:
		v = uint64(c.Sleb())
	default:
		return false
	}
	e.push(number{bits: v})
	return true
}

func (e *evaluation) baseType(offset uint64) (BaseType, error) {
	if offset == 0 {
		return BaseType{}, nil
	}
	if e.f.BaseType == nil {
		return BaseType{}, fmt.Errorf("%w: its types are missing", ErrMalformed)
	}
	t, err := e.f.BaseType(offset)
	if err == nil && (t.Size < 1 || t.Size > 8) {
		err = fmt.Errorf("%w: numbers of %d bytes", ErrMalformed, t.Size)
	}
	return t, err
}

// typed executes operations of the typed stack (DWARF 5, section 2.5.1.6).
func (e *evaluation) typed(op byte, c *cursor.Cursor) (bool, error) {
	switch op {
	case opConstType, opGNUConstType:
		t, err := e.baseType(c.Uleb())
		b := c.Bytes(uint64(c.U8()))
		if len(b) > 8 {
			b = b[:8]
		}
		e.push(number{bits: t.cut(le(b)), of: t})
		return true, err
	case opRegvalType, opGNURegvalType:
		r := machine.Register(c.Uleb() & 0xffff)
		t, err := e.baseType(c.Uleb())
		if err != nil {
			return true, err
		}
		v, err := e.register(r)
		e.push(number{bits: t.cut(v), of: t})
		return true, err
	case opDerefType, opGNUDerefType:
		size := int(c.U8())
		t, err := e.baseType(c.Uleb())
		if err != nil {
			return true, err
		}
		v, err := e.load(e.pop().bits, size)
		e.push(number{bits: t.cut(v), of: t})
		return true, err
	case opConvert, opGNUConvert:
		t, err := e.baseType(c.Uleb())
		if err != nil {
			return true, err
		}
		n := e.pop()
		if n.stack && t.Size > 0 && t.Size < 8 {
			return true, errStackSlot
		}
		stack := n.stack
		n = n.convert(t)
		n.stack = stack
		e.push(n)
		return true, nil
	case opReinterpret, opGNUReinterpret:
		t, err := e.baseType(c.Uleb())
		if err != nil {
			return true, err
		}
		e.push(number{bits: t.cut(e.pop().bits), of: t})
		return true, nil
	}
	return false, nil
}

// cut truncates bits to the size of the type and extends the sign.
func (t BaseType) cut(v uint64) uint64 {
	if t.Size == 0 || t.Size == 8 {
		return v
	}
	shift := uint(64 - 8*t.Size)
	if t.Signed && !t.Float {
		return uint64(int64(v<<shift) >> shift)
	}
	return v << shift >> shift
}

func (n number) float() float64 {
	if n.of.Size == 4 {
		return float64(math.Float32frombits(uint32(n.bits)))
	}
	return math.Float64frombits(n.bits)
}

func (t BaseType) fromFloat(f float64) number {
	if t.Size == 4 {
		return number{bits: uint64(math.Float32bits(float32(f))), of: t}
	}
	return number{bits: math.Float64bits(f), of: t}
}

// convert changes a number into another type, keeping its value.
func (n number) convert(t BaseType) number {
	switch {
	case n.of.Float && t.Float:
		return t.fromFloat(n.float())
	case n.of.Float && t.Signed:
		return number{bits: t.cut(uint64(int64(n.float()))), of: t}
	case n.of.Float:
		return number{bits: t.cut(uint64(n.float())), of: t}
	case t.Float && n.of.Signed:
		return t.fromFloat(float64(int64(n.bits)))
	case t.Float:
		return t.fromFloat(float64(n.bits))
	}
	return number{bits: t.cut(n.bits), of: t}
}

// mayBeNegative reports whether bits may be a negative number of 8, 16 or 32 bits in a register. Compilers describe
// operations on such numbers by operations of 64 bits, which take them for positive.
func mayBeNegative(bits uint64) bool {
	n := mathbits.Len64(bits)
	return n == 8 || n == 16 || n == 32
}

// compute executes operations on the stack.
func (e *evaluation) compute(op byte, c *cursor.Cursor) error {
	switch op {
	case opDeref:
		_, err := e.pushed(e.load(e.pop().bits, 8))
		return err
	case opDerefSize:
		_, err := e.pushed(e.load(e.pop().bits, int(c.U8())))
		return err
	case opDup:
		e.push(e.stack[len(e.stack)-1])
	case opDrop:
		e.pop()
	case opOver, opPick:
		i := 1
		if op == opPick {
			i = int(c.U8())
		}
		if i >= len(e.stack) {
			return fmt.Errorf("%w: missing operands of operation 0x%x", ErrMalformed, op)
		}
		e.push(e.stack[len(e.stack)-1-i])
	case opSwap:
		n := len(e.stack)
		e.stack[n-1], e.stack[n-2] = e.stack[n-2], e.stack[n-1]
	case opRot:
		n := len(e.stack)
		e.stack[n-1], e.stack[n-2], e.stack[n-3] = e.stack[n-2], e.stack[n-3], e.stack[n-1]
	case opPlusUconst:
		n := e.pop()
		n.bits = n.of.cut(n.bits + c.Uleb())
		e.push(n)
	case opAbs, opNeg, opNot:
		e.push(e.pop().alone(op))
	case opSkip:
		return jump(c, int16(c.U16()))
	case opBra:
		by := int16(c.U16())
		if e.pop().bits != 0 {
			return jump(c, by)
		}
	default:
		if operands(op) != 2 {
			return fmt.Errorf("%w: unknown operation 0x%x", ErrMalformed, op)
		}
		b, a := e.pop(), e.pop()
		if a.of == (BaseType{}) && (op == opShra || op == opDiv) && mayBeNegative(a.bits) {
			return fmt.Errorf("%w: the debug information computes with 64 bits where the program may have computed with fewer", ErrUnavailable)
		}
		n, err := combine(op, a, b)
		n.stack = a.stack != b.stack
		e.push(n)
		return err
	}
	return nil
}

func jump(c *cursor.Cursor, by int16) error {
	if !c.Move(int(by)) {
		return fmt.Errorf("%w: jump out of the expression", ErrMalformed)
	}
	return nil
}

func (n number) alone(op byte) number {
	if n.of.Float {
		f := n.float()
		if op == opNeg || op == opAbs && f < 0 {
			f = -f
		}
		return n.of.fromFloat(f)
	}
	switch {
	case op == opNot:
		n.bits = ^n.bits
	case op == opNeg, int64(n.bits) < 0 && (n.of.Signed || n.of == BaseType{}):
		n.bits = -n.bits
	}
	n.bits = n.of.cut(n.bits)
	return n
}

func truth(b bool) number {
	if b {
		return number{bits: 1}
	}
	return number{}
}

// combine computes with two numbers of one type. The generic type is signed for comparisons and
// division (DWARF 5, section 2.5.1.4).
func combine(op byte, a, b number) (number, error) {
	if a.of.Float {
		return combineFloats(op, a, b)
	}
	signed := a.of.Signed || a.of == BaseType{}
	x, y := int64(a.bits), int64(b.bits)
	less, equal := a.bits < b.bits, a.bits == b.bits
	if signed {
		less = x < y
	}
	out := number{of: a.of}
	switch op {
	case opAnd:
		out.bits = a.bits & b.bits
	case opOr:
		out.bits = a.bits | b.bits
	case opXor:
		out.bits = a.bits ^ b.bits
	case opPlus:
		out.bits = a.bits + b.bits
	case opMinus:
		out.bits = a.bits - b.bits
	case opMul:
		out.bits = a.bits * b.bits
	case opDiv, opMod:
		if y == 0 {
			return out, fmt.Errorf("%w: division by zero", ErrMalformed)
		}
		switch {
		case op == opMod && (a.of == BaseType{} || !signed):
			out.bits = a.bits % b.bits
		case y == -1 && signed && op == opDiv:
			out.bits = -a.bits
		case y == -1 && signed:
			out.bits = 0
		case op == opMod:
			out.bits = uint64(x % y)
		case signed:
			out.bits = uint64(x / y)
		default:
			out.bits = a.bits / b.bits
		}
	case opShl:
		out.bits = a.bits << b.bits
	case opShr: // logical shift: zeros come in, also for signed numbers
		out.bits = BaseType{Size: a.of.Size}.cut(a.bits) >> b.bits
	case opShra:
		out.bits = uint64(x >> min(b.bits, 63))
	case opEq:
		return truth(equal), nil
	case opNe:
		return truth(!equal), nil
	case opLt:
		return truth(less), nil
	case opLe:
		return truth(less || equal), nil
	case opGt:
		return truth(!less && !equal), nil
	case opGe:
		return truth(!less), nil
	}
	out.bits = out.of.cut(out.bits)
	return out, nil
}

func combineFloats(op byte, a, b number) (number, error) {
	x, y := a.float(), b.float()
	switch op {
	case opPlus:
		return a.of.fromFloat(x + y), nil
	case opMinus:
		return a.of.fromFloat(x - y), nil
	case opMul:
		return a.of.fromFloat(x * y), nil
	case opDiv:
		return a.of.fromFloat(x / y), nil
	case opEq:
		return truth(x == y), nil
	case opNe:
		return truth(x != y), nil
	case opLt:
		return truth(x < y), nil
	case opLe:
		return truth(x <= y), nil
	case opGt:
		return truth(x > y), nil
	case opGe:
		return truth(x >= y), nil
	}
	return number{}, fmt.Errorf("%w: operation 0x%x on floating-point numbers", ErrMalformed, op)
}
