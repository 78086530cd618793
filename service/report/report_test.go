package report

import (
	"encoding/json"
	"html"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/service/markdown"
)

var (
	anyTag = regexp.MustCompile(`<[^>]*>`)
	spaces = regexp.MustCompile(`\s+`)
)

// shown is what a reader sees of Markdown.
func shown(text string) string {
	return strings.TrimSpace(spaces.ReplaceAllString(html.UnescapeString(anyTag.ReplaceAllString(markdown.Document(text), "")), " "))
}

// Escaped text, and text as code, is shown as it was written, whatever is in it: in a paragraph, an item of a list and a cell.
func TestTextMeansItself(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(4, 2))
	parts := []string{"a", "B", " ", "_", "*", "`", "``", "[", "](x)", "<b>", "</", "&amp;", "\\", "|", "~~", "#", "# ", "- ", "+ ", "> ", "1. ", "2)", "===", "---", "é", "\u00a0", "!", "![", "http://x.y", "<http://x>", "\n", "\t", "0.26 m", "p.Corrections", "snake_case_name", ":", "@Ines", "***"}
	for range 4000 {
		var b strings.Builder
		for range 1 + random.IntN(8) {
			b.WriteString(parts[random.IntN(len(parts))])
		}
		text := strings.Join(strings.Fields(b.String()), " ")
		if text == "" {
			continue
		}
		for _, form := range []string{"X", "- X", "| a | b |\n|---|---|\n| c | X |", "so: X", "**y**: X"} {
			want := strings.TrimSpace(spaces.ReplaceAllString(shown(strings.Replace(form, "X", "QQ", 1)), " "))
			want = strings.Replace(want, "QQ", text, 1)
			want = spaces.ReplaceAllString(want, " ")
			require.Equal(t, want, shown(strings.Replace(form, "X", markdown.Escape(text), 1)), "%q in %q as %q", text, form, markdown.Escape(text))
		}
		require.Equal(t, "so: "+text, shown("so: "+markdown.Inline(text)), "%q as %q", text, markdown.Inline(text))
		require.Equal(t, text, shown(Code(text)))
	}
}

func kept(t *testing.T, question string, request, answer any) api.Exhibit {
	q, err := json.Marshal(request)
	require.NoError(t, err)
	a, err := json.Marshal(answer)
	require.NoError(t, err)
	return api.Exhibit{Question: question, Request: q, Answer: a}
}

// Each kind of exhibit says what the answer says; one that is not known, or is of another version, is shown as it is kept.
func TestExhibits(t *testing.T) {
	t.Parallel()
	place := ask.Place{Moment: 7, Thread: 1}
	origin := ask.Origin{Name: "height", Value: "1.37", Kind: "write", Moment: 9, Function: "main.run", File: "main.go", Line: 5, From: []ask.Origin{{Name: "b[0]", Kind: "input", Note: "a | b"}}}
	for _, x := range []struct {
		exhibit api.Exhibit
		want    []string
	}{
		{kept(t, "ask", ask.ExpressionRequest{Place: place, Expression: "a < b"}, ask.Expression{Value: "true", Type: "bool"}), []string{"a < b = true (bool)"}},
		{kept(t, "values", ask.ValuesRequest{Place: place}, ask.Values{Variables: []ask.Variable{{Name: "quay", Type: "*Quay", Value: "&Quay{…}", Children: []ask.Variable{{Name: "Depth", Type: "int", Value: "4", Why: "may have changed"}}}}}), []string{"quay *Quay = &Quay{…}", "Depth int = 4 (may have changed)"}},
		{kept(t, "values", ask.ValuesRequest{Place: place}, ask.Values{}), []string{"no names are in scope"}},
		{kept(t, "stack", ask.StackRequest{Place: place}, ask.Stack{Threads: []ask.Thread{{ID: 1, Name: "goroutine 1", Frames: []ask.Frame{{Function: "main.main", File: "main.go", Line: 3}}}, {ID: 2, Name: "goroutine 9"}}}), []string{"thread 1: goroutine 1", "0 main.main main.go:3", "thread 2: goroutine 9"}},
		{kept(t, "origin", ask.OriginRequest{Place: place, Path: "height"}, origin), []string{"height was 1.37, write in main.run at main.go:5, moment 9", "b[0] (a | b)"}},
		{kept(t, "ledger", ask.LedgerRequest{Place: place}, ask.Ledger{Total: 3, Columns: []string{"a | b"}, Rows: []ask.LedgerRow{{Moment: 4, File: "a_b.go", Line: 2, Cells: []ask.LedgerCell{{Value: "x | y"}}}, {Moment: 5, Cells: []ask.LedgerCell{{Error: "no value"}}}}}), []string{"a | b", "x | y", "(no value)", "1 more rows are not shown"}},
		{kept(t, "hits", ask.HitsRequest{Place: place, CheckpointOn: ask.CheckpointOn{On: "enter moor"}}, ask.Hits{Total: 2, Hits: []ask.Hit{{Moment: 3, Thread: 1, Function: "moor", File: "a.go", Line: 1}}}), []string{"2 hits of enter moor", "@3#1 moor a.go:1"}},
		{kept(t, "races", nil, map[string]int{"total": 5}), []string{"total: 5"}},
		{api.Exhibit{Question: "stack", Request: []byte("null"), Answer: []byte(`{"threads":"none"}`)}, []string{"threads: none"}},
		{api.Exhibit{Question: "story", Answer: []byte(`["` + strings.Repeat("x", 2*mostOfAnswer) + `"]`)}, []string{"16388 bytes of JSON"}},
	} {
		got := shown(Exhibit(x.exhibit.Question, string(x.exhibit.Request), string(x.exhibit.Answer)))
		for _, want := range x.want {
			assert.Contains(t, got, want, x.exhibit.Question)
		}
		assert.Less(t, len(got), mostOfAnswer+200)
	}
}

