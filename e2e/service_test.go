package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/ask"
)

// withEvidence starts a service with a case of Ines's that holds the failing run.
func withEvidence(t *testing.T, people ...person) *service {
	log := failingRun(t)
	s := start(t, people...)
	for _, p := range people {
		p.signIn(t, s.url)
	}
	people[0].fine(t, "case", "open", "shallow-berth", "--title", "Halcyon Drift was given a berth too shallow")
	people[0].fine(t, "evidence", "add", "shallow-berth", log, "--name", "failing-run")
	return s
}

// Shared evidence is asked like a local file, and gives the same answers.
func TestSharedEvidenceAnswersAsALocalFileDoes(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	withEvidence(t, ines)
	log := failingRun(t)
	for _, args := range [][]string{
		{"peek", "%s"}, {"stack", "%s"}, {"stack", "%s@4711", "--all"}, {"values", "%s#1.1", "--depth", "2"}, {"values", "%s@4711"},
		{"ask", "%s", "b.Quay.SillMetres + 1"}, {"hits", "%s", "--line", "berth.go:63", "--when", "clearance < 0.6", "--first", "7"},
		{"step", "%s@4711", "--out"}, {"step", "%s@4711", "--over", "--back", "--count", "3"},
	} {
		ask := func(evidence string) string {
			line := append([]string{"--json"}, args...)
			for i := range line {
				line[i] = strings.Replace(line[i], "%s", evidence, 1)
			}
			return ines.fine(t, line...)
		}
		assert.JSONEq(t, ask(log), ask("shallow-berth/failing-run"), "%v", args)
	}
	// Errors too, with the same codes.
	for _, args := range [][]string{{"ask", "%s", "clearanc"}, {"hits", "%s", "--line", "berth.go:65"}, {"stack", "%s@999999999"}, {"ask", "%s", "a +"}, {"step", "%s@0", "--into", "--back"}} {
		local, shared := make([]string, len(args)), make([]string, len(args))
		for i, a := range args {
			local[i], shared[i] = strings.Replace(a, "%s", log, 1), strings.Replace(a, "%s", "shallow-berth/failing-run", 1)
		}
		l, s := ines.wraith(t, "", local...), ines.wraith(t, "", shared...)
		assert.Equal(t, l.code, s.code, "%v", args)
		assert.Equal(t, l.err, s.err, "%v", args)
	}
}

func TestOnlyPeopleOfTheCaseSeeIt(t *testing.T) {
	t.Parallel()
	ines, tomas, oyelaran := somebody(t, "Ines"), somebody(t, "Tomas"), somebody(t, "Oyelaran")
	s := withEvidence(t, ines, tomas, oyelaran)
	for _, args := range [][]string{{"evidence", "shallow-berth"}, {"peek", "shallow-berth/failing-run"}, {"checkpoint", "shallow-berth"}, {"sitting", "follow", "shallow-berth/failing-run"}} {
		r := tomas.wraith(t, "", args...)
		assert.Equal(t, 1, r.code, "%v", args)
		assert.Contains(t, r.err, "case shallow-berth: not found", "a case of others must look like none: %v", args)
	}
	assert.Equal(t, "[]\n", tomas.fine(t, "case", "--json"))
	wrong := tomas.wraith(t, "no such password\n", "sign-in", s.url, "--name", "Tomas")
	assert.Equal(t, 1, wrong.code)
	assert.Contains(t, wrong.err, "wrong name or password")
	nobody := tomas.wraith(t, "no such password\n", "sign-in", s.url, "--name", "Nobody")
	assert.Equal(t, wrong.err, nobody.err, "the answer must not tell who exists")

	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	ines.fine(t, "case", "add", "shallow-berth", "Oyelaran", "--role", "viewer")
	assert.Contains(t, tomas.fine(t, "peek", "shallow-berth/failing-run"), "Halcyon Drift")
	assert.Contains(t, oyelaran.fine(t, "peek", "shallow-berth/failing-run"), "Halcyon Drift")
	for _, args := range [][]string{
		{"checkpoint", "set", "shallow-berth", "--line", "berth.go:63"}, {"evidence", "add", "shallow-berth", failingRun(t), "--name", "again"},
		{"case", "add", "shallow-berth", "Tomas", "--role", "lead"}, {"sitting", "lead", "shallow-berth/failing-run@10"},
	} {
		r := oyelaran.wraith(t, "", args...)
		assert.Equal(t, 1, r.code, "%v", args)
		assert.Contains(t, r.err, "permission denied: your role in case shallow-berth is viewer", "%v", args)
	}
	r := tomas.wraith(t, "", "case", "add", "shallow-berth", "Oyelaran", "--role", "lead")
	assert.Contains(t, r.err, "your role in case shallow-berth is member")

	// Without a token there is nothing at all; who did what is on record.
	for _, path := range []string{"/api/cases", "/api/me", "/api/cases/shallow-berth/evidence/failing-run/content", "/api/sittings/1/events"} {
		answer, err := http.Get(s.url + path)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, path)
	}
	custody := get(t, s, tomas, "/api/cases/shallow-berth/custody")
	for _, entry := range []string{"opened the case", "uploaded failing-run", "made Tomas member of the case", "made Oyelaran viewer of the case"} {
		assert.Contains(t, custody, entry)
	}
}

