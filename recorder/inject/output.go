//go:build go1.23

package inject

import (
	"bytes"
	"io"
	standard "log"
	"os"
)

// recordedOutput writes to a file and records the output at the moment and in the goroutine of the
// write.
type recordedOutput struct{ *os.File }

// Write implements io.Writer.
func (w recordedOutput) Write(p []byte) (int, error) {
	n, err := w.File.Write(p)
	if active.Load() {
		if th := currentThread(); !th.busy && th.current != nil {
			text := string(bytes.TrimRight(p, "\n"))
			th.current.value(kindOutput, hide(&text), planFor(&text))
		}
	}
	return n, err
}

// Stdout returns standard output for a call that prints.
func Stdout() io.Writer { return Tee(os.Stdout) }

// Tee returns a writer that records its output if w is standard output or standard error; any other
// writer is returned as it is.
func Tee(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && active.Load() && (f == os.Stdout || f == os.Stderr) && f != nil {
		return recordedOutput{f}
	}
	return w
}

// recordLog records the output of the standard logger.
func recordLog() {
	if standard.Writer() == io.Writer(os.Stderr) {
		standard.SetOutput(Tee(os.Stderr))
	}
}
