package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/e2e/mailtest"
)

// done are the deeds of a kind that the service has acknowledged, by their numbers.
type done struct {
	mu   sync.Mutex
	list map[string]map[int]bool
	next int
}

// do does something with a new number, and notes it if it was acknowledged. Errors are those of a service that is killed.
func (d *done) do(t *testing.T, kind string, deed func(n int) error) {
	d.mu.Lock()
	d.next++
	n := d.next
	d.mu.Unlock()
	err := deed(n)
	if err == nil {
		d.mu.Lock()
		d.list[kind][n] = true
		d.mu.Unlock()
		return
	}
	if errors.Is(err, context.Canceled) {
		return // it is over
	}
	var problem *url.Error
	if !errors.As(err, &problem) && !errors.Is(err, fault.Unavailable) && !strings.Contains(err.Error(), "EOF") {
		assert.NoError(t, err, kind)
	}
	time.Sleep(20 * time.Millisecond)
}

// sendLine sends a line of a log to the service, as programs do.
func sendLine(ctx context.Context, address, secret string, n int) error {
	body := fmt.Sprintf(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"timeUnixNano":"%d","body":{"stringValue":"line no. %d."}}]}]}]}`, 1772344800000000000+int64(n), n)
	request, err := http.NewRequestWithContext(ctx, "POST", address+"/v1/logs", strings.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+secret)
	request.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%w: %s", fault.Unavailable, answer.Status)
	}
	return nil
}

// receivedLines waits until the lines that were received are evidence, and counts them.
func receivedLines(t *testing.T, c *client.Client, least int, count func(string)) {
	var all bytes.Buffer
	line := regexp.MustCompile(`line no\. (\d+)\.`)
	require.Eventually(t, func() bool {
		all.Reset()
		list, err := c.ListEvidence(context.Background(), "fog")
		require.NoError(t, err)
		for _, e := range list {
			if strings.HasPrefix(e.Name, "received-") {
				require.NoError(t, c.Download(context.Background(), "fog", e.Name, &all))
			}
		}
		return len(line.FindAllString(all.String(), -1)) >= least
	}, time.Minute, time.Second)
	for _, found := range line.FindAllStringSubmatch(all.String(), -1) {
		count(found[1])
	}
}

// recorded checks the record of who did what: each deed that was acknowledged is in it once, and it is whole.
func recorded(t *testing.T, c *client.Client, d *done, s *service) {
	entries := map[string]int{}
	for before := int64(0); ; {
		list, err := c.Custody(context.Background(), "fog", before, false, "")
		require.NoError(t, err)
		for _, x := range list {
			what, _, _ := strings.Cut(x.What, ", ")
			entries[what]++
			before = x.Number
		}
		if len(list) < api.CustodyOfPage {
			break
		}
	}
	for kind, form := range map[string]string{"evidence": "uploaded crash-%d", "deletion": "deleted the evidence gone-%d"} {
		for n := range d.list[kind] {
			assert.Equal(t, 1, entries[fmt.Sprintf(form, n)], form, n)
		}
	}
	out, err := exec.Command(filepath.Join(work, "wraithd"), "custody", "verify", "--data", s.data, "--database", s.database).CombinedOutput()
	assert.NoError(t, err, string(out))
}

// Two people comment, keep exhibits, move, talk and add evidence while the service is killed again and again: what was acknowledged is there once, and
// every mail comes at least once, always with the same Message-ID. WRAITH_KILLS is the number of kills.
func TestKilledWhilePeopleWork(t *testing.T) {
	t.Parallel()
	kills, err := strconv.Atoi(os.Getenv("WRAITH_KILLS"))
	if err != nil {
		kills = 3
	}
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	server := mailtest.Start(t, mailtest.Options{})
	s := startWith(t, []string{"--smtp", server.Address, "--smtp-protection", "off", "--smtp-from", "wraith@gannet.example", "--mail-every", "1s"}, ines, tomas)
	s.listen = strings.TrimPrefix(s.url, "http://")
	ctx := context.Background()
	c, theirs := s.signedIn(t, ines), s.signedIn(t, tomas)
	_, err = theirs.SetMail(ctx, "tomas@gannet.example")
	require.NoError(t, err)
	_, err = c.NewCase(ctx, api.NewCase{Name: "fog"})
	require.NoError(t, err)
	require.NoError(t, c.SetMember(ctx, "fog", api.Member{Name: "Tomas", Role: api.RoleMember}))
	log, err := os.Open(passingRun(t))
	require.NoError(t, err)
	defer log.Close()
	_, err = c.Upload(ctx, "fog", "run", log, api.Reading{})
	require.NoError(t, err)
	_, err = c.Await(ctx, "fog", "run", nil)
	require.NoError(t, err)
	sitting, err := c.JoinSitting(ctx, "fog", "run", api.ModeLead)
	require.NoError(t, err)

	sender, err := c.NewSender(ctx, "fog", "pilotd")
	require.NoError(t, err)
	d := &done{list: map[string]map[int]bool{"comment": {}, "exhibit": {}, "move": {}, "word": {}, "evidence": {}, "line": {}, "deletion": {}}}
	working, rest := context.WithCancel(ctx)
	var wait sync.WaitGroup
	for kind, deed := range map[string]func(*client.Client, int) error{
		"comment": func(c *client.Client, n int) error {
			_, err := c.Say(working, "fog", api.NewComment{Text: fmt.Sprintf("@Tomas, deed no. %d.", n)})
			return err
		},
		"exhibit": func(c *client.Client, n int) error {
			_, err := c.Keep(working, "fog", api.NewExhibit{Evidence: "run", Question: "stack", Note: fmt.Sprint(n)})
			return err
		},
		"move": func(c *client.Client, n int) error {
			if _, err := c.JoinSitting(working, "fog", "run", api.ModeLead); err != nil {
				return err
			}
			_, err := c.ChangeSitting(working, sitting.ID, api.SittingChange{Place: &api.Place{Moment: event.Moment(n), Thread: 1}})
			return err
		},
		"word": func(c *client.Client, n int) error {
			return c.SayInSitting(working, sitting.ID, fmt.Sprint(n))
		},
		"evidence": func(c *client.Client, n int) error {
			time.Sleep(100 * time.Millisecond)
			_, err := c.Upload(working, "fog", fmt.Sprintf("crash-%d", n), strings.NewReader(crashText), api.Reading{})
			return err
		},
		"line": func(_ *client.Client, n int) error { return sendLine(working, s.url, sender.Secret, n) },
		"deletion": func(c *client.Client, n int) error {
			time.Sleep(50 * time.Millisecond)
			name := fmt.Sprintf("gone-%d", n)
			if _, err := c.Upload(working, "fog", name, strings.NewReader(fmt.Sprintf("panic: gone %d\n\ngoroutine 1 [running]:\nmain.gone(0x1)\n\t/src/gone.go:12 +0x1d\n", n)), api.Reading{}); err != nil {
				return err
			}
			return c.DeleteEvidence(working, "fog", name)
		},
	} {
		wait.Go(func() {
			for working.Err() == nil {
				d.do(t, kind, func(n int) error { return deed(c, n) })
			}
		})
	}
	random := rand.New(rand.NewPCG(uint64(kills), 9))
	for range kills {
		time.Sleep(time.Duration(50+random.IntN(900)) * time.Millisecond)
		s.stop(t, syscall.SIGKILL)
		s.run(t)
	}
	time.Sleep(time.Second)
	rest()
	wait.Wait()

	counts := map[string]map[int]int{"comment": {}, "exhibit": {}, "move": {}, "word": {}, "evidence": {}, "line": {}, "deletion": {}}
	count := func(kind, text string) {
		if n, err := strconv.Atoi(text); err == nil {
			counts[kind][n]++
		}
	}
	number := regexp.MustCompile(`\d+`)
	for after := int64(0); ; {
		list, err := c.Comments(ctx, "fog", url.Values{"after": {fmt.Sprint(after)}, "count": {"1000"}})
		require.NoError(t, err)
		for _, x := range list {
			count("comment", number.FindString(x.Text))
			assert.Equal(t, after+1, x.ID, "numbers have no gaps")
			after = x.ID
		}
		if len(list) < 1000 {
			break
		}
	}
	for after := int64(0); ; {
		list, err := c.Exhibits(ctx, "fog", after, 1000)
		require.NoError(t, err)
		for _, x := range list {
			count("exhibit", x.Note)
			after = x.ID
		}
		if len(list) < 1000 {
			break
		}
	}
	for after := int64(0); ; {
		list, err := c.SittingSteps(ctx, sitting.ID, after, 1000)
		require.NoError(t, err)
		for _, x := range list {
			switch x.Kind {
			case api.StepMove:
				count("move", fmt.Sprint(x.Place.Moment))
			case api.StepSay:
				count("word", x.Text)
			}
			after = x.ID
		}
		if len(list) < 1000 {
			break
		}
	}
	list, err := c.ListEvidence(ctx, "fog")
	require.NoError(t, err)
	for _, e := range list {
		switch {
		case strings.HasPrefix(e.Name, "crash-"):
			count("evidence", number.FindString(e.Name))
		case strings.HasPrefix(e.Name, "gone-"):
			n, err := strconv.Atoi(number.FindString(e.Name))
			require.NoError(t, err)
			assert.False(t, d.list["deletion"][n], "%s is there again", e.Name)
		}
	}
	deleted, err := c.Deleted(ctx, "fog")
	require.NoError(t, err)
	for _, x := range deleted {
		count("deletion", number.FindString(x.Name))
	}
	receivedLines(t, c, len(d.list["line"]), func(text string) { count("line", text) })
	recorded(t, c, d, s)
	for kind, acknowledged := range d.list {
		assert.NotEmpty(t, acknowledged, kind)
		for n := range acknowledged {
			assert.Equal(t, 1, counts[kind][n], "%s %d", kind, n)
		}
		for n, times := range counts[kind] {
			if kind != "line" { // a sender that got no answer would send it again
				assert.Equal(t, 1, times, "%s %d", kind, n)
			}
		}
	}

	// Every comment is mailed; of the evidence, all but the first, which was the first with its failure. It is mailed too if it was indexed, and the service
	// killed before it had said so: then others have the failure by the time it is looked at again.
	want := len(counts["comment"]) + len(counts["evidence"]) - 1
	ids := map[string]map[string]bool{} // Message-IDs of what was mailed
	told := regexp.MustCompile(`deed no\. (\d+)\.|known failure again in (crash-\d+)`)
	assert.Eventually(t, func() bool {
		ids = map[string]map[string]bool{}
		for _, m := range server.Mails() {
			text, _ := parts(t, m)
			text = strings.ReplaceAll(text, "\\", "")
			for _, found := range told.FindAllString(text, -1) {
				if ids[found] == nil {
					ids[found] = map[string]bool{}
				}
				ids[found][m.Header.Get("Message-ID")] = true
			}
		}
		return len(ids) >= want
	}, 2*time.Minute, 500*time.Millisecond)
	assert.Contains(t, []int{want, want + 1}, len(ids))
	for kind, form := range map[string]string{"comment": "deed no. %d.", "evidence": "known failure again in crash-%d"} {
		var missing []int
		for n := range counts[kind] {
			if ids[fmt.Sprintf(form, n)] == nil {
				missing = append(missing, n)
			}
		}
		assert.LessOrEqual(t, len(missing), map[string]int{"evidence": 1}[kind], "%s: %v", kind, missing)
	}
	for what, list := range ids {
		assert.Len(t, list, 1, what)
	}
	t.Logf("%d lines received, %d deletions", len(counts["line"]), len(counts["deletion"]))
	t.Logf("%d kills; %d comments, %d exhibits, %d moves, %d words, %d pieces of evidence; %d mails", kills, len(counts["comment"]), len(counts["exhibit"]), len(counts["move"]), len(counts["word"]), len(counts["evidence"]), len(server.Mails()))
}
