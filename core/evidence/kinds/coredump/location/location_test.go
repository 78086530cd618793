package location_test

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// The operations by their numbers in DWARF 5, table 7.9.
var binary2 = map[string]byte{"and": 0x1a, "div": 0x1b, "minus": 0x1c, "mod": 0x1d, "mul": 0x1e, "or": 0x21, "plus": 0x22, "shl": 0x24, "shr": 0x25, "shra": 0x26, "xor": 0x27,
	"eq": 0x29, "ge": 0x2a, "gt": 0x2b, "le": 0x2c, "lt": 0x2d, "ne": 0x2e}

var unary = map[string]byte{"abs": 0x19, "neg": 0x1f, "not": 0x20}

const (
	constType  = 0xa4
	convert    = 0xa8
	stackValue = 0x9f
)

type integer interface {
	int8 | int16 | int32 | int64 | uint8 | uint16 | uint32 | uint64
}

func truth(b bool) (uint64, bool) {
	if b {
		return 1, true
	}
	return 0, true
}

// integers says what Go's own arithmetic makes of an operation on numbers of a type, and
// whether it has a value.
func integers[T, U integer](op string, a, b T) (uint64, bool) {
	wide := func(x T) (uint64, bool) { return uint64(int64(x)), true } // what is narrower keeps its sign
	size := uint64(64)
	for s := uint64(8); s < 64; s *= 2 {
		if T(1)<<(s-1)<<1 == 0 {
			size = min(size, s)
		}
	}
	switch op {
	case "and":
		return wide(a & b)
	case "or":
		return wide(a | b)
	case "xor":
		return wide(a ^ b)
	case "plus":
		return wide(a + b)
	case "minus":
		return wide(a - b)
	case "mul":
		return wide(a * b)
	case "div", "mod":
		switch {
		case b == 0:
			return 0, false
		case op == "div":
			return wide(a / b)
		}
		return wide(a % b)
	case "shl", "shr", "shra":
		if uint64(b) >= size {
			return 0, false // the standard does not say
		}
		switch op {
		case "shl":
			return wide(a << uint64(b))
		case "shr":
			return wide(T(U(a) >> uint64(b)))
		}
		var zero T
		if zero-1 > zero {
			return 0, false // an arithmetic shift of a number without a sign
		}
		return wide(a >> uint64(b))
	case "eq":
		return truth(a == b)
	case "ne":
		return truth(a != b)
	case "lt":
		return truth(a < b)
	case "le":
		return truth(a <= b)
	case "gt":
		return truth(a > b)
	case "ge":
		return truth(a >= b)
	case "abs":
		if a > 0 {
			return wide(a)
		}
		return wide(-a)
	case "neg":
		return wide(-a)
	case "not":
		return wide(^a)
	}
	panic(op)
}

// of gives the operands of a type by their bits.
func of[T, U integer](op string, a, b uint64) (uint64, bool) { return integers[T, U](op, T(a), T(b)) }

var types = []struct {
	location.BaseType
	compute func(op string, a, b uint64) (uint64, bool)
}{
	{location.BaseType{Size: 1, Signed: true}, of[int8, uint8]}, {location.BaseType{Size: 2, Signed: true}, of[int16, uint16]},
	{location.BaseType{Size: 4, Signed: true}, of[int32, uint32]}, {location.BaseType{Size: 8, Signed: true}, of[int64, uint64]},
	{location.BaseType{Size: 1}, of[uint8, uint8]}, {location.BaseType{Size: 2}, of[uint16, uint16]},
	{location.BaseType{Size: 4}, of[uint32, uint32]}, {location.BaseType{Size: 8}, of[uint64, uint64]},
}

func constant(of int, bits uint64) []byte {
	size := types[of-1].Size
	return append([]byte{constType, byte(of), byte(size)}, binary.LittleEndian.AppendUint64(nil, bits)[:size]...)
}

