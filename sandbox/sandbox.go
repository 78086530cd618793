// Package sandbox runs a program that is not trusted: without a network, without other processes, and without writing
// outside one folder. It uses the namespaces of Linux (namespaces(7), user_namespaces(7)), which need no privileges, and
// refuses to run anything where they are not available.
package sandbox

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"wraithology/core/fault"
)

// Limits bound what a program may use.
type Limits struct {
	Time   time.Duration // of the wall clock; required
	Memory int64         // bytes of address space; 0 for DefaultMemory
	Output int64         // bytes of what it prints, and of its report each; 0 for DefaultOutput
	Disk   int64         // bytes of a file that it writes; 0 for DefaultDisk
}

// The limits where none are given.
const (
	DefaultMemory = 4 << 30
	DefaultOutput = 64 << 20
	DefaultDisk   = 256 << 20
)

// Program is what runs.
type Program struct {
	Path   string   // absolute; in Folder, or outside the folders for temporary files, which are empty inside
	Args   []string // without the name
	Folder string   // the only folder that it can write; its current one
	Env    []string
	Limits Limits
}

// Result is what a program left. Report is what it wrote to file descriptor 3.
type Result struct {
	Printed  string
	Report   []byte
	ExitCode int
	TimedOut bool
}

// errorPrefix begins the report of a failure before the program began.
const errorPrefix = "wraith-sandbox: "

// argument is the first argument of the process that prepares the sandbox from inside.
const argument = "wraith-sandbox"

// prepared is what that process is told.
type prepared struct {
	Path   string
	Args   []string
	Folder string
	Limits Limits
}

// Enter prepares the sandbox and becomes the program, if this process was started for that. Programs that use Run call it first.
func Enter() {
	if len(os.Args) != 3 || os.Args[0] != argument {
		return
	}
	runtime.LockOSThread()
	err := enter(os.Args[2])
	fmt.Fprint(os.Stderr, errorPrefix, err)
	os.Exit(125)
}

func enter(description string) error {
	var p prepared
	if err := json.Unmarshal([]byte(description), &p); err != nil {
		return fmt.Errorf("read the description: %w", err)
	}
	if err := closeFiles(p.Folder); err != nil {
		return err
	}
	for what, limit := range map[int]uint64{unix.RLIMIT_AS: uint64(p.Limits.Memory), unix.RLIMIT_FSIZE: uint64(p.Limits.Disk), unix.RLIMIT_CORE: 0,
		unix.RLIMIT_NPROC: 4096, unix.RLIMIT_CPU: uint64(p.Limits.Time/time.Second)*8 + 8} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: limit, Max: limit}); err != nil {
			return fmt.Errorf("limit what it may use: %w", err)
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("give up privileges: %w", err)
	}
	if err := dropCapabilities(); err != nil {
		return err
	}
	return fmt.Errorf("run %s: %w", p.Path, syscall.Exec(p.Path, append([]string{p.Path}, p.Args...), os.Environ()))
}

// closeFiles makes everything unwritable but one folder, and hides the sockets of other programs.
func closeFiles(folder string) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("separate the mounts: %w", err)
	}
	if err := unix.Mount(folder, folder, "", unix.MS_BIND, ""); err != nil {
		return fmt.Errorf("keep the folder: %w", err)
	}
	kept, err := unix.OpenTree(unix.AT_FDCWD, folder, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
	if err != nil {
		return fmt.Errorf("keep the folder: %w", err)
	}
	if err := unix.MountSetattr(unix.AT_FDCWD, "/", unix.AT_RECURSIVE, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
		return fmt.Errorf("make the files unwritable: %w", err)
	}
	for _, dir := range shared() {
		if err := unix.Mount("tmpfs", dir, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "size=64m"); err != nil {
			return fmt.Errorf("hide %s: %w", dir, err)
		}
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("keep the folder: %w", err)
	}
	if err := unix.MoveMount(kept, "", unix.AT_FDCWD, folder, unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return fmt.Errorf("keep the folder: %w", err)
	}
	for _, dir := range shared() {
		if err := unix.MountSetattr(unix.AT_FDCWD, dir, 0, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}); err != nil {
			return fmt.Errorf("make %s unwritable: %w", dir, err)
		}
	}
	if err := unix.Mount("proc", "/proc", "proc", unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return fmt.Errorf("hide other processes: %w", err)
	}
	return os.Chdir(folder)
}

