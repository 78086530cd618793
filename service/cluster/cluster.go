// Package cluster runs the service's private PostgreSQL server: one cluster in a
// folder, on loopback, on a free port, with a password of its own.
package cluster

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running server. Stop ends it, unless another process runs it.
type Cluster struct {
	// URL connects to the service's database.
	URL string

	done chan error
	pid  int
}

// ErrNoServer means that PostgreSQL is not installed.
var ErrNoServer = errors.New("PostgreSQL's programs were not found: install Debian's package postgresql, or give --database URL")

// Superuser and database of a private cluster.
const (
	owner    = "wraith"
	database = "wraith"
)

// Open starts the cluster in dir and creates it if necessary. If another process of this machine
// runs it, Open joins it.
func Open(ctx context.Context, dir string) (*Cluster, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("find the cluster's folder: %w", err)
	}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, fmt.Errorf("create the cluster's folder: %w", err)
	}
	as, err := unprivileged()
	if err != nil {
		return nil, err
	}
	if as != nil && !mayEnter(dir, as) {
		if dir, err = elsewhere(dir); err != nil {
			return nil, err
		}
	}
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "url")
	if joined := join(ctx, data, secret); joined != nil {
		return joined, nil
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := create(ctx, bin, dir, data, secret, as); err != nil {
			return nil, err
		}
	}
	return start(ctx, bin, data, secret, as)
}

// programs finds the folder of the newest installed server.
func programs() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(found) == 0 {
		path, err := exec.LookPath("postgres")
		if err != nil {
			return "", ErrNoServer
		}
		return filepath.Dir(path), nil
	}
	version := func(p string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(p))))
		return n
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) > version(found[j]) })
	return filepath.Dir(found[0]), nil
}

// unprivileged returns the account to run the server as, or nil for our own:
// PostgreSQL refuses to run as root.
func unprivileged() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("PostgreSQL does not run as root, and there is no account postgres or nobody to run it as: start as another user, or give --database URL")
}

// mayEnter reports whether an account can enter a folder and its parents.
func mayEnter(dir string, as *syscall.Credential) bool {
	for {
		info, err := os.Stat(dir)
		if err != nil {
			return false
		}
		shift := 0
		switch owner := info.Sys().(*syscall.Stat_t); {
		case owner.Uid == as.Uid:
			shift = 6
		case owner.Gid == as.Gid:
			shift = 3
		}
		if info.Mode().Perm()>>shift&1 == 0 {
			return false
		}
		if dir == filepath.Dir(dir) {
			return true
		}
		dir = filepath.Dir(dir)
	}
}

// outside contains clusters whose own folder the server's account cannot enter, such as one in
// root's home.
const outside = "/var/lib/wraithology"

// elsewhere returns the folder outside that replaces dir. A file in dir names it. Without that file
// dir is new, and the remains of an earlier one are removed.
func elsewhere(dir string) (string, error) {
	name := filepath.Join(dir, "elsewhere")
	sum := sha256.Sum256([]byte(dir))
	to := filepath.Join(outside, hex.EncodeToString(sum[:8]))
	if _, err := os.Stat(name); errors.Is(err, os.ErrNotExist) {
		if err := os.RemoveAll(to); err != nil {
			return "", fmt.Errorf("remove the folder of an earlier cluster: %w", err)
		}
		if err := os.WriteFile(name, []byte("The database is in "+to+"\n"), 0o600); err != nil {
			return "", fmt.Errorf("store the cluster's address: %w", err)
		}
	}
	if err := os.MkdirAll(to, 0o711); err != nil {
		return "", fmt.Errorf("create the cluster's folder: %w", err)
	}
	return to, nil
}

