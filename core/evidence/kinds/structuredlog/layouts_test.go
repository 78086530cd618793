package structuredlog

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// logged is a record whose parts are known.
type logged struct {
	time                           time.Time
	zone                           *time.Location
	level, thread, logger, message string
	pid                            int
}

// layout writes records in the form of a library. What it does not write is empty in want.
type layout struct {
	write                 func(x logged) string
	exact                 time.Duration // of its times; 0 if it has none
	level, thread, logger bool
	utc                   bool   // its times have no zone
	guess                 guess  // of what its times lack
	levels                string // the levels that it has, if not the usual ones
}

func stamp(x logged, format string) string { return x.time.In(x.zone).Format(format) }

var abbreviated = map[string]string{"DEBUG": "DBG", "INFO": "INF", "WARN": "WRN", "ERROR": "ERR"}

// layouts are those that common libraries and servers write by default.
var layouts = map[string]layout{
	"dashes": {write: func(x logged) string {
		return fmt.Sprintf("%s - %s - %s - %s", stamp(x, "2006-01-02 15:04:05,000"), x.logger, x.level, x.message)
	}, exact: time.Millisecond, level: true, logger: true, utc: true},
	"brackets": {write: func(x logged) string {
		return fmt.Sprintf("[%s] [%s] %s", stamp(x, "2006-01-02 15:04:05.000000 -0700"), x.level, x.message)
	}, exact: time.Microsecond, level: true},
	"bars": {write: func(x logged) string {
		return fmt.Sprintf("%s | %-8s | %s:assign:12 - %s", stamp(x, "2006-01-02 15:04:05.000"), x.level, x.logger, x.message)
	}, exact: time.Millisecond, level: true, logger: true, utc: true},
	"bars without spaces": {write: func(x logged) string {
		return fmt.Sprintf("%s|%s|%s|%s", stamp(x, "2006-01-02 15:04:05.0000"), x.level, x.logger, x.message)
	}, exact: 100 * time.Microsecond, level: true, logger: true, utc: true},
	"tabs": {write: func(x logged) string {
		return strings.Join([]string{stamp(x, "2006-01-02T15:04:05.000Z0700"), strings.ToLower(x.level), x.logger, "berths/office.go:12", x.message}, "\t")
	}, exact: time.Millisecond, level: true, logger: true},
	"coloured": {write: func(x logged) string {
		return fmt.Sprintf("\x1b[90m%s\x1b[0m \x1b[32m%s\x1b[0m %s", stamp(x, time.RFC3339), abbreviated[x.level], x.message)
	}, exact: time.Second, level: true},
	"thread, level, logger": {write: func(x logged) string {
		return fmt.Sprintf("%s [%s] %-5s %s - %s", stamp(x, "2006-01-02 15:04:05.000"), x.thread, x.level, x.logger, x.message)
	}, exact: time.Millisecond, level: true, thread: true, logger: true, utc: true},
	"level, process and thread": {write: func(x logged) string {
		return fmt.Sprintf("%s %5s %d --- [%15s] %-40s : %s", stamp(x, "2006-01-02T15:04:05.000Z07:00"), x.level, x.pid, x.thread, x.logger, x.message)
	}, exact: time.Millisecond, level: true, thread: true, logger: true},
	"application and thread": {write: func(x logged) string {
		return fmt.Sprintf("%s %5s %d --- [berths] [%15s] %-40s : %s", stamp(x, "2006-01-02T15:04:05.000Z07:00"), x.level, x.pid, x.thread, x.logger, x.message)
	}, exact: time.Millisecond, level: true, thread: true, logger: true},
	"logger and thread": {write: func(x logged) string {
		return fmt.Sprintf("%s %-5s [%s] (%s) %s", stamp(x, "2006-01-02 15:04:05,000"), x.level, x.logger, x.thread, x.message)
	}, exact: time.Millisecond, level: true, thread: true, logger: true, utc: true},
	"slashes": {write: func(x logged) string {
		return fmt.Sprintf("%s %s %s", stamp(x, "2006/01/02 15:04:05.000000"), x.level, x.message)
	}, exact: time.Microsecond, level: true, utc: true},
	"place": {write: func(x logged) string {
		return fmt.Sprintf("%s office.go:12: %s", stamp(x, "2006/01/02 15:04:05"), x.message)
	}, exact: time.Second, utc: true},
	"level first": {write: func(x logged) string {
		return fmt.Sprintf("%s %s %s", x.level, stamp(x, "2006-01-02 15:04:05.000 -0700"), x.message)
	}, exact: time.Millisecond, level: true},
	"level and colons": {write: func(x logged) string { return fmt.Sprintf("%s:%s:%s", x.level, x.logger, x.message) }, level: true, logger: true},
	"letter": {write: func(x logged) string {
		return fmt.Sprintf("%s%s %7d office.go:12] %s", x.level[:1], stamp(x, "0102 15:04:05.000000"), x.pid, x.message)
	}, exact: time.Microsecond, level: true, utc: true, guess: guessedYear},
	"letter and bracket": {write: func(x logged) string {
		return fmt.Sprintf("%s, [%s #%d] %5s -- berths: %s", x.level[:1], stamp(x, "2006-01-02T15:04:05.000000"), x.pid, x.level, x.message)
	}, exact: time.Microsecond, level: true, utc: true},
	"in the bracket": {write: func(x logged) string {
		return fmt.Sprintf("[%s %-5s %s] %s", stamp(x, "2006-01-02T15:04:05Z07:00"), x.level, strings.ReplaceAll(x.logger, ".", "::"), x.message)
	}, exact: time.Second, level: true},
	"process in brackets": {write: func(x logged) string {
		return fmt.Sprintf("[%s] [%d] [%s] %s", stamp(x, "2006-01-02 15:04:05 -0700"), x.pid, x.level, x.message)
	}, exact: time.Second, level: true},
	"channel": {write: func(x logged) string {
		return fmt.Sprintf("[%s] berths.%s: %s", stamp(x, "2006-01-02T15:04:05.000000-07:00"), x.level, x.message)
	}, exact: time.Microsecond, level: true},
	"a database server": {write: func(x logged) string {
		return fmt.Sprintf("%s [%d] berths@harbour %s:  %s", stamp(x, "2006-01-02 15:04:05.000 -0700"), x.pid, x.level, x.message)
	}, exact: time.Millisecond, level: true, levels: "LOG ERROR FATAL WARNING"},
	"a web server": {write: func(x logged) string {
		return fmt.Sprintf("%s [%s] %d#%d: *7 %s", stamp(x, "2006/01/02 15:04:05"), strings.ToLower(x.level), x.pid, x.pid, x.message)
	}, exact: time.Second, level: true, utc: true, levels: "ERROR WARN NOTICE CRIT"},
	"module and level": {write: func(x logged) string {
		return fmt.Sprintf("[%s] [core:%s] [pid %d:tid %d] [client 10.0.0.1:80] %s", stamp(x, "Mon Jan 02 15:04:05.000000 2006"), strings.ToLower(x.level), x.pid, x.pid, x.message)
	}, exact: time.Microsecond, level: true, utc: true},
	"months": {write: func(x logged) string {
		return fmt.Sprintf("%s %s [%s] %s %s", stamp(x, "02-Jan-2006 15:04:05.000"), x.level, x.thread, "gannet.berths.Office.assign", x.message)
	}, exact: time.Millisecond, level: true, thread: true, utc: true},
	"seconds since 1970": {write: func(x logged) string {
		return fmt.Sprintf("%d.%06d %s %s", x.time.Unix(), x.time.Nanosecond()/1000, x.level, x.message)
	}, exact: time.Microsecond, level: true},
	"milliseconds since 1970": {write: func(x logged) string {
		return fmt.Sprintf("%d [%s] %s %s", x.time.UnixMilli(), x.thread, x.level, x.message)
	}, exact: time.Millisecond, level: true, thread: true},
	"only the thread": {write: func(x logged) string { return fmt.Sprintf("[%s] %s %s - %s", x.thread, x.level, x.logger, x.message) }, level: true, thread: true, logger: true},
	"an abbreviated zone": {write: func(x logged) string {
		return fmt.Sprintf("%s %s %s", x.time.In(time.FixedZone("CET", 3600)).Format("2006-01-02 15:04:05.000 MST"), x.level, x.message)
	}, exact: time.Millisecond, level: true},
	"hours of a zone": {write: func(x logged) string {
		return fmt.Sprintf("%s %s %s", x.time.In(time.FixedZone("", 2*3600)).Format("2006-01-02T15:04:05.000-07"), x.level, x.message)
	}, exact: time.Millisecond, level: true},
	"as Go writes times": {write: func(x logged) string { return fmt.Sprintf("%s %s %s", x.time.UTC().String(), x.level, x.message) }, exact: 1, level: true},
	"a role": {write: func(x logged) string {
		return fmt.Sprintf("%d:M %s * %s", x.pid, stamp(x, "02 Jan 2006 15:04:05.000"), x.message)
	}, exact: time.Millisecond, utc: true},
}

