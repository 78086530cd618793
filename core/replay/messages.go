package replay

import (
	"slices"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// Speaker is evidence that holds messages.
type Speaker interface {
	// MessagesAround lists the moments of messages and errors around a moment: up to
	// before of them that are not after it, and up to after of those that are; of one
	// thread, or with thread 0 of all.
	MessagesAround(at event.Moment, thread event.ThreadID, before, after int) ([]event.Moment, error)
}

// AsSpeaker returns the messages of evidence, if it may have any.
func AsSpeaker(r Recording) (Speaker, bool) {
	s, ok := r.(*logRecording)
	return s, ok
}

// maxLooked bounds the messages of other threads that are passed over.
const maxLooked = 100_000

// MessagesAround implements Speaker.
func (r *logRecording) MessagesAround(at event.Moment, thread event.ThreadID, before, after int) ([]event.Moment, error) {
	if err := r.check(at); err != nil {
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
			if thread == 0 || r.t.Thread(m) == thread {
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