func baseType(offset uint64) (location.BaseType, error) { return types[offset-1].BaseType, nil }

func interesting(random *rand.Rand) uint64 {
	switch random.IntN(4) {
	case 0:
		return uint64(random.IntN(70))
	case 1:
		return -uint64(random.IntN(70))
	case 2:
		return uint64(1)<<random.IntN(64) - uint64(random.IntN(2))
	}
	return random.Uint64()
}

// TestIntegersAgainstAnOracle computes with integers of each type as Go does.
func TestIntegersAgainstAnOracle(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(4, 1))
	frame := &location.Frame{BaseType: baseType}
	compared := 0
	for range 2000 {
		a, b := interesting(random), interesting(random)
		for i, typ := range types {
			check := func(op string, expression []byte) {
				want, ok := typ.compute(op, a, b)
				if !ok {
					return
				}
				got, err := location.Number(append(expression, stackValue), frame)
				require.NoError(t, err)
				if typ.Size < 8 && !typ.Signed {
					want &= 1<<(8*typ.Size) - 1
				}
				require.Equal(t, want, got, "%s of 0x%x and 0x%x as %+v", op, a, b, typ.BaseType)
				compared++
			}
			for op, code := range binary2 {
				check(op, append(append(constant(i+1, a), constant(i+1, b)...), code))
			}
			for op, code := range unary {
				check(op, append(constant(i+1, a), code))
			}
			for j, to := range types { // a conversion keeps the value as far as it fits
				got, err := location.Number(append(constant(i+1, a), convert, byte(j+1), stackValue), frame)
				require.NoError(t, err)
				narrow, _ := typ.compute("or", a, 0)
				if typ.Size < 8 && !typ.Signed {
					narrow &= 1<<(8*typ.Size) - 1
				}
				want, _ := to.compute("or", narrow, 0)
				if to.Size < 8 && !to.Signed {
					want &= 1<<(8*to.Size) - 1
				}
				require.Equal(t, want, got, "0x%x as %+v into %+v", a, typ.BaseType, to.BaseType)
			}
		}
	}
	assert.Greater(t, compared, 100_000)
}

// TestFloats computes with floating-point numbers as Go does.
func TestFloats(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(4, 2))
	frame := &location.Frame{BaseType: func(offset uint64) (location.BaseType, error) {
		return []location.BaseType{{Size: 8, Float: true}, {Size: 4, Float: true}, {Size: 8, Signed: true}}[offset-1], nil
	}}
	push := func(f float64) []byte {
		return binary.LittleEndian.AppendUint64([]byte{constType, 1, 8}, math.Float64bits(f))
	}
	push32 := func(f float32) []byte {
		return binary.LittleEndian.AppendUint32([]byte{constType, 2, 4}, math.Float32bits(f))
	}
	for range 500 {
		a, b := (random.Float64()-0.5)*1e6, (random.Float64()-0.5)*100
		for op, want := range map[string]float64{"plus": a + b, "minus": a - b, "mul": a * b, "div": a / b} {
			got, err := location.Number(append(append(push(a), push(b)...), binary2[op], stackValue), frame)
			require.NoError(t, err)
			require.Equal(t, want, math.Float64frombits(got), "%s of %g and %g", op, a, b)
		}
		for op, want := range map[string]float32{"plus": float32(a) + float32(b), "mul": float32(a) * float32(b)} {
			got, err := location.Number(append(append(push32(float32(a)), push32(float32(b))...), binary2[op], stackValue), frame)
			require.NoError(t, err)
			require.Equal(t, want, math.Float32frombits(uint32(got)), "%s of %g and %g", op, a, b)
		}
		for op, want := range map[string]bool{"lt": a < b, "le": a <= b, "gt": a > b, "ge": a >= b, "eq": a == b, "ne": a != b} {
			got, err := location.Number(append(append(push(a), push(b)...), binary2[op], stackValue), frame)
			require.NoError(t, err)
			require.Equal(t, want, got == 1, "%s of %g and %g", op, a, b)
		}
		for op, want := range map[string]float64{"abs": math.Abs(a), "neg": -a} {
			got, err := location.Number(append(push(a), unary[op], stackValue), frame)
			require.NoError(t, err)
			require.Equal(t, want, math.Float64frombits(got))
		}
		got, err := location.Number(append(push(a), convert, 3, stackValue), frame)
		require.NoError(t, err)
		require.Equal(t, int64(a), int64(got))
		got, err = location.Number(append(push(a), convert, 3, convert, 2, stackValue), frame)
		require.NoError(t, err)
		require.Equal(t, float32(int64(a)), math.Float32frombits(uint32(got)))
	}
}

