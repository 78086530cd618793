package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// Two people share a sitting in the console: the lead is asked for and handed over, both see what the other points at, what is
// watched and what was said, and the sitting is played back. Whoever leads keeps the lead when opening a link.
func TestTogetherInTheConsole(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	b := browser(t)
	const run = "/cases/shallow-berth/failing-run"
	lead := newPage(t, b, s, ines, run)
	lead.sees(text("[data-person='Ines']"), "leads")
	follower := newPage(t, b, s, tomas, run)
	follower.sees(text("[data-person='Tomas']"), "follows")

	follower.do(chromedp.Click(`[aria-label="point at clearance"]`))
	lead.sees(`document.querySelector("[data-name='clearance']")?.title`, "Tomas points at this")
	lead.do(chromedp.SendKeys(`[aria-label="expression to watch"]`, "clearance * 2.0\r"))
	follower.sees(text("[data-watch='clearance * 2.0']"), "0.52")
	follower.do(chromedp.Click(`section[aria-label="Watched"] label input`), chromedp.SendKeys(`[aria-label="expression to watch"]`, "clearance * 3.0\r"))
	follower.sees(text("[data-watch='clearance * 3.0']"), "only for me")
	lead.do(chromedp.Click("#tab-ledger"), chromedp.WaitVisible(`[aria-label="new column"]`), chromedp.SendKeys(`[aria-label="new column"]`, "draught\r"))
	follower.do(chromedp.Click("#tab-ledger"))
	follower.sees(text("#pane-ledger table"), "draught")
	follower.js(`(() => { const s = document.querySelector('[aria-label="how whole numbers are written"]'); s.value = 'hex'; s.dispatchEvent(new Event('change')) })()`)
	lead.sees(`document.querySelector('[aria-label="how whole numbers are written"]').value`, "hex")
	lead.sees(text("[data-watch='clearance * 3.0']"), "nothing")
	failure := lead.js(moment)
	lead.js(`document.activeElement.blur()`)
	lead.do(chromedp.KeyEvent("k"))
	lead.sees(moment+" !== '"+failure+"'", "true")
	follower.sees(moment, lead.js(moment))
	lead.do(chromedp.Click("#tab-talk"), chromedp.WaitVisible(`[aria-label="something to say"]`), chromedp.SendKeys(`[aria-label="something to say"]`, "look at the height\r"))
	follower.do(chromedp.Click("#tab-talk"))
	follower.sees(text("#pane-talk"), "look at the height")
	follower.sees(text("#pane-talk"), "lets all watch clearance * 2.0")
	follower.sees(text("#pane-talk"), "shares the columns draught")
	follower.sees(text("#pane-talk"), "writes whole numbers as hex")
	follower.accessible("talk")

	follower.js(`[...document.querySelectorAll('.act')].find((b) => b.innerText === 'Ask for the lead').click()`)
	lead.sees(text("[data-person='Tomas']"), "asks for the lead")
	lead.js(`[...document.querySelectorAll('.act')].find((b) => b.innerText === 'Hand the lead to Tomas').click()`)
	lead.sees(text("[data-person='Ines']"), "follows")
	follower.sees(text("[data-person='Tomas']"), "leads")
	follower.sees(text("#pane-talk"), "handed the lead to Tomas")

	follower.do(chromedp.Navigate(s.url + run + "?moment=4711&thread=1"))
	follower.sees(text("[role=status]"), "You lead. This link shows another moment")
	follower.sees(text("[data-person='Tomas']"), "leads")
	follower.do(chromedp.Click("#take-along"))
	lead.sees(moment, "4711")
	lead.do(chromedp.Click("#play-earlier"))
	lead.sees(text("#reason"), "where Tomas was at")
	lead.do(chromedp.Click("#play-earlier"), chromedp.Click("#play-earlier"))
	lead.sees(text("[data-person='Ines']"), "roams")
	lead.sees(moment+" !== '"+failure+"'", "true")
}

// Ines keeps an exhibit with a key, says something about a value, and judges a theory; Tomas sees it without loading the page again,
// answers, and reads what changed since he was here. What is hostile stays text.
func TestNotesInTheConsole(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	ines.fine(t, "theory", "add", "shallow-berth", "<img src=x onerror=alert(1)>")
	b := browser(t)
	reader := newPage(t, b, s, tomas, "/cases/shallow-berth/-/notes")
	reader.sees(text("[data-state='open']"), "<img src=x onerror=alert(1)>")
	reader.sees(text(".since"), "suspects:")
	writer := newPage(t, b, s, ines, "/cases/shallow-berth/failing-run")
	writer.sees(text(".now-line"), "return &GroundingError{")
	writer.do(chromedp.KeyEvent("e"), chromedp.WaitVisible("#keep-note"))
	writer.sees("document.activeElement?.id", "keep-note")
	writer.do(chromedp.SendKeys("#keep-note", "what the gauge said\r"))
	writer.sees(text("[data-exhibit='1']"), "clearance  float64 = 0.26")
	reader.sees(text("[data-exhibit='1']"), "what the gauge said")
	writer.do(chromedp.SendKeys(`[aria-label="comment"]`, "is this `clearance` **right**, @Tomas?"), chromedp.SendKeys(`[aria-label="value that it is about"]`, "clearance"),
		chromedp.Click("section[aria-label='Comments'] form button"))
	reader.sees(`document.querySelector("[data-comment='1'] strong")?.innerText`, "right")
	reader.sees(text("[data-comment='1'] header"), "clearance")
	writer.accessible("notes of a sitting")
	reader.js(`[...document.querySelectorAll("[data-comment='1'] .acts button")].find((b) => b.innerText === 'Answer').click()`)
	reader.do(chromedp.WaitVisible("[data-comment='1'] textarea"), chromedp.SendKeys("[data-comment='1'] textarea", "<script>document.title='taken'</script> yes"), chromedp.Click("[data-comment='1'] form button"))
	writer.sees(text("[data-comment='2']"), "yes")
	reader.js(`(() => { const s = document.querySelector('[aria-label="add for it …"]'); s.value = '1'; s.dispatchEvent(new Event('change')) })()`)
	reader.sees(text("[data-theory='1']"), "for it: exhibit 1")
	reader.js(`(() => { const s = document.querySelector("[data-theory='1'] select"); s.value = 'supported'; s.dispatchEvent(new Event('change')) })()`)
	reader.sees(text("[data-state='supported']"), "onerror")
	reader.js(`[...document.querySelectorAll('button')].find((b) => b.innerText === 'Write a hand-over note').click()`)
	reader.sees(`document.querySelector('[aria-label="hand-over note"]')?.value`, "## Ruled out")
	reader.accessible("notes")
	reader.sees("document.title === 'taken'", "false")
}
