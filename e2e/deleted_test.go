package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is deleted is gone for everybody, and comes back as it was; only who may deletes, and the record says who did.
func TestDeletedThings(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	r := tomas.wraith(t, "", "evidence", "delete", "shallow-berth/failing-run")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "somebody else has added failing-run")
	tomas.fine(t, "evidence", "add", "shallow-berth", failingRun(t), "--name", "own")
	assert.Equal(t, "deleted shallow-berth/own\n", tomas.fine(t, "evidence", "delete", "shallow-berth/own"))

	before := ines.fine(t, "stack", "shallow-berth/failing-run")
	page := newPage(t, browser(t), s, ines, "/cases/shallow-berth")
	page.sees(text("main"), "failing-run")
	page.do(chromedp.Click(`[aria-label="Delete failing-run"]`), chromedp.Click(`[aria-label="Delete failing-run: yes"]`))
	page.sees(text(".deleted"), "failing-run")
	page.accessible("deleted evidence")
	r = ines.wraith(t, "", "stack", "shallow-berth/failing-run")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "not found")
	assert.Contains(t, tomas.fine(t, "evidence", "deleted", "shallow-berth"), "failing-run")
	page.do(chromedp.Click(`[aria-label="Restore failing-run"]`))
	page.sees("document.querySelectorAll('.deleted li').length", "1")
	assert.Equal(t, before, ines.fine(t, "stack", "shallow-berth/failing-run"))
	assert.Contains(t, tomas.fine(t, "activity", "shallow-berth"), "restored the evidence failing-run")

	assert.Contains(t, tomas.fine(t, "case", "custody", "shallow-berth"), "Ines deleted the evidence failing-run")
	record := filepath.Join(t.TempDir(), "record")
	assert.Contains(t, tomas.fine(t, "case", "custody", "shallow-berth", "--output", record), "the record of shallow-berth is whole")
	assert.Contains(t, tomas.fine(t, "case", "verify", record), "give the key of the service with --key")
	text, err := os.ReadFile(record)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(record, bytes.Replace(text, []byte("restored the evidence"), []byte("restored some evidence"), 1), 0o600))
	r = tomas.wraith(t, "", "case", "verify", record)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "was changed")
	r = tomas.wraith(t, "", "case", "delete", "shallow-berth")
	assert.Contains(t, r.err, "your role in case shallow-berth is member")
	assert.Equal(t, "evidence of shallow-berth is deleted 90 days after it came\n", ines.fine(t, "case", "retention", "shallow-berth", "90"))
	ines.fine(t, "case", "delete", "shallow-berth")
	assert.NotContains(t, tomas.fine(t, "case"), "shallow-berth")
	r = tomas.wraith(t, "", "case", "restore", "shallow-berth")
	assert.Contains(t, r.err, "not found")
	ines.fine(t, "case", "restore", "shallow-berth")
	assert.Equal(t, before, tomas.fine(t, "stack", "shallow-berth/failing-run"))
}
