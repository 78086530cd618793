//go:build go1.23

package inject

import (
	"fmt"
	"strings"
	"sync"
)

// Tester is the common interface of testing's T, B and F.
type Tester interface {
	Failed() bool
	Name() string
	Helper()
	Error(args ...any)
	Fatal(args ...any)
}

// reported contains the tests whose failure is in the log.
var reported sync.Map

// T records the failure of a test as soon as it is seen.
func (f *Frame) T(t Tester) {
	if f != nil && t.Failed() {
		f.fail(t, t.Name()+" failed", false)
	}
}

// fail records a failure. One without a message of its own is recorded only if the test has none.
func (f *Frame) fail(t Tester, text string, hasMessage bool) {
	if f == nil {
		return
	}
	if _, known := reported.LoadOrStore(t, true); !known || hasMessage {
		f.value(kindFailure, hide(&text), planFor(&text))
	}
}

// Test wraps the failing methods of a test, so that the message is recorded. The test's output
// stays the same.
func (f *Frame) Test(t Tester) Test { return Test{f, t} }

// Test is a test that says why it fails.
type Test struct {
	f *Frame
	t Tester
}

func (t Test) lines(args []any) string {
	text := strings.TrimSuffix(fmt.Sprintln(args...), "\n")
	t.f.fail(t.t, t.t.Name()+": "+text, true)
	return text
}

func (t Test) format(format string, args []any) string {
	text := fmt.Sprintf(format, args...)
	t.f.fail(t.t, t.t.Name()+": "+text, true)
	return text
}

// Error is the test's own Error, recorded.
func (t Test) Error(args ...any) {
	t.t.Helper()
	t.t.Error(t.lines(args))
}

// Errorf is the test's own Errorf, recorded.
func (t Test) Errorf(format string, args ...any) {
	t.t.Helper()
	t.t.Error(t.format(format, args))
}

// Fatal is the test's own Fatal, recorded.
func (t Test) Fatal(args ...any) {
	t.t.Helper()
	t.t.Fatal(t.lines(args))
}

// Fatalf is the test's own Fatalf, recorded.
func (t Test) Fatalf(format string, args ...any) {
	t.t.Helper()
	t.t.Fatal(t.format(format, args))
}
