package receive

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"

	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"golang.org/x/sync/semaphore"
	"google.golang.org/protobuf/proto"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/fault"
	"wraithology/service/store"
)

// result is the result of a request: the number of refused spans.
type result struct {
	refused int
	why     string
}

// unpack reads a body, which can be compressed with gzip, up to the limit.
func unpack(in io.Reader, packed bool, memory *semaphore.Weighted) ([]byte, func(), error) {
	m := &metered{Reader: io.LimitReader(in, MaxRequest+1), memory: memory}
	b, err := readBody(m, packed)
	return b, m.release, err
}

func readBody(m *metered, packed bool) ([]byte, error) {
	if packed {
		z, err := gzip.NewReader(m.Reader)
		if err != nil {
			return nil, fmt.Errorf("%w: not compressed with gzip: %w", otlp.ErrMalformed, err)
		}
		m.Reader = io.LimitReader(z, MaxRequest+1)
	}
	b, err := io.ReadAll(m)
	if len(b) > MaxRequest {
		return nil, fmt.Errorf("%w: more than %d bytes, unpacked; send smaller batches", fault.TooLarge, MaxRequest)
	}
	if err != nil && packed && !errors.Is(err, fault.Busy) {
		return nil, fmt.Errorf("%w: %w", otlp.ErrMalformed, err)
	}
	return b, err
}

// fromJSON converts the JSON form to the binary form.
func fromJSON(b []byte) ([]byte, error) {
	var out bytes.Buffer
	t := otlp.NewTranscoder(bytes.NewReader(b), &out)
	err := t.Next()
	if errors.Is(err, otlp.ErrOther) && bytes.HasPrefix(bytes.TrimSpace(b), []byte("{")) {
		return nil, nil // an empty request
	}
	if err == nil {
		if again := t.Next(); !errors.Is(again, io.EOF) {
			err = fmt.Errorf("%w: unexpected text after the request", otlp.ErrMalformed)
		}
	}
	if errors.Is(err, io.EOF) {
		err = fmt.Errorf("%w: the body is empty", otlp.ErrMalformed)
	}
	return out.Bytes(), err
}

// take checks a request and puts it on disk.
func (r *Receiver) take(ctx context.Context, from store.Sender, request []byte, wanted otlp.Kind) (result, error) {
	c, err := otlp.Check(request)
	switch {
	case err != nil:
		return result{}, err
	case wanted == otlp.SpanRecord && c.Logs > 0, wanted == otlp.LogRecord && c.Spans > 0:
		return result{}, fmt.Errorf("%w: the records do not fit the address of the request", otlp.ErrMalformed)
	case c.Spans+c.Logs == 0:
		return result{}, nil
	}
	var out result
	if c.BadSpans > 0 {
		out = result{c.BadSpans, "spans need a trace ID of 16 bytes and a span ID of 8, not all zeros"}
		if request, err = withoutBad(request); err != nil || len(request) == 0 {
			return out, err
		}
	}
	return out, r.Take(ctx, from, request)
}

// withoutBad removes spans without valid IDs from a request.
func withoutBad(request []byte) ([]byte, error) {
	var data tracepb.TracesData
	if err := proto.Unmarshal(request, &data); err != nil {
		return nil, fmt.Errorf("%w: %w", otlp.ErrMalformed, err)
	}
	left := 0
	for _, rs := range data.ResourceSpans {
		for _, ss := range rs.ScopeSpans {
			good := ss.Spans[:0]
			for _, s := range ss.Spans {
				if otlp.ValidID(s.TraceId, 16) && otlp.ValidID(s.SpanId, 8) {
					good = append(good, s)
				}
			}
			ss.Spans = good
			left += len(good)
		}
	}
	if left == 0 {
		return nil, nil
	}
	b, err := proto.Marshal(&data)
	if err != nil {
		return nil, fmt.Errorf("encode the request again: %w", err)
	}
	return b, nil
}
