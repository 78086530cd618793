//go:build go1.23

package inject

import (
	"bytes"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unsafe"
)

// getm returns the address of the running operating-system thread's descriptor.
//
//go:linkname getm runtime.getm
func getm() uintptr

// The offsets of the goroutine in the thread's descriptor and of its number in the goroutine's
// descriptor. They are found at start. Until then numbers are read from the stack's text, which is
// slow.
var (
	goroutineAt uintptr
	numberAt    uintptr
)

// goroutineNumber returns the number of the calling goroutine.
//
//go:norace
//go:nocheckptr
func goroutineNumber() uint64 {
	if g := descriptor(); g != 0 {
		return *(*uint64)(unsafe.Pointer(g + numberAt))
	}
	return numberFromText()
}

// descriptor returns the address of the calling goroutine's descriptor, or 0
// if it is not known. A descriptor is never freed.
//
//go:norace
//go:nocheckptr
func descriptor() uintptr {
	if goroutineAt == 0 {
		return 0
	}
	var here byte
	stack := uintptr(unsafe.Pointer(&here))
	for range 8 {
		g := *(*uintptr)(unsafe.Pointer(getm() + goroutineAt))
		// The goroutine may have moved to another thread between the two loads. The stack's bounds
		// at the beginning of the descriptor show that.
		if g != 0 && *(*uintptr)(unsafe.Pointer(g)) <= stack && stack < *(*uintptr)(unsafe.Pointer(g + 8)) {
			return g
		}
	}
	return 0
}

// onStack reports whether an address is on the calling goroutine's stack. Such
// memory moves when the stack grows; addresses must not be kept in the heap.
//
//go:norace
//go:nocheckptr
func (th *thread) onStack(p unsafe.Pointer) bool {
	if th.descriptor == 0 {
		var here byte
		const near = 256 << 10
		d := uintptr(p) - uintptr(unsafe.Pointer(&here)) + near
		return d < 2*near
	}
	return *(*uintptr)(unsafe.Pointer(th.descriptor)) <= uintptr(p) && uintptr(p) < *(*uintptr)(unsafe.Pointer(th.descriptor + 8))
}

func numberFromText() uint64 {
	var buf [64]byte
	text := buf[:runtime.Stack(buf[:], false)]
	return parseNumber(text)
}

// parseNumber reads "goroutine 12 [running]:".
func parseNumber(text []byte) uint64 {
	text = bytes.TrimPrefix(text, []byte("goroutine "))
	var n uint64
	for _, c := range text {
		if c < '0' || c > '9' {
			break
		}
		n = n*10 + uint64(c-'0')
	}
	return n
}

// findGoroutineNumber searches the two offsets. Without them every call costs as much as thousands.
func findGoroutineNumber() {
	const attempts = 16
	for range attempts {
		if searchGoroutineNumber(); goroutineAt != 0 {
			return
		}
	}
}

// searchGoroutineNumber searches the two offsets in several goroutines and keeps them only if all
// agree.
func searchGoroutineNumber() {
	type place struct{ g, n uintptr }
	var agreed map[place]bool
	for range 4 {
		found := map[place]bool{}
		var done sync.WaitGroup
		done.Add(1)
		go func() {
			defer done.Done()
			runtime.LockOSThread() // a descriptor must not change while it is searched
			defer runtime.UnlockOSThread()
			scanDescriptors(func(g, n uintptr) { found[place{g, n}] = true })
		}()
		done.Wait()
		if agreed == nil {
			agreed = found
		}
		for p := range agreed {
			if !found[p] {
				delete(agreed, p)
			}
		}
	}
	for p := range agreed {
		if goroutineAt == 0 || p.g < goroutineAt || p.g == goroutineAt && p.n < numberAt {
			goroutineAt, numberAt = p.g, p.n
		}
	}
}

//go:norace
//go:nocheckptr
func scanDescriptors(found func(g, n uintptr)) {
	number := numberFromText()
	m := getm()
	for at := uintptr(8); at < 50*8; at += 8 {
		g := *(*uintptr)(unsafe.Pointer(m + at))
		if g < 1<<16 || g%8 != 0 || g >= 1<<47 {
			continue
		}
		scanDescriptor(g, number, func(n uintptr) { found(at, n) })
	}
}

// scanDescriptor searches the number in what may be the descriptor of the calling goroutine. A wrong
// guess, such as a mask of signals, can lead to memory that is not mapped.
//
//go:norace
//go:nocheckptr
func scanDescriptor(g uintptr, number uint64, found func(n uintptr)) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() { _ = recover() }()
	var here byte
	stack := uintptr(unsafe.Pointer(&here))
	lo, hi := *(*uintptr)(unsafe.Pointer(g)), *(*uintptr)(unsafe.Pointer(g + 8))
	if lo > stack || stack >= hi || hi-lo > 1<<30 {
		return
	}
	for n := uintptr(16); n < 50*8; n += 8 {
		if *(*uint64)(unsafe.Pointer(g + n)) == number {
			found(n)
		}
	}
}

