package receive

import (
	"context"
	"math"
	"slices"
	"time"

	"wraithology/core/evidence/kinds/eventtrace"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
)

// pending are the traces that move to the next piece of a case's evidence, because they were in
// progress when a piece was sealed.
type pending map[eventtrace.TraceID]waited

// waited is how a trace has been waited for.
type waited struct {
	records       int
	begun, growth time.Time // when it was first sealed, and when it last grew
}

// How long a trace is waited for, in multiples of the quiet time and of the maximum age; and the
// share of a piece that can move on.
const (
	waitForGrowth = 2
	waitForEnd    = 10
	sharePending  = 4
)

// part is a sealed file, split into evidence and moving traces.
type part struct {
	path    string
	pending pending
	stays   bool                 // whether anything becomes evidence
	traces  []eventtrace.TraceID // those that become evidence, in ascending order
	earlier []byte               // what earlier evidence has of them, as requests
}

// part selects the traces of a sealed file that move on: those that are in progress and still grow.
func (r *Receiver) part(ctx context.Context, caseID int64, path string) (part, error) {
	found, err := eventtrace.UnderWay(ctx, func(yield func([]byte) error) error { return readSpool(path, yield) }, r.dir)
	if err != nil {
		return part{}, err
	}
	p, now, left := part{path: path, pending: pending{}, stays: true}, time.Now(), r.settle.Largest/sharePending
	for id, x := range found.Open {
		w := waited{x.Records, now, now}
		if before, ok := r.pending[caseID][id]; ok {
			if w.begun = before.begun; w.records <= before.records {
				w.growth = before.growth
			}
		}
		if now.Sub(w.growth) >= waitForGrowth*r.settle.Quiet || now.Sub(w.begun) >= waitForEnd*r.settle.Oldest || x.Bytes > left {
			continue
		}
		left -= x.Bytes
		p.pending[id] = w
	}
	p.traces = slices.DeleteFunc(found.All, func(id eventtrace.TraceID) bool {
		_, moves := p.pending[id]
		return moves
	})
	return p, nil
}

// split returns the two parts of each request; one without records is empty.
func (p part) split(yield func(rest, pending []byte) error) error {
	return readSpool(p.path, func(request []byte) error {
		if len(p.pending) == 0 {
			return yield(request, nil)
		}
		rest, pending, err := otlp.Split(request, func(id []byte) bool {
			_, ok := p.pending[eventtrace.TraceID(id)]
			return ok
		})
		if err != nil {
			return err
		}
		return yield(rest, pending)
	})
}

// rest yields the requests that become evidence, after the earlier parts of their traces.
func (p part) rest(yield func([]byte) error) error {
	if len(p.earlier) > 0 {
		if err := yield(p.earlier); err != nil {
			return err
		}
	}
	return p.split(func(rest, _ []byte) error {
		if len(rest) == 0 {
			return nil
		}
		return yield(rest)
	})
}

// moveOn writes the moving traces to disk again, as if they were received now. Only after that
// can the rest become evidence and the file be removed. If the service is killed in between, the
// traces are received twice and shown once.
func (p *part) moveOn(ctx context.Context, to *stream, person int64) error {
	if len(p.pending) == 0 {
		return nil
	}
	const batch = 4 << 20
	var waiting []byte
	flush := func() error {
		if len(waiting) == 0 {
			return nil
		}
		err := to.take(ctx, person, waiting, math.MaxInt) // it was acknowledged: it is not refused
		waiting = nil
		return err
	}
	p.stays = false
	err := p.split(func(rest, pending []byte) error {
		p.stays = p.stays || len(rest) > 0
		if len(waiting) > 0 && len(waiting)+len(pending) > batch {
			if err := flush(); err != nil {
				return err
			}
		}
		waiting = append(waiting, pending...)
		return nil
	})
	if err != nil {
		return err
	}
	return flush()
}

// parted returns the parts of a sealed file after its traces have moved. Making evidence of the
// rest can fail and is retried, without moving traces twice.
func (r *Receiver) parted(ctx context.Context, caseID, personID int64, when, path string) (part, error) {
	if p, ok := r.parts[path]; ok {
		return p, nil
	}
	p, err := r.part(ctx, caseID, path)
	if err == nil {
		err = p.moveOn(ctx, r.stream(caseID), personID)
	}
	if err != nil {
		if ctx.Err() != nil {
			return p, err
		}
		r.log.WarnContext(ctx, "traces in progress cannot be moved to the next evidence; they become evidence as they are", "file", path, "error", err)
		p = part{path: path, pending: pending{}, stays: true}
	}
	if p.stays {
		if p.earlier, err = r.late.join(ctx, caseID, evidenceName(when), p.traces, r.settle.Largest/sharePending); err != nil {
			if ctx.Err() != nil {
				return p, err
			}
			r.log.WarnContext(ctx, "late parts are not joined to their traces; they become evidence on their own", "file", path, "error", err)
		}
	}
	r.parts[path] = p
	return p, nil
}
