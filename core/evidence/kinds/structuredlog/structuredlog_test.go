package structuredlog_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds"
	"wraithology/core/evidence/kinds/structuredlog"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
)

func open(t *testing.T, text string, fields map[string]string) history.Replay {
	path := filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	r, err := kinds.All.Open(context.Background(), path, evidence.Options{Fields: fields}, nil)
	require.NoError(t, err)
	require.Equal(t, structuredlog.Kind.Name, r.Info().Kind)
	return r.(history.Replay)
}

// line is what a log says at a moment.
type line struct{ text, thread string }

// lines lists all messages with their threads.
func lines(t *testing.T, r history.Replay, k string) (out []line, moments []event.Moment) {
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: k}, replay.Page{Count: 100_000})
	require.NoError(t, err)
	for _, m := range hits.Page {
		id, err := r.ThreadOf(m)
		require.NoError(t, err)
		threads, err := r.Threads(context.Background(), m)
		require.NoError(t, err)
		i := slices.IndexFunc(threads, func(th replay.Thread) bool { return th.ID == id })
		require.GreaterOrEqual(t, i, 0)
		out = append(out, line{r.Text(m), threads[i].Name})
	}
	return out, hits.Page
}

// value returns a field at a moment as text; ok is false if there is none yet.
func value(t *testing.T, r history.Replay, m event.Moment, name string) (string, bool) {
	id, err := r.ThreadOf(m)
	require.NoError(t, err)
	v, ok, err := r.Variable(context.Background(), m, id, 0, name)
	require.NoError(t, err)
	return v.Value.Text(), ok && v.Value.State == event.Known && !v.Value.Nil
}

// TestJSONAgainstAnOracle compares each line's values, in the order of their times,
// and each field's history in its thread, with what encoding/json reads.
func TestJSONAgainstAnOracle(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 5))
	type entry struct {
		Time  time.Time      `json:"ts"`
		Level string         `json:"lvl"`
		Msg   string         `json:"msg"`
		Order string         `json:"order"`
		Load  *float64       `json:"load_t,omitempty"`
		Crane map[string]any `json:"crane,omitempty"`
		Tries []int          `json:"tries,omitempty"`
	}
	var all []entry
	var b strings.Builder
	at := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	for i := range 500 {
		at = at.Add(time.Duration(1+random.IntN(2_000_000)) * time.Nanosecond)
		e := entry{Time: at.Add(-time.Duration(random.IntN(3)) * time.Millisecond), Level: "info", Msg: fmt.Sprintf("crane %d moved “%d”", i, random.IntN(9)), Order: fmt.Sprint("o", random.IntN(4))}
		if random.IntN(2) == 0 {
			x := float64(random.IntN(100)) / 8
			e.Load = &x
		}
		if random.IntN(3) == 0 {
			e.Crane = map[string]any{"name": "Old Salt", "stuck": random.IntN(2) == 0}
		}
		if random.IntN(4) == 0 {
			e.Tries = []int{1, random.IntN(5)}
		}
		all = append(all, e)
		text, err := json.Marshal(e)
		require.NoError(t, err)
		b.Write(append(text, '\n'))
	}
	r := open(t, b.String(), map[string]string{"thread": "order"})
	slices.SortStableFunc(all, func(a, b entry) int { return a.Time.Compare(b.Time) })
	label, moments := lines(t, r, "output")
	require.Len(t, label, len(all))
	load := map[string]string{}
	writes := map[string]int{}
	last := map[string]event.Moment{}
	for i, e := range all {
		m := moments[i]
		assert.Equal(t, line{e.Msg, "order " + e.Order}, label[i])
		place, err := r.Place(m)
		require.NoError(t, err)
		assert.Equal(t, e.Time.Sub(all[0].Time), place.Time)
		if e.Load != nil {
			load[e.Order] = replay.Value{Value: event.Value{Type: &event.Type{Form: event.Float}, State: event.Known, Float: *e.Load}}.Text()
			writes[e.Order]++
		}
		got, _ := value(t, r, m, "load_t")
		id, err := r.ThreadOf(m)
		require.NoError(t, err)
		latest, err := r.(replay.Records).Latest(context.Background(), m, id, 0, "load_t")
		if load[e.Order] == "" {
			require.ErrorIs(t, err, fault.NoValue)
		} else {
			require.NoError(t, err)
			assert.Equal(t, load[e.Order], latest.Value.Text(), "the last value that a record of the thread had")
		}
		if e.Load != nil {
			assert.Equal(t, load[e.Order], got)
		} else {
			assert.Contains(t, []string{"", "null"}, got, "the record has none")
		}
		if e.Crane != nil {
			got, _ = value(t, r, m, "crane.stuck")
			assert.Equal(t, fmt.Sprint(e.Crane["stuck"]), got)
		}
		if e.Tries != nil {
			got, _ = value(t, r, m, "tries")
			assert.Equal(t, fmt.Sprintf("list{1, %d}", e.Tries[1]), got)
		}
		last[e.Order] = m
	}
	for order, m := range last {
		id, err := r.ThreadOf(m)
		require.NoError(t, err)
		w, err := r.Writes(context.Background(), "load_t", m, id, 0, replay.Page{Count: 1})
		require.NoError(t, err)
		assert.Equal(t, writes[order], w.Total, "the history of a field")
	}
}

