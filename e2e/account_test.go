package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
)

// Accounts are managed beside a running service; people manage their own passwords, tokens and sessions.
func TestAccounts(t *testing.T) {
	t.Parallel()
	s := &service{data: dataFolder(t)}
	s.run(t)
	t.Cleanup(func() { s.stop(t, syscall.SIGTERM) })
	manage := func(in string, args ...string) (string, error) {
		c := exec.Command(filepath.Join(work, "wraithd"), append(append([]string{"person"}, args...), "--data", s.data)...)
		c.Stdin = strings.NewReader(in)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	done := func(in string, args ...string) string {
		out, err := manage(in, args...)
		require.NoError(t, err, out)
		return out
	}
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	done(ines.password+"\n", "add", "Ines")
	done(tomas.password+"\n", "add", "Tomas")
	assert.Equal(t, "Ines, administrator\nTomas\n", done("", "list"), "the first one is an administrator")
	out, err := manage("another-password\n", "add", "Ines")
	require.Error(t, err, "it is no way to change an account")
	assert.Contains(t, out, "exists already")
	ines.signIn(t, s.url)
	tomas.signIn(t, s.url)

	// A token for reading reads; one for adding evidence adds it; a revoked one does nothing.
	ines.fine(t, "case", "open", "fog")
	page := newPage(t, browser(t), s, ines, "/cases")
	page.sees(text("main"), "fog")
	token := func(scope string, more ...string) (api.Token, person) {
		r := ines.wraith(t, ines.password+"\n", append([]string{"--json", "account", "token", "night of " + scope, "--scope", scope}, more...)...)
		require.Zero(t, r.code, r.err)
		made := parsed[api.Token](t, r.out)
		holder := somebody(t, "Ines")
		text, err := json.Marshal(map[string]string{"url": s.url, "token": made.Secret, "name": "Ines"})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(holder.config, text, 0o600))
		return made, holder
	}
	readToken, reader := token("read")
	_, ingester := token("ingest", "--days", "30")
	assert.Contains(t, reader.fine(t, "case"), "fog")
	r := reader.wraith(t, "", "case", "open", "swell")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "the token is for reading")
	crash := "panic: fog\n\ngoroutine 1 [running]:\nmain.assign(0x1)\n\t/src/berth.go:12 +0x1d\n"
	r = ingester.wraith(t, crash, "evidence", "add", "fog", "-", "--name", "crash")
	require.Zero(t, r.code, r.err)
	r = ingester.wraith(t, "", "case")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "the token is for adding evidence")
	assert.Contains(t, reader.fine(t, "stack", "fog/crash"), "main.assign")
	shown := ines.fine(t, "account")
	assert.Contains(t, shown, "night of ingest")
	assert.NotContains(t, shown, readToken.Secret)
	ines.fine(t, "account", "revoke", strconv.FormatInt(readToken.ID, 10))
	r = reader.wraith(t, "", "case")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "not signed in")

	// A new password signs browsers out; the old one does not work any more.
	r = ines.wraith(t, "wrong-password\nsteady-swell-9\n", "account", "password")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "wrong name or password")
	r = ines.wraith(t, ines.password+"\nsteady-swell-9\n", "account", "password")
	require.Zero(t, r.code, r.err)
	page.do(chromedp.Navigate(s.url+"/cases"), chromedp.WaitVisible("#sign-in"))
	assert.NotZero(t, ines.wraith(t, ines.password+"\n", "sign-in", s.url, "--name", "Ines").code)
	done("calm-water-77\n", "set-password", "Ines")
	ines.password = "calm-water-77"
	ines.signIn(t, s.url)

	// Who is disabled is out at once, and comes back; who is removed leaves the name free, and records.
	ines.fine(t, "case", "add", "fog", "Tomas")
	assert.Contains(t, tomas.fine(t, "case", "members", "fog"), "Ines")
	done("", "disable", "Tomas")
	assert.NotZero(t, tomas.wraith(t, "", "case").code)
	r = tomas.wraith(t, tomas.password+"\n", "sign-in", s.url, "--name", "Tomas")
	assert.Contains(t, r.err, "the account is disabled")
	done("", "enable", "Tomas")
	assert.Contains(t, tomas.fine(t, "case"), "fog")
	r = ines.wraith(t, "", "case", "remove", "fog", "Ines")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "nobody would lead case fog")
	out, err = manage("", "remove", "Ines")
	require.Error(t, err)
	assert.Contains(t, out, "nobody else leads case fog")
	ines.fine(t, "case", "remove", "fog", "Tomas")
	assert.NotContains(t, tomas.fine(t, "case"), "fog")
	out, err = manage("", "disable", "Ines")
	require.Error(t, err)
	assert.Contains(t, out, "nobody would be administrator")
	done("", "grant", "Tomas")
	done("", "grant", "Ines", "--revoke")
	assert.Equal(t, "Ines\nTomas, administrator\n", done("", "list"))
	done("", "remove", "Ines")
	assert.NotZero(t, ines.wraith(t, "", "case").code)
	done(ines.password+"\n", "add", "Ines")
	ines.signIn(t, s.url)
	assert.NotContains(t, ines.fine(t, "case"), "fog", "another person of the same name")
}
