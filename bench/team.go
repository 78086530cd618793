package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/event"
	"wraithology/e2e/mailtest"
	"wraithology/service"
	"wraithology/service/accounts"
	"wraithology/service/mail"
	"wraithology/service/store"
)

const watchers = 200

// team is a service on this machine, in which a lead works and others watch.
type team struct {
	options service.Options
	running *service.Service
	lead    *client.Client
	tokens  []string
	server  *mailtest.Server
}

// measureTeam starts a service and measures in it what people who work together wait for.
func measureTeam(r *report, dir string, quick bool, measures ...func(t *team, r *report, dir string, quick bool) error) error {
	data, err := os.MkdirTemp(dir, "team-")
	if err != nil {
		return err
	}
	if err := os.Chmod(data, 0o755); err != nil { // the database server runs under its own account
		return err
	}
	if err := os.Chmod(dir, 0o755); err != nil { // the database server runs under its own account
		return err
	}
	server, err := mailtest.Open(mailtest.Options{})
	if err != nil {
		return err
	}
	defer server.Close()
	t := &team{server: server, options: service.Options{Data: data, Listen: "127.0.0.1:0", GRPC: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})),
		Mail: mail.Options{Server: server.Address, From: "wraith@gannet.example", Protection: mail.Open}}}
	if t.running, err = service.Start(ctx(), t.options); err != nil {
		return err
	}
	defer t.running.Stop(context.Background())
	if err := t.people(); err != nil {
		return err
	}
	for _, measure := range measures {
		if err := measure(t, r, dir, quick); err != nil {
			return err
		}
	}
	return nil
}

// people adds the people, with tokens: a password each takes too long.
func (t *team) people() error {
	return service.WithStore(ctx(), t.options, func(s *store.Store) error {
		for i := range watchers + 1 {
			p := store.Person{Name: fmt.Sprintf("Watcher%d", i)}
			if err := s.AddPerson(ctx(), &p); err != nil {
				return err
			}
			if i < 3 {
				if err := s.SetMail(ctx(), p.ID, p.Name+"@gannet.example"); err != nil {
					return err
				}
			}
			token, err := accounts.New(s, t.options.Front).NewToken(ctx(), &store.Token{PersonID: p.ID, Label: "bench", Scope: store.ScopeWrite})
			if err != nil {
				return err
			}
			t.tokens = append(t.tokens, token)
		}
		t.lead = client.New(t.running.URL, t.tokens[0])
		return nil
	})
}

// arrivals are when each watcher received each of the numbered things of a kind.
type arrivals struct {
	mu   sync.Mutex
	seen map[string][]map[int64]time.Time // by kind and watcher
}

func (a *arrivals) note(kind string, watcher int, n int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if _, has := a.seen[kind][watcher][n]; !has {
		a.seen[kind][watcher][n] = time.Now()
	}
}

// stream reads a stream of events and calls f with the data of each.
func (t *team) stream(ctx context.Context, path string, watcher int, ready *sync.WaitGroup, f func([]byte)) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, t.running.URL+path, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+t.tokens[watcher+1])
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", path, answer.Status)
	}
	ready.Done()
	lines := bufio.NewReaderSize(answer.Body, 256<<10)
	for {
		line, err := lines.ReadSlice('\n')
		if err != nil {
			return err
		}
		if data, ok := bytes.CutPrefix(line, []byte("data: ")); ok {
			f(data)
		}
	}
}

var (
	versionOf = regexp.MustCompile(`"version":(\d+)`)
	commentOf = regexp.MustCompile(`: comment (\d+)"`)
	exhibitOf = regexp.MustCompile(`kept exhibit (\d+):`)
)

// measureSeen times how long it takes until all of 200 people have received a move of the lead, a comment and an exhibit; then in a case with 1,200 members.
func (t *team) measureSeen(r *report, dir string, quick bool) error {
	if err := t.seen(r, dir, quick, "seen", "", 100*time.Millisecond); err != nil {
		return err
	}
	if err := t.crowd(); err != nil {
		return err
	}
	return t.seen(r, dir, quick, "crowded", ", case with 1,200 members", 120*time.Millisecond)
}

