package recorder

import (
	"encoding/binary"

	"wraithology/core/event"
)

// retime gives the events of a payload whose times were not read from the clock equal shares of the
// time between the events around them. The times count from base; the thread's events go on at next.
// A malformed payload is returned as it is.
func retime(payload []byte, base, next int64) []byte {
	type piece struct {
		from, fields, to int   // where the event, its fields after the time, and its end are
		since            int64 // the event before
		untimed, again   bool
	}
	var pieces []piece
	any, at := false, base
	walk := event.NewWalk(payload, base)
	for walk.Next() {
		e := walk.Event()
		raw := walk.Raw(payload)
		n, untimed := 0, raw[0]&event.Untimed != 0
		if !untimed {
			_, n = binary.Uvarint(raw[1:])
		}
		pieces = append(pieces, piece{walk.Start(), walk.Start() + 1 + n, walk.Start() + len(raw), e.Time - at, untimed, e.Kind == event.Memory || e.Kind == event.Spread || e.Kind == event.Snapshot})
		at = e.Time
		any = any || untimed
	}
	if !any || walk.Err() != nil {
		return payload
	}
	for i := 0; i < len(pieces); {
		if !pieces[i].untimed {
			i++
			continue
		}
		// The run ends at an event with a time of its own. What belongs to the moment of the event
		// before it has none.
		end, n := i, int64(0)
		for ; end < len(pieces) && (pieces[end].untimed || pieces[end].again); end++ {
			if pieces[end].untimed {
				n++
			}
		}
		left := max(next-at, 0)
		if end < len(pieces) {
			left = pieces[end].since
		}
		step := left / (n + 1)
		for k := i; k < end; k++ {
			if pieces[k].untimed {
				pieces[k].since = step
			}
		}
		if end < len(pieces) {
			pieces[end].since = left - n*step
		}
		i = end
	}
	out := make([]byte, 0, len(payload)+len(payload)/8)
	for _, p := range pieces {
		kind := payload[p.from]
		if p.untimed {
			kind = kind&^event.Untimed | event.Estimated
		}
		out = binary.AppendUvarint(append(out, kind), uint64(p.since))
		out = append(out, payload[p.fields:p.to]...)
	}
	return out
}
