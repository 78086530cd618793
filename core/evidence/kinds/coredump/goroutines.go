package coredump

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/evidence/kinds/coredump/values"
	"wraithology/core/replay"
)

// goRuntime reads the data of Go's runtime. Debug information gives the offsets of fields, so that
// the code depends on no release.
type goRuntime struct {
	d          *Dump
	types      uint64 // start of the type descriptors, 0 if not known
	goroutines []*goroutine
	reasons    []string
	semaphores map[uint64]uint64 // the address at which a goroutine waits
	trouble    string
}

// goroutine is one goroutine that has not ended.
type goroutine struct {
	record values.Record
	id     uint64
	status uint64
	lwp    int // index of its thread, -1 for none
}

// The states of a goroutine (runtime/runtime2.go).
const (
	statusIdle      = 0
	statusRunnable  = 1
	statusRunning   = 2
	statusSyscall   = 3
	statusWaiting   = 4
	statusDead      = 6
	statusCopying   = 8
	statusPreempted = 9
	statusLeaked    = 10
	statusMask      = 0xfff
	maxGoroutines   = 4 << 20
)

func newGoRuntime(d *Dump) *goRuntime {
	r := &goRuntime{d: d, semaphores: map[uint64]uint64{}}
	if at, ok := r.address("runtime.firstmoduledata"); ok {
		r.types = d.memory.StructNamed("runtime.moduledata", at).Uint("types")
	}
	return r
}

// address returns the address of a global variable of the runtime.
func (r *goRuntime) address(name string) (uint64, bool) {
	l := r.d.program
	l.load(&r.d.core.Memory)
	if s, ok := l.Binary.Symbols().Named(name); ok {
		return s.Address + l.Bias, true
	}
	if l.debug == nil {
		return 0, false
	}
	v, ok := l.debug.Global(name, nil)
	if !ok {
		return 0, false
	}
	p, err := v.Place(0)
	if err != nil || len(p.Expression) != 9 {
		return 0, false
	}
	return binary.LittleEndian.Uint64(p.Expression[1:]) + l.Bias, true
}

// text reads a Go string at an address. ok is false if it is longer than most bytes or was not
// kept.
func (r *goRuntime) text(at, most uint64) (s string, ok bool) {
	p, ok := r.d.core.Memory.Pointer(at)
	n, _ := r.d.core.Memory.Pointer(at + 8)
	if !ok || n > most {
		return "", false
	}
	if n == 0 {
		return "", true
	}
	b, ok := r.d.core.Memory.Read(p, n)
	return string(b), ok
}

// list reads all goroutines from the runtime's list.
func (r *goRuntime) list(ctx context.Context) {
	m := r.d.memory
	at, ok := r.address("runtime.allgs")
	of := m.Named("runtime.g")
	if !ok || of == nil {
		r.trouble = "goroutines that do not run on a thread cannot be listed without the debug information"
		return
	}
	first, _ := m.Core.Pointer(at)
	count, _ := m.Core.Pointer(at + 8)
	threads := map[uint64]int{}
	for i, t := range r.d.core.Threads {
		threads[uint64(t.ID)] = i
	}
	r.readReasons()
	for i := range min(count, maxGoroutines) {
		if i%4096 == 0 && ctx.Err() != nil {
			return
		}
		p, ok := m.Core.Pointer(first + 8*i)
		if !ok {
			r.trouble = "the runtime's list of goroutines could not be read to its end"
			break
		}
		g := &goroutine{record: values.RecordAt(m, of, p), lwp: -1}
		g.id = g.record.Uint("goid")
		g.status = g.record.Uint("atomicstatus") & statusMask
		if g.id == 0 || g.status == statusIdle || g.status == statusDead || g.status > statusLeaked {
			continue
		}
		if g.status == statusRunning || g.status == statusSyscall {
			if lwp, ok := threads[g.record.To("m").Uint("procid")]; ok {
				g.lwp = lwp
			}
		}
		r.goroutines = append(r.goroutines, g)
	}
	slices.SortFunc(r.goroutines, func(a, b *goroutine) int { return cmp.Compare(a.id, b.id) })
	r.readSemaphores()
}

