package notices

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/e2e/clustertest"
	"wraithology/e2e/mailtest"
	"wraithology/service/hooks"
	"wraithology/service/mail"
	"wraithology/service/store"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// Whatever fails and whoever gathers at the same time, every notice comes to every receiver in one delivery, of which each attempt has the
// same key; who has left the case, has no address or has switched mails off is sent nothing.
func TestEachNoticeOnce(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, err := store.Open(ctx, clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	server := mailtest.Start(t, mailtest.Options{})
	random := rand.New(rand.NewPCG(7, 7))
	var mu sync.Mutex
	server.Refuse(func() error { // called under the server's own lock
		if random.IntN(3) == 0 {
			return &smtp.SMTPError{Code: 451, Message: "later"}
		}
		return nil
	})
	requests := map[string]int{} // attempts by key
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if requests[r.Header.Get("webhook-id")]++; requests[r.Header.Get("webhook-id")] == 1 {
			w.WriteHeader(http.StatusBadGateway)
		}
	}))
	t.Cleanup(receiver.Close)
	sender, err := mail.New(mail.Options{Server: server.Address, From: "wraith@gannet.example", Protection: mail.Open})
	require.NoError(t, err)
	b := New(s, Options{Mail: sender, Hooks: hooks.New([]netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}), Address: "http://wraith.gannet.example", Every: time.Millisecond})

	var people []store.Person
	for _, name := range []string{"Ines", "Tomas", "Odile", "Per"} {
		p := store.Person{Name: name}
		require.NoError(t, s.AddPerson(ctx, &p))
		people = append(people, p)
		if name != "Odile" {
			require.NoError(t, s.SetMail(ctx, p.ID, strings.ToLower(name)+"@gannet.example"))
		}
	}
	c := store.Case{Name: "fog"}
	require.NoError(t, s.AddCase(ctx, &c, people[0].ID))
	for _, p := range people[1:] {
		require.NoError(t, s.SetMember(ctx, store.Member{CaseID: c.ID, PersonID: p.ID, Role: "member"}))
	}
	require.NoError(t, s.MailMember(ctx, c.ID, people[3].ID, false))
	require.NoError(t, s.AddHook(ctx, &store.Hook{CaseID: c.ID, PersonID: people[0].ID, URL: receiver.URL, Secret: hooks.NewSecret(), Kinds: []string{api.NoticeFailure}}))
	var everybody []int64
	for _, p := range people {
		everybody = append(everybody, p.ID)
	}

	const n = 60
	var wait sync.WaitGroup
	deliveries := make(chan int64, 10*n)
	gather := func() {
		ids, err := b.Gather(ctx)
		assert.NoError(t, err)
		for _, id := range ids {
			deliveries <- id
		}
	}
	for range 2 {
		wait.Go(func() {
			for range n {
				gather()
				time.Sleep(time.Millisecond)
			}
		})
	}
	wait.Go(func() {
		for i := range int64(n) {
			for range 2 { // the second is the same
				assert.NoError(t, b.post(ctx, store.Notice{CaseID: c.ID, Kind: api.NoticeFailure, About: i, Subject: fmt.Sprintf("notice no. %d.", i)}, everybody, true))
			}
		}
	})
	wait.Wait()
	require.Eventually(t, func() bool {
		gather()
		list, err := s.PendingNotices(ctx)
		return err == nil && len(list) == 0
	}, 10*time.Second, 10*time.Millisecond)
	close(deliveries)
	made := map[int64]bool{}
	for id := range deliveries {
		assert.False(t, made[id], "one delivery is made once")
		made[id] = true
	}
	unsent, err := s.UnsentDeliveries(ctx)
	require.NoError(t, err)
	assert.Len(t, unsent, len(made))
	for range 50 { // as the queue does
		for _, id := range unsent {
			_ = b.Deliver(ctx, id, false)
		}
		if unsent, err = s.UnsentDeliveries(ctx); len(unsent) == 0 {
			break
		}
		require.NoError(t, err)
	}
	require.Empty(t, unsent)

	got, ids := map[string]int{}, map[string]bool{}
	for _, m := range server.Mails() {
		assert.False(t, ids[m.Header.Get("Message-ID")])
		ids[m.Header.Get("Message-ID")] = true
		text := strings.ReplaceAll(m.Text, "=\r\n", "")
		plain, _, _ := strings.Cut(text, "text/html")
		for i := range n {
			got[m.To[0]] += strings.Count(plain, fmt.Sprintf("notice no. %d.", i))
		}
	}
	assert.Equal(t, map[string]int{"ines@gannet.example": n, "tomas@gannet.example": n}, got)
	for key, attempts := range requests {
		assert.Equal(t, 2, attempts, key)
	}
	assert.NotEmpty(t, requests)
	list, err := s.NoticesOf(ctx, c.ID, people[2].ID, store.Page{Most: 1000})
	require.NoError(t, err)
	assert.Len(t, list, n, "who is not mailed reads them here")
}

