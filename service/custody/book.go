// Package custody signs the records of cases with a key outside the database, keeps what it has signed beside the key, and gathers who read what.
package custody

import (
	"bufio"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"wraithology/core/custody"
	"wraithology/core/fault"
)

// Book is the key with which the ends of records are signed, and the file of those that were.
type Book struct {
	service string
	key     ed25519.PrivateKey
	mu      sync.Mutex
	file    *os.File
	latest  map[int64]custody.Head
	lines   int // of the file
}

const (
	keyFile   = "key.pem"
	headsFile = "heads.jsonl"
)

// Open opens the book in a folder, for the service with an identity. It makes the key when there is none.
func Open(folder, service string) (*Book, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("make the folder of the records' key: %w", err)
	}
	if _, err := os.Stat(filepath.Join(folder, keyFile)); errors.Is(err, fs.ErrNotExist) {
		if err := newKey(filepath.Join(folder, keyFile)); err != nil {
			return nil, err
		}
	}
	b, err := Read(folder, service)
	if err != nil {
		return nil, err
	}
	const much, spare = 2, 1000
	if b.lines > much*len(b.latest)+spare {
		if err := b.shorten(filepath.Join(folder, headsFile)); err != nil {
			return nil, err
		}
	}
	b.file, err = os.OpenFile(filepath.Join(folder, headsFile), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the signed ends of records: %w", err)
	}
	return b, endLine(b.file, filepath.Join(folder, headsFile))
}

// Read reads the book in a folder, to check what it has signed; it signs nothing. A service may have it open.
func Read(folder, service string) (*Book, error) {
	key, err := readKey(filepath.Join(folder, keyFile))
	if err != nil {
		return nil, err
	}
	b := &Book{service: service, key: key}
	b.latest, b.lines, err = readHeads(filepath.Join(folder, headsFile), b.Public())
	return b, err
}

// endLine ends a line that was being written when the service was killed: the next one does not continue it.
func endLine(f *os.File, path string) error {
	text, err := os.ReadFile(path)
	if err == nil && len(text) > 0 && text[len(text)-1] != '\n' {
		_, err = f.WriteString("\n")
	}
	if err != nil {
		return fmt.Errorf("open the signed ends of records: %w", err)
	}
	return nil
}

// Close closes the file.
func (b *Book) Close() error { return b.file.Close() }

// Numbers returns the number of the last entry of each record that was signed.
func (b *Book) Numbers() map[int64]int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make(map[int64]int64, len(b.latest))
	for record, h := range b.latest {
		out[record] = h.Number
	}
	return out
}

// Public returns the key that others need to check what the book has signed.
func (b *Book) Public() ed25519.PublicKey { return b.key.Public().(ed25519.PublicKey) }

func readKey(path string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the records' key: %w: bring the file back from a backup", err)
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fault.InvalidCustody.New("bring the file back from a backup", "%s is not a key in PEM", path)
	}
	any, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := any.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fault.InvalidCustody.New("bring the file back from a backup", "%s is not an Ed25519 key", path)
	}
	return key, nil
}

func newKey(path string) error {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return fmt.Errorf("make the records' key: %w", err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err == nil {
		err = writeSynced(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	}
	if err != nil {
		return fmt.Errorf("keep the records' key: %w", err)
	}
	return nil
}

// writeSynced replaces a file as a whole.
func writeSynced(path string, text []byte) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	folder, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

// readHeads reads the latest signed end of each record in a file, which a key has signed. A last line that was not finished is left out.
func readHeads(path string, key ed25519.PublicKey) (latest map[int64]custody.Head, lines int, err error) {
	latest = map[int64]custody.Head{}
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return latest, 0, nil
	}
	if err != nil {
		return nil, 0, fmt.Errorf("read the signed ends of records: %w", err)
	}
	defer f.Close()
	scan := bufio.NewScanner(f)
	for scan.Scan() {
		lines++
		if len(scan.Bytes()) == 0 {
			continue
		}
		var h custody.Head
		if json.Unmarshal(scan.Bytes(), &h) != nil {
			continue // a kill cut it off: what was to be signed is still due
		}
		if err := h.Check(key); err != nil {
			return nil, 0, fmt.Errorf("%s, line %d: %w", f.Name(), lines, err)
		}
		if h.Number >= latest[h.Record].Number {
			latest[h.Record] = h
		}
	}
	if err := scan.Err(); err != nil {
		return nil, 0, fault.InvalidCustody.New("bring the file back from a backup", "%s, after line %d: %w", f.Name(), lines, err)
	}
	return latest, lines, nil
}

// shorten keeps the latest end of each record only.
func (b *Book) shorten(path string) error {
	var text []byte
	for _, h := range b.latest {
		line, err := json.Marshal(h)
		if err != nil {
			return fmt.Errorf("write a signed end: %w", err)
		}
		text = append(append(text, line...), '\n')
	}
	b.lines = len(b.latest)
	if err := writeSynced(path, text); err != nil {
		return fmt.Errorf("shorten the signed ends of records: %w", err)
	}
	return nil
}

// Head signs the end of a record, as it is now.
func (b *Book) Head(h custody.Head) custody.Head {
	h.Service, h.At = b.service, time.Now().UTC().Truncate(time.Microsecond)
	return h.Sign(b.key)
}

// Sign signs the ends of records and keeps them.
func (b *Book) Sign(heads []custody.Head) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	var text []byte
	for _, h := range heads {
		h = b.Head(h)
		line, err := json.Marshal(h)
		if err != nil {
			return fmt.Errorf("write a signed end: %w", err)
		}
		text = append(append(text, line...), '\n')
		b.latest[h.Record] = h
	}
	if _, err := b.file.Write(text); err != nil {
		return fmt.Errorf("keep the signed ends of records: %w", err)
	}
	if err := b.file.Sync(); err != nil {
		return fmt.Errorf("keep the signed ends of records: %w", err)
	}
	return nil
}
