// Package packed unpacks evidence that was compressed with gzip or Zstandard.
package packed

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"

	"github.com/klauspost/compress/zstd"

	"wraithology/core/sparse"
)

// How is the compression of a file; empty for none.
type How string

// The ways, by the standards that describe them.
const (
	Gzip      How = "gzip" // RFC 1952
	Zstandard How = "zstd" // RFC 8878
)

// Detect returns how a file is compressed, by its first bytes.
func Detect(head []byte) How {
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return Gzip
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return Zstandard
	}
	return ""
}

// ErrTooLarge means that the unpacked size exceeds the limit.
var ErrTooLarge = errors.New("unpacked size exceeds the limit")

// zerosOf is how many times as large as what is written a file may be: pages of zeros use no space, but they take time.
const zerosOf = 16

// reader reads what is unpacked.
func reader(in io.Reader, how How) (plain io.Reader, end func(), err error) {
	if how == Gzip {
		z, err := gzip.NewReader(in)
		return z, func() {}, err
	}
	const window = 256 << 20
	z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(window), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, nil, err
	}
	return z, z.Close, nil
}

// Beginning unpacks the first n bytes of a file. Damage ends them early.
func Beginning(f io.ReaderAt, how How, n int64) ([]byte, error) {
	plain, end, err := reader(io.NewSectionReader(f, 0, 1<<62), how)
	if err != nil {
		return nil, fmt.Errorf("unpack: %w", err)
	}
	defer end()
	b, err := io.ReadAll(io.LimitReader(plain, n))
	if len(b) == 0 && err != nil {
		return nil, fmt.Errorf("unpack: %w", err)
	}
	return b, nil
}

// Unpack unpacks a file into an anonymous file in a folder, which uses at most most bytes of the disk. Pages of zeros use
// no space; with them the file has at most 16 times as many bytes. The error wraps ErrTooLarge if it would be larger. Damage ends the file early and is returned as damage. done, if not nil, is called with
// the share of the packed file that has been read.
func Unpack(ctx context.Context, f *os.File, how How, folder string, most int64, done func(float64)) (out *os.File, damage, err error) {
	info, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	in := &counted{r: io.NewSectionReader(f, 0, info.Size()), size: info.Size(), done: done}
	plain, end, err := reader(in, how)
	if err != nil {
		return nil, nil, err
	}
	defer end()
	if out, err = os.CreateTemp(folder, "wraithology-unpacked-*"); err != nil {
		return nil, nil, err
	}
	if err := os.Remove(out.Name()); err != nil { // it lives as long as it is used
		return nil, nil, errors.Join(err, out.Close())
	}
	largest := int64(math.MaxInt64)
	if most < largest/zerosOf {
		largest = most * zerosOf
	}
	from := &bounded{ctx: ctx, r: plain, left: largest}
	to := &limited{File: out, left: most}
	size, err := sparse.Copy(to, from)
	switch {
	case err == nil:
		return out, nil, nil
	case size > 0 && ctx.Err() == nil && from.err != nil && !errors.Is(from.err, ErrTooLarge):
		return out, from.err, nil
	}
	return nil, nil, errors.Join(err, out.Close())
}

// limited is a file into which a number of bytes can be written.
type limited struct {
	*os.File
	left int64
}

// WriteAt implements io.WriterAt.
func (l *limited) WriteAt(p []byte, at int64) (int, error) {
	if l.left -= int64(len(p)); l.left < 0 {
		return 0, ErrTooLarge
	}
	return l.File.WriteAt(p, at)
}

// counted tells how much has been read.
type counted struct {
	r          io.Reader
	read, size int64
	done       func(float64)
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.read += int64(n); c.done != nil {
		c.done(float64(c.read) / float64(max(c.size, 1)))
	}
	return n, err
}

// bounded reads until a context ends or a number of bytes is reached.
type bounded struct {
	ctx  context.Context
	r    io.Reader
	left int64
	err  error // what ended it, other than its end
}

func (b *bounded) Read(p []byte) (n int, err error) {
	defer func() {
		if err != nil && !errors.Is(err, io.EOF) {
			b.err = err
		}
	}()
	if err := b.ctx.Err(); err != nil {
		return 0, err
	}
	n, err = b.r.Read(p[:min(int64(len(p)), b.left+1)])
	if int64(n) > b.left {
		return int(b.left), ErrTooLarge
	}
	b.left -= int64(n)
	return n, err
}
