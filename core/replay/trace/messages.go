package trace

import (
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
			return m >= x.Moment && m <= x.End && c != event.NoCall && r.TextOf(c, "traceID") == x.ID
		}, nil
	default:
		id, ok := r.threadOfTrace(of.Trace)
		if !ok {
			return nil, fmt.Errorf("%s: %w in the evidence", of.Trace, fault.NoTrace)
		}
		thread = id
	}
	return func(m event.Moment) bool { return thread == 0 || r.T.Thread(m) == thread }, nil
}

// maxLooked limits the messages of others that are skipped.
const maxLooked = 100_000

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
