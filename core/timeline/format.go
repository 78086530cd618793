package timeline

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"
	"unsafe"

	"github.com/fxamacker/cbor/v2"
	"golang.org/x/sync/errgroup"

	"wraithology/core/event"
)

// Version is the version of a timeline's files. A timeline of another version is built again.
const Version = 13

// A timeline is a folder with one file for each column. The files are arrays of fixed-size records
// in the machine's byte order, which the index names. They are used without conversion.
const (
	indexFile    = "index"
	tablesFile   = "tables"
	kindsFile    = "kinds"     // uint8 a moment, with the bits event.Estimated and hasData
	callsFile    = "calls"     // bit-packed, a number a moment: CallID
	idsFile      = "ids"       // bit-packed, a number a moment: Event.ID
	placesFile   = "places"    // bit-packed, a number a moment: place of its event in data
	dataFile     = "data"      // blocks of events with values, encoded as in the log and compressed
	startsFile   = "blocks"    // bit-packed: where in data each block begins
	timesFile    = "times"     // bit-packed, a number a moment: ns since the start of the log, plus 2^63
	chunksFile   = "chunks"    // uint32 for each chunkSize moments: the run of the first one
	runsFile     = "runs"      // a runRecord for each stretch of one thread
	tableFile    = "callTable" // a callRecord for each call
	variableFile = "variables" // variableRecords, in order of the ends of the calls
	listsFile    = "lists"     // bit-packed: the moments of all lists
	threadsFile  = "threads"   // a threadRecord for each thread
	creatorsFile = "creators"  // the creators of the threads, each followed by a zero byte and the thread's name
	sitesFile    = "sites"     // a listRecord for each site
	entersFile   = "enters"    // a listRecord for each function: its entries
	returnsFile  = "returns"   // a listRecord for each function: its returns
	keysFile     = "addresses" // keyRecords, in order of their keys
	postedFile   = "posted"    // postingRecords, grouped by key
	tracesFile   = "traces"    // traceRecords, in order of their beginnings
)

const chunkSize = 4096

// hasData is the bit in the kind of an event that is not completely in the columns.
const hasData event.Kind = 0x80

// timeZero is the time 0 in the column of times, which has no negative numbers.
const timeZero = 1 << 63

type runRecord struct{ moment, thread uint32 }

// listRecord refers to a list of count words. Up to segmentSize words begin at word at; for longer
// lists the words there are the offsets of segments.
type listRecord struct{ count, at uint32 }

type callRecord struct {
	function, thread, parent, enter, leave uint32
	lines                                  listRecord
	variables, written                     uint32 // the first variableRecord, and how many
}

// variableRecord lists the writes of a variable; a single write is in at.
type variableRecord struct{ variable, count, at uint32 }

type threadRecord struct {
	number                   uint64
	started                  int64
	process, creator, length uint32
	first, last              uint32
	runs, calls              listRecord
	open                     uint32 // how many calls were open when its events ended
}

type keyRecord struct {
	key       uint64
	at, count uint32
}

// postingRecord is one event at an address. Tag describes what it covers: for memory the first and
// last byte of the region, for a map a hash of the key.
type postingRecord struct{ moment, tag uint32 }

// traceRecord is a trace: calls that belong together across threads.
type traceRecord struct {
	id                    [16]byte
	started, duration     int64
	root, moment, end     uint32
	spans, errors, status uint32
	calls                 listRecord
}

// index is the content of a timeline's index file. It is written last: a timeline without an index,
// or with files of other sizes, is not used.
type index struct {
	Version   int
	ByteOrder uint32
	LogSize   int64
	LogSum    uint32
	TablesSum uint32
	Moments   int64
	Sizes     map[string]int64
	Losses    []event.Loss
	Notable   map[event.Kind][2]uint32
	Errors    [2]uint32
	Globals   []globalRecord
	// Boot identifies the machine's run in which the timeline was built, if its files were not
	// synced to disk: after a power failure they are not reliable.
	Boot string
}