// thread is a goroutine that has run own code. Only that goroutine uses it.
type thread struct {
	number     uint64
	descriptor uintptr
	id         uint32
	// rooted is set if own code is the goroutine's first function, so that its return ends the
	// goroutine.
	rooted    bool
	panicking bool
	busy      bool // an event is being written
	frames    []*Frame
	depth     int
	current   *Frame // the frame that events belong to for the log's reader
	chunk     chunk
	last      int64
	// quick is the current frame if its next line needs no clock and nothing before it, as long as no
	// more than until bytes of the chunk are used.
	quick *Frame
	until int
	// epoch changes when memory may have changed that own code did not store to.
	epoch uint64
	// changes counts the changes of memory that the thread made or may have made. visited are hashes of
	// references with the count at which everything that they lead to was last compared with the log.
	changes  uint64
	visited  [64]uint64
	snapping bool // a snapshot is being taken
	queue    []pointee
	start    int // where the event being written begins
	waited   waited
	// by is the code whose changes are being read, else nil. What is out of reach is in beyond.
	by     *Lender
	beyond []lent
	kept   []keptHere
	maps   []lent // that own code has just used, to verify the recording
	// With sampling: announced is set when the log has the thread, unit is the depth of the calls that are
	// chosen from, and omitted counts the open calls that are left out.
	announced     bool
	unit, omitted int
	salt          uint64 // changes with each call that is recorded whole: it tells all objects again
	began, before int64  // bytes that were written when the call that is recorded began, and in earlier chunks
	// apart is set if memory that is written next was not referred to by the event before.
	apart bool
}

var (
	threads     sync.Map // goroutine number → *thread
	recent      [1024]atomic.Pointer[thread]
	threadCount atomic.Uint32
)

// currentThread returns the calling goroutine's thread.
func currentThread() *thread {
	number := goroutineNumber()
	slot := &recent[number%uint64(len(recent))]
	if t := slot.Load(); t != nil && t.number == number {
		return t
	}
	if t, ok := threads.Load(number); ok {
		slot.Store(t.(*thread))
		return t.(*thread)
	}
	t := &thread{number: number, descriptor: descriptor()}
	if !sampling {
		t.announce()
	}
	threads.Store(number, t)
	slot.Store(t)
	return t
}

// announce makes the thread part of the log.
func (t *thread) announce() {
	if t.announced {
		return
	}
	t.announced, t.id, t.rooted = true, threadCount.Add(1), rooted()
	r := appendHead(nil, majorArray, 6)
	r = appendHead(r, majorUint, recordThread)
	r = appendHead(r, majorUint, uint64(t.id))
	r = appendHead(r, majorUint, 0)
	r = appendHead(r, majorUint, t.number)
	r = appendText(r, creator())
	r = appendHead(r, majorUint, uint64(now()))
	log.record(r)
}

// rooted reports whether the function that called Enter is the first one of its goroutine. The
// compiler may have put a wrapper below it for the arguments.
func rooted() bool {
	var pcs [8]uintptr
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs[:])])
	own := false // the function that called Enter has been passed
	for range pcs {
		frame, _ := frames.Next()
		switch {
		case strings.HasPrefix(frame.Function, runtimeFunctions):
		case frame.Function == "runtime.goexit":
			return own
		case !own:
			own = true
		case !strings.Contains(frame.Function, ".gowrap"):
			return false
		}
	}
	return false
}

// runtimeFunctions is the beginning of the names of this package's functions.
var runtimeFunctions = func() string {
	pc, _, _, _ := runtime.Caller(0)
	name := runtime.FuncForPC(pc).Name()
	last := strings.LastIndexByte(name, '/') + 1
	return name[:last+strings.IndexByte(name[last:], '.')+1]
}()

// creator reads "function at file:line" of the go statement that started the calling goroutine from
// its stack's text.
func creator() string {
	buf := make([]byte, 32<<10)
	text := buf[:runtime.Stack(buf, false)]
	i := bytes.LastIndex(text, []byte("created by "))
	if i < 0 {
		return ""
	}
	lines := bytes.SplitN(text[i+len("created by "):], []byte("\n"), 3)
	if len(lines) < 2 {
		return ""
	}
	place := bytes.TrimSpace(lines[1])
	if j := bytes.LastIndexByte(place, ' '); j > 0 {
		place = place[:j]
	}
	name := lines[0]
	by := ""
	if j := bytes.Index(name, []byte(" in goroutine ")); j > 0 {
		by = " in goroutine " + strconv.FormatUint(parseNumber(append([]byte("goroutine "), name[j+len(" in goroutine "):]...)), 10)
		name = name[:j]
	}
	return string(name) + by + " at " + string(place)
}
