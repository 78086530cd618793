package recorder

import (
	"os"
	"path/filepath"
	"syscall"

	"wraithology/core/room"
)

// packedShare is the expected size of a packed log, as a share of the spool: it is usually a tenth.
const packedShare = 4

// scarce reports whether a packed log may not fit on the disk beside the spool files.
func scarce(output string, spool []string) bool {
	disk, err := room.Of(filepath.Dir(output))
	if err != nil {
		return true
	}
	bytes := int64(0)
	for _, p := range spool {
		var of syscall.Stat_t
		if syscall.Stat(p, &of) == nil {
			bytes += of.Blocks * 512 // what the file occupies (stat(2))
		}
	}
	return int64(disk.Free) < bytes/packedShare
}

// freed is a spool file that gives back the space of what has been packed; nil keeps it.
type freed struct{ file *os.File }

// freeing returns nil if the file cannot be opened: then its space is given back at the end.
func freeing(path string) *freed {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil
	}
	return &freed{f}
}

// free makes a hole in the file. Not all file systems can (fallocate(2)).
func (x *freed) free(offset, bytes int64) {
	const keepSize, punchHole = 1, 2
	if x != nil {
		_ = syscall.Fallocate(int(x.file.Fd()), keepSize|punchHole, offset, bytes)
	}
}

func (x *freed) close() {
	if x != nil {
		x.file.Close()
	}
}
