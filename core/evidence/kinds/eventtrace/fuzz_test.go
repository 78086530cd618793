package eventtrace_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/replay"
)

func FuzzOTLP(f *testing.F) {
	data := &tracepb.TracesData{ResourceSpans: []*tracepb.ResourceSpans{batch("berths", span(1, 1, 0, "assign", 0, 10, text("quay", "Kelp Quay 1")), span(1, 2, 1, "reading", 2, 4))}}
	b, err := proto.Marshal(data)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add([]byte(`{"resourceSpans":[{"resource":{},"scopeSpans":[{"spans":[{"traceId":"5b8efff798038103d269b633813fc60c","spanId":"eee19b7ec3c1b174","startTimeUnixNano":"1","endTimeUnixNano":"2","attributes":[{"key":"a","value":{"arrayValue":{"values":[{"intValue":"1"},{"kvlistValue":{"values":[]}}]}}}]}]}]}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if whole, err := otlp.Check(b); err == nil {
			rest, taken, err := otlp.Split(b, func(id []byte) bool { return id[15]%2 == 0 })
			require.NoError(t, err, "what was checked can be parted")
			r, err := otlp.Check(rest)
			require.NoError(t, err)
			k, err := otlp.Check(taken)
			require.NoError(t, err)
			require.Equal(t, whole, otlp.Counts{Spans: r.Spans + k.Spans, Logs: r.Logs + k.Logs, BadSpans: r.BadSpans + k.BadSpans})
		}
		path := filepath.Join(t.TempDir(), "x")
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
		r, err := kinds.All.Open(context.Background(), path, evidence.Options{As: "event-trace"}, nil)
		if err != nil {
			return
		}
		for m := range min(r.Info().Moments, 50) {
			th, err := r.ThreadOf(event.Moment(m))
			if err != nil {
				t.Fatal(err)
			}
			if frames, err := r.Frames(context.Background(), event.Moment(m), th); err == nil && len(frames) > 0 {
				_, _ = r.Variables(context.Background(), event.Moment(m), th, 0) // it must not fail hard
			}
		}
		if tracer, ok := r.(replay.Tracer); ok {
			list, err := tracer.Traces(context.Background(), nil, replay.Page{Count: 5})
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range list.Page {
				_, _ = tracer.Spans(context.Background(), x.ID) // two traces may have IDs that begin alike
			}
		}
	})
}
