// Command start runs the demo: it records the berthing of Gannet Sound for real,
// once failing and once passing, lets two other programs crash, starts the service,
// puts logs and core dumps into cases, and serves until it is interrupted. What it made is found again the next time.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"wraithology/api"
	"wraithology/client"
	"wraithology/core/fault"
	"wraithology/service"
	"wraithology/service/receive"
)

// person is somebody of the demo. Names and passwords are invented.
type person struct{ name, password, role string }

var people = []person{
	{"Ines", "curlew-bank-7", api.RoleLead},
	{"Tomas", "osprey-wall-7", api.RoleMember},
	{"Oyelaran", "skerry-gut-7", api.RoleViewer},
}

const caseName = "shallow-berth"

// run is one run of the demo program that is recorded.
type run struct{ name, notices string }

var runs = []run{{"passing-run", "0412"}, {"failing-run", "0412,0419"}}

func main() {
	data := flag.String("data", ".demo", "folder for the demo's recordings, evidence and database")
	listen := flag.String("listen", "127.0.0.1:7070", "address to serve on; where it is taken, a free port is used")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := serve(ctx, *data, *listen); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

func serve(ctx context.Context, data, listen string) (err error) {
	if l, err := net.Listen("tcp", listen); err != nil {
		listen = "127.0.0.1:0"
	} else {
		l.Close()
	}
	s, err := service.Start(ctx, service.Options{Data: data, Listen: listen, GRPC: "127.0.0.1:0", Settle: receive.Settle{Quiet: time.Second, Oldest: time.Minute, Largest: receive.DefaultSettle.Largest}, Log: slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))})
	if err != nil {
		return err
	}
	defer func() {
		fmt.Println("\nstopping the service and its database")
		err = errors.Join(err, s.Stop(context.Background()))
	}()
	for _, p := range people {
		if err := s.Accounts.Add(ctx, p.name, p.password, p.name == "Ines"); err != nil && !errors.Is(err, fault.Exists) {
			return err
		}
	}
	c := client.New(s.URL, "")
	if _, err := c.SignIn(ctx, api.Credentials{Name: people[0].name, Password: people[0].password}, "demo"); err != nil {
		return err
	}
	if err := fill(ctx, c, data); err != nil {
		return err
	}
	for _, x := range crashes {
		if err := x.fill(ctx, c, data); err != nil {
			return err
		}
	}
	if err := harbour(ctx, c, s, data); err != nil {
		return err
	}
	welcome(os.Stdout, s.URL, data)
	select {
	case <-ctx.Done():
		return nil
	case err := <-s.Served():
		return err
	}
}

// fill makes the demo's case, unless an earlier start has.
func fill(ctx context.Context, c *client.Client, data string) error {
	if err := openCase(ctx, c, caseName, "Halcyon Drift was given a berth too shallow"); err != nil {
		return err
	}
	have, err := c.ListEvidence(ctx, caseName)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, e := range have {
		there[e.Name] = true
	}
	for _, r := range runs {
		if there[r.name] {
			fmt.Printf("%s/%s is there already\n", caseName, r.name)
			continue
		}
		path := filepath.Join(data, r.name+".wraith")
		if err := record(ctx, r, path); err != nil {
			return err
		}
		if err := upload(ctx, c, caseName, r.name, path); err != nil {
			return err
		}
	}
	return nil
}

// openCase makes a case with the demo's people, unless it is there.
func openCase(ctx context.Context, c *client.Client, name, title string) error {
	_, err := c.Case(ctx, name)
	if errors.Is(err, fault.NotFound) {
		_, err = c.NewCase(ctx, api.NewCase{Name: name, Title: title})
	}
	if err != nil {
		return err
	}
	for _, p := range people[1:] {
		if err := c.SetMember(ctx, name, api.Member{Name: p.name, Role: p.role}); err != nil {
			return err
		}
	}
	return nil
}

// record runs the demo program under wraith record. The failing run ends with a
// code of its own, as intended.
func record(ctx context.Context, r run, path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return fmt.Errorf("find the output folder: %w", err)
	}
	wraith, err := filepath.Abs("bin/wraith")
	if err != nil {
		return fmt.Errorf("find wraith: %w", err)
	}
	fmt.Printf("recording %s: berthing -notices %s\n", r.name, r.notices)
	cmd := exec.CommandContext(ctx, wraith, "record", "-o", path, "--", "go", "run", ".", "-notices", r.notices)
	cmd.Dir = "demo/berthing"
	out, err := cmd.CombinedOutput()
	fmt.Println("  | " + strings.ReplaceAll(strings.TrimSpace(string(out)), "\n", "\n  | "))
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return fmt.Errorf("record %s: %w", r.name, err)
	}
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("record %s: no log was written: %w", r.name, err)
	}
	return ctx.Err()
}

func upload(ctx context.Context, c *client.Client, caseName, name, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("open the recording: %w", err)
	}
	defer f.Close()
	if _, err := c.Upload(ctx, caseName, name, f, api.Reading{}); err != nil {
		return err
	}
	e, err := c.Await(ctx, caseName, name, nil)
	if err == nil {
		fmt.Printf("  %s/%s: %s, %s\n", caseName, name, moments(e.Moments), e.Outcome)
	}
	return err
}

func welcome(w io.Writer, url, data string) {
	fmt.Fprintf(w, "\nWraithology serves the demo on  %s\n\n", url)
	for _, p := range people {
		fmt.Fprintf(w, "  sign in as %-9s password %-14s (%s)\n", p.name, p.password, p.role)
	}
	fmt.Fprintf(w, `
first commands, in another terminal:

  bin/wraith peek %[1]s/failing-run.wraith
  bin/wraith hits %[1]s/failing-run.wraith --line berth.go:63 --when 'vessel.Name == "Halcyon Drift"'
  echo %[2]s | bin/wraith sign-in %[3]s --name Tomas
  bin/wraith stack %[4]s/failing-run
  bin/wraith peek stuck-gate/sluiced.core
  bin/wraith threads lapsed-licence/pilotd.core
  bin/wraith peek %[1]s/pilotd/crash.txt
  bin/wraith traces no-berth --when 'status == "error"'
  bin/wraith sitting follow %[4]s/failing-run

Ctrl-C stops the service and its database.
`, data, people[1].password, url, caseName)
}

// moments writes a number of moments.
func moments(n int64) string {
	if n == 1 {
		return "1 moment"
	}
	return fmt.Sprintf("%d moments", n)
}
