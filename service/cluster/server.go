package cluster

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// server is a process of PostgreSQL.
type server struct {
	pid  int
	done chan error // what it ended with
}

// start starts the server of a cluster, and looks after it until Stop.
func start(ctx context.Context, h how, secret string, log *slog.Logger) (*Cluster, error) {
	password, err := passwordOf(secret)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("find a free port: %w", err)
	}
	h.password, h.port = password, l.Addr().(*net.TCPAddr).Port
	l.Close()
	s, err := h.run(ctx)
	if err != nil {
		return nil, err
	}
	c := &Cluster{URL: address(h.password, h.port, database), how: h, log: log, stopping: make(chan struct{}), ended: make(chan error, 1)}
	if err := os.WriteFile(secret, []byte(c.URL), 0o600); err != nil {
		return nil, errors.Join(fmt.Errorf("store the cluster's address: %w", err), s.stop())
	}
	go c.supervise(context.WithoutCancel(ctx), s)
	return c, nil
}

// Waits between attempts to start a server that ended by itself; each is twice as long as the one before.
const (
	firstWait = 100 * time.Millisecond
	lastWait  = 10 * time.Second
)

// supervise starts the server again when it ends by itself, at the same address.
func (c *Cluster) supervise(ctx context.Context, s *server) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-c.stopping:
			cancel()
		case <-ctx.Done():
		}
	}()
	wait := firstWait
	for {
		select {
		case <-c.stopping:
			c.ended <- s.stop()
			return
		case err := <-s.done:
			c.isDown.Store(true)
			c.log.ErrorContext(ctx, "the database has ended by itself; it is started again", "error", err, "log", c.how.logName())
		}
		for {
			var err error
			if s, err = c.how.run(ctx); err == nil {
				c.isDown.Store(false)
				wait = firstWait
				c.log.WarnContext(ctx, "the database runs again; nothing that was acknowledged is lost")
				break
			}
			if ctx.Err() != nil {
				c.ended <- nil
				return
			}
			c.log.ErrorContext(ctx, "the database cannot be started; it is tried again", "error", err, "in", wait)
			select {
			case <-c.stopping:
				c.ended <- nil
				return
			case <-time.After(wait):
			}
			wait = min(2*wait, lastWait)
		}
	}
}

// Trouble says why the database does not answer; empty if nothing is known against it.
func (c *Cluster) Trouble() string {
	if c.isDown.Load() {
		return "the database has ended by itself and is being started again"
	}
	return ""
}

func (h how) logName() string { return filepath.Join(filepath.Dir(h.data), "server.log") }

// run starts the server and waits until it answers.
func (h how) run(ctx context.Context) (*server, error) {
	log, err := os.OpenFile(h.logName(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the cluster's log: %w", err)
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(h.bin, "postgres"), "-D", h.data, "-p", strconv.Itoa(h.port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories=", "-c", "max_connections=200", "-c", "timezone=UTC")
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	// The server ends with this process. Its own process group keeps a terminal's interrupt away
	// until the connections are closed.
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: h.as, Setpgid: true, Pdeathsig: syscall.SIGINT}
	s := &server{done: make(chan error, 1)}
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
		s.done <- cmd.Wait()
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	s.pid = cmd.Process.Pid
	if err := s.await(ctx, address(h.password, h.port, "postgres"), log.Name()); err != nil {
		_ = s.stop() // the error says more
		return nil, err
	}
	return s, nil
}

// await waits until the server answers and its database exists.
func (s *server) await(ctx context.Context, admin, log string) error {
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
		case ended := <-s.done:
			s.done <- ended
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
	if c.stopping == nil {
		return nil
	}
	c.stop.Do(func() {
		close(c.stopping)
		c.failed = <-c.ended
	})
	return c.failed
}

func (s *server) stop() error {
	// PostgreSQL, section 19.5: an interrupt closes connections and writes all data, quit does neither.
	for _, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT} {
		if err := syscall.Kill(s.pid, signal); err != nil && !errors.Is(err, syscall.ESRCH) {
			return fmt.Errorf("stop PostgreSQL: %w", err)
		}
		select {
		case err := <-s.done:
			if err != nil && signal == syscall.SIGINT {
				return fmt.Errorf("stop PostgreSQL: %w", err)
			}
			return nil
		case <-time.After(patience):
		}
	}
	return fmt.Errorf("PostgreSQL did not stop within %s", 2*patience)
}