// get fetches a path for a person.
func get(t *testing.T, s *service, p person, path string) string {
	t.Helper()
	status, text := send(t, s, p, path)
	require.Equal(t, 200, status, text)
	return text
}

// send is get with any status.
func send(t *testing.T, s *service, p person, path string) (status int, text string) {
	kept, err := os.ReadFile(p.config)
	require.NoError(t, err)
	var signIn struct{ Token string }
	require.NoError(t, json.Unmarshal(kept, &signIn))
	request, err := http.NewRequest("GET", s.url+path, nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+signIn.Token)
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(b)
}

func TestCheckpointsAreKeptWithTheCase(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := withEvidence(t, ines)
	assert.Contains(t, ines.fine(t, "checkpoint", "set", "shallow-berth", "--line", "berth.go:63", "--when", "clearance < 0.6"), "if clearance < h.margin {")
	for says, args := range map[string][]string{
		"the nearest that do are":         {"checkpoint", "set", "shallow-berth", "--line", "berth.go:65"},
		"invalid expression":              {"checkpoint", "set", "shallow-berth", "--line", "berth.go:63", "--when", "clearance <"},
		"no recorded file":                {"checkpoint", "set", "shallow-berth", "--line", "quay.go:63"},
		"checkpoint 99: not found":        {"checkpoint", "delete", "shallow-berth", "99"},
		`invalid checkpoint number "one"`: {"checkpoint", "delete", "shallow-berth", "one"},
	} {
		r := ines.wraith(t, "", args...)
		assert.NotZero(t, r.code)
		assert.Contains(t, r.err, says)
	}
	ines.fine(t, "checkpoint", "disable", "shallow-berth", "1")
	s.stop(t, syscall.SIGTERM)
	s.run(t)
	ines.signIn(t, s.url)
	var list []api.Checkpoint
	require.NoError(t, json.Unmarshal([]byte(ines.fine(t, "checkpoint", "shallow-berth", "--json")), &list))
	require.Len(t, list, 1)
	assert.Equal(t, "berth/berth.go", list[0].File)
	assert.Equal(t, "if clearance < h.margin {", list[0].Text)
	assert.False(t, list[0].Enabled)
	ines.fine(t, "checkpoint", "enable", "shallow-berth", "1")
	c := s.signedIn(t, ines)
	_, err := client.Ask(context.Background(), c.Evidence("shallow-berth", "failing-run"), ask.HitsRequest{Place: ask.Place{Moment: -1}, CheckpointOn: ask.CheckpointOn{On: list[0].On, When: list[0].When}})
	require.NoError(t, err)
	ines.fine(t, "checkpoint", "delete", "shallow-berth", "1")
	assert.Equal(t, "[]\n", ines.fine(t, "checkpoint", "shallow-berth", "--json"))
}

// Tomas, at a terminal, sees within a second where Ines goes.
func TestATerminalFollowsASitting(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	follow := exec.Command(filepath.Join(work, "wraith"), "--config", tomas.config, "sitting", "follow", "shallow-berth/failing-run", "--states", "3")
	out, err := follow.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, follow.Start())
	lines := make(chan string, 8)
	go func() {
		defer close(lines)
		b := make([]byte, 4096)
		for {
			n, err := out.Read(b)
			if n > 0 {
				lines <- string(b[:n])
			}
			if err != nil {
				return
			}
		}
	}()
	assert.Contains(t, next(t, lines), "shallow-berth/failing-run@") // at the failure
	var followed []time.Duration
	for _, moment := range []string{"4711", "5000"} {
		ines.fine(t, "sitting", "lead", "shallow-berth/failing-run@"+moment)
		led := time.Now()
		assert.Contains(t, next(t, lines), "shallow-berth/failing-run@"+moment+"#1.0  here: Ines (lead), Tomas (follow)")
		followed = append(followed, time.Since(led))
	}
	assert.Less(t, slices.Min(followed), 5*time.Second) // the machine may be busy
	require.NoError(t, follow.Wait())
}

