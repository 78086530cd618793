package execlog

import (
	"fmt"

	"github.com/fxamacker/cbor/v2"

	"wraithology/core/event"
)

// Summary says how a recording ended, so that nothing needs to be indexed to know it. Packing writes it
// at the end of a log; a log that was cut off has none.
type Summary struct {
	Moments int64          `cbor:"1,keyasint"`
	Threads int            `cbor:"2,keyasint"`
	Last    int64          `cbor:"3,keyasint"` // time of the last event, in nanoseconds since the log's start
	Notable []NotableEvent `cbor:"4,keyasint"` // the last ones of each thread, at most MaxNotable
	Open    []OpenCalls    `cbor:"5,keyasint"` // the threads whose calls had not ended, at most MaxOpen
}

// NotableEvent is a panic, a test's failure or an exit, with the calls that were open then.
type NotableEvent struct {
	Kind event.Kind `cbor:"1,keyasint"`
	Text string     `cbor:"2,keyasint"`
	Code uint32     `cbor:"3,keyasint"` // of an exit
	OpenCalls
}

// OpenCalls are the calls of a thread that are open at a time, innermost first, at most MaxCalls. Depth is
// their number.
type OpenCalls struct {
	Process uint16         `cbor:"10,keyasint"`
	Thread  event.ThreadID `cbor:"11,keyasint"`
	Time    int64          `cbor:"12,keyasint"`
	Depth   int            `cbor:"13,keyasint"`
	Calls   []OpenCall     `cbor:"14,keyasint"`
}

// OpenCall is a call that is open, and the site that it has reached; Reached is false if it has reached
// none.
type OpenCall struct {
	_        struct{} `cbor:",toarray"`
	Function event.FunctionID
	Site     event.SiteID
	Reached  bool
}

// Bounds of a summary.
const (
	MaxNotable = 64
	MaxOpen    = 256
	MaxCalls   = 64
	maxSummary = 4 << 20
)

// Summary writes the summary of the log.
func (w *Writer) Summary(s Summary) error {
	if err := w.Flush(); err != nil {
		return err
	}
	payload, err := cbor.Marshal(s)
	if err != nil {
		return fmt.Errorf("encode the log's summary: %w", err)
	}
	return w.block(BlockHeader{Type: SummaryBlock}, payload)
}

// decodeSummary reads untrusted bytes.
func decodeSummary(payload []byte) (*Summary, error) {
	if len(payload) > maxSummary {
		return nil, fmt.Errorf("the summary has %d bytes, at most %d are read", len(payload), maxSummary)
	}
	mode, err := cbor.DecOptions{MaxArrayElements: 1 << 14, MaxNestedLevels: 8}.DecMode()
	if err != nil {
		return nil, err
	}
	var s Summary
	if err := mode.Unmarshal(payload, &s); err != nil {
		return nil, fmt.Errorf("read the log's summary: %w", err)
	}
	return &s, nil
}
