//go:build go1.23

// Package inject is the runtime that is put into a recorded program's build. It
// writes a .wraith log with live blocks (docs/formats/execution-log.md) through
// shared memory, so that whatever ends the program (a panic, os.Exit, a signal,
// even SIGKILL) the log is complete up to the last event.
//
// It imports the standard library only, calls no code of the program, takes no
// lock on the path of an event, and never lets an error of its own reach the
// program: when it can't continue it stops recording and says so in the log's end.
package inject

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"
)

const (
	extentSize = 8 << 20   // the file grows by this much, reserved on disk beforehand
	chunkSize  = 256 << 10 // room for one thread's events, header included
	ringChunk  = 64 << 10  // the same where only the last ones are kept
	headerSize = 48
	// eventRoom is what must be free in a chunk before an event with values begins.
	eventRoom = 20 << 10
	lineRoom  = 64

	blockMagic  = 0x4b4c4257
	blockTable  = 2
	blockEvents = 3
	codecLive   = 3
)

// spool is the growing log file. Its lock is taken once for each chunk.
type spool struct {
	mu       sync.Mutex
	file     *os.File
	extent   []byte
	used     int
	size     int64
	sequence uint32
	spare    []region // what threads that went idle left of their chunks
	ring     int      // how many chunks of events are kept; 0 for all
	laid     int      // chunks of events that have been laid
	full     [][]byte // with a ring: chunks that nobody fills any more, oldest first
	table    chunk
	broken   atomic.Bool
}

// region is a piece of the file that a block may be laid into.
type region struct{ mem []byte }

// chunk is a live block being filled.
type chunk struct {
	mem    []byte // header and payload
	n      int    // bytes used, header included
	stored *uint32
}

var (
	log     spool
	active  atomic.Bool
	started time.Time // the beginning of the log
	begun   int64     // the same on the monotonic clock: the zero of its times
)

func init() {
	path := defaultLog
	if dir := os.Getenv("WRAITH_SPOOL"); dir != "" {
		path = filepath.Join(dir, strconv.Itoa(os.Getpid())+"-"+strconv.FormatInt(time.Now().UnixNano(), 36)+".wraith")
	}
	if path == "" || staticTables == "" {
		return
	}
	started, begun = time.Now(), nanotime()
	bytes, _ := strconv.ParseInt(os.Getenv("WRAITH_RING"), 10, 64)
	if log.ring = int(max(bytes, ringBytes) / ringChunk); log.ring > 0 {
		log.ring = max(log.ring, 4)
	}
	if log.open(path) != nil {
		return
	}
	findGoroutineNumber()
	if crash, err := os.OpenFile(path+".crash", os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600); err == nil {
		if debug.SetCrashOutput(crash, debug.CrashOptions{}) == nil {
			crash.Close()
		}
	}
	active.Store(true)
	recordLog()
}

func (s *spool) open(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if _, err := f.WriteString(staticTables); err != nil {
		return err
	}
	// Extents must begin on a page, so the static tables are followed by a block
	// whose capacity reaches up to the next one.
	size := int64(len(staticTables))
	page := int64(os.Getpagesize())
	next := (size + headerSize + page - 1) / page * page
	pad := make([]byte, headerSize)
	putHeader(pad, blockTable, 0, 0, 0, uint32(next-size-headerSize))
	if _, err := f.Write(pad); err != nil {
		return err
	}
	s.file, s.size = f, next
	host, _ := os.Hostname()
	r := appendHead(nil, majorArray, 2)
	r = appendHead(r, majorUint, recordProcess)
	r = appendHead(r, majorMap, 7)
	r = appendText(r, "pid")
	r = appendHead(r, majorUint, uint64(os.Getpid()))
	r = appendText(appendText(r, "program"), os.Args[0])
	r = appendText(r, "args")
	r = appendHead(r, majorArray, uint64(len(os.Args)))
	for _, a := range RedactArguments(os.Args, secretNames, secretTexts) {
		r = appendText(r, a)
	}
	r = appendText(appendText(r, "buildID"), ownBuildID())
	r = appendText(appendText(r, "host"), host)
	r = appendText(appendText(r, "compiler"), runtime.Version())
	r = appendText(r, "started")
	r = appendHead(r, majorUint, uint64(started.UnixNano()))
	s.record(r)
	if s.broken.Load() {
		return syscall.ENOSPC
	}
	return nil
}

// ownBuildID reads the Go build ID from the note in the executable's first page
// (ELF, "Note Section": name size, descriptor size, type 4, "Go", descriptor).
func ownBuildID() string {
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return ""
	}
	defer f.Close()
	page := make([]byte, 8192)
	n, _ := f.Read(page)
	for i := 0; i+16 <= n; i += 4 {
		if binary.LittleEndian.Uint32(page[i:]) != 4 || binary.LittleEndian.Uint32(page[i+8:]) != 4 || string(page[i+12:i+16]) != "Go\x00\x00" {
			continue
		}
		if size := int(binary.LittleEndian.Uint32(page[i+4:])); size > 0 && i+16+size <= n {
			return string(page[i+16 : i+16+size])
		}
	}
	return ""
}

