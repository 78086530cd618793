package values

import (
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
)

// number reads a value of a plain form.
func number(t *debuginfo.Type, b []byte) event.Value {
	v := event.Value{Type: &t.Type, State: event.Known}
	n := le(b)
	switch t.Form {
	case event.Bool:
		v.Uint = n
		if n > 1 {
			v.Uint = 1
		}
	case event.Int:
		shift := 64 - 8*min(uint64(len(b)), 8)
		v.Int = int64(n<<shift) >> shift
	case event.Uint:
		v.Uint = n
	case event.Float:
		v.Float = float(b, t.Quad)
		v.Text = longFloat(b, t.Quad)
	case event.Complex:
		v.Float, v.Imag = float(b[:len(b)/2], t.Quad), float(b[len(b)/2:], t.Quad)
	default:
		v.Uint = n
		if len(b) > 8 {
			v.Text = wide(t.Signed, b)
		}
	}
	if t.Character {
		v.Text = character(v)
	}
	return v
}

// float reads an IEEE 754 number, or an x87 number of 80 bits. 16 bytes are a padded x87 number or
// a quad. A number that is no float64 becomes the nearest one.
func float(b []byte, isQuad bool) float64 {
	if len(b) == 16 && isQuad {
		return quad(le(b), le(b[8:]))
	}
	switch len(b) {
	case 2:
		return half(uint16(le(b)))
	case 4:
		return float64(math.Float32frombits(uint32(le(b))))
	case 8:
		return math.Float64frombits(le(b))
	case 10, 12, 16:
		mantissa, top := le(b), le(b[8:10])
		exponent := int(top & 0x7fff)
		f := math.Ldexp(float64(mantissa), exponent-16383-63)
		switch {
		case exponent == 0x7fff && mantissa<<1 == 0:
			f = math.Inf(1)
		case exponent == 0x7fff:
			f = math.NaN()
		}
		if top>>15 != 0 {
			f = -f
		}
		return f
	}
	return math.NaN()
}

// longFloat writes an x87 number or a quad in decimal if no float64 is equal to it: with the fewest digits that tell it from
// its neighbours. It is empty for others.
func longFloat(b []byte, isQuad bool) string {
	var n *big.Int
	var exponent, bits int
	switch {
	case len(b) == 16 && isQuad:
		high := le(b[8:])
		exponent, bits = int(high>>48&0x7fff), 113
		n = new(big.Int).SetUint64(1<<48 | high&(1<<48-1))
		n.Or(n.Lsh(n, 64), new(big.Int).SetUint64(le(b)))
	case len(b) == 10 || len(b) == 12 || len(b) == 16:
		exponent, bits = int(le(b[8:10])&0x7fff), 64
		n = new(big.Int).SetUint64(le(b))
	default:
		return ""
	}
	if exponent == 0 || exponent == 0x7fff || n.Sign() == 0 {
		return "" // zero, subnormal, infinite or no number
	}
	f := new(big.Float).SetPrec(uint(bits)).SetInt(n)
	f.SetMantExp(f, exponent-16383-(bits-1))
	signAt := 9
	if isQuad {
		signAt = 15
	}
	if b[signAt]&0x80 != 0 {
		f.Neg(f)
	}
	if _, accuracy := f.Float64(); accuracy == big.Exact {
		return ""
	}
	return f.Text('g', -1)
}

// quad reads a number of 128 bits (IEEE 754-2019, binary128) by its lower and upper half.
func quad(low, high uint64) float64 {
	exponent, fraction := int(high>>48&0x7fff), high&(1<<48-1)
	sign := 1.0
	if high>>63 != 0 {
		sign = -1
	}
	switch {
	case exponent == 0x7fff && fraction|low != 0:
		return math.NaN()
	case exponent == 0x7fff:
		return math.Inf(int(sign))
	case exponent == 0: // less than the smallest float64
		return math.Copysign(0, sign)
	}
	n := new(big.Int).SetUint64(1<<48 | fraction)
	n.Or(n.Lsh(n, 64), new(big.Int).SetUint64(low))
	f := new(big.Float).SetInt(n)
	out, _ := f.SetMantExp(f, exponent-16383-112).Float64()
	return sign * out
}

func half(n uint16) float64 {
	exponent, fraction := int(n>>10&0x1f), float64(n&0x3ff)/1024
	f := math.Ldexp(1+fraction, exponent-15)
	switch exponent {
	case 0:
		f = math.Ldexp(fraction, -14)
	case 0x1f:
		f = math.Inf(1)
		if fraction != 0 {
			f = math.NaN()
		}
	}
	if n>>15 != 0 {
		return -f
	}
	return f
}

// wide writes an integer of more than eight bytes.
func wide(signed bool, b []byte) string {
	b = slices.Clone(b)
	slices.Reverse(b)
	n := new(big.Int).SetBytes(b)
	if signed && b[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
	}
	return n.String()
}

// character writes a character, if it is printable.
func character(v event.Value) string {
	r := rune(v.Uint)
	if v.Form() == event.Int {
		r = rune(v.Int)
	}
	if r >= 0 && r <= utf8.MaxRune && (unicode.IsPrint(r) || strings.ContainsRune("\n\t\r", r)) && (v.Type.Size > 1 || r < 128) {
		return fmt.Sprintf("%q", r)
	}
	return ""
}

// constant names a value of an enumeration: a constant, or several combined flags.
func constant(t *debuginfo.Type, v event.Value) string {
	n := v.Int
	if v.Form() == event.Uint {
		n = int64(v.Uint)
	}
	if name, ok := t.Names[n]; ok {
		return name
	}
	var single []int64
	for c := range t.Names {
		if c > 0 && c&(c-1) == 0 && n&c != 0 {
			single = append(single, c)
			n &^= c
		}
	}
	if n != 0 || len(single) < 2 {
		return ""
	}
	slices.Sort(single)
	var names []string
	for _, c := range single {
		names = append(names, t.Names[c])
	}
	return strings.Join(names, "|")
}
