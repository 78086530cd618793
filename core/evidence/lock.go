package evidence

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

const (
	lockPrefix = partialPrefix + "lock-" // of the files that are locked while a timeline is built
	lockFiles  = 256                     // that timelines share
	lockPause  = 20 * time.Millisecond   // between two tries
)

// lockFile opens the file that is locked for the timeline with a name.
func (t Timelines) lockFile(name string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(t.Folder, fmt.Sprintf("%s%02x", lockPrefix, crc32.ChecksumIEEE([]byte(name))%lockFiles)), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the timeline: %w", err)
	}
	return f, nil
}

// isLocked reports whether an attempt to lock a file failed because it is locked.
func isLocked(f *os.File) bool {
	err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	return errors.Is(err, syscall.EWOULDBLOCK) || errors.Is(err, syscall.EINTR)
}

// tryLock is lock without waiting. ok is false if somebody else has the lock.
func (t Timelines) tryLock(name string) (unlock func(), ok bool, err error) {
	f, err := t.lockFile(name)
	if err != nil {
		return nil, false, err
	}
	if isLocked(f) {
		_ = f.Close()
		return nil, false, nil
	}
	return func() { _ = f.Close() }, true, nil
}

// lock waits until nobody else, in this process or another, builds or removes the timeline with this name, and keeps
// others from it until the returned function is called or the process ends. Timelines that share a lock
// file also wait for each other. On a file system without locks it returns at once: then the last
// one to build a timeline keeps it.
func (t Timelines) lock(ctx context.Context, name string) (func(), error) {
	for {
		unlock, ok, err := t.tryLock(name)
		if err != nil || ok {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lockPause):
		}
	}
}
