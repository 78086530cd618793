package otlp

import (
	"bytes"
	"regexp"

	"google.golang.org/protobuf/encoding/protowire"
)

var jsonMember = regexp.MustCompile(`"(resourceSpans|resourceLogs|resource_spans|resource_logs)"\s*:`)

// IsJSON reports whether the beginning of a JSON text is that of traces or logs of OTLP.
func IsJSON(sample []byte) bool { return jsonMember.Match(sample) }

// Is reports whether bytes begin as traces or logs of OTLP do: with a message that
// holds a resource, or a scope with its records.
func Is(sample []byte) bool {
	if bytes.HasPrefix(sample, []byte("\n\n\n\n")) {
		return false // empty lines: a message of 10 bytes cannot hold another one of 10
	}
	number, kind, n := protowire.ConsumeTag(sample)
	if n < 0 || number != 1 || kind != protowire.BytesType {
		return false
	}
	size, m := protowire.ConsumeVarint(sample[n:])
	if m < 0 || size == 0 {
		return false
	}
	inner := sample[n+m:]
	inner = inner[:min(uint64(len(inner)), size)]
	number, kind, n = protowire.ConsumeTag(inner)
	return n > 0 && kind == protowire.BytesType && number <= 3
}
