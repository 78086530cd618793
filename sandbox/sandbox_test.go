package sandbox

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	Enter()
	os.Exit(m.Run())
}

// shell runs a script in a sandbox.
func shell(t *testing.T, folder, script string, limits Limits) Result {
	t.Helper()
	sh, err := exec.LookPath("sh")
	require.NoError(t, err)
	if limits.Time == 0 {
		limits.Time = 20 * time.Second
	}
	r, err := Run(context.Background(), Program{Path: sh, Args: []string{"-c", script}, Folder: folder, Env: []string{"PATH=" + os.Getenv("PATH")}, Limits: limits})
	require.NoError(t, err)
	return r
}

// What runs inside can write its folder and its report, and nothing else.
func TestOnlyTheFolderCanBeWritten(t *testing.T) {
	t.Parallel()
	folder, other := t.TempDir(), t.TempDir()
	home := filepath.Join(other, "kept")
	require.NoError(t, os.WriteFile(home, []byte("quay"), 0o666))
	r := shell(t, folder, "pwd; echo inside > note; echo report >&3; cat note", Limits{})
	assert.Zero(t, r.ExitCode, r.Printed)
	assert.Equal(t, "report\n", string(r.Report))
	assert.Equal(t, folder+"\ninside\n", r.Printed)
	text, err := os.ReadFile(filepath.Join(folder, "note"))
	require.NoError(t, err)
	assert.Equal(t, "inside\n", string(text))
	for _, path := range []string{home, "/etc/wraith-test", "/wraith-test", "/tmp/wraith-test", "/var/tmp/wraith-test", "/dev/shm/wraith-test", "/run/wraith-test", "/proc/sys/kernel/hostname", os.Getenv("HOME") + "/wraith-test"} {
		r := shell(t, folder, "echo outside > "+path, Limits{})
		assert.NotZero(t, r.ExitCode, path)
	}
	text, err = os.ReadFile(home)
	require.NoError(t, err)
	assert.Equal(t, "quay", string(text))
	for _, script := range []string{"mount -o remount,rw /", "umount " + folder, "mount -t tmpfs x /mnt", "chroot / sh", "ln -s /etc/passwd x && echo x >> x"} {
		r := shell(t, folder, script, Limits{})
		assert.NotZero(t, r.ExitCode, script)
	}
}

// There is no network, not even loopback, and no other process.
func TestNothingElseCanBeReached(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	abstract, err := net.Listen("unix", fmt.Sprintf("@wraith-test-%d", os.Getpid()))
	require.NoError(t, err)
	defer abstract.Close()
	folder := t.TempDir()
	program := filepath.Join(folder, "dial")
	source := program + ".go"
	require.NoError(t, os.WriteFile(source, []byte(`package main

import (
	"fmt"
	"net"
	"os"
)

func main() {
	for i := 1; i < len(os.Args); i += 2 {
		_, err := net.Dial(os.Args[i], os.Args[i+1])
		fmt.Println(err == nil)
	}
	list, _ := os.ReadDir("/proc")
	others := 0
	for _, e := range list {
		if e.Name()[0] >= '0' && e.Name()[0] <= '9' {
			others++
		}
	}
	fmt.Println(others, os.Getppid())
}
`), 0o600))
	build := exec.Command("go", "build", "-o", program, source)
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	r, err := Run(context.Background(), Program{Path: program, Args: []string{"tcp", l.Addr().String(), "unix", abstract.Addr().String(), "udp", "8.8.8.8:53"}, Folder: folder, Limits: Limits{Time: 20 * time.Second}})
	require.NoError(t, err)
	assert.Equal(t, "false\nfalse\nfalse\n1 0\n", r.Printed)
}

// Time, output and files have limits.
func TestLimitsHold(t *testing.T) {
	t.Parallel()
	begin := time.Now()
	r := shell(t, t.TempDir(), "sleep 60 & sleep 60", Limits{Time: time.Second})
	assert.True(t, r.TimedOut)
	assert.Less(t, time.Since(begin), 20*time.Second)
	r = shell(t, t.TempDir(), "while :; do echo xxxxxxxxxxxxxxxxxxxxxxxxxxxx; done", Limits{Time: time.Second, Output: 1000})
	assert.Equal(t, 1000, len(r.Printed))
	folder := t.TempDir()
	r = shell(t, folder, "head -c 3000000 /dev/zero > big", Limits{Disk: 1 << 20})
	assert.NotZero(t, r.ExitCode)
	info, err := os.Stat(filepath.Join(folder, "big"))
	require.NoError(t, err)
	assert.LessOrEqual(t, info.Size(), int64(1<<20))
	r = shell(t, t.TempDir(), "exit 7", Limits{})
	assert.Equal(t, 7, r.ExitCode)
	assert.False(t, r.TimedOut)
}