// reserve returns size fresh bytes of the file, mapped. It fails, and recording ends, if the disk
// has no room: a store into a page without room behind it would kill the program.
func (s *spool) reserve(size int) []byte {
	if s.broken.Load() {
		return nil
	}
	if s.used+size > len(s.extent) {
		fd := int(s.file.Fd())
		if err := syscall.Fallocate(fd, 0, s.size, extentSize); err != nil {
			if err != syscall.EOPNOTSUPP || syscall.Ftruncate(fd, s.size+extentSize) != nil {
				s.stop()
				return nil
			}
		}
		mem, err := syscall.Mmap(fd, s.size, extentSize, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
		if err != nil {
			s.stop()
			return nil
		}
		s.extent, s.used = mem, 0
		s.size += extentSize
	}
	mem := s.extent[s.used : s.used+size : s.used+size]
	s.used += size
	return mem
}

// stop ends the recording; the program continues. The log says so if there is room for it.
func (s *spool) stop() {
	s.broken.Store(true)
	active.Store(false)
	r := appendHead(nil, majorArray, 2)
	r = appendHead(r, majorUint, recordGap)
	r = appendHead(r, majorMap, 2)
	r = appendText(appendText(r, "what"), "the disk was full: what the program did after "+time.Duration(now()).Round(time.Millisecond).String()+" was not recorded")
	r = appendText(appendText(r, "remedy"), "record again onto a disk with more space, or with --ring, --detail calls or --packages")
	if s.table.n+len(r) <= len(s.table.mem) {
		s.append(r)
	}
}

// append adds a table record to the block of tables, which has room for it, and returns where it is.
func (s *spool) append(r []byte) []byte {
	from := s.table.n
	copy(s.table.mem[from:], r)
	s.table.n += len(r)
	s.table.commit()
	return s.table.mem[from:s.table.n]
}

// chunk begins a new live block of events in a free region or in fresh bytes, or with a ring in the
// oldest block. done is the full chunk.
func (s *spool) chunk(thread uint32, base int64, done chunk) chunk {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.retire(done)
	return s.chunkLocked(blockEvents, thread, base)
}

func (s *spool) retire(done chunk) {
	if s.ring > 0 && done.mem != nil {
		s.full = append(s.full, done.mem)
	}
}

func (s *spool) chunkLocked(kind byte, thread uint32, base int64) chunk {
	var mem []byte
	switch n := len(s.spare); {
	case s.ring > 0 && kind == blockEvents && s.laid >= s.ring && len(s.full) > 0:
		mem = s.full[0]
		s.full = append(s.full[:0], s.full[1:]...)
	case s.ring > 0 && kind == blockEvents:
		s.laid++
		mem = s.reserve(ringChunk)
	case n > 0 && kind == blockEvents:
		mem = s.spare[n-1].mem
		s.spare = s.spare[:n-1]
	default:
		mem = s.reserve(chunkSize)
	}
	if mem == nil {
		return chunk{}
	}
	s.sequence++
	putHeader(mem, kind, thread, base, s.sequence, uint32(len(mem)-headerSize))
	return chunk{mem: mem, n: headerSize, stored: (*uint32)(unsafe.Pointer(&mem[8]))}
}

// giveBack shrinks a block to its used part and frees the rest.
func (s *spool) giveBack(c chunk) {
	if s.ring > 0 {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.retire(c)
		return
	}
	end := (c.n + 7) &^ 7
	if c.mem == nil || len(c.mem)-end < 2*eventRoom {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	rest := c.mem[end:]
	// The rest becomes a valid block first: the log never has a hole.
	s.sequence++
	putHeader(rest, blockEvents, 0, 0, s.sequence, uint32(len(rest)-headerSize))
	atomic.StoreUint32((*uint32)(unsafe.Pointer(&c.mem[16])), uint32(end-headerSize))
	s.spare = append(s.spare, region{rest})
}

// record appends one table record, and returns where it is; nil if there is no room.
func (s *spool) record(r []byte) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(r) > chunkSize-headerSize {
		return nil
	}
	if s.table.n+len(r) > len(s.table.mem) {
		if s.table = s.chunkLocked(blockTable, 0, 0); s.table.mem == nil {
			return nil
		}
	}
	return s.append(r)
}

// commit makes the bytes since the last commit part of the log. Others read it after the process has
// ended. Where the processor keeps the order of stores (x86), a plain one is enough, and is cheaper.
func (c *chunk) commit() {
	if runtime.GOARCH == "amd64" {
		*c.stored = uint32(c.n - headerSize)
		return
	}
	atomic.StoreUint32(c.stored, uint32(c.n-headerSize))
}

func putHeader(b []byte, kind byte, thread uint32, base int64, sequence, capacity uint32) {
	le := binary.LittleEndian
	b[4], b[5], b[6], b[7] = kind, codecLive, 0, 0
	le.PutUint32(b[8:], 0)
	le.PutUint32(b[12:], 0)
	le.PutUint32(b[16:], capacity)
	le.PutUint32(b[20:], thread)
	le.PutUint64(b[24:], uint64(base))
	le.PutUint32(b[32:], sequence)
	le.PutUint32(b[36:], 0)
	le.PutUint32(b[40:], 0)
	le.PutUint32(b[44:], 0)
	le.PutUint32(b[0:], blockMagic)
}
