package service

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"wraithology/core/fault"
)

// lockWait is how long to wait for a data folder: the previous process may still be stopping.
const lockWait = 3 * time.Second

// lockData locks a data folder for this process and creates it if necessary. The lock ends when the
// returned file is closed, also by the end of the process. If another process has it, the error is
// fault.DataInUse.
func lockData(dir string, wait time.Duration) (io.Closer, error) {
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, fmt.Errorf("create the data folder: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the data folder: %w", err)
	}
	for end := time.Now().Add(wait); ; time.Sleep(100 * time.Millisecond) {
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if !errors.Is(err, syscall.EWOULDBLOCK) || time.Now().After(end) {
			break
		}
	}
	switch {
	case errors.Is(err, syscall.EWOULDBLOCK):
		by, _ := io.ReadAll(io.LimitReader(f, 20)) // for the message only
		f.Close()
		return nil, fault.DataInUse.New("", "data folder %s in use by process %s", dir, strings.TrimSpace(string(by)))
	case err != nil:
		f.Close()
		return nil, fmt.Errorf("lock the data folder: %w", err)
	}
	if err := f.Truncate(0); err == nil {
		_, _ = fmt.Fprintln(f, os.Getpid()) // for the message only
	}
	return f, nil
}