// readReasons reads the runtime's texts for wait reasons.
func (r *goRuntime) readReasons() {
	at, ok := r.address("runtime.waitReasonStrings")
	if !ok {
		return
	}
	const most = 128
	for i := range uint64(most) {
		s, ok := r.text(at+16*i, 64)
		if !ok {
			return
		}
		r.reasons = append(r.reasons, s)
	}
}

// readSemaphores finds the semaphores that goroutines wait for. The runtime keeps trees of waiters,
// with lists of those at the same address.
func (r *goRuntime) readSemaphores() {
	const roots, most = 251, 1 << 20
	at, ok := r.address("runtime.semtable")
	m := r.d.memory
	root, waiter := m.Named("runtime.semaRoot"), m.Named("runtime.sudog")
	if !ok || root == nil || waiter == nil {
		return
	}
	const line = 64 // each root fills its own cache lines
	size := (root.Size + line - 1) / line * line
	var todo []uint64
	seen := map[uint64]bool{}
	for i := range uint64(roots) {
		if p := values.RecordAt(m, root, at+i*size).Uint("treap"); p != 0 {
			todo = append(todo, p)
		}
	}
	for len(todo) > 0 && len(seen) < most {
		p := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if p == 0 || seen[p] {
			continue
		}
		seen[p] = true
		s := values.RecordAt(m, waiter, p)
		r.semaphores[s.Uint("g")] = s.Uint("elem")
		todo = append(todo, s.Uint("prev"), s.Uint("next"), s.Uint("waitlink"))
	}
}

// state describes what a goroutine does, in the runtime's words.
func (r *goRuntime) state(g *goroutine) string {
	switch g.status {
	case statusRunnable:
		return "runnable"
	case statusRunning:
		return "running"
	case statusSyscall:
		return "system call"
	case statusCopying:
		return "moving its stack"
	case statusPreempted:
		return "preempted"
	}
	if n := g.record.Uint("waitreason"); n < uint64(len(r.reasons)) && r.reasons[n] != "" {
		return r.reasons[n]
	}
	return "waiting"
}

// waitsOn describes what a goroutine waits for; empty if not known.
func (r *goRuntime) waitsOn(g *goroutine) string {
	if at, ok := r.semaphores[g.record.Address]; ok && at != 0 {
		return fmt.Sprintf("semaphore at 0x%x", at)
	}
	out := ""
	const most = 8
	n := 0
	for w := g.record.To("waiting"); w.Valid() && n < most; w = w.To("waitlink") {
		c := w.Uint("c")
		if c == 0 {
			continue
		}
		if out != "" {
			out += ", "
		}
		out += fmt.Sprintf("channel at 0x%x", c)
		n++
	}
	return out
}

// maxDeferred limits the deferred calls in an answer.
const maxDeferred = 50

// deferred lists the deferred calls of a goroutine. Calls that the compiler inlined into the
// function itself are not in the runtime's list.
func (r *goRuntime) deferred(g *goroutine) []string {
	var out []string
	for x := g.record.To("_defer"); x.Valid() && len(out) < maxDeferred; x = x.To("link") {
		if fn := x.Value("fn"); fn.State == event.Known && !fn.Nil {
			out = append(out, fn.Text)
		}
	}
	return out
}

// creator describes the statement that started a goroutine.
func (r *goRuntime) creator(g *goroutine) string {
	pc := g.record.Uint("gopc")
	if pc == 0 || r.d.program.golang == nil {
		return ""
	}
	list := r.d.program.golang.Frames(pc - 1 - r.d.program.Bias)
	if len(list) == 0 {
		return ""
	}
	f := list[0]
	if g.id == 1 || strings.HasPrefix(f.Function, "runtime.newproc") {
		return "" // the runtime itself
	}
	out := fmt.Sprintf("%s at %s:%d", f.Function, f.File, f.Line)
	if parent := g.record.Uint("parentGoid"); parent != 0 {
		out += fmt.Sprintf(" (goroutine %d)", parent)
	}
	return out
}

