// Package sparse copies into files so that pages of zeros take no room: core dumps
// are mostly those.
package sparse

import (
	"bytes"
	"errors"
	"io"
)

const piece = 64 << 10

// File is what is copied into, as an os.File.
type File interface {
	io.WriterAt
	Truncate(size int64) error
}

// Copy writes what it reads from r into an empty file and returns how much that
// was. What was read before an error of r is there.
func Copy(f File, r io.Reader) (int64, error) {
	buffer, zeros := make([]byte, piece), make([]byte, piece)
	var size int64
	for {
		n, err := io.ReadFull(r, buffer)
		if n > 0 && !bytes.Equal(buffer[:n], zeros[:n]) {
			if _, err := f.WriteAt(buffer[:n], size); err != nil {
				return size, err
			}
		}
		size += int64(n)
		if err == nil {
			continue
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) && n > 0 && ended(r) {
			err = nil
		}
		return size, errors.Join(err, f.Truncate(size))
	}
}

// ended reports whether a reader is at its end, rather than broken off: io.ReadFull
// gives both the same name.
func ended(r io.Reader) bool {
	n, err := r.Read(make([]byte, 1))
	return n == 0 && errors.Is(err, io.EOF)
}
