//go:build go1.23

package inject

// staticTables are the blocks with the program's functions, sites and files. The rewriting sets
// them; without them nothing is recorded.
const staticTables = ""

// defaultLog is the path of the log of a program that "wraith record -- go build" built, when it
// runs by itself.
const defaultLog = ""

// ownPackages are the import paths of own code, each between line breaks.
const ownPackages = "\n"

// recordedPackages are those of them whose functions are all recorded.
const recordedPackages = "\n"

// What is not recorded: names in the form of DefaultSecrets, regular expressions in that of
// DefaultSecretTexts, and types, each on a line.
const (
	secretNames = ""
	secretTexts = ""
	secretTypes = ""
)

// Limits of one value, and the size of the ring in bytes; 0 without a ring.
const (
	textLimit    = 256
	elementLimit = 64
	followLimit  = 3
	ringBytes    = 0
	verifies     = false
	// One in sampleEvery calls is recorded, or as many as fit in budgetShare of the processor's time; 0
	// for all.
	sampleEvery = 0
	budgetShare = 0.0
	// seesStores is set if all stores of own code are recorded.
	seesStores = false
)
