//go:build linux

package inject

import (
	"runtime"
	"sync"
	"syscall"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The goroutine's number is found without its stack's text, also in a program that was started with
// blocked signals: the mask is in the descriptor of a thread and looks like an address.
func TestGoroutineNumber(t *testing.T) {
	var done sync.WaitGroup
	done.Add(1)
	go func() {
		defer done.Done()
		runtime.LockOSThread() // the thread ends with the goroutine, and its mask with it
		mask := [2]uint32{1<<(syscall.SIGUSR1-1) | 1<<(syscall.SIGUSR2-1)}
		_, _, e := syscall.RawSyscall6(syscall.SYS_RT_SIGPROCMASK, 0, uintptr(unsafe.Pointer(&mask)), 0, 8, 0, 0)
		assert.Zero(t, e)
		numbers := map[uintptr]bool{}
		scanDescriptors(func(g, n uintptr) { numbers[n] = true })
		assert.NotEmpty(t, numbers)
	}()
	done.Wait()
	findGoroutineNumber()
	require.NotZero(t, goroutineAt)
	for range 20 {
		done.Add(1)
		go func() {
			defer done.Done()
			assert.Equal(t, numberFromText(), goroutineNumber())
		}()
	}
	done.Wait()
}
