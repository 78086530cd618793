package main

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wraithology/service"
	"wraithology/service/store"
)

const allMembers = 1200

// measureQuestions measures how many questions eight clients get answered in a case with 1,200 members, and what 1,000 idle streams cost them.
func (t *team) measureQuestions(r *report, dir string, quick bool) error {
	const name, run = "asked", "run"
	streams, within := 1000, 5*time.Second
	if quick {
		streams, within = 100, time.Second
	}
	if err := t.crowd(); err != nil {
		return err
	}
	if err := t.caseOfAll(name); err != nil {
		return err
	}
	log := filepath.Join(dir, "asked.wraith")
	if err := generate(log, 100_000); err != nil {
		return err
	}
	if err := t.upload(name, run, log); err != nil {
		return err
	}
	of := "/api/cases/" + name + "/evidence/" + run
	floor, _, err := t.ask("/readyz", 8, within)
	if err != nil {
		return err
	}
	for _, question := range []string{"stack", "values"} {
		rate, _, err := t.ask(of+"/"+question+"?moment=%d", 8, within)
		if err != nil {
			return err
		}
		r.add(fmt.Sprintf("%s, 8 clients, case with %d members", question, allMembers), fmt.Sprintf("%.0f/s", rate), fmt.Sprintf("a request that asks the database for nothing: %.0f/s", floor), floor/rate, "1000/s", rate >= 1000)
	}

	before := inUse()
	for i := range streams {
		c, err := t.idle("/api/cases/"+name+"/events", t.tokens[1+i%watchers])
		if err != nil {
			return err
		}
		defer c.Close()
	}
	time.Sleep(time.Second)
	more := inUse() - before
	_, times, err := t.ask(of+"/stack?moment=%d", 1, within)
	if err != nil {
		return err
	}
	r.add(fmt.Sprintf("%d idle streams: additional memory", streams), fmt.Sprintf("%.0f MB", float64(more)/1e6), "", 0, "60 MB", float64(more) <= 60e6)
	worst := p99(times)
	r.add(fmt.Sprintf("%d idle streams: stack meanwhile, p99", streams), milliseconds(worst), "", 0, "50 ms", worst <= 50*time.Millisecond)
	return nil
}

// idle opens a stream that nobody reads, without memory of a client.
func (t *team) idle(path, token string) (net.Conn, error) {
	host := strings.TrimPrefix(t.running.URL, "http://")
	c, err := net.Dial("tcp", host)
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\n\r\n", path, host, token); err != nil {
		return nil, err
	}
	b := make([]byte, 12)
	if _, err := io.ReadFull(c, b); err != nil || string(b) != "HTTP/1.1 200" {
		return nil, fmt.Errorf("%s: %q: %w", path, b, err)
	}
	return c, nil
}

// inUse is the memory of this process after a collection, in bytes, with stacks.
func inUse() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc + m.StackInuse
}

// ask sends requests for a path from some clients at once, and returns how many were answered a second, and how long each took. A verb in the path is the
// number of the request.
func (t *team) ask(path string, clients int, within time.Duration) (rate float64, times []time.Duration, err error) {
	var n atomic.Int64
	var mu sync.Mutex
	var all sync.WaitGroup
	begun := time.Now()
	for i := range clients {
		all.Go(func() {
			c := &http.Client{Transport: &http.Transport{}}
			defer c.CloseIdleConnections()
			for time.Since(begun) < within {
				to := path
				if strings.Contains(path, "%") {
					to = fmt.Sprintf(path, 1000+n.Load()*37%50_000)
				}
				n.Add(1)
				at := time.Now()
				failed := t.fetchWith(c, to, t.tokens[1+i%watchers])
				mu.Lock()
				times = append(times, time.Since(at))
				if failed != nil {
					err = failed
				}
				mu.Unlock()
				if failed != nil {
					return
				}
			}
		})
	}
	all.Wait()
	slices.Sort(times)
	return float64(len(times)) / time.Since(begun).Seconds(), times, err
}

func (t *team) fetchWith(c *http.Client, path, token string) error {
	r, err := http.NewRequestWithContext(ctx(), http.MethodGet, t.running.URL+path, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := c.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, answer.Body); err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", path, answer.Status)
	}
	return nil
}

// measureCases times pages of a person's 100,000 cases, and what is searched for among them.
func (t *team) measureCases(r *report, _ string, quick bool) error {
	n := 100_000
	if quick {
		n = 10_000
	}
	err := service.WithStore(ctx(), t.options, func(s *store.Store) error {
		for _, statement := range []string{
			fmt.Sprintf(`insert into cases (name, title, created_at) select 'berth-' || n, 'Vessel ' || n || ' at quay ' || n %% 50, now() from generate_series(1, %d) n`, n),
			`insert into members (case_id, person_id, role, own_role) select c.id, p.id, 'member', 'member' from cases c, people p where c.name like 'berth-%' and p.name in ('Watcher0', 'Watcher1', 'Watcher2')`,
			`insert into evidence (case_id, name, kind, bytes, sha256, uploaded_at, person_id, state, progress, trouble, program, build_id, host, started, duration_ns, moments, outcome, gaps, fingerprint, read_as, fields)
				select c.id, 'run', 'execution-log', 1, '00', now(), (select min(id) from people), 'ready', 1, '', 'program-' || c.id % 200, '', '', now(), 0, 10, 'error: tide ' || c.id || ' too low', 0, '', '', '{}' from cases c where name like 'berth-%'`,
			"analyze",
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
		"the newest":              func(int) string { return "/api/cases" },
		"a page further on":       func(i int) string { return fmt.Sprintf("/api/cases?after=berth-%d", n-i*n/250) },
		"a text few have":         func(i int) string { return fmt.Sprintf("/api/cases?text=Vessel%%20%d", 1000+i*n/250) },
		"a text many have":        func(i int) string { return fmt.Sprintf("/api/cases?text=quay%%20%d", i%50) },
		"a text nobody has":       func(i int) string { return fmt.Sprintf("/api/cases?text=lighthouse%d", i) },
		"a failure":               func(i int) string { return fmt.Sprintf("/api/cases?failure=tide%%20%d%%20too", i*n/250) },
		"a program":               func(i int) string { return fmt.Sprintf("/api/cases?program=program-%d", i%200) },
		"open, of another person": func(int) string { return "/api/cases?state=open&person=Watcher2" },
	}
	return t.measurePaths(r, fmt.Sprintf("%d cases", n), paths, 100*time.Millisecond)
}
