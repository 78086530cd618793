//go:build go1.23

package inject

import (
	"encoding/binary"
	"unsafe"
)

// Operations of the format's events wait, pass and release.
const (
	opReceive = 1
	opSend    = 2
	opSelect  = 7
	opClose   = 8
)

// waited is the beginning and reason of a goroutine's wait.
type waited struct {
	at      int64
	op      uint32
	address uint64
}

// shortWait is the minimum duration of a wait, in nanoseconds, whose end is an event.
const shortWait = 20_000

func channelAddress[T any](ch *T) uint64 { return uint64(*(*uintptr)(unsafe.Pointer(ch))) }

// mark writes an event of an operation and an address.
func (f *Frame) mark(kind byte, op uint32, address uint64) {
	th := f.here()
	if b := th.begin(kind, lineRoom); b != nil {
		b = binary.AppendUvarint(b, uint64(op))
		th.hold(binary.AppendUvarint(b, address))
		th.end()
	}
}

func (f *Frame) wait(op uint32, address uint64) {
	f.mark(kindWait, op, address)
	f.th.waited = waited{f.th.last, op, address}
}

// Passed records the end of a statement's wait, if it was long.
func (f *Frame) Passed() {
	if f == nil || f.th.waited.at == 0 {
		return
	}
	w := f.th.waited
	f.th.waited = waited{}
	if now()-w.at > shortWait {
		f.mark(kindPass, w.op, w.address)
	}
}

// Selects records that the goroutine will wait for one of several channels.
func (f *Frame) Selects() {
	if f != nil {
		f.wait(opSelect, 0)
	}
}

// Waits records that the goroutine will wait at p.
func Waits[T any](f *Frame, op uint32, p *T) {
	if f != nil {
		f.wait(op, uint64(uintptr(unsafe.Pointer(p))))
	}
}

// Release records that the goroutine will unblock others.
func Release[T any](f *Frame, op uint32, p *T) {
	if f != nil {
		f.mark(kindRelease, op, uint64(uintptr(unsafe.Pointer(p))))
	}
}

// Closes records that the channel will be closed.
func Closes[T any](f *Frame, ch chan<- T) {
	if f != nil {
		f.mark(kindRelease, opClose, channelAddress(&ch))
	}
}

func exchange[T any](f *Frame, kind byte, address uint64, v *T) {
	th := f.here()
	if b := th.begin(kind, eventRoom); b != nil {
		th.hold(th.encode(binary.AppendUvarint(b, address), inside(v), planFor(v), 0))
		th.end()
	}
}

// Got receives from a channel and records the value.
func Got[T any](f *Frame, ch <-chan T) T {
	v, _ := GotTwo(f, ch)
	return v
}

// GotTwo is Got for a receive with two results.
func GotTwo[T any](f *Frame, ch <-chan T) (T, bool) {
	if f == nil {
		v, ok := <-ch
		return v, ok
	}
	address := channelAddress(&ch)
	f.wait(opReceive, address)
	v, ok := <-ch
	f.Passed()
	if ok {
		exchange(f, kindReceive, address, &v)
	}
	return v, ok
}

// To remembers the channel of a send statement, and returns it.
func To[T any](f *Frame, ch chan<- T) chan<- T {
	if f != nil {
		f.th.quick = nil
		f.sending = append(f.sending, channelAddress(&ch))
	}
	return ch
}

// ToAny is To for values whose type cannot be named: they are not recorded.
func ToAny[T any](f *Frame, ch chan<- T) chan<- T {
	if f != nil {
		var none any
		address := channelAddress(&ch)
		exchange(f, kindSend, address, &none)
		f.th.waited = waited{f.th.last, opSend, address}
	}
	return ch
}

// Sent remembers the value of a send, and returns it.
func Sent[T any](f *Frame, v T) T {
	if f != nil && len(f.sending) > 0 {
		address := f.sending[len(f.sending)-1]
		f.sending = f.sending[:len(f.sending)-1]
		exchange(f, kindSend, address, &v)
		f.th.waited = waited{f.th.last, opSend, address}
	}
	return v
}

// Had records the value that a statement received from a channel.
func Had[T any](f *Frame, ch <-chan T, v T) {
	if f != nil {
		exchange(f, kindReceive, channelAddress(&ch), &v)
	}
}

// Gave records the value that a statement sent on a channel.
func Gave[T any](f *Frame, ch chan<- T, v T) {
	if f != nil {
		exchange(f, kindSend, channelAddress(&ch), &v)
	}
}
