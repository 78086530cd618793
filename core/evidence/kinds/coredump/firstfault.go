package coredump

import (
	"context"
	"fmt"
	"syscall"

	"wraithology/core/evidence/kinds/coredump/elfcore"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// delivery is a signal with the state that it interrupted.
type delivery struct {
	elfcore.Signal
	regs  machine.Registers
	frame int // index of the first frame that it interrupted
}

// sent reports whether a process sent the signal (siginfo_t, SI_USER and below); otherwise the
// processor raised it.
func (s delivery) sent() bool { return s.Known && s.Code <= 0 }

// isFault reports whether a signal is one that a fault raises, or abort.
func (s delivery) isFault() bool {
	switch syscall.Signal(s.Number) {
	case syscall.SIGSEGV, syscall.SIGBUS, syscall.SIGILL, syscall.SIGFPE, syscall.SIGTRAP, syscall.SIGABRT, syscall.SIGSYS:
		return true
	}
	return false
}

// firstFault finds the fault that came first: the outermost signal frame of a fault on the stack. Everything further in is
// the work of its handler.
func (d *Dump) firstFault(list []frame) (delivery, bool) {
	for i := len(list) - 1; i > 0; i-- {
		s := &list[i-1].steps[list[i-1].at]
		if !s.signal || list[i].at == list[i-1].at {
			continue
		}
		info, ok := d.deliveryIn(s)
		out := delivery{Signal: info, regs: list[i].steps[list[i].at].regs, frame: i}
		if ok && out.isFault() {
			return out, true
		}
	}
	return delivery{}, false
}

// deliveryIn reads what the kernel wrote of a signal into its frame on the stack (struct rt_sigframe of Linux, for AMD64 and
// ARM64). It writes the details only for handlers that ask for them (SA_SIGINFO); for others, the processor's trap tells.
func (d *Dump) deliveryIn(s *step) (out elfcore.Signal, ok bool) {
	at := s.regs.SP() // of the context on AMD64: the return address before it has been taken
	var trap, address uint64
	if d.core.Arch == machine.AMD64 {
		const (
			context = 304      // bytes of struct ucontext of the kernel
			trapAt  = 40 + 160 // offsets in struct ucontext (struct sigcontext_64)
			faultAt = 40 + 176
		)
		var ok1, ok2 bool
		trap, ok1 = d.core.Memory.Pointer(at + trapAt)
		address, ok2 = d.core.Memory.Pointer(at + faultAt)
		if !ok1 || !ok2 {
			return out, false
		}
		at += context
	}
	if d.core.Arch == machine.ARM64 {
		const faultAt = 128 + 176 // struct siginfo, then struct ucontext up to its registers, which begin with the address
		var ok bool
		if address, ok = d.core.Memory.Pointer(at + faultAt); !ok {
			return out, false
		}
	}
	number, ok1 := d.core.Memory.Uint(at, 4)
	code, ok2 := d.core.Memory.Uint(at+8, 4)
	value, ok3 := d.core.Memory.Uint(at+16, 8)
	const most = 64 // signals of Linux
	if ok1 && ok2 && ok3 && number > 0 && number <= most {
		out = elfcore.Signal{Number: int(number), Code: int(int32(code)), Known: true}
		if out.Code <= 0 {
			out.Sender = int(uint32(value))
			return out, true
		}
		// What is there may be older than the signal; the address of the fault is not.
		isAccess := d.core.Arch == machine.AMD64 && trap == pageFault || d.core.Arch == machine.ARM64 && (number == uint64(syscall.SIGSEGV) || number == uint64(syscall.SIGBUS))
		if out.Address = value; !isAccess || value == address {
			return out, true
		}
	}
	return d.signalOfTrap(s, trap, address)
}

// The exceptions of AMD64 that raise signals (AMD64 Architecture Programmer's Manual, volume 2, section 8.2).
const (
	divideError       = 0
	invalidOpcode     = 6
	generalProtection = 13
	pageFault         = 14
)

// signalOfTrap returns the signal of the processor's last exception, if the interrupted instruction can have raised it. For a
// signal that was sent, the exception is an older one.
func (d *Dump) signalOfTrap(s *step, trap, address uint64) (out elfcore.Signal, ok bool) {
	regs, ok := d.signalFrame(s)
	if !ok || d.core.Arch != machine.AMD64 {
		return out, false
	}
	a := d.accessAt(&regs)
	switch trap {
	case pageFault:
		inside := a.hasAddress && address >= a.address && address-a.address < uint64(max(a.size, 1))
		return elfcore.Signal{Number: int(syscall.SIGSEGV), Code: 1, Address: address, Known: true}, inside || address == regs.PC()
	case generalProtection:
		const fromKernel = 0x80
		return elfcore.Signal{Number: int(syscall.SIGSEGV), Code: fromKernel, Known: true}, a.hasAddress && a.address>>47 != 0 && a.address>>47 != 1<<17-1
	case divideError:
		divisor, ok := d.divisorOf(&regs, a)
		return elfcore.Signal{Number: int(syscall.SIGFPE), Code: divisionError, Known: true}, ok && (divisor == 0 || divisor == -1)
	case invalidOpcode:
		return elfcore.Signal{Number: int(syscall.SIGILL), Code: 1, Known: true}, a.trap
	}
	return out, false
}

// signalFrameName names the kernel's frame for a signal.
func (d *Dump) signalFrameName(s *step) string {
	if info, ok := d.deliveryIn(s); ok {
		return "signal frame of " + signalName(info.Number)
	}
	return "signal frame"
}

// ending describes what ended the program after its first fault: what the handler did.
func (d *Dump) ending(ctx context.Context, list []frame, first, last delivery) string {
	handler := ""
	for i := first.frame - 2; i >= 0 && handler == ""; i-- {
		if list[i].Own {
			handler = list[i].Function
		}
	}
	switch {
	case handler == "" && d.golang != nil:
		return "" // the Go runtime handles all of them, and ends the program
	case handler == "":
		handler = "a handler of other code"
	default:
		handler = "the handler " + handler
	}
	switch s := syscall.Signal(last.Number); {
	case s == syscall.SIGABRT:
		after := &failure{}
		after.Kind = "signal"
		d.explainAbort(ctx, after, list[:first.frame-1], last)
		return "; then, in " + handler + ": " + after.Summary
	case last.sent():
		return fmt.Sprintf("; %s then raised %s", handler, signalName(last.Number))
	case s == syscall.SIGSEGV || s == syscall.SIGBUS:
		return fmt.Sprintf("; %s then failed itself: %s", handler, d.badAccess(&last.regs, d.accessAt(&last.regs), last.Address, last.Known, s))
	}
	return fmt.Sprintf("; %s then got %s", handler, signalName(last.Number))
}

// raisedAgain reports whether a signal that the process sent to itself is that of a fault of the instruction that it
// interrupted: its handler raised it again and returned. It becomes that fault.
func (d *Dump) raisedAgain(on *delivery) bool {
	if on.Sender != d.core.Process.ID || on.Sender == 0 {
		return false
	}
	a := d.accessAt(&on.regs)
	fault := *on
	fault.Sender, fault.Code, fault.Address = 0, 1, a.address
	switch syscall.Signal(on.Number) {
	case syscall.SIGSEGV, syscall.SIGBUS:
		x, mapped := d.core.Memory.At(a.address)
		if !a.hasAddress || mapped && (x.Writable || x.Readable && !a.writes) {
			return false
		}
	case syscall.SIGFPE:
		divisor, ok := d.divisorOf(&on.regs, a)
		if fault.Code = divisionError; !ok || divisor != 0 && divisor != -1 {
			return false
		}
	case syscall.SIGILL:
		if !a.trap {
			return false
		}
	default:
		return false
	}
	*on = fault
	return true
}

// mostCycle limits the functions of a recursion.
const mostCycle = 32

// leastRepeats is how often functions must follow each other to be a recursion.
const leastRepeats = 50

// recursionOf describes the recursion at the top of a stack: the shortest list of functions that is repeated.
func recursionOf(list []frame) string {
	for from := range min(len(list), mostCycle) {
		for size := 1; size <= mostCycle; size++ {
			n := 0
			for i := from; i+size < len(list) && list[i].Function == list[i+size].Function; i++ {
				n++
			}
			if times := n/size + 1; times >= leastRepeats {
				names := ""
				for i := from + size - 1; i >= from; i-- { // as they call each other
					if names != "" {
						names += ", "
					}
					names += list[i].Function
				}
				more := ""
				if len(list) >= maxSteps {
					more = "at least "
				}
				return fmt.Sprintf("; %s%d × %s", more, times, names)
			}
		}
	}
	return ""
}
