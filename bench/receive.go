package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"
	"go.opentelemetry.io/otel/trace"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/service"
)

const (
	spansASecond = 20_000
	batchSize    = 500
	senders      = 4
)

// measureReceiving sends spans with the SDK's exporter to a service on this machine and counts the
// spans that are found afterwards.
func measureReceiving(r *report, dir string, quick bool) error {
	seconds := 60
	if quick {
		seconds = 10
	}
	data := filepath.Join(dir, "service")
	if err := os.MkdirAll(data, 0o755); err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o755); err != nil { // the database server runs under its own account
		return err
	}
	s, err := service.Start(ctx(), service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return err
	}
	defer s.Stop(context.Background())
	if err := s.Accounts.Add(ctx(), "Ines", "curlew-bank-7", true); err != nil {
		return err
	}
	c := client.New(s.URL, "")
	if _, err := c.SignIn(ctx(), api.Credentials{Name: "Ines", Password: "curlew-bank-7"}, "bench"); err != nil {
		return err
	}
	const name = "bench"
	if _, err := c.NewCase(ctx(), api.NewCase{Name: name}); err != nil {
		return err
	}
	sender, err := c.NewSender(ctx(), name, "bench")
	if err != nil {
		return err
	}
	took, failed, err := send(s.URL, sender.Secret, seconds)
	if err != nil {
		return err
	}
	slices.Sort(took)
	p99 := took[len(took)*99/100]
	sent := len(took) * batchSize
	found, err := foundSpans(c, name, sent)
	if err != nil {
		return err
	}
	r.add(fmt.Sprintf("%d spans sent over HTTP in %d s: those that are there", sent, seconds), fmt.Sprintf("%d (%d batches refused)", found, failed), "", float64(found)/float64(sent), "all of them", found == sent && failed == 0)
	r.add("answered within, p99", fmt.Sprintf("%.1f ms", float64(p99.Microseconds())/1000), "", 0, "100 ms", p99 <= 100*time.Millisecond)
	return nil
}

// send sends at an even rate and returns the latency of each batch.
func send(url, token string, seconds int) (took []time.Duration, failed int, err error) {
	var mu sync.Mutex
	var done sync.WaitGroup
	batches := seconds * spansASecond / batchSize
	turns := make(chan int, batches)
	errs := make(chan error, senders)
	for range senders {
		exporter, err := otlptracehttp.New(ctx(), otlptracehttp.WithEndpointURL(url+"/v1/traces"), otlptracehttp.WithHeaders(map[string]string{"authorization": "Bearer " + token}),
			otlptracehttp.WithRetry(otlptracehttp.RetryConfig{Enabled: false}))
		if err != nil {
			return nil, 0, err
		}
		done.Go(func() {
			for i := range turns {
				spans := someSpans(uint64(i))
				begun := time.Now()
				err := exporter.ExportSpans(ctx(), spans)
				t := time.Since(begun)
				mu.Lock()
				if took = append(took, t); err != nil {
					failed++
				}
				mu.Unlock()
			}
			errs <- exporter.Shutdown(ctx())
		})
	}
	begun := time.Now()
	for i := range batches {
		time.Sleep(time.Until(begun.Add(time.Duration(i) * time.Second * batchSize / spansASecond)))
		turns <- i
	}
	close(turns)
	done.Wait()
	for range senders {
		if e := <-errs; e != nil {
			err = e
		}
	}
	return took, failed, err
}

// someSpans makes a batch of traces of ten spans each.
func someSpans(batch uint64) []sdktrace.ReadOnlySpan {
	random := rand.New(rand.NewPCG(batch, 11))
	res := resource.NewSchemaless(attribute.String("service.name", "berths"), attribute.String("host.name", "gannet-berths"))
	stubs := make(tracetest.SpanStubs, 0, batchSize)
	now := time.Now()
	for i := range batchSize / spansPerTrace {
		var id trace.TraceID
		binary.BigEndian.PutUint64(id[:], batch+1)
		binary.BigEndian.PutUint64(id[8:], uint64(i)+1)
		var parent trace.SpanContext
		for k := range spansPerTrace {
			var span trace.SpanID
			binary.BigEndian.PutUint64(span[:], random.Uint64()|1)
			sc := trace.NewSpanContext(trace.SpanContextConfig{TraceID: id, SpanID: span, TraceFlags: trace.FlagsSampled})
			stubs = append(stubs, tracetest.SpanStub{Name: "assign", SpanContext: sc, Parent: parent, SpanKind: trace.SpanKindServer, StartTime: now.Add(time.Duration(k) * time.Microsecond), EndTime: now.Add(time.Millisecond - time.Duration(k)*time.Microsecond),
				Attributes: []attribute.KeyValue{attribute.String("vessel.name", "Halcyon Drift"), attribute.String("quay", "Kelp Quay 3"), attribute.Int("try", k), attribute.Float64("clearance_m", random.Float64())}, Resource: res})
			parent = sc
		}
	}
	return stubs.Snapshots()
}

// foundSpans waits until everything that was received is evidence and counts its spans.
func foundSpans(c *client.Client, name string, wanted int) (found int, err error) {
	for range 600 {
		time.Sleep(500 * time.Millisecond)
		list, err := c.ListEvidence(ctx(), name)
		if err != nil {
			return 0, err
		}
		found = 0
		indexing := len(list) == 0
		for _, e := range list {
			indexing = indexing || e.State == api.StateIndexing
			if e.State == api.StateReady {
				found += int(e.Moments) / 2 // a span begins and ends
			}
		}
		if !indexing && found >= wanted {
			break
		}
	}
	list, err := c.Traces(ctx(), name, ask.TracesRequest{Count: 1})
	if err == nil && list.Total < wanted/spansPerTrace {
		err = fmt.Errorf("%d traces were found of %d", list.Total, wanted/spansPerTrace)
	}
	return found, err
}
