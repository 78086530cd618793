package replay

import (
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// Speaker is evidence that holds messages.
type Speaker interface {
	// MessagesAround lists the moments of messages and errors around a moment: up to
	// before of them that are not after it, and up to after of those that are.
	MessagesAround(at event.Moment, of Whose, before, after int) ([]event.Moment, error)
}

// Whose says which messages are meant: those of a thread, of a trace, or of all.
type Whose struct {
	Thread event.ThreadID
	Trace  string
}

// whose returns what tells whether a moment's message is meant.
func (r *logRecording) whose(of Whose) (func(event.Moment) bool, error) {
	thread := of.Thread
	switch {
	case of.Trace == "", r.recorded() && strings.EqualFold(r.t.Header.TraceID, of.Trace):
	case r.t.Traces() > 0:
		x, err := r.TraceOf(of.Trace)
		if err != nil {
			return nil, err
		}
		return func(m event.Moment) bool {
			c := r.t.CallOf(m)
			return m >= x.Moment && m <= x.End && c != event.NoCall && r.textOf(c, "traceID") == x.ID
		}, nil
	default:
		id, ok := r.threadOfTrace(of.Trace)
		if !ok {
			return nil, fmt.Errorf("%s: %w in the evidence", of.Trace, ErrNoTraces)
		}
		thread = id
	}
	return func(m event.Moment) bool { return thread == 0 || r.t.Thread(m) == thread }, nil
}

// AsSpeaker returns the messages of evidence, if it may have any.
func AsSpeaker(r Recording) (Speaker, bool) {
	s, ok := r.(*logRecording)
	return s, ok
}

// maxLooked bounds the messages of others that are passed over.
const maxLooked = 100_000

// MessagesAround implements Speaker.
func (r *logRecording) MessagesAround(at event.Moment, of Whose, before, after int) ([]event.Moment, error) {
	if err := r.check(at); err != nil {
		return nil, err
	}
	meant, err := r.whose(of)
	if err != nil {
		return nil, err
	}
	lists := []timeline.List{r.t.Notable(event.Message), r.t.Notable(event.Error), r.t.Notable(event.Output)}
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
