package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/log"
	sdklog "go.opentelemetry.io/otel/sdk/log"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
)

// service is one of the four: it has its own name, spans and logs.
type service struct {
	tracer trace.Tracer
	logger log.Logger
	spans  *sdktrace.TracerProvider
	logs   *sdklog.LoggerProvider
}

func newService(name, version string, e exporters) *service {
	r := resource.NewSchemaless(attribute.String("service.name", name), attribute.String("service.version", version), attribute.String("host.name", "gannet-"+name), attribute.String("deployment.environment.name", "quayside"))
	s := &service{spans: sdktrace.NewTracerProvider(sdktrace.WithBatcher(e.traces), sdktrace.WithResource(r)), logs: sdklog.NewLoggerProvider(sdklog.WithProcessor(sdklog.NewBatchProcessor(e.logs)), sdklog.WithResource(r))}
	s.tracer = s.spans.Tracer("gannet/"+name, trace.WithInstrumentationVersion(version))
	s.logger = s.logs.Logger("gannet/" + name)
	return s
}

// say logs a line that belongs to the span of ctx.
func (s *service) say(ctx context.Context, severity log.Severity, text string, attributes ...attribute.KeyValue) {
	var r log.Record
	r.SetTimestamp(time.Now())
	r.SetSeverity(severity)
	r.SetSeverityText(strings.TrimRight(severity.String(), "1234"))
	r.SetBody(attribute.StringValue(text))
	r.AddAttributes(attributes...)
	s.logger.Emit(ctx, r)
}

// fail ends a span with an error.
func fail(span trace.Span, err error) error {
	span.RecordError(err, trace.WithStackTrace(true))
	span.SetStatus(codes.Error, err.Error())
	return err
}

// Vessel is an arrival.
type Vessel struct {
	Name     string
	DraughtM float64
	Quay     string
}

// ErrNoStation means that a tide station is not in the book.
var ErrNoStation = errors.New("no such tide station")

// ErrNoBerth means that a vessel got no berth.
var ErrNoBerth = errors.New("no berth")

// harbour is the four services together.
type harbour struct {
	arrivals, tides, berths, notices *service
	waterM                           map[string]float64 // by station
	stations                         map[string]string  // by quay
	last                             sync.Map           // the last arrival's trace.SpanContext, by quay
}

func open(e exporters) *harbour {
	return &harbour{arrivals: newService("arrivals", "2.4.0", e), tides: newService("tides", "1.9.2", e), berths: newService("berths", "3.1.0", e), notices: newService("notices", "1.0.5", e),
		waterM:   map[string]float64{"Gannet Bar": 9.4, "Inner Ness": 7.2, "Skerry Gut": 6.1},
		stations: map[string]string{"Kelp Quay 1": "Inner Ness", "Kelp Quay 2": "Inner Ness", "Osprey Wall": "Gannet Bar", "Old Salt Stage": "Skerry Gut "},
	}
}

func (h *harbour) close(ctx context.Context) error {
	var err error
	for _, s := range []*service{h.arrivals, h.tides, h.berths, h.notices} {
		err = errors.Join(err, s.spans.ForceFlush(ctx), s.logs.ForceFlush(ctx))
	}
	return err // the process ends, and with it the exporters, which all four share
}

var vesselNames = []string{"Curlew Bank", "Morning Petrel", "Two Sisters of Ness", "Halcyon Drift"}

// receive lets vessels arrive, a few at a time, and counts those without a berth.
func (h *harbour) receive(ctx context.Context, vessels int) (failed int) {
	quays := []string{"Kelp Quay 1", "Kelp Quay 2", "Osprey Wall"}
	var mu sync.Mutex
	var done sync.WaitGroup
	few := make(chan struct{}, 3)
	for i := range vessels {
		v := Vessel{Name: fmt.Sprintf("%s %d", vesselNames[i%len(vesselNames)], i/len(vesselNames)+1), DraughtM: 3 + math.Mod(float64(i)*0.37, 3), Quay: quays[i%len(quays)]}
		if i%23 == 17 {
			v.Quay = "Old Salt Stage"
		}
		few <- struct{}{}
		done.Go(func() {
			defer func() { <-few }()
			if h.arrive(ctx, v) != nil {
				mu.Lock()
				failed++
				mu.Unlock()
			}
		})
	}
	done.Wait()
	return failed
}