func next(t *testing.T, lines <-chan string) string {
	select {
	case l := <-lines:
		return l
	case <-time.After(time.Minute):
		t.Fatal("nothing came")
		return ""
	}
}

func TestAnUploadThatBreaksOffLeavesNothing(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "fog")
	kept, err := os.ReadFile(ines.config)
	require.NoError(t, err)
	var signIn struct{ Token string }
	require.NoError(t, json.Unmarshal(kept, &signIn))
	c, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	require.NoError(t, err)
	_, err = fmt.Fprintf(c, "PUT /api/cases/fog/evidence/run HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Length: 1000000\r\n\r\n%s", strings.TrimPrefix(s.url, "http://"), signIn.Token, strings.Repeat("x", 5000))
	require.NoError(t, err)
	waitFor(t, func() bool { return len(files(t, filepath.Join(s.data, "vault", "incoming"))) == 1 })
	c.Close()
	waitFor(t, func() bool { return len(files(t, filepath.Join(s.data, "vault", "incoming"))) == 0 })
	assert.Equal(t, "[]\n", ines.fine(t, "evidence", "fog", "--json"))

	// The same again, whole, is fine; what is kept is what was sent.
	log := failingRun(t)
	ines.fine(t, "evidence", "add", "fog", log, "--name", "run")
	b, err := os.ReadFile(log)
	require.NoError(t, err)
	sum := sha256.Sum256(b)
	var list []api.EvidenceInfo
	require.NoError(t, json.Unmarshal([]byte(ines.fine(t, "evidence", "fog", "--json")), &list))
	require.Len(t, list, 1)
	assert.Equal(t, hex.EncodeToString(sum[:]), list[0].SHA256)
	assert.Equal(t, string(b), get(t, s, ines, "/api/cases/fog/evidence/run/content"))
	// Whoever did not get the answer sends it again; other bytes of that name, or the same read in another way, are refused.
	assert.Equal(t, list[0].SHA256, parsed[api.EvidenceInfo](t, ines.fine(t, "--json", "evidence", "add", "fog", log, "--name", "run")).SHA256)
	for name, args := range map[string][]string{"longer": {string(b) + "x"}, "other bytes": {"x" + string(b[1:])}, "another kind": {string(b), "--as", "crash-text"}} {
		r := ines.wraith(t, args[0], append([]string{"evidence", "add", "fog", "-", "--name", "run"}, args[1:]...)...)
		assert.Contains(t, r.err, "exists already", name)
	}
	empty := ines.wraith(t, "", "evidence", "add", "fog", "-", "--name", "nothing")
	assert.Contains(t, empty.err, "the evidence is empty")
}

func files(t *testing.T, dir string) []string {
	found, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	return found
}

func waitFor(t *testing.T, f func() bool) {
	for begun := time.Now(); time.Since(begun) < time.Minute; time.Sleep(25 * time.Millisecond) { // the machine may be busy
		if f() {
			return
		}
	}
	t.Fatal("the condition was not met within a minute")
}

// Evidence that cannot be read is refused by name, and harms no other.
func TestDamagedEvidenceHarmsNothing(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	withEvidence(t, ines)
	r := ines.wraith(t, "Dear harbour master, the fog is back.", "evidence", "add", "shallow-berth", "-", "--name", "letter")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "unknown kind of evidence")
	whole, err := os.ReadFile(failingRun(t))
	require.NoError(t, err)
	cut := ines.wraith(t, string(whole[:len(whole)/3]), "evidence", "add", "shallow-berth", "-", "--name", "cut")
	assert.Zero(t, cut.code, cut.err)
	assert.Equal(t, 3, ines.wraith(t, "", "peek", "shallow-berth/letter").code)
	assert.Contains(t, ines.fine(t, "peek", "shallow-berth/cut"), "cut off")
	assert.Contains(t, ines.fine(t, "peek", "shallow-berth/failing-run"), "missing    nothing")
}

