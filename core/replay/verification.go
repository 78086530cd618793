package replay

import "context"

// Verifier is evidence that may hold snapshots of the program's own values.
type Verifier interface {
	// Verify compares all values of the recording with the snapshots that the recorder took in the
	// program. It returns an error of kind fault.NoSnapshots if there are none.
	Verify(ctx context.Context, page Page) (Verification, error)
}

// Verification counts the values that were compared: numbers, texts and references, also inside of
// others. Unknown are those that the recording does not claim to know. Total is the number of
// deviations.
type Verification struct {
	Compared int64
	Unknown  int64
	Total    int
	Page     []Deviation
}

// Deviation is a value that the recording has wrong. A value that is wrong for a long time is listed
// for each snapshot.
type Deviation struct {
	Place
	Name     string
	Recorded string
	Actual   string
}
