package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// press clicks the button, or the box of the label, that begins with a text.
func (p page) press(label string) {
	p.t.Helper()
	p.sees(fmt.Sprintf(`(() => { const e = [...document.querySelectorAll('button, label')].find(e => (e.ariaLabel ?? e.innerText).trim().startsWith(%q)); e?.click(); return !!e })()`, label), "true")
}

// Ines makes a team and a link to it, and somebody without an account joins by the link. The case of the team is then theirs too, until Ines removes them.
// The record shows it, and what is masked is set beside it. A file of more than one part arrives whole.
func TestPeopleInTheConsole(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := start(t, ines, tomas)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "fog", "--title", "Lost in the fog")
	b := browser(t)
	p := newPage(t, b, s, ines, "/teams")
	p.sees(text("main"), "You are in no team.")
	p.do(chromedp.SendKeys("#new-team input", "watch\r"))
	p.sees(text("main"), "People of watch")
	p.press("Makes accounts")
	p.press("Make a link")
	p.sees(text("#link"), "/join#")
	link := p.js(`document.querySelector('#link code').innerText`)
	p.accessible("teams")

	// Without an account.
	ctx, cancel := chromedp.NewContext(b, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	odile := page{t, ctx, "Odile"}
	odile.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(link))
	odile.sees(text("#to"), "Ines invites you to team watch, as member.")
	odile.accessible("invitation")
	odile.do(chromedp.SendKeys("#name", "Odile"), chromedp.SendKeys("#password", "curlew-bank-9"), chromedp.Click("#join-with-account"))
	odile.sees(text("main"), "People of watch")
	odile.sees(text("tbody"), "member")
	odile.do(chromedp.Navigate(link), chromedp.Reload())
	odile.sees(text("[role=alert]"), "it is used up, expired or withdrawn")

	// The case belongs to the team.
	p.do(chromedp.Navigate(s.url + "/cases/fog/-/people"))
	p.sees(text("#add-team"), "watch")
	p.js(`(() => { const s = document.querySelector('#add-team select'); s.value = 'watch'; s.dispatchEvent(new Event('change')) })()`)
	p.press("Add the team")
	p.sees(text("[data-person='Odile']"), "watch")
	p.accessible("people")
	odile.do(chromedp.Navigate(s.url + "/cases"))
	odile.sees(text("main"), "Lost in the fog")
	p.press("Remove Odile")
	p.sees(text("[role=alert]"), "Odile is in team watch, which the case belongs to")

	// With an account: after signing in one is back at the invitation.
	p.press("Make a link")
	p.sees(text("#link"), "/join#")
	link = p.js(`document.querySelector('#link code').innerText`)
	ctx, cancel = chromedp.NewContext(b, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	guest := page{t, ctx, "Tomas"}
	guest.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(link), chromedp.Click("#sign-in-first"), chromedp.WaitVisible("#sign-in"),
		chromedp.SendKeys("#name", tomas.name), chromedp.SendKeys("#password", tomas.password), chromedp.Click("#sign-in"))
	guest.sees(text("#join"), "Join as Tomas")
	guest.do(chromedp.Click("#join"))
	guest.sees(text("h1"), "Lost in the fog")

	// What is masked, and who did what.
	p.do(chromedp.Navigate(s.url + "/cases/fog/-/record"))
	p.sees(text("#entries"), "joined the case as member, by invitation")
	p.do(chromedp.SendKeys("#new-rule input", "berth*\r"))
	p.press("Save the rules")
	p.sees(text("[role=status]"), "0 pieces of evidence")
	p.sees(text("#entries"), "set the rules for masking")
	p.do(chromedp.SendKeys("#find-entries input", "team watch\r"))
	p.sees(`[...document.querySelectorAll('#entries tbody tr')].length`, "1")
	p.accessible("record")
	guest.do(chromedp.Navigate(s.url + "/cases/fog/-/record"))
	guest.sees(text("#rules"), "berth*")
	guest.sees(`document.querySelector('#new-rule') === null`, "true")

	// A file of more than one part.
	file := filepath.Join(t.TempDir(), "pilots.jsonl")
	line := `{"time":"2026-11-20T06:00:00Z","level":"INFO","msg":"pilot boards","vessel":"` + strings.Repeat("Halcyon Drift ", 4000) + `"}` + "\n"
	require.NoError(t, os.WriteFile(file, []byte(strings.Repeat(line, (9<<20)/len(line))), 0o600))
	guest.do(chromedp.Navigate(s.url+"/cases/fog"), chromedp.WaitReady("#file"), chromedp.SetUploadFiles("#file", []string{file}))
	guest.sees(text("tbody"), "ended without a failure")
	guest.do(chromedp.SendKeys("#find-evidence input", "nothing\r"))
	guest.sees(text("main"), "No evidence is like this.")
}
