package main

import (
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"regexp"
	"sync"

	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploghttp"
	sdklog "go.opentelemetry.io/otel/sdk/log"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"
)

// saver writes what is exported as lines of JSON, each an export request (OTLP
// specification, "JSON Protobuf Encoding").
type saver struct {
	mu     sync.Mutex
	f      *os.File
	server *http.Server
}

func newSaver(f *os.File) *saver { return &saver{f: f} }

// Start implements otlptrace.Client.
func (*saver) Start(context.Context) error { return nil }

// Stop implements otlptrace.Client.
func (*saver) Stop(context.Context) error { return nil }

// UploadTraces implements otlptrace.Client.
func (s *saver) UploadTraces(_ context.Context, spans []*tracepb.ResourceSpans) error {
	return s.write(&tracepb.TracesData{ResourceSpans: spans})
}

// ids are the members whose bytes are written in hexadecimal digits.
var ids = regexp.MustCompile(`"(traceId|spanId|parentSpanId)":\s*"([A-Za-z0-9+/=]*)"`)

func (s *saver) write(m proto.Message) error {
	text, err := protojson.Marshal(m)
	if err != nil {
		return fmt.Errorf("write as JSON: %w", err)
	}
	text = ids.ReplaceAllFunc(text, func(b []byte) []byte {
		part := ids.FindSubmatch(b)
		id, err := base64.StdEncoding.DecodeString(string(part[2]))
		if err != nil {
			return b
		}
		return fmt.Appendf(nil, `"%s":"%s"`, part[1], hex.EncodeToString(id))
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err = s.f.Write(append(text, '\n'))
	return err
}

// logs makes an exporter of logs that sends to this very process.
func (s *saver) logs(ctx context.Context) (sdklog.Exporter, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.server = &http.Server{Handler: http.HandlerFunc(s.take)}
	go func() { _ = s.server.Serve(listener) }() // it ends with the process
	return otlploghttp.New(ctx, otlploghttp.WithEndpointURL("http://"+listener.Addr().String()+"/v1/logs"))
}

func (s *saver) take(w http.ResponseWriter, r *http.Request) {
	body := io.Reader(r.Body)
	if r.Header.Get("Content-Encoding") == "gzip" {
		unpacked, err := gzip.NewReader(r.Body)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		body = unpacked
	}
	b, err := io.ReadAll(body)
	var request collogs.ExportLogsServiceRequest
	if err == nil {
		err = proto.Unmarshal(b, &request)
	}
	if err == nil {
		err = s.write(&request)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
	}
}
