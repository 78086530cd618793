package coredump

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"

	"wraithology/core/sparse"
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
	// Damage ends it early; the dump itself then says that it is cut off.
	size, err := sparse.Copy(out, &bounded{ctx, plain, maxUnpacked})
	if size > 0 && ctx.Err() == nil && !errors.Is(err, errTooLarge) {
		return out, nil
	}
	return nil, errors.Join(err, ctx.Err(), out.Close())
}

var errTooLarge = errors.New("it unpacks to too much")

// bounded reads until a context ends or a number of bytes is reached.
type bounded struct {
	ctx  context.Context
	r    io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	if err := b.ctx.Err(); err != nil {
		return 0, err
	}
	if b.left <= 0 {
		return 0, errTooLarge
	}
	n, err := b.r.Read(p)
	b.left -= int64(n)
	return n, err
}
