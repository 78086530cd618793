// Package guard contains failures: a panic, or a fault when reading a mapped file that was
// truncated, becomes an error of the current operation.
package guard

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"

	"golang.org/x/sync/errgroup"

	"wraithology/core/fault"
)

// Panic is a panic that was turned into an error.
type Panic struct {
	Value any
	Stack []byte
}

// Error implements error.
func (p *Panic) Error() string { return fmt.Sprintf("internal error: %v", p.Value) }

// Unwrap makes it a fault.Internal.
func (p *Panic) Unwrap() error { return fault.Internal }

// Do calls f and returns its error. A panic becomes a *Panic, a memory fault an error that wraps
// fault.Damaged. An error of Raise is returned as it is.
func Do(f func() error) (err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		switch p := recover().(type) {
		case nil:
		case *damage:
			err = p.err
		case runtime.Error:
			if a, ok := p.(interface{ Addr() uintptr }); ok {
				err = fmt.Errorf("%w: the file was truncated while it was read (address 0x%x)", fault.Damaged, a.Addr())
				return
			}
			err = &Panic{p, debug.Stack()}
		default:
			err = &Panic{p, debug.Stack()}
		}
	}()
	return f()
}

// damage is an error that Raise throws and Do catches.
type damage struct{ err error }

// Raise ends the function that Do has called with an error. It is for look-ups without an error
// result, such as a page of a file with a wrong checksum.
func Raise(err error) { panic(&damage{err}) }

// Each calls f for 0 to n-1 on as many goroutines as there are processors, each guarded. It ends
// with the first error or with the context.
func Each(ctx context.Context, n int, f func(ctx context.Context, i int) error) error {
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range n {
		if inner.Err() != nil {
			break
		}
		g.Go(func() error { return Do(func() error { return f(inner, i) }) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}
