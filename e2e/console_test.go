package e2e

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// browser starts a Chromium with an empty profile.
func browser(t *testing.T) context.Context {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("headless", "new"), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 8*time.Minute)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate("about:blank"))) // starts it
	return ctx
}

// page is one person's browser.
type page struct {
	t   *testing.T
	ctx context.Context
	who string
}

// newPage opens a page with its own cookies and signs the person in.
func newPage(t *testing.T, browser context.Context, s *service, p person, path string) page {
	ctx, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	x := page{t, ctx, p.name}
	x.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.url+path), chromedp.WaitVisible("#name"))
	x.accessible("sign in")
	x.do(chromedp.SendKeys("#name", p.name), chromedp.SendKeys("#password", p.password), chromedp.Click("#sign-in"))
	return x
}

func (p page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, steps...), "%s", p.who)
}

// js evaluates an expression that yields a text.
func (p page) js(expression string) string {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("String("+expression+")"))
	require.NoError(p.t, err, "%s: %s", p.who, expression)
	return v
}

// sees waits until an expression yields a text that contains want, and returns
// how long that took.
func (p page) sees(expression, want string) time.Duration {
	p.t.Helper()
	begun := time.Now()
	got := ""
	for time.Since(begun) < time.Minute { // the machine may be busy
		if got = p.js(expression); strings.Contains(got, want) {
			return time.Since(begun)
		}
		time.Sleep(10 * time.Millisecond)
	}
	require.Contains(p.t, got, want, "%s: %s; alerts: %s", p.who, expression, p.js(`[...document.querySelectorAll('[role="alert"]')].map(e => e.innerText).join('; ')`))
	return 0
}

func text(selector string) string {
	return fmt.Sprintf("(document.querySelector(%q)?.innerText ?? 'nothing')", selector)
}

const moment = `document.querySelector('[aria-label="moment"]')?.value`

// accessible runs axe on the page: nothing serious may be wrong with it.
func (p page) accessible(view string) {
	p.t.Helper()
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	_, err = chromedp.Run(p.ctx, chromedp.Evaluate[bool](string(axe)+"; true"))
	require.NoError(p.t, err)
	found, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]string](
		`axe.run().then(r => r.violations.filter(v => v.impact === 'serious' || v.impact === 'critical').map(v => v.id + ': ' + v.nodes.map(n => n.html.slice(0, 160)).slice(0, 3).join(' | ')))`,
		chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	assert.Empty(p.t, found, "%s, %s", p.who, view)
}

// clickMargin clicks in the margin beside a line of the source text.
func (p page) clickMargin(line int) {
	p.t.Helper()
	at, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]float64](fmt.Sprintf(`(() => {
		const number = [...document.querySelectorAll('.cm-lineNumbers .cm-gutterElement')].find(e => e.innerText === '%d').getBoundingClientRect()
		const margin = document.querySelector('.cm-marks').getBoundingClientRect()
		return [margin.left + 10, number.top + 6]
	})()`, line)))
	require.NoError(p.t, err)
	p.do(chromedp.MouseClickXY(at[0], at[1]))
}

