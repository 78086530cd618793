package structuredlog

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// read reads a line in a notation.
func read(t *testing.T, n notation, line string) record {
	t.Helper()
	var r record
	p := newParser(time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), time.UTC)
	require.Equal(t, n, notationOf([]byte(line)), line)
	require.NoError(t, map[notation]func([]byte, *record) error{jsonLine: p.json, logfmtLine: p.logfmt, syslogLine: p.syslog}[n]([]byte(line), &r), line)
	return r
}

// someFields makes fields of every kind, with the texts that notations have trouble with.
func someFields(r *rand.Rand) []field {
	texts := []string{"", "fog", "Kelp Quay 3", `he said "fog"`, `C:\quay`, "a=b", "größe", "two\nlines", "tab\there", "]", "007", "12345678901234567890", "true story", "{", "-"}
	var out []field
	for i := range 1 + r.IntN(6) {
		f := field{name: fmt.Sprintf("%s%d", []string{"a", "b.c", "d_e", "f-g"}[r.IntN(4)], i)}
		switch f.kind = kind(r.IntN(5)); f.kind {
		case textField:
			f.text = texts[r.IntN(len(texts))]
		case intField:
			f.number = []int64{0, 1, -1, 42, 1 << 40, -999_999_999_999_999_999}[r.IntN(6)]
		case floatField:
			f.float = []float64{0.5, -2.25, 1e-7, 123456.789}[r.IntN(4)]
			text, _ := json.Marshal(f.float)
			f.text = string(text)
		case boolField:
			f.number = int64(r.IntN(2))
		}
		out = append(out, f)
	}
	return out
}

func (f field) plain() any {
	switch f.kind {
	case intField:
		return f.number
	case floatField:
		return f.float
	case boolField:
		return f.number != 0
	case nullField:
		return nil
	}
	return f.text
}

// Fields that a JSON library wrote are read as they were, those of objects with a prefix.
func TestJSONFields(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 9))
		want := someFields(r)
		var members []string
		for _, f := range want {
			name, err := json.Marshal(f.name)
			require.NoError(t, err)
			value, err := json.Marshal(f.plain())
			require.NoError(t, err)
			members = append(members, string(name)+": "+string(value))
		}
		require.Equal(t, want, read(t, jsonLine, "{"+strings.Join(members, ", ")+"}").fields, "seed %d", seed)
		nested := read(t, jsonLine, `{"quay": {"at": {`+strings.Join(members, ",")+`}}}`).fields
		for i, f := range want {
			f.name = "quay.at." + f.name
			require.Equal(t, f, nested[i], "seed %d", seed)
		}
	}
	r := read(t, jsonLine, `{"a":[1,{"b":2}],"c":{},"d":1e400,"e":9223372036854775808,"f":-0.0}`)
	assert.Equal(t, []field{{name: "a", kind: listField, text: `[1,{"b":2}]`}, {name: "d", text: "1e400"}, {name: "e", kind: floatField, float: 9223372036854775808, text: "9223372036854775808"}, {name: "f", kind: floatField, float: math.Copysign(0, -1), text: "-0.0"}}, r.fields)
	deep := read(t, jsonLine, strings.Repeat(`{"a":`, maxNested+2)+"1"+strings.Repeat("}", maxNested+2))
	require.Len(t, deep.fields, 1)
	assert.Equal(t, listField, deep.fields[0].kind, "what is nested deeper is kept as it is written")
	p := newParser(time.Now(), time.UTC)
	for _, line := range []string{`{"a":1`, `{"a":1} fog`, `[1]`, `{"a"}`, `{"a":}`, `{`, `{"a":"`} {
		require.ErrorIs(t, p.json([]byte(line), &record{}), ErrLine, line)
	}
}

// The items of a list, up to a bound.
func TestItems(t *testing.T) {
	t.Parallel()
	list, more := items(`[1, "a", null, true, [2, 3], {"b": 4}, 1.5]`, 100)
	assert.False(t, more)
	assert.Equal(t, []field{{kind: intField, number: 1}, {text: "a"}, {kind: nullField}, {kind: boolField, number: 1}, {kind: objectField, text: "[2, 3]"}, {kind: objectField, text: `{"b": 4}`}, {kind: floatField, float: 1.5, text: "1.5"}}, list)
	for most, want := range map[int]bool{6: true, 7: false, 8: false} {
		list, more = items(`[1,2,3,4,5,6,7]`, most)
		assert.Equal(t, want, more, most)
		assert.Len(t, list, min(most, 7))
	}
	_, more = items(`[1,2`, 100)
	assert.True(t, more)
	list, _ = items(`fog`, 100)
	assert.Equal(t, []field{{text: "fog"}}, list)
}

