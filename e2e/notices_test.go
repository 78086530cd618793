package e2e

import (
	"encoding/json"
	"io"
	"maps"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/emersion/go-smtp"
	standard "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/e2e/mailtest"
)

// parts returns the text and the HTML of a mail.
func parts(t *testing.T, m mailtest.Mail) (text, html string) {
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	require.NoError(t, err)
	r := multipart.NewReader(strings.NewReader(m.Text), params["boundary"])
	for _, to := range []*string{&text, &html} {
		p, err := r.NextRawPart()
		require.NoError(t, err)
		require.Equal(t, "quoted-printable", p.Header.Get("Content-Transfer-Encoding"))
		content, err := io.ReadAll(quotedprintable.NewReader(p))
		require.NoError(t, err)
		*to = string(content)
	}
	return strings.ReplaceAll(text, "\r\n", "\n"), html
}

// mailsTo returns the mails that a person was sent: text by text.
func mailsTo(t *testing.T, server *mailtest.Server, address string) (list []string) {
	for _, m := range server.Mails() {
		if m.To[0] == address {
			text, _ := parts(t, m)
			list = append(list, text)
		}
	}
	return list
}

// receiver is a webhook's receiver that takes every second request only.
type receiver struct {
	mu       sync.Mutex
	attempts []http.Header
	told     map[string]api.Told // by key
}

func (x *receiver) listen(t *testing.T, secret func() string) *httptest.Server {
	x.told = map[string]api.Told{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		by, err := standard.NewWebhook(secret())
		assert.NoError(t, err)
		assert.NoError(t, by.Verify(body, r.Header))
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.attempts = append(x.attempts, r.Header); len(x.attempts)%2 == 1 {
			http.Error(w, "the tide is out", http.StatusServiceUnavailable)
			return
		}
		var told api.Told
		assert.NoError(t, json.Unmarshal(body, &told))
		x.told[r.Header.Get("webhook-id")] = told
	}))
	t.Cleanup(server.Close)
	return server
}

func (x *receiver) notices() (list []api.Notice) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, t := range x.told {
		list = append(list, t.Notices...)
	}
	return list
}

const crashText = "panic: no depth for <script>alert(1)</script> \x1b[31m\n\ngoroutine 1 [running]:\nmain.(*Harbour).Assign(0xc000012345, 0x7)\n\t/srv/berthing/harbour.go:41 +0x1d\nmain.main()\n\t/srv/berthing/main.go:12 +0x2f\nexit status 2\n"