// TestNotations reads each notation, plain and as containers wrap it.
func TestNotations(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		text   string
		label  []line
		errors int
		values map[string]string // of the last record that has it
	}{
		"logfmt": {`time=2026-11-25T10:00:00Z level=info msg="gate \"3\" opens" gate=3 level_m=3.25 ok=true dry` + "\n" + `time=2026-11-25T10:00:01Z level=error msg=stuck gate=3 err=timeout empty=` + "\n",
			[]line{{`gate "3" opens`, "log"}, {"stuck", "log"}}, 1, map[string]string{"gate": "3", "level_m": "3.25", "dry": "true", "err": `"timeout"`, "empty": `""`}},
		"syslog": {"<165>1 2026-11-25T10:00:00.003Z gannet-1 sluiced 4711 ID47 [gate@32473 name=\"Kelp \\\"Q\\\"\" n=\"3\"][sea@1 x=\"\\]\"] \ufeffgate opens\n<162>1 2026-11-25T10:00:01Z gannet-1 sluiced 4711 - - sensor lost\n<34>1 - - - - - -\n",
			[]line{{"gate opens", "sluiced pid 4711"}, {"sensor lost", "sluiced pid 4711"}, {"", "log"}}, 2, map[string]string{"level": `"critical"`}},
		"the container's form with a stream": {"2026-11-25T10:00:00.1Z stdout P {\"level\":\"info\",\"msg\":\"ga\n2026-11-25T10:00:00.2Z stdout F te opens\",\"gate\":3}\n2026-11-25T10:00:00.3Z stderr F panic: gate stuck\n2026-11-25T10:00:00.3Z stderr F \n2026-11-25T10:00:00.3Z stderr F goroutine 1 [running]:\n2026-11-25T10:00:00.3Z stderr F main.open(0x3)\n2026-11-25T10:00:00.3Z stderr F \t/srv/gate.go:44 +0x1d\n2026-11-25T10:00:00.4Z stdout F on\n",
			[]line{{"gate opens", "log"}, {"panic: gate stuck", "log"}, {"on", "log"}}, 1, map[string]string{"gate": "3"}},
		"the container's form as JSON": {`{"log":"level=info msg=\"gate opens\"\n","stream":"stdout","time":"2026-11-25T10:00:00Z"}` + "\n" + `{"log":"on","stream":"stdout","time":"2026-11-25T10:00:01Z"}` + "\n" + `{"log":" and on\n","stream":"stdout","time":"2026-11-25T10:00:02Z"}` + "\n",
			[]line{{"gate opens", "log"}, {"on and on", "log"}}, 0, map[string]string{"stream": `"stdout"`}},
		"named by their services": {"berths-1  | {\"time\":\"2026-11-25T10:00:00.1Z\",\"msg\":\"vessel\"}\ncranes-1  | 2026-11-25T10:00:00.2Z level=info msg=lift load=12.5\n[pod/tides-5f/tides] 2026-11-25T10:00:00.3Z {\"msg\":\"low\"}\ncranes-1  | 2026-11-25T10:00:00.4Z ERROR stuck\n",
			[]line{{"vessel", "berths-1"}, {"lift", "cranes-1"}, {"low", "tides-5f/tides"}, {"stuck", "cranes-1"}}, 1, map[string]string{"service": `"cranes-1"`, "load": "12.5", "level": `"ERROR"`}},
		"a system's log": {"Nov 25 10:00:00 gannet-1 sluiced[47]: level=info msg=\"gate opens\" gate=3\n<14>Nov  5 10:00:01 gannet-1 cron: late\n2026-11-25T10:00:02.5+00:00 gannet-1 sluiced[47]: panic: gate stuck\n2026-11-25T10:00:02.5+00:00 gannet-1 sluiced[47]: goroutine 1 [running]:\n2026-11-25T10:00:02.5+00:00 gannet-1 sluiced[47]: main.open(0x3)\n2026-11-25T10:00:02.5+00:00 gannet-1 sluiced[47]: \t/srv/gate.go:44 +0x1d\nNov 25 10:00:03 gannet-1 kernel: [ 8122.3] sluiced[47]: segfault at 18 ip 000055d0c0a1b15a sp 00007ffd1f3c0a10 error 4 in sluiced[15a,55d0c0a1b000+1000]\nNov 25 10:00:04 gannet-1 other[1]: a\nNov 25 10:00:04 gannet-2 other[1]: b\nNov 25 10:00:04 gannet-1 sluiced[47]: on\n",
			[]line{{"late", "cron"}, {"gate opens", "sluiced pid 47"}, {"panic: gate stuck", "sluiced pid 47"}, {"SIGSEGV: sluiced: read where nothing is mapped, at 0x18", "kernel"}, {"a", "other pid 1"}, {"b", "other pid 1 on gannet-2"}, {"on", "sluiced pid 47"}}, 2, map[string]string{"host": `"gannet-1"`, "gate": "3"}},
		"plain lines": {"2026-11-25 10:00:00,123 INFO gate opens\n2026-11-25 10:00:01,123 ERROR gate fails\nTraceback (most recent call last):\n  File \"/srv/gate.py\", line 3, in open\n    return levels[gate]\nKeyError: 'Osprey'\n2026-11-25 10:00:02,123 INFO on\n2026-11-25 10:00:03,123 INFO and on\n2026-11-25 10:00:04,123 INFO still\n2026-11-25 10:00:05,123 INFO still\n",
			[]line{{"gate opens", "log"}, {"gate fails: KeyError: 'Osprey'", "log"}, {"on", "log"}, {"and on", "log"}, {"still", "log"}, {"still", "log"}}, 1, map[string]string{"level": `"INFO"`}},
		"traces, and lines in between": {`{"time":1790000000,"message":"a","trace_id":"4bf92f3577b34da6a3ce929d0e0e4736","request_id":"r1"}` + "\n\nno JSON\n" + `{"time":1790000001.5,"message":"b","trace_id":"4bf92f3577b34da6a3ce929d0e0e4736"}` + "\n" + `{"time":"1790000002500","message":"c","trace_id":"00000000000000000000000000000000","request_id":"r1"}` + "\n",
			[]line{{"a", "trace_id 4bf92f3577b34da6a3ce929d0e0e4736"}, {"no JSON", "log"}, {"b", "trace_id 4bf92f3577b34da6a3ce929d0e0e4736"}, {"c", "request_id r1"}}, 0, map[string]string{"request_id": `"r1"`}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := open(t, x.text, nil)
			label, moments := lines(t, r, "output")
			assert.Equal(t, x.label, label)
			_, wrong := lines(t, r, "error")
			assert.Len(t, wrong, x.errors)
			for field, want := range x.values {
				found := ""
				for _, m := range moments {
					if got, ok := value(t, r, m, field); ok {
						found = got
					}
				}
				assert.Equal(t, want, found, field)
			}
		})
	}
}

