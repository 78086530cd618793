package fault

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"syscall"
)

// Kind is a kind of error. It is itself an error that other errors wrap.
type Kind struct {
	Code   string // stable; the type of a problem details object (RFC 9457)
	Exit   int    // of a command
	Status int    // of an HTTP answer
	Text   string // how it reads within a message
	Remedy string // what to do about it
}

// Error implements error.
func (k *Kind) Error() string { return k.Text }

// New returns an error of the kind with the message of format instead of the kind's text. remedy
// replaces the kind's remedy unless it is empty. format can wrap errors with %w.
func (k *Kind) New(remedy, format string, args ...any) error {
	return &detail{kind: k, remedy: remedy, err: fmt.Errorf(format, args...)}
}

type detail struct {
	kind   *Kind
	remedy string
	err    error
}

func (d *detail) Error() string   { return d.err.Error() }
func (d *detail) Unwrap() []error { return []error{d.kind, d.err} }

var kinds []*Kind

func define(code string, exit, status int, text, remedy string) *Kind {
	k := &Kind{code, exit, status, text, remedy}
	kinds = append(kinds, k)
	return k
}

// Kinds lists all kinds in the order of the table.
func Kinds() []*Kind { return slices.Clone(kinds) }

// ByCode returns the kind with a code, or nil.
func ByCode(code string) *Kind {
	for _, k := range kinds {
		if k.Code == code {
			return k
		}
	}
	return nil
}

// Of returns the kind of an error and its remedy. If an error wraps several kinds, the innermost
// one counts: it is nearest to the cause. An error without a kind is Internal; errors of contexts
// are Cancelled or TimeLimit.
func Of(err error) (k *Kind, remedy string) {
	own := "" // the remedy of the error whose kind comes next
	walk(err, func(e error) {
		switch e := e.(type) {
		case *detail:
			own = e.remedy
		case *Kind:
			k, remedy, own = e, cmp.Or(own, e.Remedy), ""
		}
	})
	switch {
	case k != nil:
	case errors.Is(err, context.DeadlineExceeded):
		k, remedy = TimeLimit, TimeLimit.Remedy
	case errors.Is(err, context.Canceled):
		k, remedy = Cancelled, Cancelled.Remedy
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		k, remedy = DiskFull, DiskFull.Remedy
	default:
		k, remedy = Internal, Internal.Remedy
	}
	return k, remedy
}

// walk calls f for an error and all errors that it wraps, outermost first.
func walk(err error, f func(error)) {
	for err != nil {
		f(err)
		switch x := err.(type) {
		case interface{ Unwrap() []error }:
			for _, e := range x.Unwrap() {
				walk(e, f)
			}
			return
		case interface{ Unwrap() error }:
			err = x.Unwrap()
		default:
			return
		}
	}
}