// Pairs that were written with quotation marks where needed are read as they were.
func TestLogfmtFields(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 10))
		want := append(someFields(r), field{name: "last", text: "x"})
		var pairs []string
		for i, f := range want {
			switch f.kind {
			case textField:
				word := f.text
				if word == "" && r.IntN(2) == 0 || strings.ContainsAny(word, " \"=\n\t\\") || plainNumber.MatchString(word) || word == "true" || r.IntN(3) == 0 {
					word = strconv.Quote(word)
				}
				pairs = append(pairs, f.name+"="+word)
			case nullField:
				pairs = append(pairs, f.name+"="+[]string{"null", "nil"}[r.IntN(2)])
			case boolField:
				if f.number == 1 && i > 1 && r.IntN(2) == 0 {
					pairs = append(pairs, f.name) // a name alone
					break
				}
				fallthrough
			default:
				pairs = append(pairs, fmt.Sprintf("%s=%s", f.name, (&f).String()))
			}
		}
		if strings.IndexByte(pairs[0], '=') < 0 || strings.IndexByte(pairs[1], '=') < 0 {
			continue
		}
		got := read(t, logfmtLine, strings.Join(pairs, strings.Repeat(" ", 1+r.IntN(3)))).fields
		for i := range got {
			if got[i].kind != textField && got[i].kind != floatField {
				got[i].text = "" // how it was written
			}
		}
		require.Equal(t, want, got, "seed %d: %q", seed, pairs)
	}
	require.ErrorIs(t, newParser(time.Now(), time.UTC).logfmt([]byte(`a=1 b="fog`), &record{}), ErrLine)
	for _, line := range []string{"a=1", "fog a=1 b=2", "1=a 2=b", "", "a= b"} {
		assert.NotEqual(t, logfmtLine, notationOf([]byte(line)), line)
	}
}

// Lines of RFC 5424 are read as they were written, with the escapes of section 6.3.3.
func TestSyslogFields(t *testing.T) {
	t.Parallel()
	values := []string{"", "fog", `a "quoted" one`, `back\slash`, "a ] in it", "größe"}
	escape := strings.NewReplacer(`"`, `\"`, `\`, `\\`, `]`, `\]`)
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 11))
		priority := r.IntN(192)
		at := time.Unix(r.Int64N(1<<31), r.Int64N(1e9)/1000*1000).In(time.FixedZone("", 60*(r.IntN(1440)-720)))
		want := []field{{name: "level", text: syslogLevels[priority%8]}, {name: "facility", kind: intField, number: int64(priority / 8)}}
		head := fmt.Sprintf("<%d>1 %s", priority, at.Format("2006-01-02T15:04:05.000000Z07:00"))
		for _, name := range []string{"host", "app", "pid", "msgID"} {
			word := []string{"-", "quay3", "4711"}[r.IntN(3)]
			if head += " " + word; word == "-" {
				continue
			}
			f := field{name: name, text: word}
			if name == "pid" && word == "4711" {
				f = field{name: name, kind: intField, number: 4711}
			}
			want = append(want, f)
		}
		data := ""
		for i := range r.IntN(3) {
			data += fmt.Sprintf("[tide%d@32473", i)
			for j := range r.IntN(3) {
				v := values[r.IntN(len(values))]
				data += fmt.Sprintf(` p%d="%s"`, j, escape.Replace(v))
				want = append(want, field{name: fmt.Sprintf("tide%d@32473.p%d", i, j), text: v})
			}
			data += "]"
		}
		if data == "" {
			data = "-"
		}
		message := []string{"", "the fog is back", "[not data] at all"}[r.IntN(3)]
		line := head + " " + data
		if message != "" {
			line += " " + []string{"", "\ufeff"}[r.IntN(2)] + message
		}
		got := read(t, syslogLine, line)
		require.Equal(t, want, got.fields, line)
		require.Equal(t, message, got.message, line)
		require.True(t, got.timed)
		require.Equal(t, at.UnixNano(), got.time, line)
	}
	p := newParser(time.Now(), time.UTC)
	for _, line := range []string{"<192>1 - - - - - -", "<13>1 -", "<13>1 - - - -", `<13>1 - - - - - [a b="c]`, `<13>1 - - - - - [a b]`, "<13>1 - - - - - [a", "fog"} {
		require.ErrorIs(t, p.syslog([]byte(line), &record{}), ErrLine, line)
	}
	got := read(t, syslogLine, "<13>1 yesterday - - - - -")
	assert.False(t, got.timed)
	assert.Contains(t, got.fields, field{name: "timestamp", text: "yesterday"}, "a time that cannot be read stays what it is")
}

