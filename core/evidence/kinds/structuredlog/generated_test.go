package structuredlog_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/replay"
)

// entry is a record that is written in several notations.
type entry struct {
	time    time.Time
	level   string
	message string
	more    []string // indented lines that follow, in plain text
	service string
	fields  []field
}

type field struct {
	name string
	text string // JSON
}

func entries(r *rand.Rand, n int) (list []entry) {
	at := time.Date(2031, 3, 30, 8, 0, 0, 0, time.UTC)
	words := []string{"gate opens", "vessel sighted", "rope made fast", "no water at the sill", "lamp lit"}
	for range n {
		at = at.Add(time.Duration(1+r.IntN(5000)) * time.Millisecond)
		e := entry{time: at, level: []string{"debug", "info", "warn", "error", "fatal"}[r.IntN(5)], message: words[r.IntN(len(words))], service: []string{"berths", "tides", "cranes", "pilots", "locks"}[r.IntN(5)]}
		for i := range r.IntN(4) {
			text := []string{strconv.Itoa(r.IntN(2000) - 1000), strconv.FormatFloat(float64(r.IntN(4000)-2000)/8, 'f', -1, 64), []string{"true", "false"}[r.IntN(2)], strconv.Quote([]string{"Kelp Quay 3", "", "a=b", `say "no"`, "ebb"}[r.IntN(5)])}[r.IntN(4)]
			e.fields = append(e.fields, field{[]string{"gate", "depth_m", "quay"}[i], text})
		}
		for range r.IntN(4) * r.IntN(2) {
			e.more = append(e.more, "   "+words[r.IntN(len(words))])
		}
		list = append(list, e)
	}
	return list
}

// notations write the same records; plain ones have no fields.
var notations = map[string]struct {
	write func(e entry) string
	plain bool
}{
	"JSON": {write: func(e entry) string {
		var b strings.Builder
		message, _ := json.Marshal(e.message)
		fmt.Fprintf(&b, `{"level":%q,"ts":%q,"msg":%s,"service":%q`, e.level, e.time.Format(time.RFC3339Nano), message, e.service)
		for _, f := range e.fields {
			fmt.Fprintf(&b, `,%q:%s`, f.name, f.text)
		}
		return b.String() + "}"
	}},
	"logfmt": {write: func(e entry) string {
		var b strings.Builder
		fmt.Fprintf(&b, "ts=%s level=%s msg=%q service=%s", e.time.Format(time.RFC3339Nano), e.level, e.message, e.service)
		for _, f := range e.fields {
			fmt.Fprintf(&b, " %s=%s", f.name, f.text)
		}
		return b.String()
	}},
	"JSON behind a time and a service": {write: func(e entry) string {
		fields := ""
		for _, f := range e.fields {
			fields += fmt.Sprintf(`,%q:%s`, f.name, f.text)
		}
		return fmt.Sprintf(`%s-1  | %s {"level":%q,"msg":%q,"service":%q%s}`, e.service, e.time.Format(time.RFC3339Nano), e.level, e.message, e.service, fields)
	}},
	"plain text": {plain: true, write: func(e entry) string {
		return strings.Join(append([]string{fmt.Sprintf("%s [%s] %s", e.time.Format("2006-01-02 15:04:05.000"), strings.ToUpper(e.level), e.message)}, e.more...), "\n")
	}},
	"plain text with a zone": {plain: true, write: func(e entry) string {
		return strings.Join(append([]string{fmt.Sprintf("%s %s %s", e.time.In(time.FixedZone("", 7200)).Format("2006-01-02T15:04:05.000-07:00"), strings.ToUpper(e.level), e.message)}, e.more...), "\n")
	}},
}

// The same records read the same, whatever notation they are in: texts, order, times, levels, and
// the fields that the notation has.
func TestTheSameRecordsInAllNotations(t *testing.T) {
	t.Parallel()
	for name, n := range notations {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for seed := range uint64(8) {
				list := entries(rand.New(rand.NewPCG(seed, 31)), 60)
				var text strings.Builder
				if seed%2 == 1 {
					text.WriteString("\ufeff")
				}
				for _, e := range list {
					text.WriteString(n.write(e) + map[bool]string{true: "\r\n", false: "\n"}[seed == 3 && !n.plain])
				}
				r := open(t, text.String(), nil)
				output, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "output"}, replay.Page{Count: 1000})
				require.NoError(t, err)
				failed, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "error"}, replay.Page{Count: 1000})
				require.NoError(t, err)
				require.Len(t, output.Page, len(list), "all are messages, errors too")
				isError := map[string]bool{}
				for _, m := range failed.Page {
					isError[fmt.Sprint(m)] = true
				}
				first, err := r.Place(output.Page[0])
				require.NoError(t, err)
				for i, e := range list {
					m := output.Page[i]
					assert.Equal(t, e.message, r.Text(m), "record %d of seed %d", i, seed)
					if len(e.more) > 0 && n.plain {
						v, ok, err := r.Variable(context.Background(), m, 1, 0, "text")
						require.NoError(t, err)
						require.True(t, ok)
						assert.Equal(t, strings.Join(e.more, "\n"), v.Value.Value.Text, "record %d of seed %d", i, seed)
					}
					assert.Equal(t, e.level == "error" || e.level == "fatal", isError[fmt.Sprint(m)], "record %d of seed %d", i, seed)
					p, err := r.Place(m)
					require.NoError(t, err)
					assert.Equal(t, e.time.Sub(list[0].time), p.Time-first.Time, "record %d of seed %d", i, seed)
					level, ok := value(t, r, m, "level")
					assert.True(t, ok)
					assert.Equal(t, strings.ToLower(e.level), strings.ToLower(strings.Trim(level, `"`)))
					if n.plain {
						continue
					}
					service, _ := value(t, r, m, "service")
					assert.Equal(t, strconv.Quote(e.service), service)
					for _, f := range e.fields {
						got, ok := value(t, r, m, f.name)
						assert.True(t, ok, f.name)
						assert.Equal(t, f.text, got, "%s of record %d of seed %d", f.name, i, seed)
					}
				}
			}
		})
	}
}

// A log says who wrote it: the first services by name, the others by number.
func TestProgramsOfALog(t *testing.T) {
	t.Parallel()
	for services, want := range map[int]string{1: "s0", 2: "s0, s1", 3: "s0, s1, s2", 4: "s0, s1, s2 and 1 more", 7: "s0, s1, s2 and 4 more"} {
		var text strings.Builder
		for i := range 21 {
			fmt.Fprintf(&text, `{"time":"2031-03-30T08:00:%02dZ","msg":"tide","service":"s%d"}`+"\n", i, i%services)
		}
		assert.Equal(t, want, open(t, text.String(), nil).Info().Program, "%d services", services)
	}
}
