package receive

import (
	"encoding/json"
	"errors"
	"mime"
	"net/http"
	"strconv"
	"time"

	"google.golang.org/grpc/codes"
	"google.golang.org/protobuf/encoding/protowire"

	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/fault"
)

// The addresses of OTLP over HTTP.
const (
	TracesPath = "/v1/traces"
	LogsPath   = "/v1/logs"
)

// The formats of a body (OTLP specification, "OTLP/HTTP").
const (
	protobufType = "application/x-protobuf"
	jsonType     = "application/json"
)

// bodyWait limits the time to read a body.
const bodyWait = time.Minute

// retryAfter is the requested wait before a retry, in seconds.
const retryAfter = 1

// Traces and Logs answer OTLP over HTTP.
func (r *Receiver) Traces(w http.ResponseWriter, q *http.Request) { r.serve(w, q, otlp.SpanRecord) }

// Logs answers OTLP over HTTP.
func (r *Receiver) Logs(w http.ResponseWriter, q *http.Request) { r.serve(w, q, otlp.LogRecord) }

func (r *Receiver) serve(w http.ResponseWriter, q *http.Request, wanted otlp.Kind) {
	kind, _, err := mime.ParseMediaType(q.Header.Get("Content-Type"))
	if err != nil || kind != protobufType && kind != jsonType {
		http.Error(w, "send "+protobufType+" or "+jsonType, http.StatusUnsupportedMediaType)
		return
	}
	packing := q.Header.Get("Content-Encoding")
	if packing != "" && packing != "identity" && packing != "gzip" {
		http.Error(w, "send it as it is, or packed with gzip", http.StatusUnsupportedMediaType)
		return
	}
	from, err := r.Sender(q.Context(), q.Header.Get("Authorization"))
	var done result
	if err == nil {
		// A slow sender keeps the memory of its body only for bodyWait.
		_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(bodyWait)) // where there is a connection
		body, release, readErr := unpack(q.Body, packing == "gzip", r.memory)
		defer release()
		if err = readErr; err == nil && kind == jsonType {
			body, err = fromJSON(body)
		}
		if err == nil {
			done, err = r.take(q.Context(), from, body, wanted)
		}
	}
	w.Header().Set("Content-Type", kind)
	if err != nil {
		r.refuse(w, q, kind, err)
		return
	}
	_, _ = w.Write(done.answer(kind == jsonType, wanted)) // the sender may be gone; it sends again then
}

// status returns the answer to an error over HTTP and gRPC. Both tell the sender whether to retry.
func status(err error) (int, codes.Code) {
	switch {
	case errors.Is(err, otlp.ErrMalformed), errors.Is(err, otlp.ErrOther):
		return http.StatusBadRequest, codes.InvalidArgument
	case errors.Is(err, fault.UnknownToken):
		return http.StatusUnauthorized, codes.Unauthenticated
	case errors.Is(err, fault.PermissionDenied):
		return http.StatusForbidden, codes.PermissionDenied
	case errors.Is(err, fault.TooLarge):
		return http.StatusRequestEntityTooLarge, codes.InvalidArgument
	case errors.Is(err, fault.Busy):
		return http.StatusTooManyRequests, codes.Unavailable
	}
	return http.StatusServiceUnavailable, codes.Unavailable
}

// refuse answers with a Status, as the protocol requires.
func (r *Receiver) refuse(w http.ResponseWriter, q *http.Request, kind string, err error) {
	code, rpc := status(err)
	text := err.Error()
	if code == http.StatusServiceUnavailable {
		r.log.ErrorContext(q.Context(), "a report could not be taken", "error", err)
		text = "it could not be written; nothing that was acknowledged is lost, try again"
	}
	if rpc == codes.Unavailable {
		w.Header().Set("Retry-After", strconv.Itoa(retryAfter))
	}
	w.WriteHeader(code)
	if kind == jsonType {
		_ = json.NewEncoder(w).Encode(map[string]any{"code": rpc, "message": text}) // the sender may be gone
		return
	}
	b := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), uint64(rpc))
	_, _ = w.Write(protowire.AppendString(protowire.AppendTag(b, 2, protowire.BytesType), text))
}

// answer is an export response: empty, or with the number of refused records.
func (d result) answer(asJSON bool, kind otlp.Kind) []byte {
	if asJSON {
		if d.refused == 0 {
			return []byte("{}")
		}
		name := map[otlp.Kind]string{otlp.SpanRecord: "rejectedSpans", otlp.LogRecord: "rejectedLogRecords"}[kind]
		b, err := json.Marshal(map[string]any{"partialSuccess": map[string]string{name: strconv.Itoa(d.refused), "errorMessage": d.why}})
		if err != nil {
			return []byte("{}")
		}
		return b
	}
	if d.refused == 0 {
		return nil
	}
	partial := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), uint64(d.refused))
	partial = protowire.AppendString(protowire.AppendTag(partial, 2, protowire.BytesType), d.why)
	return protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), partial)
}