// A time that was written in any of the layouts is the same instant, as exactly as written.
func TestTimes(t *testing.T) {
	t.Parallel()
	c := &clock{zone: time.UTC, written: time.Now()}
	parseTime := func(s string) (int64, bool) {
		got, _, ok := c.parse(s)
		return got, ok
	}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 12))
		at := time.Unix(r.Int64N(1<<32), r.Int64N(1e9)).UTC()
		zone := time.FixedZone("", 60*(15*(r.IntN(96))-720))
		for layout, exact := range map[string]time.Duration{
			time.RFC3339Nano: 1, time.RFC3339: time.Second, "2006-01-02 15:04:05.000000000Z07:00": 1, "2006-01-02T15:04:05.000Z0700": time.Millisecond, "2006-01-02 15:04:05.000000 -0700": time.Microsecond,
			time.RFC1123Z: time.Second, "02/Jan/2006:15:04:05 -0700": time.Second,
		} {
			text := at.In(zone).Format(layout)
			got, ok := parseTime(text)
			require.True(t, ok, text)
			require.Equal(t, at.Truncate(exact).UnixNano(), got, text)
		}
		for layout, exact := range map[string]time.Duration{ // without a zone a time is UTC
			"2006-01-02 15:04:05,000": time.Millisecond, "2006-01-02 15:04:05": time.Second, "2006-01-02T15:04:05.000000": time.Microsecond, "2006/01/02 15:04:05": time.Second,
			time.ANSIC: time.Second, time.UnixDate: time.Second, time.RFC850: time.Second,
		} {
			if layout == time.RFC850 && (at.Year() < 1970 || at.Year() > 2068) {
				continue // its year has two digits
			}
			text := at.Format(layout)
			got, ok := parseTime(text)
			require.True(t, ok, text)
			require.Equal(t, at.Truncate(exact).UnixNano(), got, text)
		}
		for unit, count := range map[time.Duration]int64{time.Second: at.Unix(), time.Millisecond: at.UnixMilli(), time.Microsecond: at.UnixMicro(), time.Nanosecond: at.UnixNano()} {
			if at.Year() < 2005 {
				continue // that early, a count of one unit may be one of another
			}
			f := field{kind: intField, number: count}
			got, _, ok := f.moment(c)
			require.True(t, ok)
			require.Equal(t, at.Truncate(unit).UnixNano(), got, "%d", count)
			if unit >= time.Millisecond {
				f = field{kind: floatField, float: float64(at.UnixMicro()) / float64(unit.Microseconds())}
				got, _, ok = f.moment(c)
				require.True(t, ok)
				require.InDelta(t, at.UnixNano(), got, 2e3)
			}
		}
	}
	for _, text := range []string{"", "fog", "2026-13-01 00:00:00", "2026-02-30T00:00:00Z", "1969-12-31T23:59:59Z", "2262-01-01T00:00:00Z", "12:30", strings.Repeat("2026-03-01T00:00:00Z", 3)} {
		_, ok := parseTime(text)
		assert.False(t, ok, text)
	}
	for _, f := range []field{{kind: intField, number: -1}, {kind: floatField, float: -0.5}, {kind: floatField, float: math.NaN()}, {kind: floatField, float: 1e200}, {kind: boolField, number: 1}, {kind: nullField}, {text: "fog"}} {
		_, _, ok := f.moment(c)
		assert.False(t, ok, "%+v", f)
	}
}

