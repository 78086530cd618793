//go:build go1.23

package inject

import (
	"os"
	"sync/atomic"
)

var asked atomic.Bool

// Ask asks wraith record to write the log now, once. A program can also ask by creating the file
// that the environment variable WRAITH_ASK names.
func Ask() {
	if path := os.Getenv("WRAITH_ASK"); path != "" && active.Load() && !asked.Swap(true) {
		_ = os.WriteFile(path, nil, 0o600) // nobody to tell of it
	}
}

// AskOn is Ask, if a function ends with an error.
func AskOn(err *error) {
	if *err != nil {
		Ask()
	}
}
