// Package servicetest runs services in tests. Packages that use it call
// clustertest.Main in their TestMain.
package servicetest

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"wraithology/api"
	"wraithology/client"
	"wraithology/e2e/clustertest"
	"wraithology/service"
	"wraithology/service/receive"
)

// A Service is a running service, and the URL of its database.
type Service struct {
	*service.Service
	Database string
}

// Start runs a service on loopback, with an empty database and folder, until the test ends.
// What is received settles within 300 ms.
func Start(t testing.TB, log slog.Handler) Service {
	t.Helper()
	database := clustertest.Database(t)
	s, err := service.Start(context.Background(), service.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", GRPC: "127.0.0.1:0", Settle: receive.Settle{Quiet: 300 * time.Millisecond}, Database: database, Log: slog.New(log),
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(context.Background()); err != nil {
			t.Error(err)
		}
	})
	return Service{s, database}
}

// Person adds a person to a service and returns a client that is signed in.
func Person(t testing.TB, s Service, name string) *client.Client {
	t.Helper()
	password := name + "-secret"
	if err := s.Accounts.Add(context.Background(), name, password, false); err != nil {
		t.Fatal(err)
	}
	c := client.New(s.URL, "")
	if _, err := c.SignIn(context.Background(), api.Credentials{Name: name, Password: password}, "test"); err != nil {
		t.Fatal(err)
	}
	return c
}
