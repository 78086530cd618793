package otlp

import "bytes"

// Counts says what an export request holds.
type Counts struct {
	Spans, Logs int
	BadSpans    int // without a valid trace ID and span ID (W3C Trace Context, 3.2.2)
}

// Depth of nested values that is looked into.
const maxDepth = 64

// Check reads all of an export request and counts its records. Its error wraps
// ErrMalformed.
func Check(request []byte) (c Counts, err error) {
	var s Span
	var e Event
	var l Log
	stop := func(_ int64, err error) error { return err }
	var last struct{ resource, scope []byte }
	err = Walk(request, 0, func(r *Record) error {
		if !same(r.Resource, last.resource) {
			last.resource = r.Resource
			attributes, err := ParseResource(r.Resource)
			if err != nil {
				return err
			}
			if err := checkAttributes(attributes, 0); err != nil {
				return err
			}
		}
		if !same(r.Scope, last.scope) {
			last.scope = r.Scope
			scope, err := ParseScope(r.Scope)
			if err != nil {
				return err
			}
			if err := checkAttributes(scope.Attributes, 0); err != nil {
				return err
			}
		}
		if r.Kind == LogRecord {
			c.Logs++
			if err := l.Parse(r.Message); err != nil {
				return err
			}
			if err := checkValue(l.Body, 0); err != nil {
				return err
			}
			return checkAttributes(l.Attributes, 0)
		}
		c.Spans++
		if err := s.Parse(r.Message); err != nil {
			return err
		}
		if !ValidID(s.TraceID, 16) || !ValidID(s.SpanID, 8) {
			c.BadSpans++
		}
		for _, b := range s.Events {
			if err := e.Parse(b); err != nil {
				return err
			}
			if err := checkAttributes(e.Attributes, 0); err != nil {
				return err
			}
		}
		for _, b := range s.Links {
			if _, _, err := ParseLink(b); err != nil {
				return err
			}
		}
		return checkAttributes(s.Attributes, 0)
	}, stop)
	return c, err
}

// same reports whether two messages are at the same place.
func same(a, b []byte) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// ValidID reports whether an ID has its length and is not all zeros.
func ValidID(id []byte, size int) bool {
	return len(id) == size && len(bytes.Trim(id, "\x00")) > 0
}

func checkAttributes(list [][]byte, depth int) error {
	for _, b := range list {
		_, value, err := ParseAttribute(b)
		if err != nil {
			return err
		}
		if err := checkValue(value, depth); err != nil {
			return err
		}
	}
	return nil
}

func checkValue(b []byte, depth int) error {
	v, err := ParseValue(b)
	if err != nil || depth > maxDepth || v.Kind != ArrayValue && v.Kind != MapValue {
		return err
	}
	items, err := v.Items()
	if err != nil {
		return err
	}
	if v.Kind == MapValue {
		return checkAttributes(items, depth+1)
	}
	for _, x := range items {
		if err := checkValue(x, depth+1); err != nil {
			return err
		}
	}
	return nil
}
