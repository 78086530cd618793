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
	failure := lead.js(moment)
	lead.do(chromedp.KeyEvent("k"))
	follower.sees(moment, lead.js(moment))
	lead.do(chromedp.Click("#tab-talk"), chromedp.WaitVisible(`[aria-label="something to say"]`), chromedp.SendKeys(`[aria-label="something to say"]`, "look at the height\r"))
	follower.do(chromedp.Click("#tab-talk"))
	follower.sees(text("#pane-talk"), "look at the height")
	follower.sees(text("#pane-talk"), "lets all watch clearance * 2.0")
	follower.accessible("talk")

	follower.js(`[...document.querySelectorAll('.act')].find((b) => b.innerText === 'Ask for the lead').click()`)
	lead.sees(text("[data-person='Tomas']"), "asks for the lead")
	lead.js(`[...document.querySelectorAll('.act')].find((b) => b.innerText === 'Hand the lead to Tomas').click()`)
	follower.sees(text("[data-person='Tomas']"), "leads")
	lead.sees(text("[data-person='Ines']"), "follows")
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
