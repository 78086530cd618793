package e2e

import (
	"bytes"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
)

// live is a live view of a sitting, as a process.
type live struct {
	t       *testing.T
	keys    io.WriteCloser
	mu      sync.Mutex
	written bytes.Buffer
	read    int
	ended   chan error
}

// Write implements io.Writer.
func (l *live) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.written.Write(b)
}

func (p person) join(t *testing.T, args ...string) *live {
	l := &live{t: t, ended: make(chan error, 1)}
	c := exec.Command(filepath.Join(work, "wraith"), append([]string{"--config", p.config, "sitting", "join"}, args...)...)
	c.Stdout, c.Stderr = l, l
	var err error
	l.keys, err = c.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	go func() { l.ended <- c.Wait() }()
	t.Cleanup(func() {
		_ = c.Process.Kill()
		if t.Failed() {
			l.mu.Lock()
			defer l.mu.Unlock()
			t.Logf("%s saw:\n%s", p.name, l.written.String()[max(l.written.Len()-3000, 0):])
		}
	})
	return l
}

// sees waits for a text that was not seen before.
func (l *live) sees(text string) {
	l.t.Helper()
	require.Eventually(l.t, func() bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		i := strings.Index(l.written.String()[l.read:], text)
		if i >= 0 {
			l.read += i + len(text)
		}
		return i >= 0
	}, time.Minute, 20*time.Millisecond, text)
}

func (l *live) press(keys ...string) {
	for _, key := range keys {
		_, err := io.WriteString(l.keys, key+"\n")
		require.NoError(l.t, err)
	}
}

// Two people are in a sitting from two terminals: one leads, the other follows, looks around, asks for the lead and gets it. The
// service is started again meanwhile; what they did and said can be read afterwards.
func TestTwoTerminalsInOneSitting(t *testing.T) {
	t.Parallel()
	ines, tomas := somebody(t, "Ines"), somebody(t, "Tomas")
	s := withEvidence(t, ines, tomas)
	ines.fine(t, "case", "add", "shallow-berth", "Tomas")
	const run = "shallow-berth/failing-run"
	assert.Equal(t, 1, ines.wraith(t, "", "sitting", "steps", run).code, "there is none yet")

	one := ines.join(t, run)
	one.sees("you lead at @")
	one.sees("watch.(*Gauges).Check")
	two := tomas.join(t, run)
	two.sees("you follow at @")
	one.press("g 4711")
	one.sees("you lead at @4711#1.0")
	two.sees("you follow at @4711#1.0")
	next := fmt.Sprintf("@%d#1", parsed[ask.Step](t, ines.fine(t, "--json", "step", run+"@4711", "--over")).Moment)
	one.press("j")
	one.sees("you lead at " + next)
	two.sees("you follow at " + next)
	two.sees("▌  0")
	two.press("k")
	two.sees("you look around alone at @")
	one.sees("Tomas (looks at @")
	two.press("f")
	two.sees("you follow at " + next)

	s.stop(t, syscall.SIGTERM)
	one.sees("connection lost")
	s.listen = strings.TrimPrefix(s.url, "http://")
	s.run(t)
	one.press("x")
	require.Eventually(t, func() bool {
		x := parsed[[]api.SittingStep](t, ines.fine(t, "--json", "sitting", "steps", run))
		return len(x) > 0
	}, time.Minute, 200*time.Millisecond)
	one.sees("unknown key")
	one.sees("here: Ines (lead), Tomas (follow)")
	two.press("a")
	two.sees("you ask for the lead")
	one.sees("Tomas (follow, asks for the lead)")
	one.press("y")
	two.sees("you lead at " + next)
	two.press("j", ": the second notice is the one")
	one.sees("you follow at @")
	one.sees("Tomas @")
	one.press("g999999999", "q")
	one.sees("out of range")
	require.NoError(t, <-one.ended)
	two.press("q")
	require.NoError(t, <-two.ended)

	steps := parsed[[]api.SittingStep](t, ines.fine(t, "--json", "sitting", "steps", run))
	var said []string
	for _, x := range steps {
		if x.Kind == api.StepSay || x.Kind == api.StepLead {
			said = append(said, x.By+" "+x.Text)
		}
	}
	assert.Equal(t, []string{"Ines took the lead", "Ines handed the lead to Tomas", "Tomas the second notice is the one"}, said)
	text := ines.fine(t, "sitting", "steps", run)
	assert.Contains(t, text, next+".0  went there")
	assert.Contains(t, ines.fine(t, "sitting", "steps", run, "--count", "2"), "--after")
	wren := tomas.wraith(t, "", "sitting", "say", run, strings.Repeat("x", 3000))
	assert.Equal(t, 2, wren.code)
}