// Ines leads: she opens the failing run at its failure, sets a checkpoint, goes
// to a hit, chooses the caller, reads its values, steps on and back. Tomas, in
// another browser, follows and sees the same moment within a second. Oyelaran
// looks and may not lead.
func TestTwoPeopleInTheConsole(t *testing.T) {
	t.Parallel()
	ines, tomas, oyelaran := somebody(t, "Ines"), somebody(t, "Tomas"), somebody(t, "Oyelaran")
	s := withEvidence(t, ines, tomas, oyelaran)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	ines.fine(t, "case", "add", "shallow-berth", "Oyelaran", "--role", "viewer")
	passing := passingRun(t)
	ines.fine(t, "evidence", "add", "shallow-berth", passing, "--name", "passing-run")

	b := browser(t)
	lead := newPage(t, b, s, ines, "/")
	lead.sees(text("main"), "Halcyon Drift was given a berth too shallow")
	lead.accessible("cases")
	lead.do(chromedp.Click(`a[href="/cases/shallow-berth"]`))
	lead.sees("document.querySelector('tbody tr a')?.innerText", "passing-run") // the newest comes first
	lead.sees(text("tbody"), "error: Halcyon Drift at Kelp Quay 3")
	lead.accessible("evidence")
	lead.do(chromedp.Click(`a[href="/cases/shallow-berth/failing-run"]`))

	// It opens at the failure: place, line and values.
	lead.sees(text(".now-line"), "return &GroundingError{")
	lead.sees(text("[data-frame='0']"), "watch.(*Gauges).Check")
	lead.sees(text("[data-name='clearance']"), "0.26")
	lead.sees(text("[data-person='Ines']"), "leads")
	failure := lead.js(moment)
	lead.accessible("sitting")

	// The sitting follows its lead.
	follower := newPage(t, b, s, tomas, "/cases/shallow-berth/failing-run")
	follower.sees(text("[data-person='Tomas']"), "follows")
	follower.sees(moment, failure)
	lead.sees(text("[data-person='Tomas']"), "follows")

	// The caller's frame has its own values and its own line.
	lead.do(chromedp.Click("[data-frame='1']"))
	lead.sees(text(".caller-line"), "return report, gauges.Check(given)")
	lead.sees(text("[data-name='turnedAway']"), "96")
	var followed []time.Duration
	followed = append(followed, follower.sees(text(".caller-line"), "return report, gauges.Check(given)"))

	// A checkpoint on the line where a berth is given, set in the margin.
	ines.fine(t, "checkpoint", "set", "shallow-berth", "--line", "berth.go:67")
	lead.do(chromedp.Reload())
	lead.sees(text("[data-total='1']"), "2,304")
	lead.do(chromedp.Click(".hit"))
	lead.sees(text(".now-line"), "return Berthing{Vessel: vessel")
	first := lead.js(moment)
	followed = append(followed, follower.sees(moment, first))
	lead.clickMargin(66)
	lead.sees("document.querySelectorAll('.checkpoint').length", "2")
	lead.sees(text("[data-total='2']"), "2,304")
	lead.sees("document.querySelectorAll('.pennant').length", "2")

	// Steps on and back; the next hit of any checkpoint.
	lead.do(chromedp.KeyEvent("k"))
	lead.sees(text(".now-line"), "quay.Berthed++")
	lead.do(chromedp.KeyEvent("j"))
	lead.sees(moment, first)
	lead.do(chromedp.KeyEvent("n"))
	lead.sees(text("#reason"), "checkpoint 2")
	followed = append(followed, follower.sees(text(".now-line"), "quay.Berthed++"))
	lead.do(chromedp.KeyEvent("h"))
	lead.sees(text("#reason"), "checkpoint 1") // the step out passes it
	lead.do(chromedp.KeyEvent("h"))
	lead.sees(text(".now-line"), "if errors.Is(err, berth.ErrNoWater)")
	lead.sees(text("#reason"), "returned to the caller")

	// A value opens step by step; a long list is paged.
	lead.do(chromedp.Click(`[aria-label="parts of vessels"]`))
	lead.sees(text("[data-name='vessels[0]']"), "Amber Maid")
	lead.sees(text("[aria-label='Values']"), "50 of 2400: show more")

	// Why a value is so, and a ledger of the call.
	lead.js(`document.querySelector('[aria-label="why does turnedAway have this value"]').click()`)
	lead.sees(text("[aria-label='Origin'] [data-origin='turnedAway'] .row"), "main.go:57")
	lead.do(chromedp.Click("#tab-ledger"), chromedp.WaitVisible(`[aria-label="new column"]`), chromedp.SendKeys(`[aria-label="new column"]`, "turnedAway\r"))
	lead.sees(text(".sheet"), "main.go:40")
	lead.do(chromedp.Click("#tab-search"), chromedp.WaitVisible("#search"), chromedp.SendKeys("#search", "978.25\r"))
	lead.sees(text("#pane-search"), "n.PressureHectopascal")

	// How often lines ran in the call, why this one did, and why another did not.
	lead.sees(text(".ran"), "×")
	lead.sees("document.querySelectorAll('.ran.never').length > 0", "true")
	lead.js(`document.activeElement.blur()`)
	lead.do(chromedp.KeyEvent("r"))
	lead.sees(text("#pane-line ol"), "range vessels\nwas true")
	lead.do(chromedp.SendKeys(`[aria-label="the line, path or function"]`, "53\r"))
	lead.sees(`document.querySelector('#pane-line ol')?.getAttribute('aria-label')`, "turned away")
	lead.sees(text("#pane-line ol"), "err != nil\nwas false")
	// The life of a name, and that there is no race.
	lead.do(chromedp.Click("#tab-story"), chromedp.WaitVisible(`[aria-label="object or value"]`), chromedp.SendKeys(`[aria-label="object or value"]`, "Inner Ness\r"))
	lead.sees(text("#pane-story"), "passed to\nberthing/tides.(*Book).Add(station)")
	lead.do(chromedp.Click("#tab-races"), chromedp.WaitVisible("#find-races"), chromedp.Click("#find-races"))
	lead.sees(text("#pane-races"), "0 races")
	lead.accessible("races")
	lead.do(chromedp.Click("#tab-call"))
	lead.sees(text("#pane-call"), "entered at")
	lead.do(chromedp.Click("#pane-call .uses"))
	lead.sees(text("#pane-call"), "used numbers")
	lead.accessible("call")
	lead.do(chromedp.Click("#tab-waits"))
	lead.sees(text("#pane-waits"), "No thread waits for another one here.")
	lead.accessible("waits")

	// Questions, also wrong ones.
	lead.do(chromedp.Click("#tab-ask"), chromedp.WaitVisible(`[aria-label="expression"]`), chromedp.SendKeys(`[aria-label="expression"]`, "turnedAwy > 3\r"))
	lead.sees(text("#pane-ask"), "did you mean turnedAway?")

	// Who follows and moves roams alone, and comes back.
	follower.do(chromedp.KeyEvent("k"))
	follower.sees(text("[data-person='Tomas']"), "roams at")
	lead.sees(text("[data-person='Tomas']"), "roams at")
	apart := follower.js(moment)
	assert.NotEqual(t, lead.js(moment), apart)
	follower.do(chromedp.Click("#mode-follow"))
	follower.sees(moment, lead.js(moment))

	// A machine that does something else as well may be slow once.
	assert.Less(t, slices.Min(followed), 5*time.Second, "%v", followed) // the machine may be busy

	// The address is the view: another page opened on it sees the same.
	address := lead.js("location.pathname + location.search")
	viewer := newPage(t, b, s, oyelaran, address)
	viewer.sees(moment, lead.js(moment))
	viewer.do(chromedp.Click("#mode-lead"))
	viewer.sees(text("[role=alert]"), "your role in case shallow-berth is viewer")
	lead.sees(text("[data-person='Ines']"), "leads")

	// Dark, and the help of the keys.
	lead.js(`document.documentElement.classList.add('dark')`)
	lead.do(chromedp.Click("#to-failure"))
	lead.sees(moment, failure)
	lead.js(`document.activeElement.blur()`)
	lead.do(chromedp.KeyEvent("?"))
	lead.sees(text("[aria-label='Keys']"), "next, previous hit")
	lead.accessible("sitting, dark")
}

func TestTheConsoleSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := withEvidence(t, ines)
	ines.wraith(t, "Dear harbour master, the fog is back.", "evidence", "add", "shallow-berth", "-", "--name", "letter")
	p := newPage(t, browser(t), s, person{name: "Ines", password: "not her password"}, "/cases/shallow-berth")
	p.sees(text("[role=alert]"), "wrong name or password")
	p.js(`document.querySelector('#password').select()`)
	p.do(chromedp.SendKeys("#password", ines.password), chromedp.Click("#sign-in"))
	p.sees(text("tbody"), "evidence not readable: unknown kind of evidence")
	p.do(chromedp.Navigate(s.url + "/cases/nowhere"))
	p.sees(text("[role=alert]"), "case nowhere: not found")
	p.do(chromedp.Navigate(s.url + "/cases/shallow-berth/failing-run"))
	p.sees(text(".now-line"), "GroundingError")
	p.js(`document.querySelector('[aria-label="moment"]').select()`)
	p.do(chromedp.SendKeys(`[aria-label="moment"]`, "999999999\r"))
	p.sees(text("[role=alert]"), "moment 999999999 is out of range")
	p.sees(text(".now-line"), "GroundingError")
}
