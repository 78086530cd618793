// Package e2e tests Wraithology through its real interfaces: the commands as
// processes, wraithd on loopback with a real PostgreSQL, HTTP, and the console
// in a headless Chromium.
package e2e

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/client"
	"wraithology/e2e/clustertest"
	"wraithology/service/accounts"
	"wraithology/service/front"
	"wraithology/service/store"
)

var work string // folder of this run

func TestMain(m *testing.M) {
	code, err := runAll(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func runAll(m *testing.M) (code int, err error) {
	if work, err = os.MkdirTemp("", "wraith-e2e-"); err != nil {
		return 1, err
	}
	defer os.RemoveAll(work)
	// The database server runs under another account and must reach its folder.
	if err := os.Chmod(work, 0o755); err != nil {
		return 1, err
	}
	build := exec.Command("go", "build", "-o", work+"/", "./cmd/...")
	build.Dir = ".."
	if out, err := build.CombinedOutput(); err != nil {
		return 1, fmt.Errorf("build: %w\n%s", err, out)
	}
	return clustertest.Run(m.Run)
}

// failing is a log of the demo's failing run, recorded once.
var failing = sync.OnceValues(func() (string, error) { return recordDemo("failing", "0412,0419") })

// passing is a log of the demo without the second notice, recorded once.
var passing = sync.OnceValues(func() (string, error) { return recordDemo("passing", "0412") })

func passingRun(t *testing.T) string {
	path, err := passing()
	require.NoError(t, err)
	return path
}

func recordDemo(name, notices string) (string, error) {
	path := filepath.Join(work, name+".wraith")
	cmd := exec.Command(filepath.Join(work, "wraith"), "record", "-o", path, "--", "go", "run", ".", "-notices", notices)
	cmd.Dir = "../demo/berthing"
	out, err := cmd.CombinedOutput()
	if _, statErr := os.Stat(path); statErr != nil {
		return "", fmt.Errorf("record the demo: %w\n%s", err, out)
	}
	return path, nil
}

func failingRun(t *testing.T) string {
	path, err := failing()
	require.NoError(t, err)
	return path
}

// ran is what a command left.
type ran struct {
	out, err string
	code     int
}

// person is somebody at a terminal with their own sign-in.
type person struct {
	name, password string
	config         string
}

func somebody(t *testing.T, name string) person {
	return person{name: name, password: name + "-secret", config: filepath.Join(t.TempDir(), "sign-in.json")}
}

// wraith runs the command as the person.
func (p person) wraith(t *testing.T, stdin string, args ...string) ran {
	cmd := exec.Command(filepath.Join(work, "wraith"), append([]string{"--config", p.config}, args...)...)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return ran{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// fine runs the command and requires that it succeeds.
func (p person) fine(t *testing.T, args ...string) string {
	r := p.wraith(t, "", args...)
	require.Zero(t, r.code, "wraith %v: %s", args, r.err)
	return r.out
}

func (p person) signIn(t *testing.T, url string) {
	r := p.wraith(t, p.password+"\n", "sign-in", url, "--name", p.name)
	require.Zero(t, r.code, r.err)
}

// settle is the quiet time after which received data becomes evidence; a busy machine pauses a sender
// for less.
const settle = 1500 * time.Millisecond

// service is a running wraithd.
type service struct {
	url, grpc, data, database string
	cmd                       *exec.Cmd
	ended                     chan struct{}
	listen                    string   // the address of the next run; empty for a free port
	more                      []string // arguments of the next run
}

// start starts wraithd with a database of the test's, and the people in it.
func start(t *testing.T, people ...person) *service { return startWith(t, nil, people...) }

// startWith is start with more arguments.
func startWith(t *testing.T, more []string, people ...person) *service {
	s := &service{data: dataFolder(t), database: clustertest.Database(t), more: more}
	ctx := context.Background()
	records, err := store.Open(ctx, s.database, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	for _, p := range people {
		require.NoError(t, accounts.New(records, front.Front{}).Add(ctx, p.name, p.password, false))
	}
	records.Close()
	s.run(t)
	return s
}

// dataFolder makes a folder that the database server's account can reach.
func dataFolder(t *testing.T) string {
	dir, err := os.MkdirTemp(work, "data-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// run starts the process and waits until it serves.
func (s *service) run(t *testing.T) {
	args := []string{"--data", s.data, "--listen", cmp.Or(s.listen, "127.0.0.1:0"), "--grpc", "127.0.0.1:0", "--settle", settle.String()}
	args = append(args, s.more...)
	if s.database != "" {
		args = append(args, "--database", s.database)
	}
	s.cmd = exec.Command(filepath.Join(work, "wraithd"), args...)
	out, err := s.cmd.StdoutPipe()
	require.NoError(t, err)
	var trouble bytes.Buffer
	s.cmd.Stderr = &trouble
	require.NoError(t, s.cmd.Start())
	lines := bufio.NewReader(out)
	line, err := lines.ReadString('\n')
	require.NoError(t, err, "wraithd ended: %s", trouble.String())
	s.url = strings.TrimSpace(strings.TrimPrefix(line, "serving on "))
	line, err = lines.ReadString('\n')
	require.NoError(t, err)
	s.grpc = strings.TrimSpace(strings.TrimPrefix(line, "receiving OTLP over gRPC on "))
	ended := make(chan struct{})
	s.ended = ended
	cmd := s.cmd
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	t.Cleanup(func() { s.stop(t, syscall.SIGTERM) })
}

// stop ends the process with a signal and waits for it.
func (s *service) stop(t *testing.T, signal syscall.Signal) {
	select {
	case <-s.ended:
		return
	default:
	}
	_ = s.cmd.Process.Signal(signal)
	select {
	case <-s.ended:
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
		t.Error("wraithd did not end within 30 seconds")
	}
}

// signedIn returns a client for a person.
func (s *service) signedIn(t *testing.T, p person) *client.Client {
	c := client.New(s.url, "")
	_, err := c.SignIn(context.Background(), api.Credentials{Name: p.name, Password: p.password}, "test")
	require.NoError(t, err)
	return c
}

// settled waits until all evidence of a case is indexed.
func (p person) settled(t *testing.T, name string) {
	t.Helper()
	require.Eventually(t, func() bool {
		var list []api.EvidenceInfo
		require.NoError(t, json.Unmarshal([]byte(p.fine(t, "evidence", name, "--json")), &list))
		return !slices.ContainsFunc(list, func(e api.EvidenceInfo) bool { return e.State == api.StateIndexing })
	}, time.Minute, 100*time.Millisecond)
}
