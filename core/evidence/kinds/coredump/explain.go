package coredump

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"strings"
	"syscall"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/replay"
)

// failure is the cause of the end of the process, with the reasons.
type failure struct {
	replay.Failure
	access access
}

// signalNames are the POSIX names of signals.
var signalNames = map[int]string{1: "SIGHUP", 2: "SIGINT", 3: "SIGQUIT", 4: "SIGILL", 5: "SIGTRAP", 6: "SIGABRT", 7: "SIGBUS", 8: "SIGFPE", 9: "SIGKILL", 10: "SIGUSR1", 11: "SIGSEGV", 12: "SIGUSR2", 13: "SIGPIPE", 14: "SIGALRM", 15: "SIGTERM", 24: "SIGXCPU", 25: "SIGXFSZ", 31: "SIGSYS"}

func signalName(n int) string {
	if name, ok := signalNames[n]; ok {
		return name
	}
	return fmt.Sprintf("signal %d", n)
}

// explain determines the cause. It claims nothing that the dump does not show.
func (d *Dump) explain(ctx context.Context) *failure {
	if len(d.core.Threads) == 0 {
		return nil
	}
	t := &d.core.Threads[0]
	last := delivery{Signal: d.core.Signal, regs: t.Registers}
	if t.Signal != 0 {
		last.Number = t.Signal
	}
	if last.Number == 0 {
		return nil // the process continued after the dump
	}
	f := &failure{}
	f.Kind, f.Signal = "signal", signalName(last.Number)
	f.Thread = d.threadOn(0)
	if d.golang != nil && d.explainGo(ctx, f) {
		return f
	}
	list, err := d.framesOf(ctx, 0, f.Thread)
	if err != nil {
		return f
	}
	first, handled := d.firstFault(list)
	outer := f.Thread
	if !handled && d.golang != nil { // the C code that a goroutine calls, and the handlers, are on the stacks of its thread
		thread := event.ThreadID(threadsBase + t.ID)
		if inner, err := d.framesOf(ctx, 0, thread); err == nil {
			if first, handled = d.firstFault(inner); handled {
				list, f.Thread = inner, thread
			}
		}
	}
	if !handled {
		first = last
	}
	f.Signal, f.Frame = signalName(first.Number), first.frame
	d.explainSignal(ctx, f, list, first)
	f.Frame = d.firstOwn(ctx, f.Thread, f.Frame)
	if handled {
		f.Summary += d.ending(ctx, list, first, last)
	}
	if f.Thread != outer {
		f.Summary += d.calledFrom(ctx, outer)
	}
	return f
}

// calledFrom names the goroutine that called C code, and its first own function.
func (d *Dump) calledFrom(ctx context.Context, t event.ThreadID) string {
	list, err := d.framesOf(ctx, 0, t)
	if err != nil {
		return ""
	}
	for i := range list {
		if list[i].Own && !strings.Contains(list[i].Function, "._Cfunc_") {
			return fmt.Sprintf("; goroutine %d was in %s", t, list[i].Function)
		}
	}
	return ""
}

// explainSignal determines why a signal was delivered.
func (d *Dump) explainSignal(ctx context.Context, f *failure, list []frame, on delivery) {
	switch syscall.Signal(on.Number) {
	case syscall.SIGABRT:
		d.explainAbort(ctx, f, list, on)
	case syscall.SIGSEGV, syscall.SIGBUS, syscall.SIGILL, syscall.SIGFPE:
		switch {
		case !on.sent():
			d.explainFault(ctx, f, list, on)
		case d.raisedAgain(&on):
			d.explainFault(ctx, f, list, on)
			f.Summary += "; the program's handler returned and had raised the signal again"
		default:
			f.Summary = d.sentBy(f.Signal, on)
		}
	default:
		f.Summary = "ended by " + f.Signal
		if on.sent() {
			f.Summary = d.sentBy(f.Signal, on)
		}
	}
}

// sentBy names the sender of a signal.
func (d *Dump) sentBy(signal string, on delivery) string {
	if on.Sender == d.core.Process.ID && on.Sender != 0 {
		return fmt.Sprintf("ended by %s, which process %d sent to itself", signal, on.Sender)
	}
	return fmt.Sprintf("ended by %s, which process %d sent", signal, on.Sender)
}

// threadOn returns a thread, or the goroutine that runs on it.
func (d *Dump) threadOn(lwp int) event.ThreadID {
	for i := range d.threads {
		if d.threads[i].lwp == lwp {
			return d.threads[i].ID
		}
	}
	return 0
}

// firstOwn returns the first own frame from one on; that one if there is none.
func (d *Dump) firstOwn(ctx context.Context, t event.ThreadID, from int) int {
	list, err := d.framesOf(ctx, 0, t)
	if err != nil {
		return from
	}
	for i := from; i < len(list); i++ {
		if list[i].Own {
			return i
		}
	}
	return from
}

