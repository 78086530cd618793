package receive

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"wraithology/core/fault"
)

// A spool file is a sequence of requests, each after its length and its CRC-32C. A request that a
// power failure cut off was never acknowledged.
const frameHead = 8

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// stream is the spool of one case. Requests that arrive while others are written to disk are
// written together after them.
type stream struct {
	dir    string
	caseID int64
	open   func(path string) (spoolFile, error)

	mu      sync.Mutex
	waiting []*waiting
	size    int // bytes that wait
	writing bool

	// disk is held while the file is written, synced or sealed: a file that is sealed has nothing that is not synced. It is locked before mu.
	disk        sync.Mutex
	file        spoolFile // nil if there is none
	path        string
	bytes       int64 // that are synced
	first, last time.Time
}

// spoolFile is what a stream needs of an os.File.
type spoolFile interface {
	io.WriteCloser
	Sync() error
	Truncate(size int64) error
}

func openSpool(path string) (spoolFile, error) {
	return os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
}

type waiting struct {
	person  int64 // whose token it came with
	request []byte
	done    chan error
}

func newStream(dir string, caseID int64) *stream {
	return &stream{dir: dir, caseID: caseID, open: openSpool}
}

// take returns when the request is on disk. The size of waiting requests is limited.
func (s *stream) take(ctx context.Context, person int64, request []byte, most int) error {
	w := &waiting{person, request, make(chan error, 1)}
	s.mu.Lock()
	if s.size > 0 && s.size+len(request) > most {
		s.mu.Unlock()
		return fault.Busy
	}
	s.waiting, s.size = append(s.waiting, w), s.size+len(request)
	if !s.writing {
		s.writing = true
		go s.write()
	}
	s.mu.Unlock()
	select {
	case err := <-w.done:
		return err
	case <-ctx.Done():
		return ctx.Err() // it may have been written: the sender retries, and it is shown once
	}
}

// write writes what waits until nothing does.
func (s *stream) write() {
	for {
		s.disk.Lock()
		s.mu.Lock()
		list := s.waiting
		s.waiting, s.size = nil, 0
		s.writing = len(list) > 0
		s.mu.Unlock()
		var err error
		if len(list) > 0 {
			err = s.keep(list)
		}
		s.disk.Unlock()
		if len(list) == 0 {
			return
		}
		for _, w := range list {
			w.done <- err
		}
	}
}

// keep writes requests to the file and syncs it. After an error the file is not used any more: a second sync may report success although what the first
// one could not write is lost (fsync(2), NOTES). s.disk is held.
func (s *stream) keep(list []*waiting) error {
	if err := s.begin(list[0].person); err != nil {
		return err
	}
	var b []byte
	for _, w := range list {
		b = binary.LittleEndian.AppendUint32(b, uint32(len(w.request)))
		b = binary.LittleEndian.AppendUint32(b, crc32.Checksum(w.request, castagnoli))
		b = append(b, w.request...)
	}
	_, err := s.file.Write(b)
	if err != nil {
		err = fmt.Errorf("write received data: %w", err)
	} else if err = s.file.Sync(); err != nil {
		err = fmt.Errorf("sync received data to disk: %w", err)
	}
	if err != nil { // without what was not acknowledged
		return errors.Join(err, s.file.Truncate(s.bytes), s.seal())
	}
	s.bytes += int64(len(b))
	s.last = time.Now()
	return nil
}

// begin creates a file if there is none. s.disk is held.
func (s *stream) begin(person int64) error {
	if s.file != nil {
		return nil
	}
	now := time.Now()
	for ; !now.Truncate(time.Millisecond).After(s.first); now = time.Now() { // its name is another one than that of the file before
		time.Sleep(time.Millisecond)
	}
	path := filepath.Join(s.dir, fmt.Sprintf("%d-%d-%s%s", s.caseID, person, now.UTC().Format("20060102T150405.000"), openEnding))
	f, err := s.open(path)
	if err != nil {
		return fmt.Errorf("create a spool file: %w", err)
	}
	if err := syncFolder(s.dir); err != nil {
		return errors.Join(err, f.Close(), os.Remove(path))
	}
	s.file, s.path, s.bytes, s.first = f, path, 0, now
	return nil
}

func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return fmt.Errorf("sync the spool folder to disk: %w", err)
	}
	if err := errors.Join(d.Sync(), d.Close()); err != nil {
		return fmt.Errorf("sync the spool folder to disk: %w", err)
	}
	return nil
}

// settle seals the file if it has settled.
func (s *stream) settle(when Settle) error {
	s.disk.Lock()
	defer s.disk.Unlock()
	if s.file == nil || time.Since(s.last) < when.Quiet && time.Since(s.first) < when.Oldest && s.bytes < when.Largest {
		return nil
	}
	return s.seal()
}

// seal ends the file; what comes later goes to another one. A file that cannot be sealed is at the next start. s.disk is held.
func (s *stream) seal() error {
	err := s.file.Close()
	s.file = nil
	if err := os.Rename(s.path, strings.TrimSuffix(s.path, openEnding)+sealedEnding); err != nil {
		return fmt.Errorf("seal %s: %w", s.path, err)
	}
	return errors.Join(err, syncFolder(s.dir))
}

func (s *stream) close() error {
	s.disk.Lock()
	defer s.disk.Unlock()
	if s.file == nil {
		return nil
	}
	err := s.file.Close()
	s.file = nil
	return err
}

// readSpool yields the whole requests of a spool file. Concatenated they are one OTLP message.
func readSpool(path string, yield func([]byte) error) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 1<<20)
	var head [frameHead]byte
	for {
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return ended(err)
		}
		n := binary.LittleEndian.Uint32(head[:])
		if n > MaxRequest {
			return nil // what follows is not what was written
		}
		request := make([]byte, n)
		if _, err := io.ReadFull(r, request); err != nil {
			return ended(err)
		}
		if crc32.Checksum(request, castagnoli) != binary.LittleEndian.Uint32(head[4:]) {
			return nil
		}
		if err := yield(request); err != nil {
			return err
		}
	}
}

// ended ends a file within a request: that request was never acknowledged.
func ended(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return fmt.Errorf("read received data: %w", err)
}
