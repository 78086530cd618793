package recorder

import (
	"context"
	"encoding/binary"

	"wraithology/core/event"
)

// packedBlock is the approximate size of the events in one packed block. A log that is cut off
// loses at most one.
const packedBlock = 64 << 10

// timedBlock is a packed block before it is compressed: events whose times count from base.
type timedBlock struct {
	thread event.ThreadID
	base   int64
	events []byte
}

// retimer gives events whose times were not read from the clock equal shares of the time between the
// events around them, and cuts payloads into blocks between events.
type retimer struct {
	pieces []piece
	// see, if not nil, is called for each event, with a time that is not estimated yet.
	see func(event.Event)
}

// piece is an event of a payload.
type piece struct {
	from, fields, to uint32 // where the event, its fields after the time, and its end are
	untimed          bool
	again            bool  // it is of the moment of the event before it
	since            int64 // time since the event before
}

// split sends the events of a payload in blocks. Their times count from base; the thread's events go on
// at next.
func (r *retimer) split(ctx context.Context, thread event.ThreadID, base, next int64, payload []byte, send chan<- timedBlock) error {
	end := r.read(payload, base)
	r.share(max(next-end, 0))
	out := make([]byte, 0, packedBlock+packedBlock/4)
	flush := func(at int64) error {
		select {
		case send <- timedBlock{thread, base, out}:
		case <-ctx.Done():
			return ctx.Err()
		}
		base, out = at, make([]byte, 0, packedBlock+packedBlock/4)
		return nil
	}
	at := base
	for i := range r.pieces {
		p := &r.pieces[i]
		if len(out) >= packedBlock {
			if err := flush(at); err != nil {
				return err
			}
		}
		kind := payload[p.from]
		if p.untimed {
			kind = kind&^event.Untimed | event.Estimated
		}
		out = binary.AppendUvarint(append(out, kind), uint64(p.since))
		out = append(out, payload[p.fields:p.to]...)
		at += p.since
	}
	if n := len(r.pieces); n == 0 || int(r.pieces[n-1].to) < len(payload) { // what is damaged stays as it is
		from := 0
		if n > 0 {
			from = int(r.pieces[n-1].to)
		}
		out = append(out, payload[from:]...)
	}
	return flush(at)
}

// read finds the events of a payload, and returns the last time that was read from the clock.
func (r *retimer) read(payload []byte, base int64) (last int64) {
	r.pieces, last = r.pieces[:0], base
	walk := event.NewWalk(payload, base)
	for walk.Next() {
		e, from := walk.Event(), walk.Start()
		if r.see != nil {
			r.see(e)
		}
		p := piece{from: uint32(from), untimed: payload[from]&event.Untimed != 0, again: e.Kind == event.Memory || e.Kind == event.Spread || e.Kind == event.Snapshot, since: e.Time - last}
		at := from + 1
		if !p.untimed {
			for payload[at] >= 0x80 { // the time was walked over
				at++
			}
			at++
		}
		p.fields, p.to = uint32(at), uint32(from+len(walk.Raw(payload)))
		r.pieces = append(r.pieces, p)
		last = e.Time
	}
	return last
}

// share shares the times out. after is the time between the last event and what follows it.
func (r *retimer) share(after int64) {
	for i := 0; i < len(r.pieces); {
		if !r.pieces[i].untimed {
			i++
			continue
		}
		// The run ends at an event with a time of its own. What belongs to the moment of the event
		// before it has none.
		end, n := i, int64(0)
		for ; end < len(r.pieces) && (r.pieces[end].untimed || r.pieces[end].again); end++ {
			if r.pieces[end].untimed {
				n++
			}
		}
		left := after
		if end < len(r.pieces) {
			left = r.pieces[end].since
		}
		step := left / (n + 1)
		for k := i; k < end; k++ {
			if r.pieces[k].untimed {
				r.pieces[k].since = step
			}
		}
		if end < len(r.pieces) {
			r.pieces[end].since = left - n*step
		}
		i = end
	}
}
