package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"wraithology/core/fault"

	"github.com/schollz/progressbar/v3"
)

// standardInput is the name of standard input.
const standardInput = "-"

// slow is the time after which an operation shows its progress.
const slow = 500 * time.Millisecond

// progress returns a function that shows the progress of a long operation on a terminal, and a
// function that ends the display.
func (a *app) progress(what string) (report func(done float64), end func()) {
	if !a.terminal() {
		return nil, func() {}
	}
	begun := time.Now()
	var bar *progressbar.ProgressBar
	return func(done float64) {
			if bar == nil && time.Since(begun) > slow {
				bar = progressbar.NewOptions(100, progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription(what), progressbar.OptionClearOnFinish())
			}
			if bar != nil {
				_ = bar.Set(int(100 * done)) // errors do not matter: it is only a display
			}
		}, func() {
			if bar != nil {
				_ = bar.Finish()
			}
		}
}

// pipe copies standard input to a file, once.
func (a *app) pipe() (string, error) {
	if a.piped != "" {
		return a.piped, nil
	}
	f, err := os.CreateTemp("", "wraith-input-*")
	if err != nil {
		return "", fmt.Errorf("create a file for standard input: %w", err)
	}
	a.piped = f.Name()
	n, err := io.Copy(f, a.in)
	if err := errors.Join(err, f.Close()); err != nil {
		return "", fmt.Errorf("read standard input: %w", err)
	}
	if n == 0 {
		return "", fmt.Errorf("%w: standard input is empty", fault.Unreadable)
	}
	return a.piped, nil
}

// removePiped removes the copy of standard input.
func (a *app) removePiped() {
	if a.piped != "" {
		_ = os.Remove(a.piped) // the folder for temporary files is cleaned anyway
	}
}
