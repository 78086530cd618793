package trace

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// matching returns a function that reports whether a moment's message is selected.
func (r Reader) matching(of replay.MessageFilter) (func(event.Moment) bool, error) {
	thread := of.Thread
	switch {
	case of.Trace == "", r.Recorded() && strings.EqualFold(r.T.Header.TraceID, of.Trace):
	case r.T.Traces() > 0:
		x, err := r.TraceOf(of.Trace)
		if err != nil {
			return nil, err
		}
		return func(m event.Moment) bool {
			c := r.T.CallOf(m)
			return c != event.NoCall && (r.TextOf(c, "traceID") == x.ID || r.names(m, x.ID))
		}, nil
	default:
		id, ok := r.threadOfTrace(of.Trace)
		if len(of.Trace) == traceDigits {
			return func(m event.Moment) bool { return ok && r.T.Thread(m) == id || r.names(m, of.Trace) }, nil
		}
		if !ok {
			return nil, fmt.Errorf("%s: %w in the evidence", of.Trace, fault.NoTrace)
		}
		thread = id
	}
	return func(m event.Moment) bool { return thread == 0 || r.T.Thread(m) == thread }, nil
}

// traceDigits is the length of the ID of a trace in hexadecimal (W3C Trace Context, section 3.2.2.3).
const traceDigits = 32

// names reports whether a record contains the ID of a trace: as a field, in a traceparent or in its text.
func (r Reader) names(m event.Moment, trace string) bool {
	return bytes.Contains(r.T.Event(m).Data, []byte(strings.ToLower(trace)))
}

// maxLooked limits the messages of others that are skipped.
const maxLooked = 1 << 24

// MessagesAround implements replay.Messages.
func (r Reader) MessagesAround(at event.Moment, of replay.MessageFilter, before, after int) ([]event.Moment, error) {
	if err := r.Check(at); err != nil {
		return nil, err
	}
	meant, err := r.matching(of)
	if err != nil {
		return nil, err
	}
	lists := []timeline.List{r.T.Notable(event.Message), r.T.Notable(event.Error), r.T.Notable(event.Output)}
	var out []event.Moment
	collect := func(back bool, most int) {
		var index []int
		for _, l := range lists {
			if back {
				index = append(index, l.Before(at))
			} else {
				index = append(index, l.After(at))
			}
		}
		for looked := 0; most > 0 && looked < maxLooked; looked++ {
			best := -1
			for k, l := range lists {
				if index[k] < 0 || index[k] >= l.Len() {
					continue
				}
				if best < 0 || (l.At(index[k]) < lists[best].At(index[best])) != back {
					best = k
				}
			}
			if best < 0 {
				return
			}
			m := lists[best].At(index[best])
			if back {
				index[best]--
			} else {
				index[best]++
			}
			if meant(m) {
				out = append(out, m)
				most--
			}
		}
	}
	collect(true, before)
	slices.Reverse(out)
	collect(false, after)
	return out, nil
}
