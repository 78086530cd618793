package vault

import (
	"fmt"
	"io"
	"syscall"

	"wraithology/core/fault"
)

// Room is the space of the vault's disk, in bytes.
type Room struct{ Free, Total uint64 }

// mostReserved limits the space that uploads leave for the database and for what is built from evidence, in bytes. On a small disk it is a fiftieth.
const mostReserved = 1 << 30

// lowAt is the multiple of the reserve below which the disk is nearly full.
const lowAt = 5

func (r Room) reserve() uint64 { return min(mostReserved, r.Total/50) }

// IsFull reports whether uploads are refused.
func (r Room) IsFull() bool { return r.Free < r.reserve() }

// IsLow reports whether the disk is nearly full.
func (r Room) IsLow() bool { return r.Free < lowAt*r.reserve() }

// String says how much is free.
func (r Room) String() string {
	return fmt.Sprintf("%.1f GB of %.1f GB are free", float64(r.Free)/1e9, float64(r.Total)/1e9)
}

// Room returns the space of the vault's disk that is free for this process.
func (v *Vault) Room() (Room, error) {
	if v.room != nil {
		return v.room()
	}
	var s syscall.Statfs_t
	if err := syscall.Statfs(v.dir, &s); err != nil {
		return Room{}, fmt.Errorf("look at the space of the vault: %w", err)
	}
	return Room{s.Bavail * uint64(s.Bsize), s.Blocks * uint64(s.Bsize)}, nil
}

// Fits returns an error that wraps fault.DiskFull if there is no room for some bytes more.
func (v *Vault) Fits(bytes int64) error {
	room, err := v.Room()
	if err != nil {
		return err
	}
	if room.Free < room.reserve()+uint64(max(bytes, 0)) {
		return fault.DiskFull.New("ask whoever runs the service for more space", "the disk of the service has no room for %d bytes: %s", bytes, room)
	}
	return nil
}

// roomStep is how often an upload looks at the space, in bytes.
const roomStep = 16 << 20

// bounded reads as long as the disk is not full. Then the error wraps fault.DiskFull.
type bounded struct {
	r     io.Reader
	vault *Vault
	left  int // until the next look
}

// Read implements io.Reader.
func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		room, err := b.vault.Room()
		if err != nil {
			return 0, err
		}
		if room.IsFull() {
			return 0, fault.DiskFull.New("ask whoever runs the service for more space", "the disk of the service is full: %s", room)
		}
		b.left = roomStep
	}
	n, err := b.r.Read(p)
	b.left -= n
	return n, err
}
