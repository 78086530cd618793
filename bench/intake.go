package main

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	commonpb "go.opentelemetry.io/proto/otlp/common/v1"
	resourcepb "go.opentelemetry.io/proto/otlp/resource/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wraithology/core/ask"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
)

// measureIntake measures the import of other kinds of evidence.
func measureIntake(r *report, dir string, quick bool) error {
	n := 1_000_000
	if quick {
		n = 100_000
	}
	if err := measureSpans(r, dir, n); err != nil {
		return err
	}
	if err := measureLines(r, dir, n); err != nil {
		return err
	}
	return measureCrashText(r, dir)
}

// intakeChild opens evidence without a timeline and prints the time and the resident memory.
func intakeChild(path, timelines string) error {
	begun := time.Now()
	rec, err := kinds.All.Open(ctx(), path, evidence.Options{Timelines: evidence.Timelines{Folder: timelines}}, nil)
	if err != nil {
		return err
	}
	took := time.Since(begun)
	peak, err := residentPeak()
	fmt.Println(took.Nanoseconds(), peak, rec.Info().Moments)
	return err
}

// imported opens evidence several times in new processes and returns the fastest run. The last
// timeline stays in the folder.
func imported(path, timelines string) (best childAnswer, err error) {
	const runs = 3
	for range runs {
		if err := os.RemoveAll(timelines); err != nil {
			return best, err
		}
		if err := best.run("-intake", path, timelines); err != nil {
			return best, err
		}
	}
	return best, nil
}

const (
	spansPerTrace = 10
	failingEach   = 5000 // one of this many traces fails
	perRequest    = 1000
)

// requests generates export requests with n spans in total, as a backend sends them.
func requests(n int, yield func(*tracepb.TracesData) error) error {
	random := rand.New(rand.NewPCG(4, 7))
	text := func(key, value string) *commonpb.KeyValue {
		return &commonpb.KeyValue{Key: key, Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_StringValue{StringValue: value}}}
	}
	services := []string{"arrivals", "tides", "berths", "notices"}
	operations := []string{"arrive", "reading", "assign", "publish", "tell"}
	pending := make([][]*tracepb.Span, len(services))
	count := 0
	flush := func() error {
		data := &tracepb.TracesData{}
		for i, spans := range pending {
			if len(spans) == 0 {
				continue
			}
			data.ResourceSpans = append(data.ResourceSpans, &tracepb.ResourceSpans{
				Resource:   &resourcepb.Resource{Attributes: []*commonpb.KeyValue{text("service.name", services[i]), text("host.name", "gannet-"+services[i])}},
				ScopeSpans: []*tracepb.ScopeSpans{{Scope: &commonpb.InstrumentationScope{Name: "gannet/" + services[i], Version: "1.2.0"}, Spans: spans}},
			})
			pending[i] = nil
		}
		count = 0
		return yield(data)
	}
	at := uint64(1_790_000_000_000_000_000)
	for trace := 0; trace*spansPerTrace < n; trace++ {
		id := make([]byte, 16)
		binary.BigEndian.PutUint64(id, random.Uint64())
		binary.BigEndian.PutUint64(id[8:], random.Uint64())
		at += uint64(random.IntN(400_000))
		start, length := at, uint64(20_000_000)
		var parent []byte
		for k := range spansPerTrace {
			span := make([]byte, 8)
			binary.BigEndian.PutUint64(span, random.Uint64()|1)
			s := &tracepb.Span{TraceId: id, SpanId: span, ParentSpanId: parent, Name: operations[k%len(operations)], Kind: tracepb.Span_SPAN_KIND_SERVER,
				StartTimeUnixNano: start, EndTimeUnixNano: start + length, Status: &tracepb.Status{}}
			s.Attributes = []*commonpb.KeyValue{text("vessel.name", fmt.Sprintf("Halcyon Drift %d", random.IntN(900))), text("quay", fmt.Sprintf("Kelp Quay %d", 1+random.IntN(4))),
				{Key: "try", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_IntValue{IntValue: int64(k)}}},
				{Key: "clearance_m", Value: &commonpb.AnyValue{Value: &commonpb.AnyValue_DoubleValue{DoubleValue: random.Float64() * 4}}},
				text("code.function.name", "gannet/berths.(*Quay).Assign"), text("net.peer.name", "gannet-berths")}
			if trace%failingEach == failingEach/2 && k > 6 {
				s.Status = &tracepb.Status{Code: tracepb.Status_STATUS_CODE_ERROR, Message: "no berth"}
			}
			i := k % len(services)
			pending[i] = append(pending[i], s)
			count++
			parent, start, length = span, start+200_000, length-600_000
		}
		if count >= perRequest {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	if count > 0 {
		return flush()
	}
	return nil
}

