// Package vault stores the bytes of evidence in a folder by SHA-256. When Put returns without an
// error, they are on disk; otherwise nothing is left.
package vault

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/room"
	"wraithology/core/sparse"
)

// Vault is a folder of evidence.
type Vault struct {
	dir  string
	mu   sync.Mutex                // of files that come and go
	room func() (room.Room, error) // instead of that of the disk, for tests; nil otherwise
}

// Stored says what was put into the vault.
type Stored struct {
	SHA256 string
	Bytes  int64
}

// Open opens the vault in dir, creates it if necessary, and removes the remains of unfinished
// uploads.
func Open(dir string) (*Vault, error) {
	incoming := filepath.Join(dir, "incoming")
	if err := os.RemoveAll(incoming); err != nil {
		return nil, fmt.Errorf("remove unfinished uploads: %w", err)
	}
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, fmt.Errorf("create the vault: %w", err)
	}
	return &Vault{dir: dir}, nil
}

// Path returns the path of the evidence with a SHA-256.
func (v *Vault) Path(sum string) string { return filepath.Join(v.dir, sum[:2], sum) }

// Put stores the bytes of r. Pages of zeros use no space.
func (v *Vault) Put(ctx context.Context, r io.Reader) (s Stored, err error) {
	f, err := os.CreateTemp(filepath.Join(v.dir, "incoming"), "upload-")
	if err != nil {
		return s, fmt.Errorf("create a file in the vault: %w", err)
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	sum := sha256.New()
	if s.Bytes, err = sparse.Copy(f, io.TeeReader(guard.Reader(ctx, &bounded{r: r, vault: v}), sum)); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) || ctx.Err() != nil {
			return s, fmt.Errorf("%w after %d bytes: upload it again", fault.CutOff, s.Bytes)
		}
		return s, fmt.Errorf("store the evidence: %w", err)
	}
	s.SHA256 = hex.EncodeToString(sum.Sum(nil))
	if err = f.Sync(); err != nil {
		return s, fmt.Errorf("write the evidence to disk: %w", err)
	}
	if err = f.Close(); err != nil {
		return s, fmt.Errorf("write the evidence to disk: %w", err)
	}
	err = v.place(f.Name(), s.SHA256)
	return s, err
}

// Spool stores the bytes of r in a file without a name: it is gone when it is closed.
func (v *Vault) Spool(ctx context.Context, r io.Reader) (*os.File, error) {
	f, err := os.CreateTemp(filepath.Join(v.dir, "incoming"), "spool-")
	if err != nil {
		return nil, fmt.Errorf("create a file in the vault: %w", err)
	}
	if err := os.Remove(f.Name()); err != nil {
		f.Close()
		return nil, fmt.Errorf("create a file in the vault: %w", err)
	}
	if n, err := sparse.Copy(f, guard.Reader(ctx, &bounded{r: r, vault: v})); err != nil {
		f.Close()
		if errors.Is(err, io.ErrUnexpectedEOF) || ctx.Err() != nil {
			return nil, fmt.Errorf("%w after %d bytes: upload it again", fault.CutOff, n)
		}
		return nil, fmt.Errorf("store what was sent: %w", err)
	}
	return f, nil
}

// syncFolder makes a rename in a folder durable.
func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return fmt.Errorf("write the vault's folder to disk: %w", err)
	}
	defer d.Close()
	if err := d.Sync(); err != nil {
		return fmt.Errorf("write the vault's folder to disk: %w", err)
	}
	return nil
}