// The time that begins a line of plain text is taken off it.
func TestLeadingTimes(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 3, 1, 6, 7, 8, 0, time.UTC).UnixNano()
	p := newParser(time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC), time.UTC)
	for line, rest := range map[string]string{
		"2026-03-01T06:07:08Z fog":         "fog",
		"2026-03-01 06:07:08 fog 2":        "fog 2",
		"[2026-03-01 06:07:08] [INFO] fog": "fog",
		"2026/03/01 06:07:08 fog":          "fog",
		"2026-03-01 07:07:08 +0100 fog":    "fog",
		"2026-03-01 06:07:08,000 - fog":    "fog",
		"2026-03-01 06:07:08 -5 degrees":   "-5 degrees",
		"[2026-03-01 05:07:08 -0100] fog":  "fog",
		"2026-03-01T06:07:08Z":             "",
	} {
		var r record
		assert.True(t, p.heading(line, &r), line)
		assert.Equal(t, at, r.time, line)
		assert.Equal(t, rest, r.message, line)
	}
	for _, line := range []string{"", "fog 2026-03-01T06:07:08Z", "2026 was a good year", "[Kelp Quay] fog", "12 boats", "error opening the gate", "Error: no water", "nothing: INFO"} {
		var r record
		assert.False(t, p.heading(line, &r), line)
		assert.Equal(t, line, r.message)
		assert.Empty(t, r.fields)
	}
	assert.True(t, HasHeadings([]byte("2026-03-01T06:07:08Z fog\n  more of it\n2026-03-01T06:07:09Z swell\nand one without\n")))
	assert.False(t, HasHeadings([]byte("fog\nswell\nmist\n2026-03-01T06:07:08Z once\n")))
	assert.False(t, HasHeadings(nil))
}

// Which field means what: by its name, the better name first, or by a rule.
func TestWhichFieldMeansWhat(t *testing.T) {
	t.Parallel()
	fields := func(names ...string) *record {
		r := &record{}
		for _, n := range names {
			r.add(n, "x")
		}
		return r
	}
	f := newFinder(Rules{})
	got := f.find(fields("other", "Timestamp", "time", "log.level", "msg", "message", "trace_id", "caller", "source.line", "code.file.path", "service.name", "host"))
	assert.Equal(t, found{time: 2, level: 3, message: 4, thread: 6, caller: 7, line: 8, file: 9, service: 10, host: 11, logger: -1}, got)
	got = f.find(fields("pid", "tid"))
	assert.Equal(t, 1, got.thread)
	assert.True(t, got.local, "a thread of one process")
	assert.False(t, f.find(fields("request_id", "pid")).local)
	zeros := fields("trace_id", "pid")
	zeros.fields[0].text = "0000"
	assert.Equal(t, 1, f.find(zeros).thread, "no trace")

	rules, err := ParseRules(map[string]string{"time": "when", "thread": "boat", "level": "how", "message": "what", "caller": "where"})
	require.NoError(t, err)
	got = newFinder(rules).find(fields("time", "when", "trace_id", "boat", "level", "how", "msg", "what", "caller", "where"))
	assert.Equal(t, []int{1, 3, 5, 7, 9}, []int{got.time, got.thread, got.level, got.message, got.caller})
	rules, err = ParseRules(map[string]string{"trace": "voyage"})
	require.NoError(t, err)
	assert.Equal(t, 1, newFinder(rules).find(fields("trace_id", "voyage")).thread)
	_, err = ParseRules(map[string]string{"colour": "c"})
	require.ErrorIs(t, err, fault.InvalidRule)
}

func TestLevels(t *testing.T) {
	t.Parallel()
	for level, isError := range map[string]bool{"ERROR": true, "err": true, "Fatal": true, "panic": true, "emerg": true, "critical": true, "info": false, "WARN": false, "debug": false} {
		assert.Equal(t, isError, errorLevel(&field{text: level}), level)
	}
	assert.Equal(t, noLevel, severityOf("fog"))
	for number, isError := range map[int64]bool{30: false, 40: false, 50: true, 60: true, 3: true, 4: false, 200: false, 400: true, 20_000: false, 40_000: true, -1: false} {
		assert.Equal(t, isError, errorLevel(&field{kind: intField, number: number}), "%d", number)
	}
	assert.True(t, errorLevel(&field{name: "levelno", kind: intField, number: 40}))
	assert.True(t, errorLevel(&field{name: "PRIORITY", text: "3"}))
	assert.True(t, errorLevel(&field{text: "ERROR+4"}))
	assert.False(t, errorLevel(&field{text: "INFO-4"}))
}

// A text is a structured log when most of its lines are.
func TestIs(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]bool{
		"":                           false,
		"\n\n":                       false,
		`{"a":1}` + "\n":             true,
		`{"a":1`:                     true, // it was cut off
		`{"a":1` + "\n" + "fog\nfog": false,
		"a=1 b=2\nfog\n":             true,
		"a=1 b=2\nfog\nfog\n":        false,
		"<13>1 - - - - - - fog\n":    true,
		"fog\nswell\n":               false,
		"\n\n a=1 b=2\r\n":           true,
	} {
		assert.Equal(t, want, Is([]byte(text)), "%q", text)
	}
}
