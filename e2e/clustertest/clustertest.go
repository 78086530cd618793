// Package clustertest gives tests a PostgreSQL server: one for each test program,
// started when the first test asks for it, with an empty database for each test.
package clustertest

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"wraithology/service/cluster"
)

var (
	folder    string
	databases atomic.Int64
	server    = sync.OnceValues(func() (*cluster.Cluster, error) {
		return cluster.Open(context.Background(), filepath.Join(folder, "cluster"), slog.New(slog.DiscardHandler))
	})
	started atomic.Bool
)

// Main is the TestMain of packages that use Database. It stops the server and removes its
// folder at the end.
func Main(m *testing.M) {
	code, err := Run(m.Run)
	if err != nil {
		fmt.Fprintln(os.Stderr, "the tests' database:", err)
		code = 1
	}
	os.Exit(code)
}

// Run does what Main does around the tests, for packages that need more than that.
func Run(tests func() int) (code int, err error) {
	if folder, err = os.MkdirTemp("", "wraith-test-"); err != nil {
		return 1, err
	}
	defer os.RemoveAll(folder)
	// The server runs under another account and must be able to enter the folder.
	if err := os.Chmod(folder, 0o755); err != nil {
		return 1, err
	}
	code = tests()
	if started.Load() {
		if c, err := server(); err == nil {
			return code, c.Stop()
		}
	}
	return code, nil
}

// Database returns the URL of a new, empty database.
func Database(t testing.TB) string {
	t.Helper()
	started.Store(true)
	c, err := server()
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	connection, err := pgx.Connect(ctx, c.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer connection.Close(ctx)
	name := fmt.Sprintf("test%d", databases.Add(1))
	if _, err := connection.Exec(ctx, "create database "+name); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(c.URL)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = name
	return u.String()
}

// Drop drops a database, and cuts the connections of those that use it.
func Drop(t testing.TB, database string) {
	t.Helper()
	c, err := server()
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	connection, err := pgx.Connect(ctx, c.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer connection.Close(ctx)
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := connection.Exec(ctx, "drop database "+strings.TrimPrefix(u.Path, "/")+" with (force)"); err != nil {
		t.Fatal(err)
	}
}