func measureSpans(r *report, dir string, n int) error {
	path := filepath.Join(dir, "spans.otlp")
	var whole [][]byte
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	err = requests(n, func(data *tracepb.TracesData) error {
		b, err := proto.Marshal(data)
		whole = append(whole, b)
		return errors.Join(err, write(f, b))
	})
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	floor := time.Duration(0)
	for range 3 {
		begun := time.Now()
		for _, b := range whole {
			var data tracepb.TracesData
			if err := proto.Unmarshal(b, &data); err != nil {
				return err
			}
		}
		if took := time.Since(begun); floor == 0 || took < floor {
			floor = took
		}
	}
	whole = nil
	timelines := filepath.Join(dir, "spans-timelines")
	x, err := imported(path, timelines)
	if err != nil {
		return err
	}
	ratio := x.took.Seconds() / floor.Seconds()
	what := thousands(n)
	r.add("import of "+what+" spans", fmt.Sprintf("%.2f s", x.took.Seconds()), fmt.Sprintf("%.2f s, bare protobuf decoding", floor.Seconds()), ratio, "3 x the floor", ratio <= 3)
	r.add("memory of that import", fmt.Sprintf("%d MB", x.peak), "512 MB", float64(x.peak)/512, "512 MB", x.peak <= 512)
	rec, err := kinds.All.Open(ctx(), path, evidence.Options{Timelines: evidence.Timelines{Folder: timelines}}, nil)
	if err != nil {
		return err
	}
	for _, when := range []string{`status == "error"`, `duration > duration("10ms") && status == "error"`, `quay == "Kelp Quay 3" && status == "error"`} {
		begun := time.Now()
		list, err := ask.Run(ctx(), ask.Subject{Recording: rec}, ask.TracesRequest{When: when, Count: 20})
		if err != nil {
			return err
		}
		took := time.Since(begun)
		r.add("of "+thousands(n/spansPerTrace)+" traces, "+thousands(n)+" spans, those with "+when, fmt.Sprintf("%d ms (%d hold)", took.Milliseconds(), list.Total), "", 0, "1 s", took <= time.Second)
	}
	return manyTraces(r, dir, n)
}

// manyTraces measures the list of traces, with one trace for each span.
func manyTraces(r *report, dir string, n int) error {
	path := filepath.Join(dir, "traces.otlp")
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	err = requests(n, func(data *tracepb.TracesData) error {
		for _, x := range data.ResourceSpans {
			for _, s := range x.ScopeSpans[0].Spans { // each span becomes a trace of its own
				s.TraceId, s.ParentSpanId = append([]byte(nil), s.TraceId...), nil
				copy(s.TraceId, s.SpanId)
			}
		}
		b, err := proto.Marshal(data)
		return errors.Join(err, write(f, b))
	})
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	rec, err := kinds.All.Open(ctx(), path, evidence.Options{Timelines: evidence.Timelines{Folder: filepath.Join(dir, "traces-timelines")}}, nil)
	if err != nil {
		return err
	}
	begun := time.Now()
	list, err := ask.Run(ctx(), ask.Subject{Recording: rec}, ask.TracesRequest{When: `status == "error"`, Count: 20})
	took := time.Since(begun)
	r.add("the failing traces among "+thousands(n)+", first page", fmt.Sprintf("%d ms (%d hold)", took.Milliseconds(), list.Total), "", 0, "1 s", took <= time.Second)
	return err
}

func write(f *os.File, b []byte) error {
	_, err := f.Write(b)
	return err
}

