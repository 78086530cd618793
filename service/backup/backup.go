// Package backup writes all that a service has into one file, while it runs, and makes a data folder of such a file.
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
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/flate"

	"wraithology/core/fault"
	"wraithology/core/guard"
)

// Format and Version are those of a backup: a ZIP file, whose first file is the header and whose last one lists all others with their hashes.
const (
	Format  = "wraithology-backup"
	Version = 1
)

const (
	headerFile   = "backup.json"
	databaseFile = "database.dump" // as pg_dump --format custom writes it
	manifestFile = "manifest.json"
	vaultFolder  = "vault/"
)

// foldersBefore are copied before the database is: what is in them and in the database too is known again by its name, and what a record of the database
// says later is not in them yet.
var foldersBefore = []string{"received", "custody"}

// Header describes a backup.
type Header struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	At      time.Time `json:"at"`
	Service string    `json:"service"` // identity of the service
	// Server is the major version of the PostgreSQL that had the database.
	Server string `json:"server"`
}

type file struct {
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// Source is a service.
type Source struct {
	Data     string // its data folder
	Database string // URL
	// Programs is the folder with the programs of PostgreSQL.
	Programs string
}

// Write writes a backup of a service to a new file. The service may run: the backup is as the service was at one instant.
func Write(ctx context.Context, s Source, path string) (h Header, err error) {
	f, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return h, fmt.Errorf("write the backup: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(path + ".part")
		}
	}()
	w := &writer{zip: zip.NewWriter(f), at: time.Now().UTC()}
	w.zip.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, flate.BestSpeed) })
	if h, err = w.all(ctx, s); err != nil {
		return h, err
	}
	for _, done := range []func() error{w.zip.Close, f.Sync, f.Close, func() error { return os.Rename(path+".part", path) }} {
		if err := done(); err != nil {
			return h, fmt.Errorf("write the backup: %w", err)
		}
	}
	return h, nil
}

type writer struct {
	zip   *zip.Writer
	at    time.Time
	files []file
}

// all writes the files of a backup.
func (w *writer) all(ctx context.Context, s Source) (h Header, err error) {
	db, err := pgx.Connect(ctx, s.Database)
	if err != nil {
		return h, fmt.Errorf("connect to the database: %w", err)
	}
	defer db.Close(context.WithoutCancel(ctx))
	h = Header{Format: Format, Version: Version, At: w.at}
	if err := db.QueryRow(ctx, "select id, (current_setting('server_version_num')::integer / 10000)::text from service_identity").Scan(&h.Service, &h.Server); err != nil {
		return h, fmt.Errorf("read the database: %w", err)
	}
	if err := w.json(headerFile, h); err != nil {
		return h, err
	}
	for _, folder := range foldersBefore {
		if err := w.folder(ctx, s.Data, folder); err != nil {
			return h, err
		}
	}
	tx, err := db.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return h, fmt.Errorf("read the database: %w", err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var snapshot string
	if err := tx.QueryRow(ctx, "select pg_export_snapshot()").Scan(&snapshot); err != nil {
		return h, fmt.Errorf("read the database: %w", err)
	}
	dump := func(to io.Writer) error {
		return run(ctx, s, "pg_dump", to, nil, "--format", "custom", "--compress", "0", "--no-owner", "--snapshot", snapshot)
	}
	if err := w.file(databaseFile, dump); err != nil {
		return h, err
	}
	rows, err := tx.Query(ctx, "select sha256 from evidence_all where sha256 <> '' union select sha256 from artifacts_all where sha256 <> '' order by 1")
	if err != nil {
		return h, fmt.Errorf("read the database: %w", err)
	}
	sums, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return h, fmt.Errorf("read the database: %w", err)
	}
	for _, sum := range sums {
		if err := w.copy(ctx, filepath.Join(s.Data, "vault", sum[:2], sum), vaultFolder+sum, sum); err != nil {
			return h, err
		}
	}
	return h, w.json(manifestFile, struct {
		Files []file `json:"files"`
	}{w.files})
}

// folder writes the files of a folder of the data folder, if there is one. Those that go meanwhile are left out: what they had is in the database.
func (w *writer) folder(ctx context.Context, data, folder string) error {
	root := filepath.Join(data, folder)
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		name, err := filepath.Rel(data, path)
		if err != nil {
			return err
		}
		if err = w.copy(ctx, path, filepath.ToSlash(name), ""); errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("write %s of the backup: %w", folder, err)
	}
	return nil
}

// copy writes a file as it is now. With a hash it must have that.
func (w *writer) copy(ctx context.Context, path, name, sum string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("write %s of the backup: %w", name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return fmt.Errorf("write %s of the backup: %w", name, err)
	}
	err = w.file(name, func(to io.Writer) error { // not more than there is now: it may grow
		_, err := io.Copy(to, io.LimitReader(guard.Reader(ctx, f), info.Size()))
		return err
	})
	if err == nil && sum != "" && w.files[len(w.files)-1].SHA256 != sum {
		err = fault.InvalidBackup.New("the disk may be failing: restore the evidence from an earlier backup", "the vault's file %s is damaged", sum)
	}
	return err
}

func (w *writer) file(name string, write func(io.Writer) error) error {
	to, err := w.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: w.at})
	if err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	sum := sha256.New()
	n := counter(0)
	if err := write(io.MultiWriter(to, sum, &n)); err != nil {
		return fmt.Errorf("write %s of the backup: %w", name, err)
	}
	w.files = append(w.files, file{name, int64(n), hex.EncodeToString(sum.Sum(nil))})
	return nil
}

type counter int64

func (c *counter) Write(b []byte) (int, error) {
	*c += counter(len(b))
	return len(b), nil
}

func (w *writer) json(name string, v any) error {
	return w.file(name, func(to io.Writer) error {
		e := json.NewEncoder(to)
		e.SetIndent("", "  ")
		return e.Encode(v)
	})
}

// run runs a program of PostgreSQL on a database. The address is given by the environment: others could read the password in the arguments.
func run(ctx context.Context, s Source, program string, out io.Writer, in io.Reader, args ...string) error {
	c, err := pgx.ParseConfig(s.Database)
	if err != nil {
		return fmt.Errorf("read the address of the database: %w", err)
	}
	cmd := exec.CommandContext(ctx, filepath.Join(s.Programs, program), args...)
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "PGHOST="+c.Host, fmt.Sprint("PGPORT=", c.Port), "PGUSER="+c.User, "PGPASSWORD="+c.Password, "PGDATABASE="+c.Database, "PGAPPNAME=wraithd "+program)
	if c.TLSConfig == nil {
		cmd.Env = append(cmd.Env, "PGSSLMODE=disable")
	}
	cmd.Stdin, cmd.Stdout = in, out
	var said strings.Builder
	cmd.Stderr = &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w: %.2000s", program, err, said.String())
	}
	return nil
}
