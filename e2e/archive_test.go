package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
)

// A case goes to another service: evidence answers there as it did, exhibits, comments, theories and the record are there, and belong to people
// of the first service. Nobody is told of what an import brings.
func TestACaseGoesElsewhere(t *testing.T) {
	t.Parallel()
	ines, tomas, odile := somebody(t, "Ines"), somebody(t, "Tomas"), somebody(t, "Odile")
	s := withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas", "--role", "viewer", "--unmask")
	ines.fine(t, "checkpoint", "set", "shallow-berth", "--enter", "Harbour.Assign")
	ines.fine(t, "expect", "add", "shallow-berth", "--return", "Book.At", "--when", "result 2 == null", "--that", once)
	ines.fine(t, "keep", "shallow-berth/failing-run", "ask", "clearance", "--note", "too little")
	ines.fine(t, "keep", "shallow-berth/failing-run", "origin", "clearance")
	ines.fine(t, "exhibit", "delete", "shallow-berth", "1")
	ines.fine(t, "comment", "add", "shallow-berth", "see exhibit 2, @Tomas")
	ines.fine(t, "theory", "add", "shallow-berth", "the height is added twice")
	ines.fine(t, "theory", "argue", "shallow-berth", "1", "2", "--for")

	other := start(t, odile)
	odile.signIn(t, other.url)
	file := filepath.Join(t.TempDir(), "case.zip")
	assert.Equal(t, 1, odile.wraith(t, "", "case", "export", "shallow-berth", "-o", file).code, "not found there")
	assert.NoFileExists(t, file)
	tomas.fine(t, "case", "export", "shallow-berth", "-o", file)
	assert.Contains(t, ines.fine(t, "activity", "shallow-berth"), "exported the case")

	got := parsed[api.Case](t, odile.fine(t, "--json", "case", "import", file))
	assert.Equal(t, api.RoleLead, got.Role)
	var names []string
	for _, m := range got.Members {
		names = append(names, m.Name)
	}
	from := " (" + strings.TrimPrefix(s.url, "http://") + ")"
	assert.ElementsMatch(t, []string{"Odile", "Ines" + from, "Tomas" + from}, names)
	var list []api.EvidenceInfo
	waitFor(t, func() bool {
		list = parsed[[]api.EvidenceInfo](t, odile.fine(t, "--json", "evidence", "shallow-berth"))
		return list[0].State == api.StateReady
	})
	assert.Equal(t, parsed[[]api.EvidenceInfo](t, ines.fine(t, "--json", "evidence", "shallow-berth"))[0].Moments, list[0].Moments)
	for _, question := range [][]string{{"ask", "shallow-berth/failing-run", "clearance"}, {"stack", "shallow-berth/failing-run"}, {"exhibit", "show", "shallow-berth", "2"}, {"theory", "shallow-berth"}} {
		there := strings.ReplaceAll(odile.fine(t, append([]string{"--json"}, question...)...), from, "")
		assert.JSONEq(t, ines.fine(t, append([]string{"--json"}, question...)...), there, "%v", question)
	}
	assert.Equal(t, strings.ReplaceAll(odile.fine(t, "comment", "shallow-berth"), from, ""), ines.fine(t, "comment", "shallow-berth"))
	waitFor(t, func() bool {
		return strings.Contains(odile.fine(t, "case", "checks", "shallow-berth"), "breaks")
	})
	assert.Empty(t, parsed[api.Notices](t, odile.fine(t, "--json", "notices", "shallow-berth")).List)
	r := odile.wraith(t, "", "case", "import", file)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.err, "give another name for the import")
	odile.fine(t, "case", "import", file, "--as", "shallow-berth-2")
	assert.Contains(t, odile.wraith(t, "", "case", "add", "shallow-berth", "Ines"+from).err, "cannot sign in")
	assert.Contains(t, odile.wraith(t, "x\n", "sign-in", other.url, "--name", "Ines"+from).err, "wrong name or password")

	odile.fine(t, "case", "close", "shallow-berth-2", "--cause", "the height was added twice")
	p := newPage(t, browser(t), other, odile, "/cases?state=closed")
	p.sees(text("li"), "the height was added twice")
	p.accessible("cases")
	p.do(chromedp.SendKeys(`[aria-label="text"]`, "no such tide\r"))
	p.sees(text("section"), "No case of yours is like this.")
	p.do(chromedp.SetUploadFiles("#archive", []string{file}), chromedp.SendKeys("#archive-name", "shallow-berth-3\r"))
	p.sees(`location.pathname`, "/cases/shallow-berth-3")
	p.sees(text("main"), "failing-run")

	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, whole[:len(whole)/2], 0o600))
	r = odile.wraith(t, "", "case", "import", file, "--as", "half")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "not complete")
	assert.Equal(t, 1, odile.wraith(t, "", "evidence", "half").code, "nothing of it is there")
}