func someLogged(r *rand.Rand, of layout) logged {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	levels := strings.Fields(of.levels)
	if len(levels) == 0 {
		levels = []string{"DEBUG", "INFO", "WARN", "ERROR"}
	}
	x := logged{
		time:    time.Date(2026, time.Month(1+r.IntN(10)), 1+r.IntN(28), r.IntN(24), r.IntN(60), r.IntN(60), r.IntN(1e9), time.UTC),
		zone:    time.FixedZone("", 900*(r.IntN(96)-48)),
		level:   pick(levels...),
		thread:  pick("main", "pool-1-thread-2", "http-nio-8080-exec-1", "worker-3", "Thread-7"),
		logger:  pick("gannet.berths.Office", "g.t.Tides", "berths.db.pool", "harbour.cranes"),
		message: pick("gate opens", "no water at the sill: 3.5 m", "rope made fast (2 of 3)", "Error: lamp out", "vessel [Kelp] sighted", "a - b - c", "tide=low", "größer als 5", "retry 3: INFO missing", "12 boats", "at 10:00:00 the gate", "\"quoted\" text", "http://gannet/quay?x=1 failed"),
		pid:     1 + r.IntN(99_999),
	}
	if of.utc {
		x.zone = time.UTC
	}
	return x
}

// Each part of a record is read as what it is, in every layout. make truth runs more of them.
func TestLayouts(t *testing.T) {
	t.Parallel()
	records := 300
	if n, err := strconv.Atoi(os.Getenv("WRAITH_TRUTH")); err == nil {
		records = n * 1000 / len(layouts)
	}
	for name, of := range layouts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(1, uint64(len(name))))
			p := newParser(time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC), time.UTC)
			f := newFinder(Rules{})
			for range records {
				x := someLogged(r, of)
				line := of.write(x)
				got := record{}
				require.True(t, p.heading(string(withoutColours([]byte(line))), &got), line)
				require.Equal(t, x.message, got.message, line)
				if of.exact > 0 {
					require.True(t, got.timed, line)
					require.Equal(t, x.time.Truncate(of.exact).UnixNano(), got.time, line)
				}
				require.Equal(t, of.guess, got.guess, line)
				found := f.find(&got)
				text := func(n int) string {
					if n < 0 {
						return ""
					}
					return got.fields[n].String()
				}
				if of.level {
					level := text(found.level)
					require.Equal(t, strings.ToUpper(x.level)[:1], strings.ToUpper(level)[:1], line)
					require.Equal(t, x.level == "ERROR" || x.level == "FATAL" || x.level == "CRIT", errorLevel(&field{text: level}), line)
				}
				if of.thread {
					require.Equal(t, x.thread, text(found.thread), line)
				}
				if of.logger {
					require.Equal(t, x.logger, text(found.logger), line)
				}
			}
		})
	}
}

