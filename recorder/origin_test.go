package recorder_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
)

var (
	symptoms = regexp.MustCompile(`// symptom ([a-z]+): (.+)$`)
	causes   = regexp.MustCompile(`// cause ([a-z]+)$`)
)

// The program in testdata/origins says itself which line spoils which value; the
// chain from the value must hold that line, whichever way the value went.
func TestOriginLeadsToTheCause(t *testing.T) {
	t.Parallel()
	dir := filepath.Join("testdata", "origins")
	run := record(t, dir, "go", "run", ".")
	require.Zero(t, run.ExitCode, run.err)
	r := open(t, run.log)
	n := 0
	for _, file := range []string{"main.go", "more.go"} {
		n += checkOrigins(t, r, dir, file)
	}
	assert.GreaterOrEqual(t, n, 70)
}

// checkOrigins asks for the origin of each symptom of a file, and returns how
// many there were.
func checkOrigins(t *testing.T, r history.Replay, dir, file string) (n int) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, file))
	require.NoError(t, err)
	lines := strings.Split(string(text), "\n")
	wanted := map[string][]int{}
	for i, l := range lines {
		if m := causes.FindStringSubmatch(l); m != nil {
			wanted[m[1]] = append(wanted[m[1]], i+1)
		}
	}
	for i, l := range lines {
		m := symptoms.FindStringSubmatch(l)
		if m == nil {
			continue
		}
		n++
		name, expression := m[1], m[2]
		require.NotEmpty(t, wanted[name], "the program names no cause for %s", name)
		c := replay.Checkpoint{Kind: "line", About: find.LineText(file, i+1), Number: replay.Number{Last: true}}
		hits, err := r.Hits(context.Background(), c, replay.Page{Count: 1})
		require.NoError(t, err)
		require.Equal(t, 1, hits.Total, name)
		at := hits.Page[0]
		thread, err := r.ThreadOf(at)
		require.NoError(t, err)
		o, err := r.Origin(context.Background(), expression, at, thread, 0, replay.OriginOptions{Depth: 8})
		require.NoError(t, err, name)
		have := map[int]bool{}
		each(o, func(o replay.Origin) { have[o.Line] = have[o.Line] || strings.HasSuffix(o.File, file) })
		for _, line := range wanted[name] {
			assert.True(t, have[line], "%s: the chain does not hold line %d: %s\n%s", name, line, strings.TrimSpace(lines[line-1]), chainText(r, o))
		}
		assertAskable(t, r, o)
	}
	return n
}

func each(o replay.Origin, f func(replay.Origin)) {
	f(o)
	for _, x := range o.From {
		each(x, f)
	}
}

// assertAskable asks for each part of a chain from where the chain says that it
// can be, and compares the value.
func assertAskable(t *testing.T, r history.Replay, o replay.Origin) {
	t.Helper()
	for _, x := range o.From {
		if x.Asked.Path != "" && x.Value.State == event.Known && x.Kind == replay.FromWrite {
			again, err := r.Origin(context.Background(), x.Asked.Path, x.Asked.At, x.Asked.Thread, x.Asked.Frame, replay.OriginOptions{Depth: 1})
			if assert.NoError(t, err, "%s at moment %d", x.Asked.Path, x.Asked.At) {
				assert.Equal(t, x.Moment, again.Moment, "%s at moment %d", x.Asked.Path, x.Asked.At)
			}
		}
		assertAskable(t, r, x)
	}
}

func chainText(r history.Replay, o replay.Origin) string {
	var b strings.Builder
	var write func(o replay.Origin, depth int)
	write = func(o replay.Origin, depth int) {
		fmt.Fprintf(&b, "%s%s = %s (%s, line %s) %s\n", strings.Repeat("  ", depth), o.Name, o.Value.Text(), o.Kind, strconv.Itoa(o.Line), o.Note)
		for _, x := range o.From {
			write(x, depth+1)
		}
	}
	write(o, 0)
	return b.String()
}

