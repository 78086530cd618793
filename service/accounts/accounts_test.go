package accounts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
	"wraithology/e2e/clustertest"
	"wraithology/service/front"
	"wraithology/service/store"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

func open(t *testing.T) *Accounts {
	s, err := store.Open(context.Background(), clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return New(s, front.Front{})
}

// Names are short and of letters, digits, dots and hyphens; passwords have 8 characters, not
// bytes.
func TestAddChecksNameAndPassword(t *testing.T) {
	t.Parallel()
	a, ctx := open(t), t.Context()
	for _, name := range []string{"a", "Ines.Maar-2", strings.Repeat("n", 64)} {
		require.NoError(t, a.Add(ctx, name, "12345678", false), name)
	}
	for _, name := range []string{"", "two words", "Zoë", "a/b", "a_b", "nul\x00", strings.Repeat("n", 65)} {
		require.ErrorIs(t, a.Add(ctx, name, "12345678", false), fault.InvalidName, "%q", name)
	}
	for password, ok := range map[string]bool{"1234567": false, "12345678": true, "äöüßäöü": false, "äöüßäöüß": true, "": false, strings.Repeat("long", 100): true} {
		err := a.Add(ctx, fmt.Sprint("Tomas", len(password)), password, false)
		if ok {
			require.NoError(t, err, password)
		} else {
			require.ErrorIs(t, err, fault.WeakPassword, password)
		}
	}
}

func TestCheck(t *testing.T) {
	t.Parallel()
	a, ctx := open(t), t.Context()
	require.NoError(t, a.Add(ctx, "Ines", "heavy swell", true))
	require.NoError(t, a.Add(ctx, "Tomas", "light fog", false))
	p, err := a.Check(ctx, "Ines", "heavy swell", "127.0.0.1")
	require.NoError(t, err)
	assert.Equal(t, "Ines", p.Name)
	assert.True(t, p.Admin)
	assert.NotContains(t, p.PasswordHash, "swell")
	for name, password := range map[string]string{"Ines": "light fog", "Tomas": "light fo", "Wren": "heavy swell", "ines": "heavy swell", "": ""} {
		p, err := a.Check(ctx, name, password, "127.0.0.1")
		require.ErrorIs(t, err, fault.WrongPassword, name)
		assert.Zero(t, p)
	}
	// A new password takes the place of the old one; adding a person does not.
	require.ErrorIs(t, a.Add(ctx, "Ines", "calm water", false), fault.Exists)
	require.ErrorIs(t, a.SetPassword(ctx, p.ID, "calm"), fault.WeakPassword)
	require.NoError(t, a.SetPassword(ctx, p.ID, "calm water"))
	_, err = a.Check(ctx, "Ines", "heavy swell", "127.0.0.1")
	require.ErrorIs(t, err, fault.WrongPassword)
	p, err = a.Check(ctx, "Ines", "calm water", "127.0.0.1")
	require.NoError(t, err)
	require.NoError(t, a.store.Grant(ctx, p.ID, true))
	tomas, err := a.Check(ctx, "Tomas", "light fog", "127.0.0.1")
	require.NoError(t, err)
	require.NoError(t, a.store.Disable(ctx, tomas.ID, true))
	_, err = a.Check(ctx, "Tomas", "light fog", "127.0.0.1")
	require.ErrorIs(t, err, fault.Disabled)
	_, err = a.Check(ctx, "Tomas", "light fo", "127.0.0.1")
	require.ErrorIs(t, err, fault.WrongPassword, "who does not know the password does not learn it")
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = a.Check(gone, "Ines", "calm water", "127.0.0.1")
	require.ErrorIs(t, err, context.Canceled)
}

// A site has the pages that a browser and a program use: it signs in, says who it sees, and
// signs out.
func site(t *testing.T, a *Accounts) string {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /in", func(w http.ResponseWriter, r *http.Request) {
		p, err := a.Check(r.Context(), r.FormValue("name"), r.FormValue("password"), Address(r.Context()))
		if err == nil {
			err = a.SignIn(r.Context(), p)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnauthorized)
		}
	})
	mux.HandleFunc("POST /out", func(w http.ResponseWriter, r *http.Request) { assert.NoError(t, a.SignOut(r.Context())) })
	mux.HandleFunc("GET /who", func(w http.ResponseWriter, r *http.Request) {
		p, ok := Who(r.Context())
		assert.Equal(t, ok, p.ID != 0)
		_, _ = io.WriteString(w, p.Name)
	})
	failed := func(w http.ResponseWriter, _ *http.Request, err error) {
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
	}
	server := httptest.NewServer(a.Middleware(failed)(mux))
	t.Cleanup(server.Close)
	return server.URL
}

func do(t *testing.T, c *http.Client, method, url, form, token string) (int, string) {
	r, err := http.NewRequest(method, url, strings.NewReader(form))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if token != "" {
		r.Header.Set("Authorization", token)
	}
	response, err := c.Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	for _, cookie := range response.Cookies() {
		assert.True(t, cookie.HttpOnly, "scripts may not read the session")
		assert.Equal(t, http.SameSiteLaxMode, cookie.SameSite)
	}
	return response.StatusCode, string(body)
}