// A pattern reads what it names, and no other lines.
func TestPatterns(t *testing.T) {
	t.Parallel()
	p := newParser(time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC), time.UTC)
	of, err := parsePatterns("{level};{_};{time};{thread}/{quay};{message}\n{{{time}}} {message}")
	require.NoError(t, err)
	require.Len(t, of, 2)
	var r record
	require.True(t, p.match(of[0], "WARN;x;2026-11-25 10:00:00.5;7/Kelp Quay;gate; opens", &r))
	assert.Equal(t, "gate; opens", r.message)
	assert.Equal(t, time.Date(2026, 11, 25, 10, 0, 0, 5e8, time.UTC).UnixNano(), r.time)
	assert.Equal(t, []field{{name: "level", text: "WARN"}, {name: "thread", kind: intField, number: 7}, {name: "quay", text: "Kelp Quay"}}, r.fields)
	r = record{}
	require.True(t, p.match(of[1], "{2026-11-25T10:00:00Z}   fog", &r))
	assert.Equal(t, "fog", r.message)
	for _, line := range []string{"", "fog", "WARN;x;2026-11-25 10:00:00.5;7/Kelp Quay", "WARN;x;yesterday;7/Kelp;gate", "{2026-11-25T10:00:00Z} "} {
		r = record{}
		assert.False(t, p.match(of[0], line, &r), line)
		assert.Empty(t, r.fields)
	}
	for _, bad := range []string{"fog", "{time}{level}", "{", "{}", "{a b}", strings.Repeat("{a} ", 40), strings.Repeat("{a}\n", 17)} {
		_, err := ParseRules(map[string]string{"pattern": bad})
		assert.Error(t, err, bad)
	}
}