func create(ctx context.Context, bin, dir, data, secret string, as *syscall.Credential) error {
	if err := os.RemoveAll(data); err != nil {
		return fmt.Errorf("remove an incomplete cluster: %w", err)
	}
	if err := os.Mkdir(data, 0o700); err != nil {
		return fmt.Errorf("create the cluster's folder: %w", err)
	}
	password := rand.Text()
	file := filepath.Join(dir, "password")
	if err := os.WriteFile(file, []byte(password+"\n"), 0o600); err != nil {
		return fmt.Errorf("write the cluster's password: %w", err)
	}
	defer os.Remove(file)
	if as != nil {
		for _, path := range []string{data, file} {
			if err := os.Chown(path, int(as.Uid), int(as.Gid)); err != nil {
				return fmt.Errorf("change the owner of the cluster's folder: %w", err)
			}
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "--pgdata", data, "--username", owner, "--pwfile", file,
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C.UTF-8")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("create the database cluster in %s: %w\n%s", data, err, out)
	}
	return os.WriteFile(secret, []byte(address(password, 0, database)), 0o600)
}

func address(password string, port int, db string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(owner, password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: db, RawQuery: "sslmode=disable"}
	return u.String()
}

func passwordOf(secret string) (string, error) {
	text, err := os.ReadFile(secret)
	if err != nil {
		return "", fmt.Errorf("read the cluster's address: %w", err)
	}
	u, err := url.Parse(strings.TrimSpace(string(text)))
	if err != nil {
		return "", fmt.Errorf("read the cluster's address: %w", err)
	}
	password, _ := u.User.Password()
	return password, nil
}

// join returns the cluster if a server already runs on it.
func join(ctx context.Context, data, secret string) *Cluster {
	if _, err := os.Stat(filepath.Join(data, "postmaster.pid")); err != nil {
		return nil
	}
	text, err := os.ReadFile(secret)
	if err != nil || ping(ctx, strings.TrimSpace(string(text))) != nil {
		return nil
	}
	return &Cluster{URL: strings.TrimSpace(string(text))}
}

func ping(ctx context.Context, url string) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	return c.Close(ctx)
}

func start(ctx context.Context, bin, data, secret string, as *syscall.Credential) (*Cluster, error) {
	password, err := passwordOf(secret)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("find a free port: %w", err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	log, err := os.OpenFile(filepath.Join(filepath.Dir(data), "server.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the cluster's log: %w", err)
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories=", "-c", "max_connections=200", "-c", "timezone=UTC")
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	// The server ends with this process. Its own process group keeps a terminal's interrupt away
	// until the connections are closed.
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true, Pdeathsig: syscall.SIGINT}
	c := &Cluster{URL: address(password, port, database), done: make(chan error, 1)}
	started := make(chan error, 1)
	go func() {
		// The death signal depends on the thread that started the server.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		if err := cmd.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		c.done <- cmd.Wait()
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	c.pid = cmd.Process.Pid
	if err := c.await(ctx, address(password, port, "postgres"), log.Name()); err != nil {
		_ = c.Stop()
		return nil, err
	}
	return c, os.WriteFile(secret, []byte(c.URL), 0o600)
}

// await waits until the server answers and its database exists.
func (c *Cluster) await(ctx context.Context, admin, log string) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(ctx)
			var exists bool
			if err := conn.QueryRow(ctx, "select exists (select from pg_database where datname = $1)", database).Scan(&exists); err != nil {
				return fmt.Errorf("find the service's database: %w", err)
			}
			if !exists {
				if _, err := conn.Exec(ctx, "create database "+database); err != nil {
					return fmt.Errorf("create the service's database: %w", err)
				}
			}
			return nil
		}
		select {
		case ended := <-c.done:
			c.done <- ended
			return fmt.Errorf("PostgreSQL ended while it started (%w): %s says why", ended, log)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not answer: %s says why: %w", log, err)
		}
	}
}

// patience is how long each way to stop the server may take.
const patience = 30 * time.Second

// Stop stops the server if this process started it, and waits for it. A server that cannot write all
// of its data in time ends at once; its next start recovers from the write-ahead log.
func (c *Cluster) Stop() error {
	if c.done == nil {
		return nil
	}
	// PostgreSQL, section 19.5: an interrupt closes connections and writes all data, quit does neither.
	for _, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT} {
		if err := syscall.Kill(c.pid, signal); err != nil && !errors.Is(err, syscall.ESRCH) {
			return fmt.Errorf("stop PostgreSQL: %w", err)
		}
		select {
		case err := <-c.done:
			c.done = nil
			if err != nil && signal == syscall.SIGINT {
				return fmt.Errorf("stop PostgreSQL: %w", err)
			}
			return nil
		case <-time.After(patience):
		}
	}
	return fmt.Errorf("PostgreSQL did not stop within %s", 2*patience)
}
