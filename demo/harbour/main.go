// Command harbour runs four small services of Gannet Sound in one process:
// arrivals asks tides for the water, berths for a berth, and berths tells notices.
// Each call is a span, and what the services log is tied to it. It sends them by the
// OpenTelemetry protocol, or saves them to a file. All names and figures are invented.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"

	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploggrpc"
	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploghttp"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracegrpc"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	sdklog "go.opentelemetry.io/otel/sdk/log"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
)

func main() {
	to := flag.String("to", "", "where to send spans and logs: http://HOST:PORT, or grpc://HOST:PORT")
	token := flag.String("token", "", "the token that says into which case")
	save := flag.String("save", "", "save spans and logs to this file, as JSON Lines, instead")
	vessels := flag.Int("vessels", 60, "how many vessels arrive")
	flag.Parse()
	if err := run(context.Background(), *to, *token, *save, *vessels); err != nil {
		fmt.Fprintln(os.Stderr, "harbour:", err)
		os.Exit(1)
	}
}

// exporters are where spans and logs go.
type exporters struct {
	traces sdktrace.SpanExporter
	logs   sdklog.Exporter
}

func run(ctx context.Context, to, token, save string, vessels int) (err error) {
	var e exporters
	switch {
	case save != "":
		f, createErr := os.Create(save)
		if createErr != nil {
			return createErr
		}
		defer func() { err = errors.Join(err, f.Close()) }()
		e, err = saving(ctx, f)
	case to != "":
		e, err = sending(ctx, to, token)
	default:
		return errors.New("say -to URL or -save FILE")
	}
	if err != nil {
		return err
	}
	h := open(e)
	failed := h.receive(ctx, vessels)
	fmt.Printf("%d vessels arrived, %d got no berth\n", vessels, failed)
	return h.close(ctx)
}

// sending makes exporters that send.
func sending(ctx context.Context, to, token string) (e exporters, err error) {
	u, err := url.Parse(to)
	if err != nil {
		return e, fmt.Errorf("read -to: %w", err)
	}
	headers := map[string]string{"authorization": "Bearer " + token}
	if u.Scheme == "grpc" {
		if e.traces, err = otlptracegrpc.New(ctx, otlptracegrpc.WithEndpoint(u.Host), otlptracegrpc.WithInsecure(), otlptracegrpc.WithHeaders(headers)); err != nil {
			return e, err
		}
		e.logs, err = otlploggrpc.New(ctx, otlploggrpc.WithEndpoint(u.Host), otlploggrpc.WithInsecure(), otlploggrpc.WithHeaders(headers))
		return e, err
	}
	base := strings.TrimSuffix(to, "/")
	if e.traces, err = otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(base+"/v1/traces"), otlptracehttp.WithHeaders(headers), otlptracehttp.WithCompression(otlptracehttp.GzipCompression)); err != nil {
		return e, err
	}
	e.logs, err = otlploghttp.New(ctx, otlploghttp.WithEndpointURL(base+"/v1/logs"), otlploghttp.WithHeaders(headers))
	return e, err
}

// saving makes exporters that write JSON Lines.
func saving(ctx context.Context, f *os.File) (e exporters, err error) {
	s := newSaver(f)
	if e.traces, err = otlptrace.New(ctx, s); err != nil {
		return e, err
	}
	e.logs, err = s.logs(ctx)
	return e, err
}