// A delivery that will never be taken is given up, and one that may be is not.
func TestGivenUp(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, err := store.Open(ctx, clustertest.Database(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	server := mailtest.Start(t, mailtest.Options{})
	sender, err := mail.New(mail.Options{Server: server.Address, From: "wraith@gannet.example", Protection: mail.Open})
	require.NoError(t, err)
	status := http.StatusGone
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }))
	t.Cleanup(receiver.Close)
	b := New(s, Options{Mail: sender, Hooks: hooks.New([]netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}), Every: time.Nanosecond})
	p := store.Person{Name: "Ines"}
	require.NoError(t, s.AddPerson(ctx, &p))
	require.NoError(t, s.SetMail(ctx, p.ID, "ines@gannet.example"))
	c := store.Case{Name: "fog"}
	require.NoError(t, s.AddCase(ctx, &c, p.ID))
	about := int64(0)
	delivery := func(to []int64, withHooks bool) int64 {
		about++
		require.NoError(t, b.post(ctx, store.Notice{CaseID: c.ID, Kind: api.NoticeFailure, About: about, Subject: "fog"}, to, withHooks))
		ids, err := b.Gather(ctx)
		require.NoError(t, err)
		require.Len(t, ids, 1)
		return ids[0]
	}
	state := func(id int64) (isGivenUp bool, trouble string) {
		d, _, err := s.DeliveryByID(ctx, id)
		require.NoError(t, err)
		return d.GivenUpAt != nil, d.Trouble
	}
	for code, isFinal := range map[int]bool{451: false, 550: true} {
		server.Refuse(func() error { return &smtp.SMTPError{Code: code, Message: "no such berth"} })
		id := delivery([]int64{p.ID}, false)
		err := b.Deliver(ctx, id, false)
		assert.Equal(t, isFinal, err == nil, "the queue does not try a final one again")
		isGivenUp, trouble := state(id)
		assert.Equal(t, isFinal, isGivenUp)
		assert.Contains(t, trouble, "no such berth")
		if !isFinal {
			require.NoError(t, b.Deliver(ctx, id, true))
			isGivenUp, _ = state(id)
			assert.True(t, isGivenUp, "it was the last attempt")
		}
	}
	ended, cancel := context.WithCancel(ctx)
	cancel()
	id := delivery([]int64{p.ID}, false)
	assert.True(t, errors.Is(b.Deliver(ended, id, true), context.Canceled), "the end of the service gives nothing up")
	isGivenUp, _ := state(id)
	assert.False(t, isGivenUp)

	h := store.Hook{CaseID: c.ID, PersonID: p.ID, URL: receiver.URL, Secret: hooks.NewSecret()}
	require.NoError(t, s.AddHook(ctx, &h))
	id = delivery(nil, true)
	require.NoError(t, b.Deliver(ctx, id, false))
	isGivenUp, _ = state(id)
	assert.True(t, isGivenUp)
	h, err = s.HookByID(ctx, c.ID, h.ID)
	require.NoError(t, err)
	assert.Contains(t, h.Ended, "410")
	about++
	require.NoError(t, b.post(ctx, store.Notice{CaseID: c.ID, Kind: api.NoticeFailure, About: about, Subject: "fog"}, nil, true))
	ids, err := b.Gather(ctx)
	require.NoError(t, err)
	assert.Empty(t, ids, "nothing is sent to it any more")
}
