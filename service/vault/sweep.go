package vault

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"time"
)

// sweptAtOnce is the number of files that are asked for at once.
const sweptAtOnce = 500

// name of a file of the vault: a SHA-256.
var sumName = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Sweep removes files that belong to nothing, if they are older than some time. has returns which of some SHA-256 belong to something.
func (v *Vault) Sweep(ctx context.Context, after time.Duration, has func(ctx context.Context, sums []string) (map[string]bool, error)) error {
	var sums []string
	sweep := func() error {
		if len(sums) == 0 {
			return nil
		}
		needed, err := has(ctx, sums)
		if err != nil {
			return err
		}
		for _, sum := range sums {
			if needed[sum] {
				continue
			}
			if err := v.remove(sum, after); err != nil {
				return err
			}
		}
		sums = sums[:0]
		return nil
	}
	err := filepath.WalkDir(v.dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "incoming" || path == v.Uploads()):
			return filepath.SkipDir
		case d.IsDir() || !sumName.MatchString(d.Name()) || !v.isOld(d.Name(), after):
			return nil
		}
		if sums = append(sums, d.Name()); len(sums) < sweptAtOnce {
			return nil
		}
		return sweep()
	})
	if err != nil {
		return fmt.Errorf("clean up the vault: %w", err)
	}
	return errors.Join(sweep(), v.sweepUploads())
}

// UploadsKept is how long an upload that is not continued stays.
const UploadsKept = 48 * time.Hour

// sweepUploads removes uploads that nobody has continued for long.
func (v *Vault) sweepUploads() error {
	list, err := os.ReadDir(v.Uploads())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("clean up uploads: %w", err)
	}
	for _, d := range list {
		if info, err := d.Info(); err == nil && time.Since(info.ModTime()) > UploadsKept {
			if err := os.Remove(filepath.Join(v.Uploads(), d.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("clean up uploads: %w", err)
			}
		}
	}
	return nil
}

// remove removes a file, unless it has been stored again.
func (v *Vault) remove(sum string, after time.Duration) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.isOld(sum, after) {
		return nil
	}
	if err := os.Remove(v.Path(sum)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("clean up the vault: %w", err)
	}
	return nil
}

// isOld reports whether a file was stored before some time. Storing the same bytes again makes it new.
func (v *Vault) isOld(sum string, after time.Duration) bool {
	info, err := os.Stat(v.Path(sum))
	return err == nil && time.Since(info.ModTime()) > after
}
