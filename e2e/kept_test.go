package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
)

const run = "shallow-berth/failing-run"

// Ines keeps what she found, says what she thinks of it, and hands over; Tomas sees what changed, answers, and reads the report.
func TestWhatPeopleKeep(t *testing.T) {
	t.Parallel()
	ines, tomas, wren := somebody(t, "Ines"), somebody(t, "Tomas"), somebody(t, "Wren")
	s := withEvidence(t, ines, tomas, wren)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	tomas.fine(t, "activity", "shallow-berth")

	// Exhibits are frozen: they say what the question said then, at the place that it resolved to.
	origin := parsed[api.Exhibit](t, ines.fine(t, "--json", "keep", run, "origin", "clearance", "--note", "the height *came* from the second notice"))
	assert.EqualValues(t, 1, origin.ID)
	now := parsed[ask.Origin](t, ines.fine(t, "--json", "origin", run, "clearance"))
	var kept ask.Origin
	require.NoError(t, json.Unmarshal(origin.Answer, &kept))
	assert.Equal(t, now, kept)
	assert.Positive(t, origin.Place.Moment, "the failure's")
	var request ask.OriginRequest
	require.NoError(t, json.Unmarshal(origin.Request, &request))
	assert.Equal(t, origin.Place.Moment, request.Moment)
	ines.fine(t, "keep", run, "values", "--with", "levels=2")
	ines.fine(t, "keep", run+"@4711", "ask", "1 + 1")
	stack := parsed[api.Exhibit](t, tomas.fine(t, "--json", "keep", run, "stack"))
	assert.Contains(t, stack.Markdown, "watch.(*Gauges).Check")
	text := ines.fine(t, "exhibit", "show", "shallow-berth", "1")
	assert.Contains(t, text, "the height *came* from the second notice")
	assert.Contains(t, text, "clearance")
	assert.Len(t, parsed[[]api.Exhibit](t, ines.fine(t, "--json", "exhibit", "shallow-berth")), 4)
	for _, args := range [][]string{{"keep", run, "nothing"}, {"keep", run, "origin"}, {"keep", run, "values", "--with", "lvels=2"}, {"keep", run, "ask", "1 +"}, {"exhibit", "show", "shallow-berth", "x"}} {
		assert.Equal(t, 2, ines.wraith(t, "", args...).code, args)
	}
	assert.Equal(t, 1, ines.wraith(t, "", "keep", run+"@99999999", "stack").code)
	assert.Equal(t, 1, ines.wraith(t, "", "exhibit", "show", "shallow-berth", "99").code)

	// Comments: anchored, answered, edited with their history, deleted visibly, by their own person only.
	first := parsed[api.Comment](t, ines.fine(t, "--json", "comment", "add", run+"@4711#1", "is this **one** tide? @Tomas, @Wren and @Nobody", "--path", "heightMetres"))
	assert.Equal(t, []string{"Tomas"}, first.Mentions, "the members only")
	assert.Contains(t, first.HTML, "<strong>one</strong>")
	assert.EqualValues(t, 4711, *first.Anchor.Moment)
	mentions := parsed[[]api.Mention](t, tomas.fine(t, "--json", "mentions"))
	require.Len(t, mentions, 1)
	assert.Equal(t, "shallow-berth", mentions[0].Case)
	assert.Empty(t, parsed[[]api.Mention](t, tomas.fine(t, "--json", "mentions")), "seen")
	tomas.fine(t, "comment", "add", run, "yes", "--answer", "1")
	hostile := parsed[api.Comment](t, tomas.fine(t, "--json", "comment", "add", "shallow-berth", "<script>alert(1)</script> [x](javascript:alert(1))"))
	assert.NotContains(t, hostile.HTML, "script>")
	assert.NotContains(t, hostile.HTML, "href=\"javascript")
	tomas.fine(t, "comment", "add", "shallow-berth", "see there", "--exhibit", "1")
	tomas.fine(t, "comment", "add", run+"@10", "all of this is the tide book", "--until", "4000", "--line", "tides/book.go:46")
	assert.Equal(t, 1, ines.wraith(t, "", "comment", "edit", "shallow-berth", "2", "no").code, "it is not hers")
	assert.Equal(t, 1, ines.wraith(t, "", "comment", "delete", "shallow-berth", "2").code)
	edited := parsed[api.Comment](t, tomas.fine(t, "--json", "comment", "edit", "shallow-berth", "2", "yes, but it is taken twice"))
	assert.NotNil(t, edited.Edited)
	assert.Equal(t, "yes", parsed[[]api.Version](t, ines.fine(t, "--json", "comment", "versions", "shallow-berth", "2"))[0].Text)
	tomas.fine(t, "comment", "delete", "shallow-berth", "3")
	list := parsed[[]api.Comment](t, ines.fine(t, "--json", "comment", "shallow-berth"))
	require.Len(t, list, 5)
	assert.NotNil(t, list[2].Deleted)
	assert.Empty(t, list[2].Text)
	assert.Equal(t, 1, tomas.wraith(t, "", "comment", "edit", "shallow-berth", "3", "back").code, "it is deleted")
	assert.Len(t, parsed[[]api.Comment](t, ines.fine(t, "--json", "comment", "shallow-berth", "--text", "taken twice")), 1)
	for _, args := range [][]string{{"comment", "add", run + "@99999999", "x"}, {"comment", "add", run + "@10", "x", "--until", "5"}, {"comment", "add", "shallow-berth", "x", "--path", "y"}, {"comment", "add", "shallow-berth", "x", "--answer", "77"}} {
		assert.NotZero(t, ines.wraith(t, "", args...).code, args)
	}

	// Theories with what speaks for and against them, and the note for the next shift.
	ines.fine(t, "theory", "add", "shallow-berth", "notice 0419 is taken twice", "--note", "look at Apply")
	ines.fine(t, "theory", "add", "shallow-berth", "the gauge is wrong")
	ines.fine(t, "theory", "add", "shallow-berth", "the draught is old")
	ines.fine(t, "theory", "argue", "shallow-berth", "1", "1", "--for")
	ines.fine(t, "theory", "argue", "shallow-berth", "2", "4", "--against")
	ines.fine(t, "theory", "argue", "shallow-berth", "2", "3", "--for")
	ines.fine(t, "theory", "argue", "shallow-berth", "2", "3", "--neither")
	ines.fine(t, "theory", "set", "shallow-berth", "1", "--state", "supported")
	refuted := parsed[api.Theory](t, ines.fine(t, "--json", "theory", "set", "shallow-berth", "2", "--state", "refuted"))
	assert.Equal(t, []any{[]int64{}, []int64{4}}, []any{refuted.For, refuted.Against})
	assert.NotZero(t, ines.wraith(t, "", "theory", "set", "shallow-berth", "2", "--state", "perhaps").code)
	note := parsed[api.HandOver](t, ines.fine(t, "--json", "handover", "shallow-berth")).Text
	parts := strings.Split(note, "## ")
	require.Len(t, parts, 5)
	for i, want := range []string{"notice 0419 is taken twice", "the draught is old", "the gauge is wrong", "find an exhibit for or against: the draught is old"} {
		assert.Contains(t, parts[i+1], want)
	}
	assert.NotContains(t, parts[4], "is this", "it was answered")

	// What changed since Tomas was here, without what he did.
	seen := parsed[api.Activity](t, tomas.fine(t, "--json", "activity", "shallow-berth"))
	var what strings.Builder
	for _, e := range seen.Entries {
		assert.Equal(t, "Ines", e.By)
		what.WriteString(e.What + "\n")
	}
	assert.Contains(t, what.String(), "theory 2 is refuted: the gauge is wrong")
	assert.Empty(t, parsed[api.Activity](t, tomas.fine(t, "--json", "activity", "shallow-berth")).Entries)

	// Cases are found by what is in them, by those who may read them.
	for query, found := range map[string]int{"--text=draught is old": 1, "--text=taken twice": 1, "--text=failing-r": 1, "--text=%": 0, "--program=berthing": 1, "--program=berth": 0, "--state=closed": 0, "--person=Tomas": 1, "--person=Wren": 0, "--failure=under her keel": 1} {
		assert.Len(t, parsed[[]api.Case](t, ines.fine(t, "--json", "case", query)), found, query)
		assert.Empty(t, parsed[[]api.Case](t, wren.fine(t, "--json", "case", query)), query)
	}

	// The report, for people; hostile text stays text.
	ines.fine(t, "comment", "add", "shallow-berth", "<img src=x onerror=alert(1)> `<b>`")
	dir := t.TempDir()
	report := ines.fine(t, "report", "shallow-berth")
	for _, want := range []string{"# Halcyon Drift was given a berth too shallow", "under her keel", "### The failure of failing-run", "watch.(*Gauges).Check", "**supported**: notice 0419 is taken twice", "### Exhibit 1", "the height \\*came\\* from", "yes, but it is taken twice", "- Tomas (member)", s.url + "/cases/shallow-berth/failing-run?moment=4711"} {
		assert.Contains(t, report, want)
	}
	ines.fine(t, "report", "shallow-berth", "-o", filepath.Join(dir, "case.html"))
	page, err := os.ReadFile(filepath.Join(dir, "case.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), `id="exhibit-1"`)
	assert.Contains(t, string(page), `href="#exhibit-1"`)
	assert.NotContains(t, string(page), "<img")
	ines.fine(t, "report", "shallow-berth", "-o", filepath.Join(dir, "case.pdf"))
	pdf, err := os.ReadFile(filepath.Join(dir, "case.pdf"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
	assert.Greater(t, len(pdf), 20_000)

	// Nothing of it exists for others.
	c := s.signedIn(t, wren)
	for name, err := range map[string]error{
		"exhibits": second(c.Exhibits(t.Context(), "shallow-berth", 0, 10)), "comments": second(c.Comments(t.Context(), "shallow-berth", nil)), "theories": second(c.Theories(t.Context(), "shallow-berth")),
		"handover": second(c.HandOver(t.Context(), "shallow-berth")), "activity": second(c.Activity(t.Context(), "shallow-berth")), "report": c.Report(t.Context(), "shallow-berth", "html", &bytes.Buffer{}),
		"watch": c.WatchCase(t.Context(), "shallow-berth", 0, nil),
	} {
		assert.ErrorContains(t, err, "not found", name)
	}
	assert.Empty(t, parsed[[]api.Mention](t, wren.fine(t, "--json", "mentions")))
	r, err := http.Get(s.url + "/api/cases/shallow-berth/report")
	require.NoError(t, err)
	r.Body.Close()
	assert.Equal(t, 401, r.StatusCode)
}

func second[T any](_ T, err error) error { return err }

// What happens in a case is streamed to those who watch it, each entry once and in order, also after a break.
func TestWatchingACase(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "fog")
	c := s.signedIn(t, ines)
	var got []string
	var last int64
	watch := func(until string) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		err := c.WatchCase(ctx, "fog", last, func(e api.ActivityEntry) error {
			got, last = append(got, e.What), e.ID
			if strings.Contains(e.What, until) {
				return context.Canceled
			}
			return nil
		})
		require.ErrorIs(t, err, context.Canceled)
	}
	suspect := func(from, to int) {
		for i := from; i < to; i++ {
			_, err := c.Suspect(t.Context(), "fog", api.NewTheory{Text: fmt.Sprint("theory ", i)})
			assert.NoError(t, err)
		}
	}
	go func() {
		time.Sleep(300 * time.Millisecond)
		suspect(0, 20)
	}()
	watch("theory 19 ")
	suspect(20, 30)
	watch("theory 29 ")
	require.Len(t, got, 30)
	for i, what := range got {
		assert.Contains(t, what, fmt.Sprintf("theory %d ", i))
	}
}