// People are mailed, and programs told, what concerns them: each thing once, with the place, the stack and the values, also if the receiver
// does not take it at first, and only members.
func TestPeopleAreToldOnce(t *testing.T) {
	t.Parallel()
	ines, tomas, odile := somebody(t, "Ines"), somebody(t, "Tomas"), somebody(t, "Odile")
	server := mailtest.Start(t, mailtest.Options{})
	var hook receiver
	var secret string
	told := hook.listen(t, func() string { return secret })
	s := startWith(t, []string{"--smtp", server.Address, "--smtp-protection", "off", "--smtp-from", "wraith@gannet.example", "--mail-every", "1s", "--address", "https://wraith.gannet.example/", "--webhooks-to", "127.0.0.1"}, ines, tomas, odile)
	for _, p := range []person{ines, tomas, odile} {
		p.signIn(t, s.url)
		p.fine(t, "notices", "mail", strings.ToLower(p.name)+"@gannet.example")
	}
	ines.fine(t, "case", "open", "shallow-berth", "--title", "Halcyon Drift <b>was</b> given a berth too shallow")
	ines.fine(t, "case", "open", "elsewhere")
	ines.fine(t, "case", "add", "shallow-berth", "Tomas", "--role", "member")
	require.Eventually(t, func() bool { return len(mailsTo(t, server, "tomas@gannet.example")) == 1 }, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, mailsTo(t, server, "tomas@gannet.example")[0], "Ines added you to the case")

	server.Refuse(func() error { return &smtp.SMTPError{Code: 451, Message: "later"} })
	ines.fine(t, "comment", "add", "shallow-berth", "@Tomas look at <img src=x onerror=alert(1)> **Halcyon Drift**")
	ines.fine(t, "comment", "add", "shallow-berth", "nothing for anybody, and @Odile is no member")
	time.Sleep(3 * time.Second) // the first attempt fails
	server.Refuse(nil)
	require.Eventually(t, func() bool { return len(mailsTo(t, server, "tomas@gannet.example")) == 2 }, 40*time.Second, 50*time.Millisecond)
	m := server.Mails()[len(server.Mails())-1]
	text, html := parts(t, m)
	assert.Contains(t, text, "Ines mentions you: @Tomas look at <img src=x")
	assert.Contains(t, text, "https://wraith.gannet.example/cases/shallow-berth/-/notes#comment-1")
	assert.Contains(t, html, "<strong>Halcyon Drift</strong>")
	assert.NotContains(t, html, "<img")

	added := parsed[api.Hook](t, ines.fine(t, "--json", "webhook", "add", "shallow-berth", told.URL+"/told/sesame"))
	secret = added.Secret
	require.NotEmpty(t, secret)
	r := ines.wraith(t, "", "webhook", "try", "shallow-berth", "1")
	assert.Contains(t, r.err, "503: the tide is out")
	ines.fine(t, "webhook", "try", "shallow-berth", "1")
	assert.NotContains(t, tomas.fine(t, "webhook", "shallow-berth"), "sesame", "only the lead sees the whole address")
	ines.fine(t, "evidence", "add", "shallow-berth", passingRun(t), "--name", "passing-run")
	ines.fine(t, "checkpoint", "set", "shallow-berth", "--enter", "Harbour.Assign")
	ines.fine(t, "checkpoint", "set", "shallow-berth", "--enter", "Book.At", "--when", "false")
	ines.fine(t, "expect", "add", "shallow-berth", "--return", "Book.At", "--when", "result 2 == null", "--that", once, "--note", "a notice is taken once")
	ines.fine(t, "evidence", "add", "shallow-berth", failingRun(t), "--name", "failing-run")
	for _, address := range []string{"tomas@gannet.example", "ines@gannet.example"} {
		require.Eventually(t, func() bool {
			all := strings.Join(mailsTo(t, server, address), "\n")
			return strings.Contains(all, "(*Harbour).Assign hits in failing-run") && strings.Contains(all, "an expectation breaks in failing-run")
		}, 40*time.Second, 100*time.Millisecond, address)
	}
	all := strings.Join(mailsTo(t, server, "tomas@gannet.example"), "\n")
	for _, want := range []string{"added by Ines", "berthing/berth.(*Harbour).Assign  berth/berth.go:", "h  *berth.Harbour =", "a notice is taken once", "https://wraith.gannet.example/cases/shallow-berth/failing-run?moment="} {
		assert.Contains(t, all, want)
	}
	assert.NotContains(t, all, "when false")
	assert.NotContains(t, all, "hits in passing-run", "the checkpoint was set later")
	require.Eventually(t, func() bool { return len(hook.notices()) >= 3 }, 40*time.Second, 100*time.Millisecond)
	for _, n := range hook.notices() {
		if n.Kind == api.NoticeCheckpoint {
			require.Len(t, n.Answers, 2)
			assert.Equal(t, "failing-run", n.Evidence)
			assert.NotNil(t, n.Place)
		}
	}
	hook.mu.Lock()
	keys := map[string]int{}
	for _, h := range hook.attempts {
		keys[h.Get("webhook-id")]++
	}
	hook.mu.Unlock()
	assert.Contains(t, slices.Collect(maps.Values(keys)), 2, "the request that was not taken has the key of the one that was")

	// The same failure again, in this case and in another one of Ines's.
	text = filepath.Join(t.TempDir(), "crash.txt")
	require.NoError(t, os.WriteFile(text, []byte(crashText), 0o600))
	for _, name := range []string{"crash-1", "crash-2"} {
		ines.fine(t, "evidence", "add", "shallow-berth", text, "--name", name)
	}
	ines.fine(t, "evidence", "add", "elsewhere", text, "--name", "crash-3")
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(mailsTo(t, server, "ines@gannet.example"), "\n"), "a known failure again in crash-3")
	}, 40*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(mailsTo(t, server, "tomas@gannet.example"), "\n"), "a known failure again in crash-2")
	}, 40*time.Second, 100*time.Millisecond)
	all = strings.Join(mailsTo(t, server, "tomas@gannet.example"), "\n")
	assert.NotContains(t, all, "crash-3", "Tomas is no member of the other case")
	assert.NotContains(t, all, "\x1b")
	assert.Empty(t, mailsTo(t, server, "odile@gannet.example"))

	// A hand-over note, to one who has switched mails off, and to one who has not.
	ines.fine(t, "case", "add", "shallow-berth", "Odile", "--role", "viewer")
	tomas.fine(t, "notices", "off", "shallow-berth")
	before := len(mailsTo(t, server, "tomas@gannet.example"))
	note := filepath.Join(t.TempDir(), "note.md")
	require.NoError(t, os.WriteFile(note, []byte("## Known\n\nThe height is added twice.\n"), 0o600))
	ines.fine(t, "handover", "send", "shallow-berth", note)
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(mailsTo(t, server, "odile@gannet.example"), "\n"), "The height is added twice")
	}, 40*time.Second, 100*time.Millisecond)
	assert.Len(t, mailsTo(t, server, "tomas@gannet.example"), before)
	assert.Contains(t, tomas.fine(t, "notices", "shallow-berth"), "Ines hands the case over")
	assert.Equal(t, 2, ines.wraith(t, "", "handover", "send", "shallow-berth", note, "--to", "Nobody").code)

	ids := map[string]bool{}
	for _, m := range server.Mails() {
		id := m.Header.Get("Message-ID")
		assert.False(t, ids[id], "%s came twice", id)
		ids[id] = true
		assert.NotEqual(t, "nobody", m.To[0])
	}
	list := parsed[api.Notices](t, ines.fine(t, "--json", "notices", "shallow-berth")).List
	seen := map[string]bool{}
	for _, n := range list {
		assert.False(t, seen[n.Kind+n.Subject], n.Subject)
		seen[n.Kind+n.Subject] = true
	}
	shown := ines.fine(t, "notices", "show", "shallow-berth", strconv.FormatInt(list[len(list)-1].ID, 10))
	assert.Contains(t, shown, "a known failure again in crash-2")
	assert.Contains(t, shown, "main.(*Harbour).Assign  /srv/berthing/harbour.go:41")
}