// explainAbort finds the reason why a program aborted: the text of a failed assertion, if the C
// library has one.
func (d *Dump) explainAbort(ctx context.Context, f *failure, list []frame, on delivery) {
	f.Summary = "the program ended itself (SIGABRT)"
	if on.sent() && on.Sender != 0 && d.core.Process.ID != 0 && on.Sender != d.core.Process.ID {
		f.Summary = d.sentBy("SIGABRT", on)
		return
	}
	routine := 0 // the frame of the routine that found that the exception may go no further
	for i := on.frame; i < len(list); i++ {
		switch list[i].Function {
		case "__gxx_personality_v0":
			routine = i
		case "__cxa_pure_virtual":
			f.Frame, f.Summary = i, "the program ended itself: a pure virtual function was called, of an object whose constructor or destructor is running, or that is gone"
		case "__assert_fail", "__assert_fail_base", "__GI___assert_fail", "__assert":
			f.Kind, f.Frame = "failed-assertion", i
			f.Summary = "an assertion failed"
			if text := d.abortMessage(); text != "" {
				f.Summary += ": " + text + d.sides(ctx, text, f.Thread, d.firstOwn(ctx, f.Thread, i))
			}
		case "std::terminate", "__cxxabiv1::__terminate":
			f.Frame, f.Summary = i, "the program ended itself: std::terminate was called"
		case "std::thread::~thread":
			f.Summary = "the program ended itself: std::terminate was called, by the end of a thread's object that was neither joined nor detached"
		case "__cxa_throw", "__cxa_rethrow", "std::rethrow_exception":
			f.Frame, f.Summary = i, "the program ended itself: a C++ exception was not caught"
			causes := d.uncaught(list[on.frame:])
			if routine > 0 {
				f.Summary = "the program ended itself: a C++ exception left a function that may not be left by exceptions: it is noexcept or a destructor"
				if name, ok := d.leftBy(list, routine); ok {
					f.Summary = "the program ended itself: a C++ exception left " + name + ", which may not be left by exceptions: it is noexcept or a destructor"
				}
			}
			for n, c := range causes {
				f.Summary += []string{": ", "; nested in it: "}[min(n, 1)] + c.Type
				if c.Message != "" {
					f.Summary += ": " + c.Message
				}
			}
			f.Causes = causes
		case "__stack_chk_fail":
			f.Frame, f.Summary = i, "the program ended itself: a function's frame was overwritten beyond its end"
		}
	}
	if why, frame, ok := rustPanic(list[on.frame:]); ok {
		f.Kind, f.Frame = "panic", on.frame+frame
		said, _ := d.panicMessage(list[on.frame:])
		f.Summary = "the program panicked: " + cmp.Or(said, why, "what it said went to its error output")
	}
	if f.Kind == "signal" {
		if text := d.abortMessage(); text != "" {
			f.Summary += ": " + text
			if isHeapMessage(text) {
				f.Summary += d.explainHeap(f, list, d.firstOwn(ctx, f.Thread, on.frame))
			}
		}
	}
}

// abortMessage reads the C library's abort message, which it stores as a size and a text.
func (d *Dump) abortMessage() string {
	for _, l := range d.modules {
		if l.Binary == nil || !strings.HasPrefix(path.Base(l.Path), "libc.") && !l.Executable {
			continue
		}
		s, ok := l.Binary.Symbols().Named("__abort_msg")
		if !ok {
			continue
		}
		p, ok := d.core.Memory.Pointer(s.Address + l.Bias)
		if !ok || p == 0 {
			return ""
		}
		text, _, ok := d.core.Memory.Text(p+4, 4096)
		if ok {
			return strings.TrimSpace(string(text))
		}
	}
	return ""
}

// explainFault describes the access or instruction that failed, and why.
func (d *Dump) explainFault(ctx context.Context, f *failure, list []frame, on delivery) {
	a := d.accessAt(&on.regs)
	f.access = a
	f.Instruction = a.text
	address, known := on.Address, on.Known
	const kernelFault = 0x80 // si_code SI_KERNEL: it is not a canonical address
	if known && on.Code == kernelFault {
		known = false
		if a.hasAddress {
			address, known = a.address, true
		}
	}
	if !known && !on.Known && a.hasAddress {
		address, known = a.address, true // the instruction says it, the core does not
	}
	if known {
		f.Address = fmt.Sprintf("0x%x", address)
	}
	switch s := syscall.Signal(on.Number); s {
	case syscall.SIGFPE:
		f.Summary = "an arithmetic error"
		if on.Code == divisionError {
			d.explainDivision(ctx, f, list, on, a)
		}
	case syscall.SIGILL:
		f.Summary = fmt.Sprintf("the bytes at 0x%x are not a valid instruction", on.regs.PC())
		if a.trap {
			f.Summary = "the program ended itself by an instruction that is made to fail: code that the compiler took to be unreachable, or a check that failed"
		}
	default:
		f.Summary = d.badAccess(&on.regs, a, address, known, s)
		if known && d.belowStack(&on.regs, address) {
			f.Summary += recursionOf(list[on.frame:])
		}
		if known || a.base != machine.None {
			d.suspect(ctx, f, list, on, a, address)
		}
	}
}

