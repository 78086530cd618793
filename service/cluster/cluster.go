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
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running server. If it ends by itself, it is started again. Stop ends it, unless another process runs it.
type Cluster struct {
	// URL connects to the service's database.
	URL string

	how      how
	log      *slog.Logger
	isDown   atomic.Bool
	stopping chan struct{} // nil if another process runs the server
	ended    chan error    // what the server ended with after stopping
	stop     sync.Once
	failed   error // of Stop
}

// how a server is started.
type how struct {
	bin, data, password string
	port                int
	as                  *syscall.Credential
}

// ErrNoServer means that PostgreSQL is not installed.
var ErrNoServer = errors.New("no programs of PostgreSQL")

// Superuser and database of a private cluster.
const (
	owner    = "wraith"
	database = "wraith"
)

// Open starts the cluster in dir and creates it if necessary. If another process of this machine
// runs it, Open joins it. What happens to the server later is logged.
func Open(ctx context.Context, dir string, log *slog.Logger) (*Cluster, error) {
	dir, err := filepath.Abs(dir)
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
	made, err := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("read the version of the cluster: %w", err)
	}
	version := strings.TrimSpace(string(made))
	bin, err := programs(version)
	if err != nil {
		return nil, err
	}
	if version == "" {
		if err := create(ctx, bin, dir, data, secret, as); err != nil {
			return nil, err
		}
	}
	return start(ctx, how{bin: bin, data: data, as: as}, secret, log)
}

// programs finds the folder of the server of a major version, with which a cluster was made: another one cannot read it. Without a version it is that of
// the newest installed server.
func programs(version string) (string, error) {
	if version != "" {
		bin := filepath.Join("/usr/lib/postgresql", filepath.Base(version), "bin")
		if _, err := os.Stat(filepath.Join(bin, "postgres")); err == nil {
			return bin, nil
		}
		if path, err := exec.LookPath("postgres"); err == nil && versionOf(path) == version {
			return filepath.Dir(path), nil
		}
		return "", fmt.Errorf("%w of version %s, with which the database was made: install Debian's package postgresql-%s, or move the database as docs/running.md says", ErrNoServer, version, version)
	}
	return newest()
}

// Programs returns the folder of the programs of PostgreSQL of a major version, or of the newest one.
func Programs(version string) (string, error) { return programs(version) }

// versionOf returns the major version of a server, empty if it does not say.
func versionOf(path string) string {
	out, err := exec.Command(path, "--version").Output() // postgres (PostgreSQL) 15.6
	if fields := strings.Fields(string(out)); err == nil && len(fields) > 2 {
		major, _, _ := strings.Cut(fields[2], ".")
		return major
	}
	return ""
}

func newest() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(found) == 0 {
		path, err := exec.LookPath("postgres")
		if err != nil {
			return "", fmt.Errorf("%w were found: install Debian's package postgresql, or give --database URL", ErrNoServer)
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
