package event

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/zstd"
)

// maxTables limits the unpacked size of tables, in bytes.
const maxTables = 4 << 30

var errTables = errors.New("malformed tables")

// Encode returns the tables without their threads in the form that DecodeTables reads: the CRC-32C
// of the rest; then, packed with Zstandard, the header and the records of each process.
func (t *Tables) Encode() ([]byte, error) {
	byProcess := map[uint16][]byte{}
	var errs error
	add := func(process uint16, r Record) {
		b, err := AppendRecords(byProcess[process], process, r)
		byProcess[process], errs = b, errors.Join(errs, err)
	}
	for _, f := range t.Files {
		add(0, f)
	}
	for _, f := range t.Functions {
		add(0, f)
	}
	for _, s := range t.Sites {
		add(0, s)
	}
	for _, p := range t.Processes {
		add(p.ID, p)
	}
	t.EachType(func(process uint16, x *Type) { add(process, *x) })
	for _, e := range t.Ends {
		add(e.Process, e)
	}
	for _, g := range t.Gaps {
		add(0, g)
	}
	header, err := cbor.Marshal(t.Header)
	if err = errors.Join(errs, err); err != nil {
		return nil, err
	}
	plain := append(binary.AppendUvarint(nil, uint64(len(header))), header...)
	for process, records := range byProcess {
		plain = binary.AppendUvarint(binary.AppendUvarint(plain, uint64(process)), uint64(len(records)))
		plain = append(plain, records...)
	}
	packer, err := zstd.NewWriter(nil)
	if err != nil {
		return nil, fmt.Errorf("pack the tables: %w", err)
	}
	b := packer.EncodeAll(plain, make([]byte, 4))
	binary.LittleEndian.PutUint32(b, crc32.Checksum(b[4:], castagnoli))
	return b, nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// DecodeHeader decodes a header with the limits of table records.
func DecodeHeader(b []byte, h *Header) error { return decodeMode.Unmarshal(b, h) }

// DecodeTables decodes the result of Encode.
func DecodeTables(b []byte) (*Tables, error) {
	if len(b) < 4 || crc32.Checksum(b[4:], castagnoli) != binary.LittleEndian.Uint32(b) {
		return nil, fmt.Errorf("%w: checksum mismatch", errTables)
	}
	unpacker, err := zstd.NewReader(bytes.NewReader(nil), zstd.WithDecoderMaxMemory(maxTables))
	if err != nil {
		return nil, fmt.Errorf("unpack the tables: %w", err)
	}
	defer unpacker.Close()
	plain, err := unpacker.DecodeAll(b[4:], nil)
	if err != nil {
		return nil, fmt.Errorf("unpack the tables: %w", err)
	}
	t := NewTables()
	c := &cursor{b: plain}
	if err := DecodeHeader(c.take(c.uvarint()), &t.Header); err != nil || c.err != nil {
		return nil, fmt.Errorf("%w: header: %w", errTables, errors.Join(err, c.err))
	}
	for len(c.b) > 0 {
		process := c.uvarint()
		records := c.take(c.uvarint())
		if c.err != nil {
			return nil, fmt.Errorf("%w: %w", errTables, c.err)
		}
		if err := t.Take(records, uint16(process)); err != nil {
			return nil, fmt.Errorf("%w: %w", errTables, err)
		}
	}
	return t, nil
}