// TestStackAndControl follows the examples of DWARF 5, section 2.5.1, and the rules beside
// them: what each operation leaves on the stack, the deepest entry first.
func TestStackAndControl(t *testing.T) {
	t.Parallel()
	memory := map[uint64]byte{}
	for i, b := range []byte{0x11, 0x22, 0x33, 0x44, 0x55, 0x66, 0x77, 0x88} {
		memory[0x1000+uint64(i)] = b
	}
	regs := &machine.Registers{Arch: machine.AMD64}
	regs.Set(3, 0x2000)
	frame := &location.Frame{
		Registers: regs, Bias: 0x400000, CFA: func() (uint64, error) { return 0x7000, nil }, FrameBase: func() (uint64, error) { return 0x6000, nil },
		Address: func(i uint64) (uint64, error) { return 0x100 * i, nil }, TLS: func(o uint64) (uint64, error) { return 0x9000 + o, nil },
		Called: func(offset uint64) ([]byte, error) { return []byte{0x35, 0x22}, nil }, // 5, plus
		Object: 0x5000, HasValue: true,
		Read: func(address, n uint64) ([]byte, bool) {
			b := make([]byte, n)
			for i := range b {
				x, ok := memory[address+uint64(i)]
				if !ok {
					return nil, false
				}
				b[i] = x
			}
			return b, true
		},
	}
	for name, x := range map[string]struct {
		expression []byte
		want       []uint64
	}{
		"dup":          {[]byte{0x31, 0x12}, []uint64{1, 1}},
		"drop":         {[]byte{0x31, 0x32, 0x13}, []uint64{1}},
		"over":         {[]byte{0x31, 0x32, 0x14}, []uint64{1, 2, 1}},
		"pick 2":       {[]byte{0x31, 0x32, 0x33, 0x15, 2}, []uint64{1, 2, 3, 1}},
		"swap":         {[]byte{0x31, 0x32, 0x16}, []uint64{2, 1}},
		"rot":          {[]byte{0x31, 0x32, 0x33, 0x17}, []uint64{3, 1, 2}},
		"const1s":      {[]byte{0x09, 0xff}, []uint64{math.MaxUint64}},
		"const1u":      {[]byte{0x08, 0xff}, []uint64{0xff}},
		"const2s":      {[]byte{0x0b, 0xfe, 0xff}, []uint64{math.MaxUint64 - 1}},
		"const2u":      {[]byte{0x0a, 0xfe, 0xff}, []uint64{0xfffe}},
		"const4s":      {[]byte{0x0d, 0xfe, 0xff, 0xff, 0xff}, []uint64{math.MaxUint64 - 1}},
		"const4u":      {[]byte{0x0c, 0xfe, 0xff, 0xff, 0xff}, []uint64{0xfffffffe}},
		"const8u":      {[]byte{0x0e, 1, 0, 0, 0, 0, 0, 0, 0x80}, []uint64{1<<63 + 1}},
		"constu":       {[]byte{0x10, 0xe5, 0x8e, 0x26}, []uint64{624485}},
		"consts":       {[]byte{0x11, 0x9b, 0xf1, 0x59}, []uint64{^uint64(624485) + 1}},
		"plus_uconst":  {[]byte{0x31, 0x23, 0x80, 0x01}, []uint64{129}},
		"deref":        {[]byte{0x0a, 0x00, 0x10, 0x06}, []uint64{0x8877665544332211}},
		"deref_size":   {[]byte{0x0a, 0x01, 0x10, 0x94, 3}, []uint64{0x443322}},
		"skip":         {[]byte{0x31, 0x2f, 1, 0, 0x32, 0x33}, []uint64{1, 3}},
		"bra, taken":   {[]byte{0x31, 0x28, 1, 0, 0x32, 0x33}, []uint64{3}},
		"bra, not":     {[]byte{0x30, 0x28, 1, 0, 0x32, 0x33}, []uint64{2, 3}},
		"a loop":       {[]byte{0x35, 0x31, 0x1c, 0x12, 0x28, 0xfa, 0xff}, []uint64{0}}, // five less one, until none
		"breg3":        {[]byte{0x73, 0x7f}, []uint64{0x1fff}},
		"bregx":        {[]byte{0x92, 3, 0x10}, []uint64{0x2010}},
		"fbreg":        {[]byte{0x91, 0x70}, []uint64{0x5ff0}},
		"frame":        {[]byte{0x9c}, []uint64{0x7000}},
		"addr":         {[]byte{0x03, 8, 0, 0, 0, 0, 0, 0, 0}, []uint64{0x400008}},
		"addrx":        {[]byte{0xa1, 3}, []uint64{0x400300}},
		"constx":       {[]byte{0xa2, 3}, []uint64{0x300}},
		"TLS":          {[]byte{0x38, 0x9b}, []uint64{0x9008}},
		"object":       {[]byte{0x97, 0x23, 8}, []uint64{0x5008}},
		"call2":        {[]byte{0x32, 0x98, 0, 0}, []uint64{7}},
		"call4":        {[]byte{0x32, 0x99, 0, 0, 0, 0}, []uint64{7}},
		"nop":          {[]byte{0x96, 0x31, 0x96}, []uint64{1}},
		"minus, order": {[]byte{0x35, 0x33, 0x1c}, []uint64{2}},
		"shra":         {[]byte{0x09, 0xf8, 0x31, 0x26}, []uint64{^uint64(3)}},
		"div, signed":  {[]byte{0x09, 0xf8, 0x32, 0x1b}, []uint64{^uint64(3)}},
	} {
		for i := len(x.want) - 1; i >= 0; i-- { // the top first, then what is below
			whole := append(append([]byte{}, x.expression...), stackValue)
			for range len(x.want) - 1 - i {
				whole = append(whole[:len(whole)-1], 0x13, stackValue)
			}
			got, err := location.Number(whole, frame)
			require.NoError(t, err, name)
			assert.Equal(t, x.want[i], got, "%s, entry %d", name, i)
		}
		whole := append([]byte{}, x.expression...)
		for range len(x.want) {
			whole = append(whole, 0x13)
		}
		p, err := location.Where(whole, frame)
		require.NoError(t, err, name)
		assert.Equal(t, []location.Piece{{Kind: location.Gone}}, p, "%s leaves nothing else", name)
	}
}

