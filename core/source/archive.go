package source

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/room"
)

// Bounds of the contents of an archive.
const (
	maxFiles    = 500_000
	maxDepth    = 100          // folders in each other
	maxFolders  = 8 * maxFiles // in the names of all files
	maxUnpacked = 8 << 30
)

// IsArchive reports whether a file begins like a zip or tar.gz archive.
func IsArchive(head []byte) bool {
	return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte{0x1f, 0x8b})
}

// Unpack unpacks an archive's regular files into a folder, which appears complete or not at all.
// Names cannot point out of it.
func Unpack(ctx context.Context, archive, into string) (err error) {
	return unpack(ctx, archive, into, maxUnpacked)
}

// unpack is Unpack of at most most bytes.
func unpack(ctx context.Context, archive, into string, most int64) (err error) {
	if _, err := os.Stat(into); err == nil {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(into), 0o700); err != nil {
		return fmt.Errorf("unpack source text: %w", err)
	}
	partial, err := os.MkdirTemp(filepath.Dir(into), ".partial-*")
	if err != nil {
		return fmt.Errorf("unpack source text: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(partial)) }()
	root, err := os.OpenRoot(partial)
	if err != nil {
		return err
	}
	defer root.Close()
	err = room.Keep(ctx, partial, func(ctx context.Context) error {
		u := &unpacking{ctx: ctx, root: root, left: most}
		return u.all(archive)
	})
	if err != nil {
		return err
	}
	if err := os.Rename(partial, into); err != nil {
		if _, there := os.Stat(into); there == nil {
			return nil // another process was faster
		}
		return fmt.Errorf("unpack source text: %w", err)
	}
	return nil
}

type unpacking struct {
	ctx            context.Context
	root           *os.Root
	files, folders int
	left           int64
}

func (u *unpacking) all(archive string) error {
	f, err := os.Open(archive)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 4)
	if _, err := io.ReadFull(f, head); err != nil || !IsArchive(head) {
		return fmt.Errorf("%w: give a .zip or a .tar.gz", fault.InvalidSource)
	}
	if head[0] == 'P' {
		info, err := f.Stat()
		if err != nil {
			return err
		}
		return u.zip(f, info.Size())
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return u.tar(f)
}

func (u *unpacking) zip(f *os.File, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("%w: %w", fault.InvalidSource, err)
	}
	for _, x := range z.File {
		if !x.Mode().IsRegular() {
			continue
		}
		r, err := x.Open()
		if err != nil {
			return fmt.Errorf("%w: %s: %w", fault.InvalidSource, x.Name, err)
		}
		if err := errors.Join(u.one(x.Name, r), r.Close()); err != nil {
			return err
		}
	}
	return nil
}

func (u *unpacking) tar(f *os.File) error {
	z, err := gzip.NewReader(f)
	if err != nil {
		return fmt.Errorf("%w: %w", fault.InvalidSource, err)
	}
	for t := tar.NewReader(z); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %w", fault.InvalidSource, err)
		}
		if h.Typeflag == tar.TypeReg {
			if err := u.one(h.Name, t); err != nil {
				return err
			}
		}
	}
}

func (u *unpacking) one(name string, r io.Reader) error {
	if err := u.ctx.Err(); err != nil {
		return err
	}
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	if name == "" {
		return nil
	}
	depth := strings.Count(name, "/")
	u.files, u.folders = u.files+1, u.folders+depth
	if u.files > maxFiles || u.folders > maxFolders || depth > maxDepth {
		return fmt.Errorf("%w: more than %d files, or too many folders: at most %d in each other", fault.InvalidSource, maxFiles, maxDepth)
	}
	if err := u.root.MkdirAll(path.Dir(name), 0o700); err != nil {
		return fmt.Errorf("%w: %s: %w", fault.InvalidSource, name, err)
	}
	f, err := u.root.Create(name)
	if err != nil {
		return fmt.Errorf("%w: %s: %w", fault.InvalidSource, name, err)
	}
	n, err := io.Copy(f, io.LimitReader(guard.Reader(u.ctx, r), u.left+1))
	u.left -= n
	if u.left < 0 {
		err = errors.Join(err, fmt.Errorf("%w: it unpacks to more than %d MB", fault.InvalidSource, maxUnpacked>>20))
	}
	return errors.Join(err, f.Close())
}
