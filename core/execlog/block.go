// Package execlog reads and writes the .wraith execution-log format, specified
// in docs/formats/execution-log.md: append-only blocks with length, codec and
// CRC32C; tables; and events whose values are CBOR (RFC 8949).
package execlog

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/zstd"
)

// Magic is the beginning of every log. Version follows it as a little-endian 16-bit number.
const (
	Magic      = "WRAITHLG"
	Version    = 3
	PrefixSize = 16
)

// Layout of a block. MaxUnpacked limits the allocation for one block.
const (
	BlockMagic  = 0x4b4c4257 // "WBLK", little-endian
	HeaderSize  = 48
	MaxUnpacked = 16 << 20
	MaxCapacity = 1 << 30
)

// BlockType says what a block holds.
type BlockType uint8

// The block types. Readers skip blocks of other types, which later versions may add.
const (
	HeaderBlock BlockType = 1
	TableBlock  BlockType = 2
	EventBlock  BlockType = 3
	// SummaryBlock holds a Summary.
	SummaryBlock BlockType = 4
)

// Codec says how a block's payload is stored.
type Codec uint8

// The codecs. Live marks a block in shared memory that was being filled when its program ended: its
// payload is plain and its checksums are not set.
const (
	Plain   Codec = 0
	Deflate Codec = 1
	Zstd    Codec = 2
	Live    Codec = 3
)

// BlockHeader is the fixed header of a block. The events' times count from Base, in nanoseconds
// since the start of the log. Sequence orders the blocks of one process.
type BlockHeader struct {
	Type     BlockType
	Codec    Codec
	Process  uint16
	Stored   uint32
	Unpacked uint32
	Capacity uint32
	Thread   uint32
	Base     int64
	Sequence uint32
	Checksum uint32
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Checksum returns the CRC32C (RFC 3720, appendix B.4) of b.
func Checksum(b []byte) uint32 { return crc32.Checksum(b, castagnoli) }

func (h BlockHeader) encode() []byte {
	b := make([]byte, HeaderSize)
	le := binary.LittleEndian
	le.PutUint32(b[0:], BlockMagic)
	b[4], b[5] = byte(h.Type), byte(h.Codec)
	le.PutUint16(b[6:], h.Process)
	le.PutUint32(b[8:], h.Stored)
	le.PutUint32(b[12:], h.Unpacked)
	le.PutUint32(b[16:], h.Capacity)
	le.PutUint32(b[20:], h.Thread)
	le.PutUint64(b[24:], uint64(h.Base))
	le.PutUint32(b[32:], h.Sequence)
	le.PutUint32(b[36:], h.Checksum)
	le.PutUint32(b[44:], Checksum(b[:44]))
	return b
}

var errNoBlock = errors.New("no block begins here")

// decodeHeader decodes a block header. It rejects invalid ones, so that all lengths in the result
// are within their limits.
func decodeHeader(b []byte) (BlockHeader, error) {
	le := binary.LittleEndian
	if len(b) < HeaderSize || le.Uint32(b) != BlockMagic {
		return BlockHeader{}, errNoBlock
	}
	h := BlockHeader{
		Type: BlockType(b[4]), Codec: Codec(b[5]), Process: le.Uint16(b[6:]),
		Stored: le.Uint32(b[8:]), Unpacked: le.Uint32(b[12:]), Capacity: le.Uint32(b[16:]),
		Thread: le.Uint32(b[20:]), Base: int64(le.Uint64(b[24:])), Sequence: le.Uint32(b[32:]),
		Checksum: le.Uint32(b[36:]),
	}
	if h.Codec == Live {
		h.Unpacked = h.Stored
	} else if le.Uint32(b[44:]) != Checksum(b[:44]) {
		return h, errors.New("the block header's checksum is wrong")
	}
	switch {
	case h.Type < HeaderBlock || h.Type > EventBlock && h.Codec == Live:
		return h, fmt.Errorf("unknown block type %d", h.Type)
	case h.Codec > Live:
		return h, fmt.Errorf("unknown codec %d", h.Codec)
	case h.Capacity > MaxCapacity || h.Stored > h.Capacity || h.Unpacked > MaxUnpacked:
		return h, fmt.Errorf("block lengths %d/%d/%d out of range", h.Stored, h.Unpacked, h.Capacity)
	}
	return h, nil
}

var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(2))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(MaxUnpacked))
)

// unpack verifies the stored bytes of a block and returns its payload.
func (h BlockHeader) unpack(stored []byte) ([]byte, error) {
	if h.Codec == Live {
		return stored, nil
	}
	if Checksum(stored) != h.Checksum {
		return nil, errors.New("the block's checksum is wrong")
	}
	var plain []byte
	var err error
	switch h.Codec {
	case Plain:
		plain = stored
	case Deflate:
		plain, err = io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(stored)), int64(h.Unpacked)+1))
	case Zstd:
		plain, err = unpacker.DecodeAll(stored, make([]byte, 0, h.Unpacked))
	}
	if err != nil {
		return nil, fmt.Errorf("unpack the block: %w", err)
	}
	if uint32(len(plain)) != h.Unpacked {
		return nil, fmt.Errorf("the block unpacks to %d bytes, its header says %d", len(plain), h.Unpacked)
	}
	return plain, nil
}