// TestPieces puts together values that are in several places (DWARF 5, section 2.6.1.2).
func TestPieces(t *testing.T) {
	t.Parallel()
	regs := &machine.Registers{Arch: machine.AMD64}
	regs.Set(7, 0x100)
	frame := &location.Frame{Registers: regs}
	for name, x := range map[string]struct {
		expression []byte
		want       []location.Piece
	}{
		"two registers":    {[]byte{0x53, 0x93, 4, 0x5a, 0x93, 2}, []location.Piece{{Kind: location.InRegister, Register: 3, Bits: 32}, {Kind: location.InRegister, Register: 10, Bits: 16}}},
		"a part is gone":   {[]byte{0x50, 0x93, 4, 0x93, 4, 0x77, 0x08, 0x93, 4}, []location.Piece{{Kind: location.InRegister, Bits: 32}, {Kind: location.Gone, Bits: 32}, {Address: 0x108, Bits: 32}}},
		"a constant":       {[]byte{0x34, 0x9f, 0x93, 8}, []location.Piece{{Kind: location.Constant, Number: 4, Bits: 64}}},
		"bytes":            {[]byte{0x9e, 2, 0xaa, 0xbb}, []location.Piece{{Kind: location.Literal, Bytes: []byte{0xaa, 0xbb}}}},
		"bits":             {[]byte{0x51, 0x9d, 3, 5}, []location.Piece{{Kind: location.InRegister, Register: 1, Bits: 3, From: 5}}},
		"implicit pointer": {[]byte{0xa0, 0x10, 0, 0, 0, 0x7c}, []location.Piece{{Kind: location.ImplicitPointer, Entry: 16, Offset: -4}}},
		"nothing":          {nil, []location.Piece{{Kind: location.Gone}}},
	} {
		p, err := location.Where(x.expression, frame)
		require.NoError(t, err, name)
		assert.Equal(t, x.want, p, name)
	}
}