// crowd adds people until there are allMembers.
func (t *team) crowd() error {
	return service.WithStore(ctx(), t.options, func(s *store.Store) error {
		_, err := s.Pool.Exec(ctx(), "insert into people (name, password_hash, created_at) select 'Member' || n, '', now() from generate_series(1, $1 - (select count(*) from people)) n on conflict do nothing", allMembers)
		return err
	})
}

// seen is measureSeen in a case of all people; where is added to what was measured.
func (t *team) seen(r *report, dir string, quick bool, name, where string, target time.Duration) error {
	const run = "run"
	if err := t.caseOfAll(name); err != nil {
		return err
	}
	log := filepath.Join(dir, "small.wraith")
	if err := generate(log, 100_000); err != nil {
		return err
	}
	if err := t.upload(name, run, log); err != nil {
		return err
	}
	x, err := t.lead.JoinSitting(ctx(), name, run, api.ModeLead)
	if err != nil {
		return err
	}
	a := &arrivals{seen: map[string][]map[int64]time.Time{}}
	for _, kind := range []string{"move", "comment", "exhibit"} {
		for range watchers {
			a.seen[kind] = append(a.seen[kind], map[int64]time.Time{})
		}
	}
	watching, stop := context.WithCancel(ctx())
	var done, ready sync.WaitGroup
	defer done.Wait()
	defer stop()
	ready.Add(2 * watchers)
	numbers := func(kind string, by *regexp.Regexp, watcher int) func([]byte) {
		return func(data []byte) {
			if m := by.FindSubmatch(data); m != nil {
				n, _ := strconv.ParseInt(string(m[1]), 10, 64) // digits
				a.note(kind, watcher, n)
			}
		}
	}
	failed := make(chan error, 2*watchers)
	for w := range watchers {
		move, comment, exhibit := numbers("move", versionOf, w), numbers("comment", commentOf, w), numbers("exhibit", exhibitOf, w)
		done.Go(func() { failed <- t.stream(watching, fmt.Sprintf("/api/sittings/%d/events", x.ID), w, &ready, move) })
		done.Go(func() {
			failed <- t.stream(watching, "/api/cases/"+name+"/events", w, &ready, func(data []byte) {
				comment(data)
				exhibit(data)
			})
		})
	}
	ready.Wait()
	time.Sleep(5 * time.Second) // all have joined, and seen it of each other
	n, pace := 900, 50*time.Millisecond
	if quick {
		n = 60
	}
	sent := map[string]map[int64]time.Time{"move": {}, "comment": {}, "exhibit": {}}
	for i := range n {
		next := time.Now().Add(pace)
		begun := time.Now()
		switch {
		case i%3 == 0:
			place := api.Place{Moment: event.Moment(100 + i), Thread: 1}
			if x, err = t.lead.ChangeSitting(ctx(), x.ID, api.SittingChange{Place: &place}); err != nil {
				return err
			}
			sent["move"][x.Version] = begun
		case i%3 == 1:
			c, err := t.lead.Say(ctx(), name, api.NewComment{Text: fmt.Sprintf("the tide at %d", i)})
			if err != nil {
				return err
			}
			sent["comment"][c.ID] = begun
		default:
			e, err := t.lead.Keep(ctx(), name, api.NewExhibit{Evidence: run, Question: "values", Note: "as it was"})
			if err != nil {
				return err
			}
			sent["exhibit"][e.ID] = begun
		}
		time.Sleep(time.Until(next))
	}
	time.Sleep(2 * time.Second)
	floor, err := fanOut(watchers, 40<<10)
	if err != nil {
		return err
	}
	for _, kind := range []string{"move", "comment", "exhibit"} {
		var times []time.Duration
		missed := 0
		for number, begun := range sent[kind] {
			last := begun // until all have seen it
			for w := range watchers {
				at, has := a.reached(kind, w, number)
				if !has {
					missed++
				} else if at.After(last) {
					last = at
				}
			}
			times = append(times, last.Sub(begun))
		}
		if missed > 0 {
			return fmt.Errorf("%d times a watcher did not receive a %s: %w", missed, kind, first(failed))
		}
		worst := p99(times)
		r.add(fmt.Sprintf("%s seen by all of %d people%s, p99", kind, watchers, where), milliseconds(worst), "40 KB written to as many connections: "+milliseconds(floor), worst.Seconds()/floor.Seconds(), milliseconds(target), worst <= target)
	}
	return nil
}

