package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"wraithology/api"
)

// Ines expects something in the console, sees where it breaks, goes there, and closes the case. What arrives later is flagged.
func TestExpectationsInTheConsole(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := withEvidence(t, ines)
	ines.fine(t, "checkpoint", "set", "shallow-berth", "--enter", "Harbour.Assign")
	p := newPage(t, browser(t), s, ines, "/cases/shallow-berth/-/expectations")
	p.sees(text("main"), "Nothing is expected yet")
	fill := func(place, that, when string) {
		p.do(chromedp.SendKeys(`[aria-label="function or line"]`, place), chromedp.SendKeys(`[aria-label="expression that should be true"]`, that))
		if when != "" {
			p.do(chromedp.SendKeys(`[aria-label="condition for the hits that count"]`, when))
		}
		p.do(chromedp.Click("form.add button[type=submit]"))
	}
	fill("Nowhere", "true", "")
	p.sees(text("[role=alert]"), "no recorded function has this name")
	p.js(`document.querySelector('[aria-label="function or line"]').select()`)
	p.js(`document.querySelector('[aria-label="expression that should be true"]').select()`)
	fill("Book.At", once, "result 2 == null")
	p.sees(text("tbody tr td"), "breaks")
	p.sees(text("tbody tr td"), "at 3 of 7,975 hits")
	p.sees(text("tbody tr td"), "result 1.Corrections = 2")
	p.sees(text("tbody tr.counted td"), "2,400 hits")
	p.accessible("expectations")
	p.do(chromedp.Click("tbody tr td a"))
	p.sees(text(".now-line"), "return page[n], nil")

	p.do(chromedp.Navigate(s.url + "/cases/shallow-berth/-/expectations"))
	p.sees(text("tbody tr td"), "breaks")
	p.do(chromedp.SendKeys(`[aria-label="cause of the failure"]`, "a notice was taken twice"), chromedp.Click("form.close button[type=submit]"))
	p.sees(text(".closed"), "a notice was taken twice")
	ines.fine(t, "evidence", "add", "shallow-berth", failingRun(t), "--name", "failed-again")
	require.Eventually(t, func() bool {
		got := parsed[api.Checks](t, ines.fine(t, "--json", "case", "checks", "shallow-berth"))
		return got.Evidence[0].Again
	}, time.Minute, 200*time.Millisecond)
	p.do(chromedp.Navigate(s.url + "/cases/shallow-berth"))
	p.sees(text("tbody"), "1 expectation breaks again, after the case was closed")
	p.do(chromedp.Click("a.broken"))
	p.sees(text("thead"), "breaks again after the case was closed")
	require.Equal(t, 1, strings.Count(p.js(text("thead")), "breaks again"), "the first recording came before")
	p.do(chromedp.Click(`[aria-label="delete expectation 1"]`))
	p.sees(text("main"), "Nothing is expected yet")
}
