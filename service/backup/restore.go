package backup

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"wraithology/core/fault"
	"wraithology/core/guard"
	"wraithology/core/sparse"
)

func invalid(format string, args ...any) error {
	return fault.InvalidBackup.New("", format, args...)
}

// Backup is a backup that was read and is whole.
type Backup struct {
	Header Header
	files  map[string]*zip.File
	list   []file
	closer io.Closer
}

// Close closes the file.
func (b *Backup) Close() error { return b.closer.Close() }

// mostListed limits the list of a backup's files, in bytes.
const mostListed = 1 << 30

// Open opens a backup and compares all its files with their hashes. The error wraps fault.InvalidBackup if one is missing, changed or added.
func Open(ctx context.Context, path string) (*Backup, error) {
	r, err := zip.OpenReader(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("open the backup: %w", err)
	}
	if err != nil {
		return nil, invalid("%s is damaged or not complete: %w", path, err)
	}
	b := &Backup{files: map[string]*zip.File{}, closer: r}
	if err := b.read(ctx, r.File); err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return b, nil
}

func (b *Backup) read(ctx context.Context, files []*zip.File) error {
	for _, f := range files {
		if b.files[f.Name] != nil {
			return invalid("%.80q is in it twice", f.Name)
		}
		b.files[f.Name] = f
	}
	var listed struct{ Files []file }
	if err := b.json(headerFile, &b.Header); err != nil {
		return err
	}
	if b.Header.Format != Format || b.Header.Version != Version {
		return invalid("it is %.80q of version %d; version %d of %s is read here", b.Header.Format, b.Header.Version, Version, Format)
	}
	if err := b.json(manifestFile, &listed); err != nil {
		return err
	}
	b.list = listed.Files
	if len(b.list) != len(files)-1 {
		return invalid("it has %d files and lists %d", len(files)-1, len(b.list))
	}
	for _, want := range b.list {
		if err := b.check(ctx, want); err != nil {
			return err
		}
	}
	return nil
}

// safeName are the names of files that are put into a data folder.
var safeName = regexp.MustCompile(`^(received|custody)/[A-Za-z0-9][A-Za-z0-9._-]*$|^vault/[0-9a-f]{64}$|^backup\.json$|^database\.dump$`)

func (b *Backup) check(ctx context.Context, want file) error {
	f := b.files[want.Name]
	if !safeName.MatchString(want.Name) || f == nil {
		return invalid("%.120q is missing, or cannot be in a backup", want.Name)
	}
	in, err := f.Open()
	if err != nil {
		return invalid("%s cannot be read: %w", want.Name, err)
	}
	defer in.Close()
	sum := sha256.New()
	n, err := io.Copy(sum, guard.Reader(ctx, in))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	got := hex.EncodeToString(sum.Sum(nil))
	if err != nil || n != want.Bytes || got != want.SHA256 {
		return invalid("%s was changed or is damaged", want.Name)
	}
	if sum, ok := strings.CutPrefix(want.Name, vaultFolder); ok && sum != got {
		return invalid("%s has other bytes than its name says", want.Name)
	}
	return nil
}

func (b *Backup) json(name string, into any) error {
	f := b.files[name]
	if f == nil {
		return invalid("it has no %s", name)
	}
	in, err := f.Open()
	if err != nil {
		return invalid("%s cannot be read: %w", name, err)
	}
	defer in.Close()
	if err := json.NewDecoder(io.LimitReader(in, mostListed)).Decode(into); err != nil {
		return invalid("%s cannot be read: %w", name, err)
	}
	return nil
}

// Files puts the files of a backup into a data folder.
func (b *Backup) Files(ctx context.Context, data string) error {
	for _, x := range b.list {
		to := filepath.Join(data, filepath.FromSlash(x.Name))
		switch sum, isVault := strings.CutPrefix(x.Name, vaultFolder); {
		case isVault:
			to = filepath.Join(data, "vault", sum[:2], sum)
		case x.Name == headerFile || x.Name == databaseFile:
			continue
		}
		if err := b.put(ctx, x.Name, to); err != nil {
			return fmt.Errorf("restore %s: %w", x.Name, err)
		}
	}
	return nil
}

func (b *Backup) put(ctx context.Context, name, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	in, err := b.files[name].Open()
	if err != nil {
		return err
	}
	defer in.Close()
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = sparse.Copy(f, guard.Reader(ctx, in))
	return errors.Join(err, f.Sync(), f.Close())
}

// Database puts the records of a backup into an empty database.
func (b *Backup) Database(ctx context.Context, s Source) error {
	in, err := b.files[databaseFile].Open()
	if err != nil {
		return invalid("%s cannot be read: %w", databaseFile, err)
	}
	defer in.Close()
	c, err := pgx.ParseConfig(s.Database)
	if err != nil {
		return fmt.Errorf("read the address of the database: %w", err)
	}
	return run(ctx, s, "pg_restore", io.Discard, in, "--dbname", c.Database, "--no-owner", "--exit-on-error", "--single-transaction")
}
