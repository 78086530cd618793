package values

import (
	"encoding/binary"
	"math"
	"math/big"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written writes a float64 in the formats of other sizes, with a number of bits of exponent and
// fraction, and with the leading bit of the fraction if the format has it (x87).
func written(f float64, size, exponent, fraction int, leading bool) []byte {
	bits := math.Float64bits(f)
	n := new(big.Int).SetUint64(bits & (1<<52 - 1))
	if leading {
		n.SetBit(n, 52, 1)
	}
	n.Lsh(n, uint(fraction-52))
	e := int64(bits>>52&0x7ff) - 1023 + 1<<(exponent-1) - 1
	shift := uint(fraction)
	if leading {
		shift++
	}
	n.Or(n, new(big.Int).Lsh(big.NewInt(e), shift))
	if bits>>63 != 0 {
		n.SetBit(n, int(shift)+exponent, 1)
	}
	b := n.FillBytes(make([]byte, size))
	slices.Reverse(b)
	return b
}

// TestFloatsOfAllSizes reads numbers as they were written, in each form that compilers use.
func TestFloatsOfAllSizes(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(4, 3))
	for range 5000 {
		f := math.Ldexp(random.Float64()-0.5, random.IntN(2000)-1000)
		if math.Float64bits(f)>>52&0x7ff == 0 {
			continue
		}
		require.Equal(t, f, float(written(f, 16, 15, 112, false), true), "binary128")
		for _, size := range []int{10, 12, 16} {
			require.Equal(t, f, float(written(f, size, 15, 63, true), false), "x87 in %d bytes", size)
		}
		require.Equal(t, f, float(binary.LittleEndian.AppendUint64(nil, math.Float64bits(f)), true))
		require.Equal(t, float32(f), float32(float(binary.LittleEndian.AppendUint32(nil, math.Float32bits(float32(f))), true)))
	}
	// What float64 cannot hold becomes the nearest that it can.
	third := written(1, 16, 15, 112, false)
	for i := range 14 {
		third[i] = 0x55
	}
	assert.InEpsilon(t, 4.0/3, float(third, true), 1e-15)
	for _, x := range []struct {
		bits uint16
		want float64
	}{{0x3c00, 1}, {0xc000, -2}, {0x7bff, 65504}, {0x0400, 0x1p-14}, {0x0001, 0x1p-24}, {0x83ff, -0x3ffp-24}, {0x3555, 0.333251953125}, {0x7c00, math.Inf(1)}, {0xfc00, math.Inf(-1)}, {0, 0}} {
		assert.Equal(t, x.want, float(binary.LittleEndian.AppendUint16(nil, x.bits), false), "%04x", x.bits)
	}
	quadOf := func(high, low uint64) float64 {
		return float(binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, low), high), true)
	}
	assert.Equal(t, math.Inf(-1), quadOf(0xffff<<48, 0))
	assert.True(t, math.IsNaN(quadOf(0x7fff<<48, 1)))
	assert.Zero(t, quadOf(0, 1))
	assert.Equal(t, math.Inf(1), quadOf(0x7ffe<<48, 0), "far beyond float64")
	for name, x := range map[string]struct {
		high uint16
		low  uint64
		is   func(float64) bool
	}{
		"infinite": {0xffff, 1 << 63, func(f float64) bool { return math.IsInf(f, -1) }}, "no number": {0x7fff, 3 << 62, math.IsNaN}, "zero": {0, 0, func(f float64) bool { return f == 0 }},
	} {
		assert.True(t, x.is(float(binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint64(nil, x.low), x.high), false)), name)
	}
	assert.True(t, math.IsNaN(float(make([]byte, 3), false)), "no form has 3 bytes")
}

// TestWideNumbers compares integers of 16 bytes with arithmetic of arbitrary precision.
func TestWideNumbers(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(4, 4))
	for range 500 {
		b := make([]byte, 16)
		for i := range b {
			b[i] = byte(random.Uint32())
		}
		low, high := new(big.Int).SetUint64(binary.LittleEndian.Uint64(b)), binary.LittleEndian.Uint64(b[8:])
		unsigned := new(big.Int).Add(low, new(big.Int).Mul(new(big.Int).SetUint64(high), new(big.Int).Exp(big.NewInt(2), big.NewInt(64), nil)))
		signed := new(big.Int).Add(low, new(big.Int).Mul(big.NewInt(int64(high)), new(big.Int).Exp(big.NewInt(2), big.NewInt(64), nil)))
		assert.Equal(t, unsigned.String(), wide(false, b))
		assert.Equal(t, signed.String(), wide(true, b))
	}
}