// What origin, writes and changed say of one recording must agree, and must be
// what the program did.
func TestWritesAreThoseOfTheProgram(t *testing.T) {
	t.Parallel()
	r := open(t, record(t, filepath.Join("testdata", "origins"), "go", "run", ".").log)
	ctx := context.Background()
	at := func(line string) (event.Moment, event.ThreadID) {
		t.Helper()
		text, err := os.ReadFile(filepath.Join("testdata", "origins", "main.go"))
		require.NoError(t, err)
		for i, l := range strings.Split(string(text), "\n") {
			if strings.Contains(l, line) {
				hits, err := r.Hits(ctx, replay.Checkpoint{Kind: "line", About: find.LineText("main.go", i+1)}, replay.Page{Count: 1})
				require.NoError(t, err)
				th, err := r.ThreadOf(hits.Page[0])
				require.NoError(t, err)
				return hits.Page[0], th
			}
		}
		t.Fatal("no such line: " + line)
		return 0, 0
	}
	news := func(m event.Moment, th event.ThreadID, path string) (values []string) {
		t.Helper()
		list, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.WritesRequest{Place: ask.Place{Moment: m, Thread: th}, Path: path, Count: 100})
		require.NoError(t, err)
		require.Len(t, list.Writes, list.Total)
		for i, w := range list.Writes {
			values = append(values, w.New)
			if i > 0 {
				require.NotNil(t, w.Old)
				assert.Equal(t, list.Writes[i-1].New, *w.Old)
			}
		}
		return values
	}
	m, th := at("symptom fields")
	assert.Equal(t, []string{"1.85"}, news(m, th, "s.gauge.metres"))
	m, th = at("s := station{gauge: g}")
	assert.Equal(t, []string{"0", "1.5", "1.85"}, news(m, th, "g.metres"))
	m, th = at("symptom alias")
	assert.Equal(t, []string{"2", "-7"}, news(m, th, "g.metres"), "a write through another pointer counts")
	m, th = at("symptom closure")
	assert.Equal(t, []string{"0", "6"}, news(m, th, "total"))
	m, th = at("symptom mutex")
	assert.Equal(t, []string{"0", "5", "10", "15"}, news(m, th, "count"), "of all threads")
	m, th = at("symptom map:")
	assert.Equal(t, []string{"14"}, news(m, th, `table["Kelp Quay 2"]`))
	m, th = at("symptom array")
	assert.Equal(t, []string{"0", "42"}, news(m, th, "grid[1][2]"))
	m, th = at("symptom global")
	assert.Equal(t, []string{"0.5", "2"}, news(m, th, "margin"))
	last, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.WritesRequest{Place: ask.Place{Moment: m, Thread: th}, Path: "margin", Last: true, Count: 1})
	require.NoError(t, err)
	require.Len(t, last.Writes, 1)
	assert.Equal(t, "2", last.Writes[0].New)
	assert.Equal(t, "main.widen", last.Writes[0].Function)

	m, th = at("d := depths[i]")
	changed, err := ask.Run(ctx, ask.Subject{Recording: r}, ask.ChangedRequest{Place: ask.Place{Moment: m, Thread: th}})
	require.NoError(t, err)
	assert.Equal(t, []ask.Change{{Name: "i", New: "1"}}, changed.Changes)
	m, th = at("i := 1")
	changed, err = ask.Run(ctx, ask.Subject{Recording: r}, ask.ChangedRequest{Place: ask.Place{Moment: m, Thread: th}})
	require.NoError(t, err)
	require.Len(t, changed.Changes, 1)
	assert.Equal(t, "depths[1]", changed.Changes[0].Name)
	assert.Equal(t, "40", changed.Changes[0].New)
	m, th = at("symptom calls")
	changed, err = ask.Run(ctx, ask.Subject{Recording: r}, ask.ChangedRequest{Place: ask.Place{Moment: m, Thread: th}})
	require.NoError(t, err)
	require.Len(t, changed.Returned, 1)
	assert.Equal(t, []string{"8"}, changed.Returned[0].Values, "what the call returned is known before it is assigned")
}

// The origin of an element of a literal is the expression of that element, not what else is in it.
func TestOriginOfElements(t *testing.T) {
	t.Parallel()
	const dir = "testdata/elements"
	run := record(t, dir, "go", "run", ".")
	require.Zero(t, run.ExitCode, run.err)
	r := open(t, run.log)
	at := atMark(t, r, dir, "end")
	for path, want := range map[string]string{
		"list[0]": "1", "list[1]": "base", "list[2]": "main.depth()", "list[3]": "limit", "list[7]": "other",
		"fleet[0].draft": "3", "fleet[1].draft": "main.depth()", "fleet[2].draft": "limit / 3", "fleet[1].tags": "the zero value", "fleet[2].tags[0]": `"x"`, "fleet[0].name": `"Curlew"`,
		"fleet[2].at.column": "other", "fleet[2].at.row": "the zero value",
		`table["ness"]`: "base", `table["quay"]`: "limit", `o.byName["c"].draft`: "fleet[1].draft", `o.byName["d"].draft`: "other", `o.byName["d"].name`: "the zero value",
		"p.draft": "base", "p.name": "the zero value", "grid[0][0]": "1", "grid[0][1]": "base", "grid[1][0]": "main.depth()", "grid[1][1]": "4",
	} {
		o, err := r.Origin(context.Background(), path, at, 1, 0, replay.OriginOptions{Depth: 8})
		require.NoError(t, err, path)
		var names []string
		for _, from := range o.From {
			names = append(names, from.Name)
		}
		assert.Equal(t, []string{want}, names, path)
	}
}

// How an object of other code was passed on does not belong to the origin of a value, unless it is asked
// for.
func TestObjectsOfOtherCodeAreNotFollowed(t *testing.T) {
	t.Parallel()
	const dir = "testdata/request"
	ran := record(t, dir, "go", "run", ".")
	require.Zero(t, ran.ExitCode, ran.err)
	r := open(t, ran.log)
	at := atMark(t, r, dir, "end")
	passed := func(path string, at event.Moment, thread event.ThreadID, objects bool) (n int, text string) {
		o, err := r.Origin(context.Background(), path, at, thread, 0, replay.OriginOptions{Depth: 20, Objects: objects})
		require.NoError(t, err)
		each(o, func(o replay.Origin) {
			if o.Name == "r" && o.Kind == replay.FromArgument {
				n++
			}
		})
		return n, chainText(r, o)
	}
	n, text := passed("main.last", at, 1, false)
	assert.Zero(t, n, text)
	assert.Contains(t, text, "an object of other code")
	assert.Contains(t, text, "s.rate = 4", "an own object is followed")
	n, text = passed("main.last", at, 1, true)
	assert.GreaterOrEqual(t, n, 2, text)

	// Asked for itself, it is followed.
	hits, err := r.Hits(context.Background(), replay.Checkpoint{Kind: "line", About: "main.go:25"}, replay.Page{Count: 1})
	require.NoError(t, err)
	thread, err := r.ThreadOf(hits.Page[0])
	require.NoError(t, err)
	n, text = passed("r", hits.Page[0], thread, false)
	assert.GreaterOrEqual(t, n, 2, text)
}
