//go:build go1.23

package inject

// staticTables are the blocks with the program's functions, sites and files. The
// rewriting puts them here; without them nothing is recorded.
const staticTables = ""

// defaultLog is where a program built by "wraith record -- go build" writes its
// log when it runs by itself.
const defaultLog = ""

// ownPackages are the import paths, each between line breaks, that count as own code.
const ownPackages = "\n"

// How much is recorded of one value, and how many bytes of events are kept; 0 for
// all of them.
const (
	textLimit    = 256
	elementLimit = 64
	followLimit  = 3
	ringBytes    = 0
)