// A piece whose register is not known does not take the others with it; a branch that depends on it does.
func TestLostPieces(t *testing.T) {
	t.Parallel()
	regs := &machine.Registers{Arch: machine.AMD64}
	regs.Set(3, 7)
	frame := &location.Frame{Registers: regs}
	p, err := location.Where([]byte{0x72, 0, 0x34, 0x1e, 0x9f, 0x93, 4, 0x53, 0x93, 4}, frame)
	require.NoError(t, err)
	require.Len(t, p, 2)
	assert.Equal(t, location.Gone, p[0].Kind)
	assert.ErrorIs(t, p[0].Why, location.ErrUnavailable)
	assert.Equal(t, location.Piece{Kind: location.InRegister, Register: 3, Bits: 32}, p[1])
	for name, x := range map[string][]byte{"alone": {0x72, 0, 0x9f}, "last": {0x53, 0x93, 4, 0x72, 0}, "branch": {0x72, 0, 0x28, 0, 0, 0x31, 0x93, 4}, "divisor": {0x31, 0x72, 0, 0x1b, 0x93, 4}} {
		_, err := location.Where(x, frame)
		assert.ErrorIs(t, err, location.ErrUnavailable, name)
	}
}

// Values that compilers describe wrongly are not known: an address in the stack in place of what is there, and shifts of
// negative numbers in registers that have more bits.
func TestWhatCompilersDescribeWrongly(t *testing.T) {
	t.Parallel()
	regs := &machine.Registers{Arch: machine.AMD64}
	regs.Set(7, 0x7ffd_0000_1000)
	frame := &location.Frame{Registers: regs, BaseType: baseType, CFA: func() (uint64, error) { return 0x7ffd_0000_2000, nil }, Read: func(_, n uint64) ([]byte, bool) { return make([]byte, n), true }}
	for _, place := range [][]byte{{0x77, 8}, {0x9c}, {0x77, 8, 0x23, 4}} {
		p, err := location.Where(slices.Concat(place, []byte{0x9f}), frame)
		require.NoError(t, err)
		require.ErrorIs(t, p[0].CheckStack(false), location.ErrUnavailable)
		require.NoError(t, p[0].CheckStack(true), "a pointer can be one")
		p, err = location.Where(slices.Concat(place, []byte{0x06, 0x9f}), frame)
		require.NoError(t, err)
		require.NoError(t, p[0].CheckStack(false), "what is there")
		for i, of := range types {
			_, err := location.Where(slices.Concat(place, []byte{0xa8, byte(i + 1), 0x9f}), frame)
			assert.Equal(t, of.Size < 8, err != nil, "%d bytes", of.Size)
		}
	}
	for name, x := range map[string]struct {
		bits  uint64
		known bool
	}{"a negative int": {0xffff_75c3, false}, "a negative short": {0x9b6e, false}, "a positive one": {0x1b6e, true}, "a negative long": {1<<64 - 5, true}, "a large one": {1 << 40, true}} {
		for _, op := range []byte{0x26, 0x1b} {
			_, err := location.Where(append(binary.LittleEndian.AppendUint64([]byte{0x0e}, x.bits), 0x32, op, 0x9f), frame)
			assert.Equal(t, x.known, err == nil, "%s, operation 0x%x", name, op)
		}
	}
}

