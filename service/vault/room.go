package vault

import (
	"io"

	"wraithology/core/fault"
	"wraithology/core/room"
)

// Room returns the space of the vault's disk that is free for this process.
func (v *Vault) Room() (room.Room, error) {
	if v.room != nil {
		return v.room()
	}
	return room.Of(v.dir)
}

// Fits returns an error that wraps fault.DiskFull if there is no room for some bytes more.
func (v *Vault) Fits(bytes int64) error {
	disk, err := v.Room()
	if err != nil {
		return err
	}
	if disk.Free < disk.Reserve()+uint64(max(bytes, 0)) {
		return fault.DiskFull.New("ask whoever runs the service for more space", "the disk of the service has no room for %d bytes: %s", bytes, disk)
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
		disk, err := b.vault.Room()
		if err != nil {
			return 0, err
		}
		if disk.IsFull() {
			return 0, fault.DiskFull.New("ask whoever runs the service for more space", "the disk of the service is full: %s", disk)
		}
		b.left = roomStep
	}
	n, err := b.r.Read(p)
	b.left -= n
	return n, err
}
