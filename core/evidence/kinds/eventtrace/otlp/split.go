package otlp

import "google.golang.org/protobuf/encoding/protowire"

// The fields that lead from an export request to its records: resource, scope, and record
// (trace.proto, logs.proto).
var wayToRecords = [3]protowire.Number{1, 2, 2}

// Split splits an export request into two: rest, and the records of the traces for which apart
// returns true. Both contain the resources and scopes of their records; a part without records is
// empty. Records without a trace belong to rest.
func Split(request []byte, apart func(traceID []byte) bool) (rest, other []byte, err error) {
	s := splitter{apart: func(id []byte, _ int) bool { return apart(id) }}
	both, err := s.split(request, 0)
	return both[0].whole(), both[1].whole(), err
}

// Select returns the records of the traces for which wanted returns true, with their resources and
// scopes; nil if there are none. wanted also gets the size of the record in bytes. Only what is
// returned is copied.
func Select(request []byte, wanted func(traceID []byte, size int) bool) ([]byte, error) {
	both, err := splitter{apart: wanted, only: true}.split(request, 0)
	return both[1].whole(), err
}

type splitter struct {
	apart func(traceID []byte, size int) bool
	only  bool // whether the rest is not needed
}

// half is what goes into one of the two.
type half struct {
	bytes   []byte
	records int
}

func (h half) whole() []byte {
	if h.records == 0 {
		return nil
	}
	return h.bytes
}

func (s splitter) split(b []byte, level int) (halves [2]half, err error) {
	f := fieldsOf(b)
	for at := 0; f.next(); at = f.at() {
		field := b[at:f.at()]
		switch {
		case !f.is(wayToRecords[level]):
			for i := range halves {
				if i == 1 || !s.only {
					halves[i].bytes = append(halves[i].bytes, field...)
				}
			}
		case level+1 == len(wayToRecords):
			kind, err := kindOf(f.bytes)
			if err != nil {
				return halves, err
			}
			id, err := traceID(kind, f.bytes)
			if err != nil {
				return halves, err
			}
			to := &halves[0]
			if ValidID(id, 16) && s.apart(id, len(field)) {
				to = &halves[1]
			} else if s.only {
				continue
			}
			to.bytes = append(to.bytes, field...)
			to.records++
		default:
			parts, err := s.split(f.bytes, level+1)
			if err != nil {
				return halves, err
			}
			for i, part := range parts {
				if part.records == 0 {
					continue
				}
				halves[i].bytes = protowire.AppendTag(halves[i].bytes, f.number, protowire.BytesType)
				halves[i].bytes = protowire.AppendBytes(halves[i].bytes, part.bytes)
				halves[i].records += part.records
			}
		}
	}
	return halves, f.err
}