// registers returns the registers at the top of a goroutine's stack, and whether the program
// counter is that of the current instruction.
func (r *goRuntime) registers(g *goroutine) (regs machine.Registers, exact, ok bool) {
	arch := r.d.core.Arch
	regs = machine.Registers{Arch: arch}
	stack := g.record.In("stack")
	low, high := stack.Uint("lo"), stack.Uint("hi")
	inside := func(sp uint64) bool { return sp >= low && sp < high }
	saved := func(sp, pc, bp uint64) (machine.Registers, bool, bool) {
		regs.Set(arch.SP, sp)
		regs.Set(arch.PC, pc)
		regs.Set(arch.FP, bp)
		return regs, false, inside(sp) && pc != 0
	}
	if g.lwp >= 0 {
		t := &r.d.core.Threads[g.lwp]
		regs.ThreadBase = t.Registers.ThreadBase
		if inside(t.Registers.SP()) {
			return t.Registers, true, true
		}
		// The thread is on a runtime stack. For a signal it leads back to the stack of the
		// goroutine.
		steps := r.d.unwind(context.Background(), t.Registers, true, maxSystemSteps)
		for i, s := range steps {
			if inside(s.regs.SP()) {
				return s.regs, i > 0 && steps[i-1].signal, true
			}
		}
	}
	if g.status == statusSyscall {
		if out, _, ok := saved(g.record.Uint("syscallsp"), g.record.Uint("syscallpc"), g.record.Uint("syscallbp")); ok {
			return out, false, true
		}
	}
	s := g.record.In("sched")
	return saved(s.Uint("sp"), s.Uint("pc"), s.Uint("bp"))
}

// maxSystemSteps limits how far a runtime stack is followed.
const maxSystemSteps = 64

// threadsBase is added to kernel thread numbers in a dump whose threads are goroutines.
const threadsBase = 1_000_000_000

// listThreads lists the threads of the answer: goroutines and kernel threads.
func (d *Dump) listThreads(ctx context.Context) error {
	add := func(t thread) {
		if _, ok := d.byID[t.ID]; ok || t.ID == 0 {
			return
		}
		d.byID[t.ID] = len(d.threads)
		d.threads = append(d.threads, t)
	}
	base := 0
	if d.golang != nil {
		d.golang.list(ctx)
		base = threadsBase
		for _, g := range d.golang.goroutines {
			t := thread{Thread: replay.Thread{ID: event.ThreadID(g.id), Name: fmt.Sprintf("goroutine %d", g.id), Kind: "goroutine", State: d.golang.state(g), Creator: d.golang.creator(g)}, lwp: g.lwp, goroutine: g}
			t.Deferred = d.golang.deferred(g)
			if on := d.golang.waitsOn(g); on != "" {
				t.State += ", " + on
			}
			add(t)
		}
	}
	for i, t := range d.core.Threads {
		x := thread{Thread: replay.Thread{ID: event.ThreadID(base + t.ID), Name: fmt.Sprintf("thread %d", t.ID), Kind: "thread", State: d.threadState(i)}, lwp: i}
		add(x)
	}
	return ctx.Err()
}

// threadState describes what a thread did when the dump was written.
func (d *Dump) threadState(i int) string {
	t := &d.core.Threads[i]
	if i == 0 && t.Signal != 0 {
		return "ended by " + signalName(t.Signal)
	}
	// In a system call, the instruction before the program counter is the system call.
	code, ok := d.read(t.Registers.PC()-4, 4)
	if held := d.waitsForMutex(t); held != "" {
		return held
	}
	if t.Registers.InCall || ok && d.core.Arch == machine.ARM64 && string(code) == "\x01\x00\x00\xd4" {
		return "in a system call"
	}
	return "running"
}
