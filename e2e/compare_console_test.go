package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
)

// Ines puts the failing run beside the passing one in the console: where they part, with both sources, and what held. She expects that
// from then on, and sends the address.
func TestComparedInTheConsole(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := withEvidence(t, ines)
	ines.fine(t, "evidence", "add", "shallow-berth", passingRun(t), "--name", "passing-run")
	require.Eventually(t, func() bool {
		for _, e := range parsed[[]api.EvidenceInfo](t, ines.fine(t, "--json", "evidence", "shallow-berth")) {
			if e.Name == "passing-run" && e.State == "ready" {
				return true
			}
		}
		return false
	}, time.Minute, 200*time.Millisecond)
	p := newPage(t, browser(t), s, ines, "/cases/shallow-berth/-/compare")
	p.sees("document.querySelector('form select')?.value", "failing-run")
	p.do(chromedp.SendKeys("form .el-input__inner", "("), chromedp.Click("form button[type=submit]"))
	p.sees(text("[role=alert]"), "invalid ignore")
	p.js(`document.querySelector('form .el-input__inner').select()`)
	p.do(chromedp.SendKeys("form .el-input__inner", "^nothing$"), chromedp.Click("form button[type=submit]"))
	p.sees(text(".causes"), "for _, number := range numbers {")
	p.sees(text("main"), "calls with a counterpart")
	page := func(n string) string { return text(".pages section:nth-child(" + n + ")") }
	p.sees(page("1"), `numbers = []string(2){"0412", "0419"}`)
	p.sees(page("2"), `numbers = []string(1){"0412"}`)
	p.sees(text(".pages section:nth-child(1) li.now"), "book.Apply(notice)")
	p.sees(text(".pages section:nth-child(2) li.now"), "book.Apply(notice)")
	p.accessible("compare")
	p.do(chromedp.Click(".causes ol li:nth-child(3) button"))
	p.sees(text(".pages section:nth-child(1) li.now"), "if clearance < h.margin {")
	p.sees("location.search", "at=2")
	p.do(chromedp.Click(".contrast button"))
	p.sees(text(".contrast"), "expected")
	list := parsed[[]ask.Expectation](t, ines.fine(t, "--json", "expect", "list", "shallow-berth"))
	require.Len(t, list, 1)
	assert.Equal(t, "p.Corrections <= 0", list[0].That)

	// The address opens the same view.
	address := p.js("location.href")
	p.do(chromedp.Navigate("about:blank"), chromedp.Navigate(strings.Trim(address, `"`)))
	p.sees(text(".pages section:nth-child(1) li.now"), "if clearance < h.margin {")
	p.do(chromedp.Click(".pages section:nth-child(1) h3 a"))
	p.sees(text(".now-line"), "if clearance < h.margin {")
}
