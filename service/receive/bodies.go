package receive

import (
	"io"

	"golang.org/x/sync/semaphore"

	"wraithology/core/fault"
)

// bodiesInMemory limits the unpacked size of all requests in memory, in bytes.
const bodiesInMemory = 4 * MaxRequest

// bodyStep is the unit in which a body takes memory, in bytes.
const bodyStep = 256 << 10

// metered reads a body and takes memory for it as it grows. If there is none left, the error is
// fault.Busy, and the sender retries.
type metered struct {
	io.Reader
	memory      *semaphore.Weighted
	read, taken int64
}

// Read implements io.Reader.
func (m *metered) Read(b []byte) (int, error) {
	n, err := m.Reader.Read(b)
	for m.read += int64(n); m.taken < m.read; m.taken += bodyStep {
		if !m.memory.TryAcquire(bodyStep) {
			return 0, fault.Busy
		}
	}
	return n, err
}

// release gives the memory back.
func (m *metered) release() { m.memory.Release(m.taken) }
