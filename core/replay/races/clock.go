// Package races finds accesses to the same memory that nothing orders, and calls that overlap.
package races

import (
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// clock is a vector clock (Mattern, "Virtual Time and Global States of Distributed Systems", 1989): for each
// thread, how many of its releases are known to have happened before.
type clock []uint32

func (c clock) of(t event.ThreadID) uint32 {
	if int(t) < len(c) {
		return c[t]
	}
	return 0
}

func (c *clock) set(t event.ThreadID, n uint32) {
	for int(t) >= len(*c) {
		*c = append(*c, 0)
	}
	(*c)[t] = n
}

// join takes over what another clock knows.
func (c *clock) join(o clock) {
	for len(*c) < len(o) {
		*c = append(*c, 0)
	}
	for t, n := range o {
		(*c)[t] = max((*c)[t], n)
	}
}

// order follows the happens-before relation through a recording. What orders threads in a way that the log does
// not have, such as atomics and code that is not recorded, is taken to order all threads that use it, so that no race
// is reported between accesses that may be ordered.
type order struct {
	threads map[event.ThreadID]*clock
	objects map[object]*clock // what was released to a lock, channel or group
	unseen  clock             // what was released to anything that is not in the log
	starts  map[event.Moment]clock
}

// object is a lock, channel or group of a process.
type object struct {
	process uint16
	address uint64
}

func newOrder() *order {
	return &order{threads: map[event.ThreadID]*clock{}, objects: map[object]*clock{}, starts: map[event.Moment]clock{}}
}

// now returns the clock of a thread.
func (o *order) now(t event.ThreadID) *clock {
	c := o.threads[t]
	if c == nil {
		c = &clock{}
		c.set(t, 1)
		o.threads[t] = c
	}
	return c
}

// release lets later acquires of an object know what the thread has done.
func (o *order) release(t event.ThreadID, to object) {
	c := o.now(t)
	k := o.objects[to]
	if k == nil {
		k = &clock{}
		o.objects[to] = k
	}
	k.join(*c)
	c.set(t, c.of(t)+1)
}

func (o *order) acquire(t event.ThreadID, from object) {
	if k := o.objects[from]; k != nil {
		o.now(t).join(*k)
	}
}

// exchange is an acquire and a release of whatever is not in the log.
func (o *order) exchange(t event.ThreadID) {
	c := o.now(t)
	c.join(o.unseen)
	o.unseen.join(*c)
	c.set(t, c.of(t)+1)
}

// start remembers what a thread had done at a moment at which it may start another one.
func (o *order) start(t event.ThreadID, at event.Moment) {
	c := o.now(t)
	o.starts[at] = append(clock(nil), *c...)
	c.set(t, c.of(t)+1)
}

// before reports whether an access of a thread, when its own clock was n, happened before what another thread does
// now.
func (o *order) before(t event.ThreadID, n uint32, now event.ThreadID) bool {
	return t == now || o.now(now).of(t) >= n
}

// ordering are parts of calls of code that is not recorded and may order threads. A call that only
// computes orders nothing.
var ordering = []string{"atomic.", ".Load(", ".Store(", ".Add(", ".And(", ".Or(", ".CompareAndSwap(", ".Swap(", ".Do(", ".Wait(", ".Go(", ".Done(", ".TryLock(", ".TryRLock(", ".RLocker(",
	".LoadOrStore(", ".LoadAndDelete(", ".Get(", ".Put(", ".Range(", ".Delete(", ".Acquire(", ".Release(", ".Lock(", ".Unlock(", ".RLock(", ".RUnlock(", ".Cancel(", ".Err(", "context.", "cancel(", "sync.",
	".Serve", ".Shutdown(", ".Close(", ".Stop(", ".Reset(", ".AfterFunc(", ".Signal(", ".Broadcast(", ".Read(", ".Write(", ".Run(", ".Parallel("}

// orders reports whether a line, when it is reached at a moment, may order threads in a way that the log does not have.
func (x *search) orders(s *event.Site, m event.Moment) bool {
	text := x.lineText(s)
	if text == "" {
		return true // unknown code may order threads
	}
	for _, part := range ordering {
		for rest := text; ; {
			before, after, found := strings.Cut(rest, part)
			if !found {
				break
			}
			if x.mayOrder(before, part, m) {
				return true
			}
			rest = after
		}
	}
	return false
}

// lineText returns the source text of a line.
func (x *search) lineText(s *event.Site) string {
	id := x.T.Function(s.Function).File
	if s.File != 0 {
		id = s.File
	}
	lines, ok := x.texts[id]
	if !ok {
		if text := x.T.Files[id].Text; text != "" {
			lines = strings.Split(text, "\n")
		}
		x.texts[id] = lines
	}
	if s.Line < 1 || s.Line > len(lines) {
		return ""
	}
	return lines[s.Line-1]
}

// computing are types that only compute, and those of which the log has what orders threads.
var computing = []string{"sync.WaitGroup", "sync.Mutex", "sync.RWMutex", "time.Time", "time.Duration", "strings.", "bytes.", "big.", "hash.", "url.", "http.Header", "regexp.", "sort.", "list.", "heap."}

// mayOrder reports whether the call of a method may order threads, by the type of the object before it.
func (x *search) mayOrder(before, method string, m event.Moment) bool {
	if !strings.HasPrefix(method, ".") || method == ".Go(" || strings.HasPrefix(method, ".Try") {
		return true
	}
	object := before[strings.LastIndexAny(before, " \t(){},;:=!&|<>+-/%^")+1:]
	p, err := replay.ParsePath(object)
	if err != nil {
		return true
	}
	_, v, err := x.ScopeOf(x.T.CallOf(m), m).Locate(p, nil)
	if err != nil || v.Type == nil {
		return true
	}
	name := strings.TrimLeft(v.Type.Name, "*")
	return !x.OwnPackage(name[:max(strings.IndexByte(name, '.'), 0)]) && !slices.ContainsFunc(computing, func(p string) bool { return strings.HasPrefix(name, p) })
}