// TestPlaces finds checkpoints by the line of the program that wrote a line.
func TestPlaces(t *testing.T) {
	t.Parallel()
	r := open(t, `{"time":"2026-11-25T10:00:00Z","msg":"a","source":{"file":"/srv/gate.go","line":41},"x":1}
{"time":"2026-11-25T10:00:01Z","msg":"b","caller":"gannet/berth.go:7"}
{"time":"2026-11-25T10:00:02Z","msg":"c","source":{"file":"/srv/gate.go","line":41}}
`, nil)
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("gate.go", 41)}, replay.Page{Count: 9})
	require.NoError(t, err)
	assert.Equal(t, 2, hits.Total)
	p, err := r.Place(hits.Page[1])
	require.NoError(t, err)
	assert.Equal(t, "/srv/gate.go:41", fmt.Sprint(p.File, ":", p.Line))
	_, err = r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: find.LineText("berth.go", 8)}, replay.Page{})
	require.ErrorIs(t, err, fault.NoCode)
	assert.Contains(t, err.Error(), "berth.go:7")
}

// TestBadLines keeps what cannot be read as texts, and says what is wrong.
func TestBadLines(t *testing.T) {
	t.Parallel()
	gap := func(r history.Replay, what string) {
		assert.True(t, slices.ContainsFunc(r.Info().Gaps, func(g replay.Gap) bool { return strings.Contains(g.What+g.Remedy, what) }), "%s: %v", what, r.Info().Gaps)
	}
	good := `{"time":"2026-11-25T10:00:00Z","msg":"good"}` + "\n"
	r := open(t, good+good+"{\"msg\":\"bad\xff\xfe\",\"time\":\"9999-01-01T00:00:00Z\"}\n{\"msg\": oops}\n{\"a\":1}x\n"+good, nil)
	label, _ := lines(t, r, "output")
	require.Len(t, label, 6)
	assert.Equal(t, "bad\ufffd\ufffd", label[2].text)
	assert.Equal(t, `{"msg": oops}`, label[3].text)
	gap(r, "invalid lines")
	gap(r, "line 4")
	gap(r, "lines without a time")

	deep := strings.Repeat(`{"a":`, 200) + "1" + strings.Repeat("}", 200)
	many := make([]string, 20_000)
	for i := range many {
		many[i] = fmt.Sprintf(`"k%d":%d`, i, i)
	}
	long := strings.Repeat("x", 100<<20)
	r = open(t, good+deep+"\n{"+strings.Join(many, ",")+"}\n"+`{"msg":"`+long+`"}`+"\n"+good, nil)
	label, _ = lines(t, r, "output")
	assert.Len(t, label, 5)
	gap(r, "bytes long")
	gap(r, "names that a log can have")
	_, err := structuredlog.ParseRules(map[string]string{"tide": "x"})
	require.ErrorIs(t, err, fault.InvalidRule)
}

func FuzzLog(f *testing.F) {
	for _, seed := range []string{`{"time":"2026-11-25T10:00:00Z","msg":"a","x":[1,{"b":null}]}`, `time=2026-11-25T10:00:00Z msg="a b" c=1`, "<34>1 2026-11-25T10:00:00Z a b c d [e f=\"g\"] h",
		"2026-11-25T10:00:00Z stdout P a\n2026-11-25T10:00:00Z stdout F b", `{"log":"a\n","stream":"stdout","time":"2026-11-25T10:00:00Z"}`, "2026-11-25 10:00:00 INFO a\n\tat b.c(D.java:1)\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		path := filepath.Join(t.TempDir(), "x")
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
		r, err := kinds.All.Open(context.Background(), path, evidence.Options{As: "structured-log"}, nil)
		if err != nil {
			return
		}
		hits, err := r.(history.Replay).Hits(context.Background(), replay.Checkpoint{Kind: "output"}, replay.Page{Count: 20})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range hits.Page {
			id, err := r.ThreadOf(m)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := r.Variables(context.Background(), m, id, 0); err != nil {
				t.Fatal(err)
			}
		}
	})
}
