package vault

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"wraithology/core/guard"
)

// Uploads is the folder of uploads that are still to be continued. It outlasts a restart.
func (v *Vault) Uploads() string { return filepath.Join(v.dir, "uploads") }

// Bounded returns a reader that reads as long as the disk is not full. Then the error wraps fault.DiskFull.
func (v *Vault) Bounded(r io.Reader) io.Reader { return &bounded{r: r, vault: v} }

// punched is the size of pages of zeros that are given back to the disk, in bytes.
const punched = 64 << 10

// Adopt moves a file of the same disk into the vault, without a copy. Pages of zeros in it use no space any more.
func (v *Vault) Adopt(ctx context.Context, path string) (s Stored, err error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return s, fmt.Errorf("open the upload: %w", err)
	}
	defer f.Close()
	sum := sha256.New()
	buffer, zeros := make([]byte, punched), make([]byte, punched)
	for {
		n, err := io.ReadFull(guard.Reader(ctx, f), buffer)
		_, _ = sum.Write(buffer[:n]) // a hash never fails
		if n == punched && bytes.Equal(buffer, zeros) {
			// It saves space where the file system can do it, and is no loss where not.
			_ = unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, s.Bytes, punched)
		}
		s.Bytes += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return s, fmt.Errorf("read the upload: %w", err)
		}
	}
	s.SHA256 = hex.EncodeToString(sum.Sum(nil))
	if err := errors.Join(f.Sync(), f.Chmod(0o600)); err != nil {
		return s, fmt.Errorf("write the upload to disk: %w", err)
	}
	return s, v.place(path, s.SHA256)
}

// place gives a file that is on disk its name in the vault.
func (v *Vault) place(from, sum string) error {
	path := v.Path(sum)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("create a file in the vault: %w", err)
	}
	v.mu.Lock()
	err := os.Rename(from, path)
	v.mu.Unlock()
	if err != nil {
		return fmt.Errorf("store the evidence: %w", err)
	}
	for _, dir := range []string{filepath.Dir(path), v.dir} {
		if err := syncFolder(dir); err != nil {
			return err
		}
	}
	return nil
}