// The report of a case names what is in it, in sections; the note for the next shift sorts it by what is known.
func TestReport(t *testing.T) {
	t.Parallel()
	at := time.Date(2031, 3, 30, 8, 0, 0, 0, time.UTC)
	moment := event.Moment(9)
	until := event.Moment(12)
	c := Case{Case: api.Case{Name: "fog", Title: "Aground *again*", Created: at, Members: []api.Member{{Name: "Ines", Role: "lead"}}},
		Evidence: []api.EvidenceInfo{{Name: "run", Program: "berthing", Outcome: "error: 0.26 m", Fingerprint: "f1", Broken: 2, SHA256: strings.Repeat("ab", 32)}, {Name: "torn", State: api.StateFailed, Trouble: "cut off"},
			{Name: "other", Known: []api.KnownBreak{{Case: "older", Cause: "taken twice"}}}},
		Failures: map[string]string{"run": Code("0  main.main")},
		Exhibits: []api.Exhibit{{ID: 3, Evidence: "run", Question: "ask", Request: []byte(`{"expression":"a"}`), Answer: []byte(`{"value":"4"}`), Note: "the <height>", Place: api.Place{Moment: 9, Thread: 1}}},
		Theories: []api.Theory{{ID: 1, Text: "taken twice", State: api.TheorySupported, For: []int64{3}}, {ID: 2, Text: "gauge wrong", State: api.TheoryRefuted, Against: []int64{3}}, {ID: 4, Text: "old draught", State: api.TheoryOpen}},
		Comments: []api.Comment{{ID: 1, By: "Tomas", Text: "why <b>here</b>?", Anchor: api.Anchor{Evidence: "run", Moment: &moment, Until: &until, Path: "height"}}, {ID: 2, By: "Ines", Text: "really?"}, {ID: 3, By: "Tomas", Parent: 2, Text: "yes"}, {ID: 4, By: "Wren", Text: "gone", Deleted: &at}},
		Address:  "http://quay:7070"}
	text := Markdown(c, at)
	for _, want := range []string{"# Aground \\*again\\*", "still open", "### The failure of run", "[run](<http://quay:7070/cases/fog/run>)", "moment=9&thread=1&frame=0", "on [run@9 to 12]", "**supported**: taken twice; for it: [exhibit 3](#exhibit-3)", "the \\<height>", "> why &lt;b>here&lt;/b>?", "- Ines (lead)"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "gone")
	page := HTML(c, at)
	assert.Contains(t, page, `<h3 id="exhibit-3">`)
	assert.NotContains(t, page, "<b>")
	assert.Contains(t, page, "<title>Aground *again*</title>")
	closed := at.Add(time.Hour)
	c.Closed, c.ClosedBy, c.Cause = &closed, "Ines", "taken twice"
	assert.Contains(t, Markdown(c, at), "closed 2031-03-30 09:00 UTC by Ines.\n\n**Cause:** taken twice")

	note := strings.Split(HandOver(c), "## ")
	for i, want := range []string{"2 expectations break", "old draught", "gauge wrong", "find an exhibit for or against: old draught"} {
		assert.Contains(t, note[i+1], want)
	}
	assert.Contains(t, note[1], "breaks an expectation of case `older`; its cause: taken twice")
	assert.Contains(t, note[4], "answer Tomas: why &lt;b>here&lt;/b>?")
	assert.Contains(t, note[4], "fetch `torn` again: cut off")
	assert.NotContains(t, note[4], "really", "it was answered")
	empty := HandOver(Case{})
	for _, want := range []string{"Nothing is known for sure.", "There is no open theory.", "Nothing is ruled out yet.", "Nothing is left open."} {
		assert.Contains(t, empty, want)
	}
}

// A report that leaves something out says so.
func TestReportSaysWhatIsLeftOut(t *testing.T) {
	t.Parallel()
	c := Case{Case: api.Case{Name: "fog"}, Evidence: []api.EvidenceInfo{{Name: "a"}, {Name: "b"}}, Comments: []api.Comment{{}}, Most: 2}
	assert.Contains(t, Markdown(c, time.Now()), "the 2 newest pieces of evidence")
	assert.NotContains(t, Markdown(c, time.Now()), "newest comments")
	c.Most = 0
	assert.NotContains(t, Markdown(c, time.Now()), "may have more")
}