// reached returns when a watcher received a thing, or for a move a later one: the state that comes includes it.
func (a *arrivals) reached(kind string, watcher int, number int64) (at time.Time, has bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if at, has = a.seen[kind][watcher][number]; has || kind != "move" {
		return at, has
	}
	for n, t := range a.seen[kind][watcher] {
		if n > number && (!has || t.Before(at)) {
			at, has = t, true
		}
	}
	return at, has
}

func first(errs <-chan error) error {
	select {
	case err := <-errs:
		return err
	default:
		return errors.New("the streams are open")
	}
}

// fanOut writes bytes to connections on loopback, one after the other, and returns how long it takes until all have read them: the median of 21 times.
func fanOut(connections, size int) (time.Duration, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	var ends []net.Conn
	got := make(chan error, connections)
	for range connections {
		in, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			return 0, err
		}
		defer in.Close()
		out, err := l.Accept()
		if err != nil {
			return 0, err
		}
		defer out.Close()
		ends = append(ends, out)
		go func() {
			buffer := make([]byte, size)
			for {
				_, err := io.ReadFull(in, buffer)
				if got <- err; err != nil {
					return
				}
			}
		}()
	}
	var times []time.Duration
	content := make([]byte, size)
	for range 21 {
		begun := time.Now()
		for _, c := range ends {
			if _, err := c.Write(content); err != nil {
				return 0, err
			}
		}
		for range ends {
			if err := <-got; err != nil {
				return 0, err
			}
		}
		times = append(times, time.Since(begun))
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}

func milliseconds(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
}

// caseOfAll opens a case of which all are members.
func (t *team) caseOfAll(name string) error {
	if _, err := t.lead.NewCase(ctx(), api.NewCase{Name: name}); err != nil {
		return err
	}
	return service.WithStore(ctx(), t.options, func(s *store.Store) error {
		if _, err := s.Pool.Exec(ctx(), "insert into members (case_id, person_id, role, own_role) select c.id, p.id, 'member', 'member' from cases c, people p where c.name = $1 on conflict do nothing", name); err != nil {
			return err
		}
		_, err := s.Pool.Exec(ctx(), "analyze")
		return err
	})
}

// upload adds a file as evidence and waits until it is indexed.
func (t *team) upload(caseName, name, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := t.lead.Upload(ctx(), caseName, name, f, api.Reading{}); err != nil {
		return err
	}
	_, err = t.lead.Await(ctx(), caseName, name, nil)
	return err
}

// fetch asks for a path and returns how long the answer took.
func (t *team) fetch(path string) (time.Duration, error) {
	begun := time.Now()
	r, err := http.NewRequestWithContext(ctx(), http.MethodGet, t.running.URL+path, nil)
	if err != nil {
		return 0, err
	}
	r.Header.Set("Authorization", "Bearer "+t.tokens[0])
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	n, err := io.Copy(io.Discard, answer.Body)
	if err == nil && (answer.StatusCode != http.StatusOK || n < 2) {
		err = fmt.Errorf("%s: %s, %d bytes", path, answer.Status, n)
	}
	return time.Since(begun), err
}

