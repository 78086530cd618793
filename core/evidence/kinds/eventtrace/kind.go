package eventtrace

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/intake"
	"wraithology/core/replay"
)

// Kind registers event traces: the spans and logs of OpenTelemetry, in the binary or the
// JSON form of OTLP.
var Kind = evidence.Kind{
	Name: kindName, Ending: ".otlp",
	Traits: replay.Traits{History: true, Traces: true, Messages: true, Clock: true},
	Recognise: func(s evidence.Sample) evidence.Confidence {
		const head = 256 // after it a long text may follow
		if s.JSON && otlp.IsJSON(s.Bytes) || !evidence.IsText(s.Bytes[:min(len(s.Bytes), head)]) && otlp.Is(s.Bytes) {
			return evidence.VeryLikely
		}
		return evidence.No
	},
	Build: func(ctx context.Context, in intake.Input, _ evidence.Options) error {
		head := make([]byte, 256)
		n, err := in.File.ReadAt(head, 0)
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("read the beginning: %w", err)
		}
		return Build(ctx, in, bytes.HasPrefix(bytes.TrimLeft(head[:n], "\ufeff \t\r\n"), []byte("{")))
	},
}
