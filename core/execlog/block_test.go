package execlog

import (
	"bytes"
	"compress/flate"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A header is read as it was written, and every invalid one is refused with the reason.
func TestHeaders(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(2, 2))
	for range 1000 {
		h := BlockHeader{Type: HeaderBlock + BlockType(r.IntN(int(EventBlock-HeaderBlock)+1)), Codec: Codec(r.IntN(int(Live))), Process: uint16(r.Uint32()), Capacity: uint32(r.IntN(MaxCapacity + 1)),
			Unpacked: uint32(r.IntN(MaxUnpacked + 1)), Thread: r.Uint32(), Base: r.Int64(), Sequence: r.Uint32(), Checksum: r.Uint32()}
		h.Stored = uint32(r.IntN(int(h.Capacity) + 1))
		b := h.encode()
		require.Len(t, b, HeaderSize)
		got, err := decodeHeader(b)
		require.NoError(t, err)
		require.Equal(t, h, got)
		for i := range b { // no byte of it can be another one
			b[i] ^= byte(1 + r.IntN(255))
			_, err := decodeHeader(b)
			require.Error(t, err, "byte %d", i)
			copy(b, h.encode())
		}
		_, err = decodeHeader(b[:r.IntN(HeaderSize)])
		require.ErrorIs(t, err, errNoBlock)
	}
	valid := BlockHeader{Type: EventBlock, Codec: Zstd, Stored: 10, Capacity: 10, Unpacked: 20}
	for reason, change := range map[string]func(*BlockHeader){
		"unknown block type 0":   func(h *BlockHeader) { h.Type = HeaderBlock - 1 },
		"unknown block type 4":   func(h *BlockHeader) { h.Type, h.Codec = EventBlock+1, Live },
		"unknown codec":          func(h *BlockHeader) { h.Codec = Live + 1 },
		"block lengths 11/20/10": func(h *BlockHeader) { h.Stored = 11 },
		"out of range":           func(h *BlockHeader) { h.Unpacked = MaxUnpacked + 1 },
		"/20/":                   func(h *BlockHeader) { h.Capacity = MaxCapacity + 1 },
	} {
		h := valid
		change(&h)
		_, err := decodeHeader(h.encode())
		assert.ErrorContains(t, err, reason)
	}
	// A block that is being written has no checksum yet, and is as long as what is stored.
	live := BlockHeader{Type: EventBlock, Codec: Live, Stored: 7, Capacity: 9, Unpacked: 99}
	b := live.encode()
	b[44]++
	got, err := decodeHeader(b)
	require.NoError(t, err)
	assert.EqualValues(t, 7, got.Unpacked)
}

// The payload of a block is what was packed, in each codec, or an error.
func TestPayloads(t *testing.T) {
	t.Parallel()
	plain := bytes.Repeat([]byte("Gannet Sound "), 1000)
	var deflated bytes.Buffer
	w, err := flate.NewWriter(&deflated, flate.DefaultCompression)
	require.NoError(t, err)
	_, err = w.Write(plain)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for codec, stored := range map[Codec][]byte{Plain: plain, Deflate: deflated.Bytes(), Zstd: packer.EncodeAll(plain, nil), Live: plain} {
		h := BlockHeader{Type: EventBlock, Codec: codec, Unpacked: uint32(len(plain)), Checksum: Checksum(stored)}
		got, err := h.unpack(stored)
		require.NoError(t, err, "codec %d", codec)
		assert.Equal(t, plain, got, "codec %d", codec)
		if codec == Live {
			continue
		}
		for _, n := range []int{len(plain) - 1, len(plain) + 1, 0} {
			wrong := h
			wrong.Unpacked = uint32(n)
			_, err = wrong.unpack(stored)
			require.Error(t, err, "codec %d, %d bytes", codec, n)
		}
		wrong := h
		wrong.Checksum++
		_, err = wrong.unpack(stored)
		require.ErrorContains(t, err, "checksum", "codec %d", codec)
		if codec == Plain {
			continue
		}
		cut := stored[:len(stored)/2]
		wrong = h
		wrong.Checksum = Checksum(cut)
		_, err = wrong.unpack(cut)
		require.Error(t, err, "codec %d, cut off", codec)
	}
}
