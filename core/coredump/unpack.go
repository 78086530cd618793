package coredump

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"
)

// compression tells how a file is compressed by its first bytes; empty for not at all.
func compression(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return "gzip"
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return "zstd"
	}
	return ""
}

// maxUnpacked bounds the size that a compressed dump unpacks to.
const maxUnpacked = 1 << 40

// unpack writes a compressed dump's contents to a file without a name, in which
// pages of zeros take no room. Damage ends it early: what came before counts,
// and the dump itself says that it is cut off.
func unpack(ctx context.Context, f *os.File, how string) (*os.File, error) {
	in := io.NewSectionReader(f, 0, 1<<62)
	var plain io.Reader
	switch how {
	case "gzip":
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, err
		}
		plain = z
	default:
		z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		plain = z
	}
	out, err := os.CreateTemp("", "wraithology-dump-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(out.Name()); err != nil { // it lives as long as it is used
		return nil, errors.Join(err, out.Close())
	}
	size, err := copySparse(ctx, out, plain)
	if err == nil {
		err = out.Truncate(size)
	}
	if err != nil {
		return nil, errors.Join(err, out.Close())
	}
	return out, nil
}

func copySparse(ctx context.Context, out *os.File, in io.Reader) (int64, error) {
	const piece = 64 << 10
	buffer, zeros := make([]byte, piece), make([]byte, piece)
	var size int64
	for {
		if err := ctx.Err(); err != nil {
			return size, err
		}
		n, err := io.ReadFull(in, buffer)
		if n > 0 && !bytes.Equal(buffer[:n], zeros[:n]) {
			if _, err := out.WriteAt(buffer[:n], size); err != nil {
				return size, fmt.Errorf("there may be no room for it: %w", err)
			}
		}
		size += int64(n)
		switch {
		case err == nil:
		case size == 0:
			return 0, err
		default:
			return size, nil // its end, or damage
		}
		if size > maxUnpacked {
			return size, fmt.Errorf("it unpacks to more than %d bytes", int64(maxUnpacked))
		}
	}
}