func thousands(n int) string {
	if n%1_000_000 == 0 {
		return fmt.Sprintf("%d million", n/1_000_000)
	}
	return fmt.Sprintf("%d,000", n/1000)
}

func measureLines(r *report, dir string, n int) error {
	path := filepath.Join(dir, "lines.jsonl")
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	random := rand.New(rand.NewPCG(9, 9))
	at := time.Unix(1_790_000_000, 0).UTC()
	for i := range n {
		at = at.Add(time.Duration(random.IntN(2_000_000)))
		level := "INFO"
		if i%9973 == 5 {
			level = "ERROR"
		}
		fmt.Fprintf(w, `{"time":"%s","level":"%s","msg":"gate moved","service":"sluiced","request_id":"r%d","gate":%d,"level_m":%.3f,"vessel":{"name":"Morning Petrel %d","draught_m":%.2f},"ok":%t}`+"\n",
			at.Format(time.RFC3339Nano), level, random.IntN(2000), 1+random.IntN(4), random.Float64()*5, random.IntN(500), random.Float64()*4, i%3 == 0)
	}
	if err := errors.Join(w.Flush(), f.Close()); err != nil {
		return err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	floor := time.Duration(0)
	for range 3 {
		begun := time.Now()
		for line := range bytes.Lines(text) {
			var m map[string]any
			if err := json.Unmarshal(line, &m); err != nil {
				return err
			}
		}
		if took := time.Since(begun); floor == 0 || took < floor {
			floor = took
		}
	}
	x, err := imported(path, filepath.Join(dir, "lines-timelines"))
	if err != nil {
		return err
	}
	ratio := x.took.Seconds() / floor.Seconds()
	r.add(thousands(n)+" JSON log lines", fmt.Sprintf("%.2f s", x.took.Seconds()), fmt.Sprintf("%.2f s, bare JSON decoding", floor.Seconds()), ratio, "2 x the floor", ratio <= 2)
	r.add("memory of that", fmt.Sprintf("%d MB", x.peak), "512 MB", float64(x.peak)/512, "512 MB", x.peak <= 512)
	return nil
}

// measureCrashText measures a crash text of 10,000 goroutines, from bytes to groups.
func measureCrashText(r *report, dir string) error {
	const goroutines, depth = 10_000, 9
	var b strings.Builder
	b.WriteString("panic: no licence for pilot 07\n\n")
	for g := range goroutines {
		state := "running"
		if g > 0 {
			state = []string{"chan receive, 2 minutes", "sync.Mutex.Lock", "select", "IO wait"}[g%4]
		}
		fmt.Fprintf(&b, "goroutine %d [%s]:\n", g+1, state)
		for k := range depth {
			fmt.Fprintf(&b, "main.(*Office).step%d(0xc%09x, {0x4c00c0?, 0x%x?}, 0x%d)\n\t/srv/gannet/pilotd/office.go:%d +0x%x\n", k, g, g*16, k, 40+k+g%5, 16+k)
		}
		fmt.Fprintf(&b, "created by main.serve in goroutine 1\n\t/srv/gannet/pilotd/main.go:%d +0x4d\n\n", 80+g%3)
	}
	path := filepath.Join(dir, "crash.txt")
	if err := os.WriteFile(path, []byte(b.String()), 0o600); err != nil {
		return err
	}
	begun := time.Now()
	rec, err := kinds.All.Open(ctx(), path, evidence.Options{}, nil)
	if err != nil {
		return err
	}
	p, err := ask.Run(ctx(), ask.Subject{Recording: rec}, ask.PeekRequest{})
	if err != nil {
		return err
	}
	groups, err := ask.Run(ctx(), ask.Subject{Recording: rec, Limit: time.Minute}, ask.ThreadsRequest{})
	if err != nil {
		return err
	}
	took := time.Since(begun)
	if p.Evidence.Threads != goroutines || p.Failure == nil {
		return fmt.Errorf("the crash text was read as %d goroutines", p.Evidence.Threads)
	}
	r.add("crash text of 10,000 goroutines, read and grouped", fmt.Sprintf("%d ms (%d groups)", took.Milliseconds(), len(groups.Groups)), "", 0, "1 s", took <= time.Second)
	return nil
}