// shared lists the folders in which programs meet: temporary files, sockets and shared memory.
func shared() (list []string) {
	for _, dir := range []string{"/run", "/var/run", "/tmp", "/var/tmp", "/dev/shm"} {
		if real, err := filepath.EvalSymlinks(dir); err == nil && real == dir { // else it is not there, or another one of them
			list = append(list, dir)
		}
	}
	return list
}

// dropCapabilities gives up what the process may do inside its own namespaces (capabilities(7)).
func dropCapabilities() error {
	for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) {
			return fmt.Errorf("give up privileges: %w", err)
		}
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	if err := unix.Capset(&header, &none[0]); err != nil {
		return fmt.Errorf("give up privileges: %w", err)
	}
	return nil
}

// Run runs a program. The error wraps fault.NoSandbox if this system has no sandbox; then nothing has run.
func Run(ctx context.Context, p Program) (Result, error) {
	if p.Limits.Memory == 0 {
		p.Limits.Memory = DefaultMemory
	}
	if p.Limits.Output == 0 {
		p.Limits.Output = DefaultOutput
	}
	if p.Limits.Disk == 0 {
		p.Limits.Disk = DefaultDisk
	}
	folder, err := filepath.EvalSymlinks(p.Folder)
	if err != nil {
		return Result{}, fmt.Errorf("find the folder of the sandbox: %w", err)
	}
	description, err := json.Marshal(prepared{p.Path, p.Args, folder, p.Limits})
	if err != nil {
		return Result{}, fmt.Errorf("describe the sandbox: %w", err)
	}
	limited, cancel := context.WithTimeout(ctx, p.Limits.Time)
	defer cancel()
	read, write, err := os.Pipe()
	if err != nil {
		return Result{}, fmt.Errorf("make a pipe: %w", err)
	}
	defer read.Close()
	cmd := exec.CommandContext(limited, "/proc/self/exe", "", string(description))
	cmd.Args[0], cmd.Args[1] = argument, ""
	cmd.Dir, cmd.Env = "/", p.Env
	var printed bounded
	printed.most = p.Limits.Output
	cmd.Stdout, cmd.Stderr = &printed, &printed
	cmd.ExtraFiles = []*os.File{write}
	cmd.WaitDelay = time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{
		Cloneflags:                 syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWNET | syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS,
		UidMappings:                []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}},
		GidMappings:                []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}},
		GidMappingsEnableSetgroups: false,
		Pdeathsig:                  syscall.SIGKILL,
	}
	runtime.LockOSThread() // the signal is sent when the thread that started it ends
	defer runtime.UnlockOSThread()
	if err := cmd.Start(); err != nil {
		write.Close()
		return Result{}, fault.NoSandbox.New("", "%w: %w", fault.NoSandbox, err)
	}
	write.Close()
	report := make(chan []byte, 1)
	go func() {
		text, _ := io.ReadAll(io.LimitReader(read, p.Limits.Output)) // a part is better than none
		_, _ = io.Copy(io.Discard, read)
		report <- text
	}()
	err = cmd.Wait()
	read.SetReadDeadline(time.Now().Add(time.Second)) // what outlives the program is ended with its namespace
	r := Result{Printed: printed.text.String(), Report: <-report, ExitCode: cmd.ProcessState.ExitCode(), TimedOut: limited.Err() != nil && ctx.Err() == nil}
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	if i := strings.Index(r.Printed, errorPrefix); r.ExitCode == 125 && i >= 0 {
		return Result{}, fault.NoSandbox.New("", "%w: %s", fault.NoSandbox, r.Printed[i+len(errorPrefix):])
	}
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) && !errors.Is(err, exec.ErrWaitDelay) && !r.TimedOut {
		return r, fmt.Errorf("run in the sandbox: %w", err)
	}
	return r, nil
}

// bounded keeps the beginning of what is written to it.
type bounded struct {
	text bytes.Buffer
	most int64
}

// Write implements io.Writer.
func (b *bounded) Write(p []byte) (int, error) {
	if room := b.most - int64(b.text.Len()); room > 0 {
		b.text.Write(p[:min(int64(len(p)), room)])
	}
	return len(p), nil
}