// arrive is arrivals: it finds out how much water there is, and asks for a berth.
func (h *harbour) arrive(ctx context.Context, v Vessel) error {
	ctx, span := h.arrivals.tracer.Start(ctx, "arrive", trace.WithSpanKind(trace.SpanKindServer), trace.WithLinks(h.before(v)...), trace.WithAttributes(attribute.String("vessel.name", v.Name), attribute.Float64("vessel.draught_m", v.DraughtM), attribute.String("quay", v.Quay)))
	defer span.End()
	h.last.Store(v.Quay, span.SpanContext())
	h.arrivals.say(ctx, log.SeverityInfo, "vessel sighted", attribute.String("vessel.name", v.Name))
	bar, err := h.reading(ctx, "Gannet Bar")
	if err != nil {
		return fail(span, err)
	}
	span.AddEvent("crossed the bar", trace.WithAttributes(attribute.Float64("clearance_m", bar-v.DraughtM)))
	if err := h.assign(ctx, v); err != nil {
		h.arrivals.say(ctx, log.SeverityError, "vessel sent to anchor", attribute.String("vessel.name", v.Name), attribute.String("reason", err.Error()))
		span.SetStatus(codes.Error, err.Error())
		return err
	}
	return nil
}

// before links to the arrival before at the same quay.
func (h *harbour) before(v Vessel) []trace.Link {
	if last, ok := h.last.Load(v.Quay); ok {
		return []trace.Link{{SpanContext: last.(trace.SpanContext)}}
	}
	return nil
}

// reading is tides: it looks a station up in the book.
func (h *harbour) reading(ctx context.Context, station string) (float64, error) {
	ctx, span := h.tides.tracer.Start(ctx, "reading", trace.WithSpanKind(trace.SpanKindServer), trace.WithAttributes(attribute.String("station", station)))
	defer span.End()
	time.Sleep(2 * time.Millisecond)
	water, ok := h.waterM[station]
	if !ok {
		h.tides.say(ctx, log.SeverityWarn, "station is not in the book", attribute.String("station", station))
		return 0, fail(span, fmt.Errorf("%q: %w", station, ErrNoStation))
	}
	span.SetAttributes(attribute.Float64("water_m", water))
	return water, nil
}

// assign is berths: it asks for the water at the quay, time and again where that fails.
func (h *harbour) assign(ctx context.Context, v Vessel) error {
	ctx, span := h.berths.tracer.Start(ctx, "berths/assign", trace.WithSpanKind(trace.SpanKindServer), trace.WithAttributes(attribute.String("vessel.name", v.Name), attribute.String("quay", v.Quay)))
	defer span.End()
	const tries = 5
	wait := 4 * time.Millisecond
	var water float64
	var err error
	for try := 1; try <= tries; try++ {
		if water, err = h.reading(ctx, h.stations[v.Quay]); err == nil {
			break
		}
		h.berths.say(ctx, log.SeverityWarn, "no reading, trying again", attribute.Int("try", try), attribute.Int64("wait_ms", wait.Milliseconds()))
		span.AddEvent("retry", trace.WithAttributes(attribute.Int("try", try), attribute.Int64("wait_ms", wait.Milliseconds())))
		time.Sleep(wait)
		wait *= 2
	}
	if err != nil {
		return fail(span, fmt.Errorf("%s at %s after %d tries: %w: %w", v.Name, v.Quay, tries, ErrNoBerth, err))
	}
	span.SetAttributes(attribute.Float64("clearance_m", water-v.DraughtM))
	return h.publish(ctx, v)
}

// publish is notices: it tells the quay and the pilots, side by side.
func (h *harbour) publish(ctx context.Context, v Vessel) error {
	ctx, span := h.notices.tracer.Start(ctx, "publish", trace.WithSpanKind(trace.SpanKindServer), trace.WithAttributes(attribute.StringSlice("to", []string{"quay", "pilots"})))
	defer span.End()
	var done sync.WaitGroup
	for i, to := range []string{"quay", "pilots"} {
		done.Go(func() {
			_, part := h.notices.tracer.Start(ctx, "tell "+to)
			defer part.End()
			time.Sleep(time.Duration(2+2*i) * time.Millisecond)
		})
	}
	done.Wait()
	h.notices.say(ctx, log.SeverityInfo, "berth published", attribute.String("vessel.name", v.Name), attribute.String("quay", v.Quay))
	span.SetStatus(codes.Ok, "")
	return nil
}