// boot identifies the current run of the machine; empty if the system does not say.
func boot() string {
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

type globalRecord struct {
	Process uint16
	Name    string
	Moment  uint32
}

const byteOrderMark = 0x01020304

// errStale means that a timeline must be built again.
var errStale = errors.New("the timeline is of another log or version, or incomplete")

// logSum is a fast checksum of a log, over its beginning and its end.
func logSum(r io.ReaderAt, size int64) (uint32, error) {
	const sample = 64 << 10
	buf := make([]byte, min(size, sample))
	n, err := r.ReadAt(buf, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return 0, fmt.Errorf("read the beginning of the log: %w", err)
	}
	sum := crc32.Checksum(buf[:n], castagnoli)
	if n, err = r.ReadAt(buf, max(size-sample, 0)); err != nil && !errors.Is(err, io.EOF) {
		return 0, fmt.Errorf("read the end of the log: %w", err)
	}
	return crc32.Update(sum, castagnoli, buf[:n]), nil
}

func readIndex(dir string) (index, error) {
	var x index
	b, err := os.ReadFile(filepath.Join(dir, indexFile))
	if errors.Is(err, os.ErrNotExist) {
		return x, fmt.Errorf("%w: %s has no index", errStale, dir)
	}
	if err != nil {
		return x, fmt.Errorf("read the timeline's index: %w", err)
	}
	if len(b) < 4 || crc32.Checksum(b[4:], castagnoli) != binary.LittleEndian.Uint32(b) {
		return x, fmt.Errorf("%w: %s has a damaged index", errStale, dir)
	}
	if err := cbor.Unmarshal(b[4:], &x); err != nil {
		return x, fmt.Errorf("%w: %w", errStale, err)
	}
	mark := uint32(byteOrderMark)
	if x.Version != Version || x.ByteOrder != *(*uint32)(unsafe.Pointer(&mark)) {
		return x, fmt.Errorf("%w: version %d", errStale, x.Version)
	}
	if x.Boot != "" && x.Boot != boot() {
		return x, fmt.Errorf("%w: not synced to disk before the machine restarted", errStale)
	}
	for name, size := range x.Sizes {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Size() != size {
			return x, fmt.Errorf("%w: file %s does not have %d bytes", errStale, name, size)
		}
	}
	return x, nil
}

func writeIndex(dir string, x index) error {
	x.Version, x.ByteOrder = Version, byteOrderMark
	b, err := cbor.Marshal(x)
	if err != nil {
		return fmt.Errorf("encode the timeline's index: %w", err)
	}
	b = append(binary.LittleEndian.AppendUint32(nil, crc32.Checksum(b, castagnoli)), b...)
	f, err := os.Create(filepath.Join(dir, indexFile))
	if err != nil {
		return fmt.Errorf("write the timeline's index: %w", err)
	}
	if _, err = f.Write(b); err == nil && x.Boot == "" {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// syncAll syncs a timeline's files to disk, so that after a power failure there is no index without
// them.
func syncAll(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("list the timeline's files: %w", err)
	}
	var files errgroup.Group
	for _, x := range entries {
		files.Go(func() error {
			f, err := os.Open(filepath.Join(dir, x.Name()))
			if err != nil {
				return err
			}
			return errors.Join(f.Sync(), f.Close())
		})
	}
	if err := files.Wait(); err != nil {
		return fmt.Errorf("sync the timeline to disk: %w", err)
	}
	return nil
}

// column writes one file of a timeline. The first error stays.
type column[T any] struct {
	f    *os.File
	buf  []T
	full int // entries at which the buffer is written
	n    int64
	err  error
}

const columnBuffer = 128 << 10 // bytes

func newColumn[T any](dir, name string) (*column[T], error) {
	f, err := os.Create(filepath.Join(dir, name))
	if err != nil {
		return nil, fmt.Errorf("write the timeline: %w", err)
	}
	var x T
	return &column[T]{f: f, full: columnBuffer / int(unsafe.Sizeof(x))}, nil
}

func (c *column[T]) add(x T) {
	c.buf = append(c.buf, x)
	c.n++
	if len(c.buf) == c.full {
		c.flush()
	}
}

func (c *column[T]) addAll(list []T) {
	if len(c.buf)+len(list) > c.full {
		c.flush()
	}
	c.buf = append(c.buf, list...)
	c.n += int64(len(list))
}

func (c *column[T]) flush() {
	if len(c.buf) > 0 && c.err == nil {
		_, c.err = c.f.Write(asBytes(c.buf))
	}
	c.buf = c.buf[:0]
}

func (c *column[T]) close() error {
	c.flush()
	if err := errors.Join(c.err, c.f.Close()); err != nil {
		return fmt.Errorf("write the timeline: %w", err)
	}
	return nil
}

func asBytes[T any](list []T) []byte {
	if len(list) == 0 {
		return nil
	}
	var x T
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(list))), len(list)*int(unsafe.Sizeof(x)))
}