// Webhooks to private addresses are refused, at once if they are written as numbers, otherwise when they are connected to.
func TestWebhooksStayOutside(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	reached := false
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	defer inside.Close()
	s := start(t, ines, tomas)
	ines.signIn(t, s.url)
	tomas.signIn(t, s.url)
	ines.fine(t, "case", "open", "shallow-berth")
	ines.fine(t, "case", "add", "shallow-berth", "Tomas", "--role", "member")
	r := ines.wraith(t, "", "webhook", "add", "shallow-berth", inside.URL)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.err, "private addresses are refused")
	ines.fine(t, "webhook", "add", "shallow-berth", strings.Replace(inside.URL, "127.0.0.1", "localhost", 1), "--kind", "failure")
	r = ines.wraith(t, "", "webhook", "try", "shallow-berth", "1")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "private addresses are refused")
	assert.False(t, reached)
	assert.Equal(t, 1, tomas.wraith(t, "", "webhook", "add", "shallow-berth", "https://gannet.example/").code, "only the lead adds one")
	assert.Equal(t, 1, tomas.wraith(t, "", "webhook", "delete", "shallow-berth", "1").code)
	assert.Equal(t, 2, ines.wraith(t, "", "webhook", "add", "shallow-berth", "https://gannet.example/", "--kind", "mention").code)

	p := newPage(t, browser(t), s, ines, "/cases/shallow-berth/-/notices")
	p.sees(text("table"), "http://localhost")
	p.do(chromedp.Click(`[aria-label="Try it: webhook 1"]`))
	p.sees(text("table"), "private addresses are refused")
	p.do(chromedp.SendKeys(`[aria-label="address of a webhook"]`, "https://gannet.example/told\r"))
	p.sees(text(".made"), "whsec_")
	p.do(chromedp.Click(`[aria-label="Delete webhook 2"]`))
	p.sees(text("table")+".includes('gannet.example')", "false")
	p.do(chromedp.SendKeys(`[aria-label="my mail address"]`, "ines at the quay\r"))
	p.sees(text("[role=alert]"), "invalid mail address")
	p.accessible("notices")

	ines.fine(t, "webhook", "delete", "shallow-berth", "1")
	for _, address := range []string{"ines", "ines@gannet.example\r\nBcc: x@y.example", "Ines <ines@gannet.example>"} {
		assert.Equal(t, 2, ines.wraith(t, "", "notices", "mail", address).code, address)
	}
	assert.Contains(t, ines.fine(t, "notices", "shallow-berth"), "the service sends no mail")
}