// measureLarge times a case with 100,000 comments and 10,000 exhibits, and similar failures among 100,000.
func (t *team) measureLarge(r *report, _ string, quick bool) error {
	comments, failures := 100_000, 100_000
	if quick {
		comments, failures = 10_000, 10_000
	}
	if err := t.caseOfAll("large"); err != nil {
		return err
	}
	err := service.WithStore(ctx(), t.options, func(s *store.Store) error {
		const of = "(select id from cases where name = 'large'), (select min(id) from evidence where case_id = (select id from cases where name = 'large')), (select min(id) from people)"
		for _, statement := range []string{
			`insert into evidence (case_id, name, kind, bytes, sha256, uploaded_at, person_id, state, progress, trouble, program, build_id, host, started, duration_ns, moments, outcome, gaps, fingerprint, read_as, fields)
				select (select id from cases where name = 'large'), 'run-' || n, 'execution-log', 1, '00', now() - n * interval '1 second', (select min(id) from people), 'ready', 1, '', 'program-' || n % 200, '', '', now(), 0, 10, 'error: vessel ' || n || ' too deep', 0,
				'print-' || n % 5000, '', '{}' from generate_series(1, 100) n`,
			`insert into cases (name, title, created_at) select 'other-' || n, '', now() from generate_series(1, 1000) n`,
			`insert into members (case_id, person_id, role, own_role) select c.id, (select min(id) from people), 'member', 'member' from cases c where name like 'other-%'`,
			fmt.Sprintf(`insert into evidence (case_id, name, kind, bytes, sha256, uploaded_at, person_id, state, progress, trouble, program, build_id, host, started, duration_ns, moments, outcome, gaps, fingerprint, read_as, fields)
				select (select min(id) from cases where name like 'other-%%') + n %% 1000, 'run-' || n, 'execution-log', 1, '00', now() - n * interval '1 second', (select min(id) from people), 'ready', 1, '', 'program-' || n %% 200, '', '', now(), 0, 10, 'error: vessel ' || n || ' too deep', 0,
				'print-' || n %% 5000, '', '{}' from generate_series(1, %d) n`, failures),
			`insert into failure_functions (evidence_id, depth, function)
				select e.id, d, case when d = 5 then 'main.main' else 'program-' || e.id % 200 || '.f' || (e.id / 200 * (d + 3)) % (20 * (6 - d)) end from evidence e, generate_series(0, 5) d on conflict do nothing`,
			`insert into failure_words (evidence_id, words) select id, 'error vessel # too deep w' || id % 7 from evidence on conflict do nothing`,
			fmt.Sprintf(`insert into exhibits (case_id, evidence_id, person_id, created_at, question, request, answer, moment, thread, frame, note, number)
				select %s, now(), 'ask', '{"expression":"a"}', '{"value":"4"}', n, 1, 0, 'note ' || n, n from generate_series(1, %d) n`, of, comments/10),
			fmt.Sprintf(`insert into comments (case_id, evidence_id, person_id, created_at, text, moment, thread, frame, path, file, line, number)
				select %s, now(), 'the height of tide ' || n || ' is word' || n %% 1000, n, 1, 0, '', '', 0, n from generate_series(1, %d) n`, of, comments),
			`analyze`,
		} {
			if _, err := s.Pool.Exec(ctx(), statement); err != nil {
				return fmt.Errorf("%.60s: %w", statement, err)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	paths := map[string]func(i int) string{
		"open: the latest comments": func(int) string { return "/api/cases/large/comments?latest=true" },
		"open: the latest exhibits": func(int) string { return "/api/cases/large/exhibits?latest=true" },
		"open: what is new":         func(int) string { return "/api/cases/large/activity" },
		"search for a word":         func(i int) string { return fmt.Sprintf("/api/cases/large/comments?text=word%d", i) },
		"comments about moments": func(i int) string {
			return fmt.Sprintf("/api/cases/large/comments?evidence=run-1&from=%d&to=%d", i*comments/250, i*comments/250+500)
		},
		"similar failures": func(i int) string { return fmt.Sprintf("/api/cases/large/evidence/run-%d/alike", i%100+1) },
	}
	return t.measurePaths(r, fmt.Sprintf("%d comments, %d failures", comments, failures), paths, 200*time.Millisecond)
}

// measurePaths times 200 requests for each kind of path, of which i is the number of the request.
func (t *team) measurePaths(r *report, of string, paths map[string]func(i int) string, target time.Duration) error {
	var plain []time.Duration
	for range 100 {
		took, err := t.fetch("/readyz")
		if err != nil {
			return err
		}
		plain = append(plain, took)
	}
	floor := p99(plain)
	for what, path := range paths {
		var times []time.Duration
		for i := range 200 {
			took, err := t.fetch(path(i))
			if err != nil {
				return err
			}
			times = append(times, took)
		}
		worst := p99(times)
		r.add(fmt.Sprintf("%s: %s, p99", of, what), milliseconds(worst), "a request that asks the database for nothing: "+milliseconds(floor), worst.Seconds()/floor.Seconds(), fmt.Sprintf("%d ms", target.Milliseconds()), worst <= target)
	}
	return nil
}

// measureReport times the report of a case with 200 exhibits: the values, stacks and origins of moments.
func (t *team) measureReport(r *report, _ string, quick bool) error {
	n := 200
	if quick {
		n = 40
	}
	const name = "seen"
	for i := range n {
		e := api.NewExhibit{Evidence: "run", Question: []string{"values", "stack"}[i%2], Request: fmt.Appendf(nil, `{"moment":%d}`, 1000+i*97), Note: fmt.Sprintf("what was known at %d", i)}
		if _, err := t.lead.Keep(ctx(), name, e); err != nil {
			return err
		}
	}
	if _, err := t.fetch("/api/cases/" + name + "/report"); err != nil {
		return err
	}
	plain, err := t.fetch("/api/cases/" + name + "/exhibits?count=1000")
	if err != nil {
		return err
	}
	for format, target := range map[string]time.Duration{"html": time.Second, "pdf": 10 * time.Second} {
		took, err := t.fetch("/api/cases/" + name + "/report?format=" + format)
		if err != nil {
			return err
		}
		r.add(fmt.Sprintf("report of a case with %d exhibits or more, %s", n, format), milliseconds(took), "the same exhibits as JSON: "+milliseconds(plain), took.Seconds()/plain.Seconds(), target.String(), took <= target)
	}
	return nil
}

// measureNotices adds evidence to a case with 500 checkpoints, at the rate of 10,000 an hour, and looks at what is mailed to three people.
func (t *team) measureNotices(r *report, dir string, quick bool) error {
	n, checkpoints := 600, 500
	if quick {
		n, checkpoints = 60, 50
	}
	const name = "watched"
	if err := t.caseOfAll(name); err != nil {
		return err
	}
	log := filepath.Join(dir, "watched.wraith")
	if err := generate(log, 2000); err != nil {
		return err
	}
	if err := t.upload(name, "first", log); err != nil {
		return err
	}
	for i := range checkpoints {
		at := api.NewCheckpoint{On: fmt.Sprintf("line harbour.go:%d", i%functions*100+2+i%lines), When: fmt.Sprintf("i == 1 && total %% 199 == %d", i%199)}
		if _, err := t.lead.SetCheckpoint(ctx(), name, at); err != nil {
			return err
		}
	}
	begun := time.Now()
	pace := time.Hour / 10_000
	added := map[string]time.Time{}
	for i := range n {
		time.Sleep(time.Until(begun.Add(time.Duration(i) * pace)))
		if err := generate(log, int64(1500+i)); err != nil {
			return err
		}
		f, err := os.Open(log)
		if err != nil {
			return err
		}
		run := fmt.Sprintf("night-%d", i)
		_, err = t.lead.Upload(ctx(), name, run, f, api.Reading{})
		f.Close()
		if err != nil {
			return err
		}
		added[run] = time.Now()
	}
	took := time.Since(begun)
	want, err := t.wanted(name, n)
	if err != nil {
		return err
	}
	deadline := time.Now().Add(5 * time.Minute)
	var got map[string]time.Time
	for {
		var twice int
		if got, twice = mailed(t.server); twice > 0 {
			return fmt.Errorf("%d notices were mailed twice to somebody", twice)
		}
		if len(got) >= len(want) || time.Now().After(deadline) {
			break
		}
		time.Sleep(time.Second)
	}
	var written float64 // seconds
	err = service.WithStore(ctx(), t.options, func(s *store.Store) error {
		return s.Pool.QueryRow(ctx(), "select extract(epoch from max(n.at - e.uploaded_at)) from notices n join evidence e on e.id = n.evidence_id").Scan(&written)
	})
	if err != nil {
		return err
	}
	lost := 0
	var times []time.Duration
	for notice, indexed := range want {
		at, has := got[notice]
		if !has {
			lost++
			continue
		}
		times = append(times, at.Sub(indexed))
	}
	slices.Sort(times)
	rate := float64(n) / took.Hours()
	r.add(fmt.Sprintf("%d pieces of evidence at %.0f an hour, %d checkpoints: notices mailed to three people", n, rate, checkpoints), fmt.Sprintf("%d of %d, in %d mails", len(want)-lost, len(want), len(t.server.Mails())), "", 0, "all", lost == 0 && len(want) > 0)
	r.add("the slowest of them on the page of notices, after the upload", fmt.Sprintf("%.2f s", written), "", 0, "60 s after indexing", written <= 60)
	if len(times) > 0 {
		slowest := times[len(times)-1]
		r.add("the slowest of them mailed, after the upload", slowest.Round(time.Millisecond).String(), "two seconds in which notices are gathered, and 30 between mails", slowest.Seconds()/32, "60 s after indexing", slowest <= time.Minute)
	}
	return nil
}

// wanted returns the notices that the three people must get: by person and subject, with when their evidence was added.
func (t *team) wanted(name string, n int) (map[string]time.Time, error) {
	for range 600 {
		list, err := t.lead.ListEvidence(ctx(), name)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(list, func(e api.EvidenceInfo) bool { return e.State == api.StateIndexing }) {
			break
		}
		time.Sleep(time.Second)
	}
	out := map[string]time.Time{}
	err := service.WithStore(ctx(), t.options, func(s *store.Store) error {
		// What was counted says what has to be told; the notices themselves do not.
		for range 600 {
			var left int
			if err := s.Pool.QueryRow(ctx(), "select count(*) from river_job where kind in ('check', 'index') and state not in ('completed', 'cancelled', 'discarded')").Scan(&left); err != nil {
				return err
			}
			if left == 0 {
				break
			}
			time.Sleep(time.Second)
		}
		rows, err := s.Pool.Query(ctx(), `select e.name, x.line, x.condition, e.uploaded_at from counts c join evidence e on e.id = c.evidence_id join checkpoints x on x.id = c.checkpoint_id
			where c.hits > 0 and e.name <> 'first' and e.case_id = (select id from cases where name = $1)`, name)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var run, condition string
			var line int
			var at time.Time
			if err := rows.Scan(&run, &line, &condition, &at); err != nil {
				return err
			}
			for i := range 3 {
				out[fmt.Sprintf("watcher%d line harbour.go:%d when %s hits in %s,", i, line, condition, run)] = at
			}
		}
		return rows.Err()
	})
	return out, err
}

var hitLine = regexp.MustCompile(`(line harbour\.go:\d+ when [^\n]* hits in night-\d+,)`)

// mailed returns the notices that were mailed, by person and subject, and how many came twice.
func mailed(server *mailtest.Server) (got map[string]time.Time, twice int) {
	got = map[string]time.Time{}
	for _, m := range server.Mails() {
		plain, _, _ := strings.Cut(strings.NewReplacer("=\r\n", "", "=3D", "=", "\r\n", "\n").Replace(m.Text), "text/html")
		person, _, _ := strings.Cut(strings.ToLower(m.To[0]), "@")
		for _, found := range hitLine.FindAllString(plain, -1) {
			key := person + " " + found
			if _, has := got[key]; has {
				twice++
				continue
			}
			got[key] = m.At
		}
	}
	return got, twice
}