// Browsers are known by their session and programs by their token.
func TestSessionsAndTokens(t *testing.T) {
	t.Parallel()
	a, ctx := open(t), t.Context()
	require.NoError(t, a.Add(ctx, "Ines", "heavy swell", false))
	require.NoError(t, a.Add(ctx, "Tomas", "light fog", false))
	url := site(t, a)
	browser := func() *http.Client {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		return &http.Client{Jar: jar}
	}
	who := func(c *http.Client, token string) string {
		_, body := do(t, c, "GET", url+"/who", "", token)
		return body
	}
	first, second := browser(), browser()
	assert.Empty(t, who(first, ""))
	status, _ := do(t, first, "POST", url+"/in", "name=Ines&password=light+fog", "")
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Empty(t, who(first, ""))
	status, _ = do(t, first, "POST", url+"/in", "name=Ines&password=heavy+swell", "")
	assert.Equal(t, http.StatusOK, status)
	status, _ = do(t, second, "POST", url+"/in", "name=Tomas&password=light+fog", "")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "Ines", who(first, ""))
	assert.Equal(t, "Tomas", who(second, ""))
	do(t, first, "POST", url+"/out", "", "")
	assert.Empty(t, who(first, ""))
	assert.Equal(t, "Tomas", who(second, ""))

	ines, err := a.store.PersonByName(ctx, "Ines")
	require.NoError(t, err)
	one, err := a.NewToken(ctx, &store.Token{PersonID: ines.ID, Label: "laptop", Scope: store.ScopeWrite})
	require.NoError(t, err)
	other, err := a.NewToken(ctx, &store.Token{PersonID: ines.ID, Label: "laptop", Scope: store.ScopeWrite})
	require.NoError(t, err)
	assert.NotEqual(t, one, other)
	assert.Equal(t, "Ines", who(browser(), "Bearer "+one))
	assert.Equal(t, "Ines", who(second, "Bearer "+other), "a token goes before the session")
	for _, wrong := range []string{one, "Bearer " + one + "x", "bearer", "Bearer ", "Basic " + one} {
		assert.Empty(t, who(browser(), wrong), wrong)
	}

	// A sender's token is another kind: it signs nobody in.
	c := store.Case{Name: "fog"}
	require.NoError(t, a.store.AddCase(ctx, &c, ines.ID))
	sender, secret := NewSender(c.ID, ines.ID, "pilotd")
	require.NoError(t, a.store.AddSender(ctx, &sender))
	assert.Equal(t, c.ID, sender.CaseID)
	assert.Equal(t, "pilotd", sender.Label)
	assert.NotContains(t, string(sender.SecretHash), secret)
	assert.Empty(t, who(browser(), "Bearer "+secret))
}

// If the database does not answer, a person is not treated as a stranger.
func TestDatabaseDown(t *testing.T) {
	t.Parallel()
	a, ctx := open(t), t.Context()
	require.NoError(t, a.Add(ctx, "Ines", "heavy swell", false))
	url := site(t, a)
	a.store.Close()
	status, _ := do(t, http.DefaultClient, "GET", url+"/who", "", "Bearer wraith-x")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	_, err := a.Check(ctx, "Ines", "heavy swell", "127.0.0.1")
	require.Error(t, err)
	assert.False(t, errors.Is(err, fault.WrongPassword))
}

// After some wrong passwords for a name every attempt is slow, also the right one, by less than two seconds; whoever guesses gets few attempts, and
// others are not slowed down.
func TestGuessing(t *testing.T) {
	t.Parallel()
	a, ctx := open(t), t.Context()
	require.NoError(t, a.Add(ctx, "Ines", "heavy swell", false))
	require.NoError(t, a.Add(ctx, "Tomas", "light fog", false))
	for range freeAttempts {
		_, err := a.Check(ctx, "Ines", "guess", "198.51.100.7")
		require.ErrorIs(t, err, fault.WrongPassword)
	}
	var refused, wrong atomic.Int64
	var all sync.WaitGroup
	for range 30 {
		all.Go(func() {
			_, err := a.Check(ctx, "Ines", "guess", "198.51.100.7")
			switch {
			case errors.Is(err, fault.TooMany):
				refused.Add(1)
			case errors.Is(err, fault.WrongPassword):
				wrong.Add(1)
			}
		})
	}
	time.Sleep(100 * time.Millisecond)
	begun := time.Now()
	_, err := a.Check(ctx, "Ines", "heavy swell", "192.0.2.1")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, time.Since(begun), attemptWait)
	all.Wait()
	assert.EqualValues(t, attemptsAtOnce, wrong.Load())
	assert.EqualValues(t, 30-attemptsAtOnce, refused.Load())
	begun = time.Now()
	_, err = a.Check(ctx, "Tomas", "light fog", "198.51.100.7")
	require.NoError(t, err)
	assert.Less(t, time.Since(begun), attemptWait)
	assert.Empty(t, a.throttle.waiting)

	// What is counted is bounded.
	for i := range mostNames + 10 {
		a.throttle.mu.Lock()
		a.throttle.count(fmt.Sprint("name", i))
		a.throttle.mu.Unlock()
	}
	assert.LessOrEqual(t, len(a.throttle.names), mostNames)
	assert.Contains(t, a.throttle.names, "Ines", "the ones with most wrong passwords stay")
}
