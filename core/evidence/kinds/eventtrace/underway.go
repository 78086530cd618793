package eventtrace

import (
	"context"
	"encoding/binary"
	"fmt"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/ordered"
)

// TraceID is the ID of a trace (W3C Trace Context, 3.2.2.3).
type TraceID [16]byte

// Part is what is here of a trace that is under way.
type Part struct {
	Records int   // spans and log records
	Bytes   int64 // of their messages
}

// Received are the traces of export requests.
type Received struct {
	All  []TraceID        // in ascending order
	Open map[TraceID]Part // those that are not complete yet
}

// Limits of open traces: their number, and the records of one.
const (
	maxUnderWay        = 100_000
	maxUnderWayRecords = 1 << 18
)

// link is the content of a sorted record: its span, or none; the span that it refers to, or none;
// and the size of its message.
const linkSize = 8 + 8 + 4

// UnderWay returns the traces of export requests, and which of them are not complete yet. Spans are
// sent when they end, so a missing parent, or a missing span of a log record, means that more will
// come. If there are no spans, all are complete. messages yields the requests; data that does not
// fit into memory is sorted in the folder temporary. Traces of more than 262,144 records, and open
// traces beyond 100,000, count as complete.
func UnderWay(ctx context.Context, messages func(yield func([]byte) error) error, temporary string) (Received, error) {
	links := ordered.New(temporary, ordered.Piece)
	defer links.Close()
	var span otlp.Span
	var log otlp.Log
	spans := 0
	err := messages(func(request []byte) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return otlp.Walk(request, 0, func(r *otlp.Record) error {
			var trace, self, parent []byte
			if r.Kind == otlp.SpanRecord {
				if err := span.Parse(r.Message); err != nil {
					return err
				}
				trace, self, parent = span.TraceID, span.SpanID, span.ParentID
				spans++
			} else {
				if err := log.Parse(r.Message); err != nil {
					return err
				}
				trace, parent = log.TraceID, log.SpanID
			}
			if !otlp.ValidID(trace, 16) {
				return nil
			}
			var link [linkSize]byte
			if otlp.ValidID(self, 8) {
				copy(link[:8], self)
			}
			if otlp.ValidID(parent, 8) {
				copy(link[8:16], parent)
			}
			binary.LittleEndian.PutUint32(link[16:], uint32(len(r.Message)))
			return links.Add(ordered.Key{High: binary.BigEndian.Uint64(trace), Low: binary.BigEndian.Uint64(trace[8:])}, link[:])
		}, func(_ int64, err error) error { return err })
	})
	if err != nil {
		return Received{}, fmt.Errorf("find open traces: %w", err)
	}
	found := Received{Open: map[TraceID]Part{}}
	var now struct {
		ordered.Key
		Part
		here, named map[[8]byte]struct{}
	}
	const small = 1 << 10
	empty := func(m map[[8]byte]struct{}) map[[8]byte]struct{} {
		if m == nil || len(m) > small { // to clear one takes as long as it was ever large
			return map[[8]byte]struct{}{}
		}
		clear(m)
		return m
	}
	now.here, now.named = empty(nil), empty(nil)
	end := func() {
		if now.Records == 0 {
			return
		}
		var trace TraceID
		binary.BigEndian.PutUint64(trace[:], now.High)
		binary.BigEndian.PutUint64(trace[8:], now.Low)
		found.All = append(found.All, trace)
		if spans > 0 && now.Records <= maxUnderWayRecords && len(found.Open) < maxUnderWay {
			for id := range now.named {
				if _, ok := now.here[id]; !ok {
					found.Open[trace] = now.Part
					break
				}
			}
		}
		now.here, now.named, now.Part = empty(now.here), empty(now.named), Part{}
	}
	err = links.Each(ctx, func(k ordered.Key, link []byte) error {
		if k != now.Key {
			end()
			now.Key = k
		}
		now.Records++
		now.Bytes += int64(binary.LittleEndian.Uint32(link[16:]))
		if now.Records > maxUnderWayRecords {
			return nil
		}
		self, parent := [8]byte(link[:8]), [8]byte(link[8:16])
		if self != ([8]byte{}) {
			now.here[self] = struct{}{}
		}
		if parent != ([8]byte{}) {
			now.named[parent] = struct{}{}
		}
		return nil
	})
	if err != nil {
		return Received{}, fmt.Errorf("find open traces: %w", err)
	}
	end()
	return found, nil
}