// What was acknowledged is there after the service was killed at the worst time.
func TestKilledAfterAnUpload(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := start(t, ines)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "fog")
	b, err := os.ReadFile(failingRun(t))
	require.NoError(t, err)
	c := s.signedIn(t, ines)
	_, err = c.Upload(context.Background(), "fog", "run", bytes.NewReader(b), api.Reading{})
	require.NoError(t, err)
	s.stop(t, syscall.SIGKILL)
	s.run(t)
	e, err := s.signedIn(t, ines).Await(context.Background(), "fog", "run", nil)
	require.NoError(t, err)
	assert.Contains(t, e.Outcome, "Halcyon Drift")
}

// A private database that dies is started again; meanwhile the service says so, and afterwards it has everything.
func TestTheDatabaseIsDown(t *testing.T) {
	t.Parallel()
	ines := somebody(t, "Ines")
	s := &service{data: dataFolder(t)}
	add := exec.Command(filepath.Join(work, "wraithd"), "person", "add", "Ines", "--data", s.data)
	add.Stdin = strings.NewReader(ines.password + "\n")
	out, err := add.CombinedOutput()
	require.NoError(t, err, string(out))
	s.run(t)
	ines.signIn(t, s.url)
	ines.fine(t, "case", "open", "fog")

	pid, err := os.ReadFile(filepath.Join(s.data, "database", "data", "postmaster.pid"))
	require.NoError(t, err)
	line, _, _ := strings.Cut(string(pid), "\n")
	n, err := strconv.Atoi(line)
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(n, syscall.SIGSTOP)) // until it is looked at
	require.NoError(t, syscall.Kill(n, syscall.SIGKILL))
	wasDown := false
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); {
		down := status(t, s.url+"/healthz") == http.StatusServiceUnavailable
		if wasDown && !down {
			break
		}
		wasDown = wasDown || down
	}
	assert.True(t, wasDown, "it says so")
	waitFor(t, func() bool { return status(t, s.url+"/readyz") == http.StatusOK })
	assert.Contains(t, ines.fine(t, "case"), "fog")
	ines.fine(t, "case", "open", "swell")
	again, err := os.ReadFile(filepath.Join(s.data, "database", "data", "postmaster.pid"))
	require.NoError(t, err)
	assert.NotEqual(t, string(pid), string(again))
	s.stop(t, syscall.SIGTERM)
	_, err = os.Stat(filepath.Join(s.data, "database", "data", "postmaster.pid"))
	assert.ErrorIs(t, err, os.ErrNotExist, "the private database still runs")
	gone := ines.wraith(t, "", "case")
	assert.Equal(t, 1, gone.code)
	assert.Contains(t, gone.err, "service not available")
}

func status(t *testing.T, url string) int {
	answer, err := http.Get(url)
	require.NoError(t, err)
	answer.Body.Close()
	return answer.StatusCode
}

func TestTheDescriptionIsOpenAPI(t *testing.T) {
	t.Parallel()
	out, err := exec.Command(filepath.Join(work, "wraithd"), "describe").Output()
	require.NoError(t, err)
	var d struct {
		OpenAPI string
		Paths   map[string]map[string]struct{ OperationID string }
	}
	require.NoError(t, json.Unmarshal(out, &d))
	assert.True(t, strings.HasPrefix(d.OpenAPI, "3.1"))
	var ids []string
	for _, methods := range d.Paths {
		for _, op := range methods {
			ids = append(ids, op.OperationID)
		}
	}
	for _, id := range []string{"signIn", "upload", "content", "peek", "stack", "values", "parts", "ask", "hits", "step", "run", "source", "lanes", "joinSitting", "changeSitting", "watchSitting", "newCheckpoint"} {
		assert.Contains(t, ids, id)
	}
}

// A data folder is served by one process: a second one says so and ends. People are added
// beside it.
func TestASecondServerOnTheSameData(t *testing.T) {
	t.Parallel()
	s := &service{data: dataFolder(t)}
	s.run(t)
	begun := time.Now()
	out, err := exec.Command(filepath.Join(work, "wraithd"), "--data", s.data, "--listen", "127.0.0.1:0", "--grpc", "off").CombinedOutput()
	require.Error(t, err)
	assert.Less(t, time.Since(begun), 15*time.Second) // 5 on a machine that is not busy
	assert.Contains(t, string(out), fmt.Sprintf("in use by process %d", s.cmd.Process.Pid))
	assert.Contains(t, string(out), "--data")

	add := exec.Command(filepath.Join(work, "wraithd"), "person", "add", "Ines", "--data", s.data)
	ines := somebody(t, "Ines")
	add.Stdin = strings.NewReader(ines.password + "\n")
	out, err = add.CombinedOutput()
	require.NoError(t, err, string(out))
	ines.signIn(t, s.url)
}