// TestBadExpressions checks that each bad expression ends with an error: none runs forever, reads
// beyond its end, or uses a missing operand.
func TestBadExpressions(t *testing.T) {
	t.Parallel()
	bare := &location.Frame{}
	for name, b := range map[string][]byte{
		"no operand": {0x22}, "one of two": {0x31, 0x22}, "swap of one": {0x31, 0x16}, "rot of two": {0x31, 0x32, 0x17}, "pick too deep": {0x31, 0x15, 1}, "deref of nothing": {0x06},
		"cut off": {0x0e, 1, 2}, "endless uleb": {0x10, 0x80, 0x80}, "block too long": {0x9e, 0x7f, 1}, "unknown": {0xee}, "divides by zero": {0x31, 0x30, 0x1b},
		"for ever": {0x2f, 0xfd, 0xff}, "for ever and more": {0x31, 0x2f, 0xfc, 0xff}, "jumps before itself": {0x2f, 0, 0x80}, "jumps beyond": {0x2f, 0xff, 0x7f},
		"goes on after a register": {0x50, 0x31}, "read of 9 bytes": {0x31, 0x94, 9}, "no types": {0xa4, 1, 1, 1}, "no object": {0x97}, "no frame base": {0x91, 0}, "calls nothing": {0x98, 0, 0},
	} {
		_, err := location.Where(b, bare)
		require.ErrorIs(t, err, location.ErrMalformed, name)
	}
	for name, b := range map[string][]byte{"no register": {0x70, 0}, "no frame": {0x9c}, "no memory": {0x31, 0x06}, "no TLS": {0x31, 0x9b}, "no table": {0xa1, 1}, "no caller": {0xa3, 1, 0x50}} {
		_, err := location.Where(b, bare)
		require.ErrorIs(t, err, location.ErrUnavailable, name)
	}
	self := &location.Frame{Called: func(uint64) ([]byte, error) { return []byte{0x98, 0, 0}, nil }}
	_, err := location.Where([]byte{0x98, 0, 0}, self)
	require.ErrorIs(t, err, location.ErrMalformed, "it calls itself")
}

func FuzzExpression(f *testing.F) {
	for _, b := range [][]byte{{0x31, 0x12, 0x22, 0x9f}, {0x53, 0x93, 4, 0x5a, 0x93, 2}, constant(3, 7), {0x77, 8, 0x06, 0x23, 8, 0x94, 2}} {
		f.Add(b)
	}
	regs := &machine.Registers{Arch: machine.AMD64}
	regs.Set(7, 0x100)
	f.Fuzz(func(t *testing.T, b []byte) {
		frame := &location.Frame{Registers: regs, Read: func(_, n uint64) ([]byte, bool) { return make([]byte, n), n <= 8 },
			BaseType: func(offset uint64) (location.BaseType, error) {
				if offset < 1 || offset > uint64(len(types)) {
					return location.BaseType{}, fmt.Errorf("there is none at %d", offset)
				}
				return types[offset-1].BaseType, nil
			}, Called: func(uint64) ([]byte, error) { return b, nil }}
		p, err := location.Where(b, frame)
		if err == nil && len(p) == 0 {
			t.Fatal("a value is somewhere, or gone")
		}
	})
}