// divisionError is the code of SIGFPE for a division that failed: on AMD64 by zero, or with a result that does not fit
// (FPE_INTDIV).
const divisionError = 1

// explainDivision describes a division by zero, or one whose result does not fit.
func (d *Dump) explainDivision(ctx context.Context, f *failure, list []frame, on delivery, a access) {
	f.Summary = "a whole number was divided by zero"
	if divisor, ok := d.divisorOf(&on.regs, a); ok && divisor != 0 {
		f.Summary = fmt.Sprintf("a division overflowed: the smallest whole number by %d has no result that fits", divisor)
		return
	}
	d.suspectDivisor(ctx, f, list, on)
}

// divisorOf returns the divisor of a division, in its width.
func (d *Dump) divisorOf(regs *machine.Registers, a access) (int64, bool) {
	size := a.size
	raw, ok := uint64(0), false
	if a.divisor != machine.None {
		size = a.divisorSize
		raw, ok = regs.Get(a.divisor)
	} else if a.hasAddress && size > 0 && size <= 8 {
		raw, ok = d.core.Memory.Uint(a.address, size)
	}
	if !ok || size == 0 || size > 8 {
		return 0, false
	}
	unused := 64 - 8*size
	return int64(raw<<unused) >> unused, true
}

// badAccess describes an access and the memory at its address.
func (d *Dump) badAccess(regs *machine.Registers, a access, address uint64, known bool, s syscall.Signal) string {
	if !known {
		return "an access to an address that the processor cannot form"
	}
	if address == regs.PC() {
		if address < firstPage {
			return fmt.Sprintf("a call through a null pointer: code was to run at 0x%x", address)
		}
		x, ok := d.core.Memory.At(address)
		if !ok {
			return fmt.Sprintf("code was to run at 0x%x, where nothing is mapped", address)
		}
		if !x.Executable {
			return fmt.Sprintf("code was to run at 0x%x, in %s, which is not executable", address, d.describeAddress(address))
		}
	}
	what := "an access to"
	switch {
	case a.writes && !a.reads:
		what = "a write to"
	case a.reads && !a.writes:
		what = "a read from"
	}
	where := d.describeAddress(address)
	x, mapped := d.core.Memory.At(address)
	switch {
	case address < firstPage:
		if address == 0 {
			return what + " address 0: a null pointer"
		}
		return fmt.Sprintf("%s address 0x%x: %s beyond a null pointer", what, address, bytesText(address))
	case d.belowStack(regs, address):
		return fmt.Sprintf("%s 0x%x, just below the thread's stack: the stack is exhausted, mostly by a recursion that does not end", what, address)
	case s == syscall.SIGBUS && mapped && x.Path != "":
		return fmt.Sprintf("%s 0x%x, in the mapped file %s, at a place that the file does not have", what, address, x.Path)
	case s == syscall.SIGBUS && a.size > 1 && address%uint64(a.size) != 0:
		return fmt.Sprintf("%s 0x%x, which is not a multiple of %d", what, address, a.size)
	case mapped && !x.Readable && !x.Writable && !x.Executable:
		return fmt.Sprintf("%s 0x%x, in memory that is set aside and may not be touched", what, address)
	case mapped && !x.Writable && a.writes:
		return fmt.Sprintf("%s 0x%x, in %s, which is read-only", what, address, where)
	case !mapped && address>>47 != 0 && address>>47 != 1<<17-1:
		return fmt.Sprintf("%s 0x%x, which is no address: a wild pointer, or not a pointer at all", what, address)
	case !mapped:
		return fmt.Sprintf("%s 0x%x, where nothing is mapped: a wild pointer, or memory that was given back", what, address)
	}
	return fmt.Sprintf("%s 0x%x, in %s", what, address, where)
}

func bytesText(n uint64) string {
	if n == 1 {
		return "1 byte"
	}
	return fmt.Sprintf("%d bytes", n)
}

const (
	firstPage = 4096
	// guardSpan is the maximum distance below a stack at which an access counts as a stack
	// overflow.
	guardSpan = 64 << 10
)

// belowStack reports whether an address is just below the thread's stack, with the stack pointer at
// the end of the stack.
func (d *Dump) belowStack(regs *machine.Registers, address uint64) bool {
	sp := regs.SP()
	if address > sp+guardSpan || sp > address+guardSpan {
		return false
	}
	x, ok := d.core.Memory.At(sp)
	if ok && x.Writable {
		return address < x.Start && sp-x.Start < guardSpan
	}
	next, ok := d.core.Memory.Next(sp)
	return ok && next.Writable && next.Start-sp < guardSpan*2
}
