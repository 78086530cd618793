package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"wraithology/client"
	"wraithology/service"
)

const harbourCase = "no-berth"

// harbour runs the four services, which send their spans and logs to the service as
// any program would, over both of its protocols.
func harbour(ctx context.Context, c *client.Client, s *service.Service, data string) error {
	if err := openCase(ctx, c, harbourCase, "Some vessels are sent to anchor although there is room"); err != nil {
		return err
	}
	have, err := c.ListEvidence(ctx, harbourCase)
	if err != nil {
		return err
	}
	if len(have) > 0 {
		fmt.Printf("%s/%s is there already\n", harbourCase, have[0].Name)
		return nil
	}
	program, err := filepath.Abs(filepath.Join(data, "harbour"))
	if err != nil {
		return fmt.Errorf("find a place for harbour: %w", err)
	}
	if out, err := exec.CommandContext(ctx, "go", "build", "-o", program, "./demo/harbour").CombinedOutput(); err != nil {
		return fmt.Errorf("build harbour: %w: %s", err, out)
	}
	sender, err := c.NewSender(ctx, harbourCase, "harbour")
	if err != nil {
		return err
	}
	fmt.Println("running harbour: four services, which send what they do to the service")
	for _, to := range []string{s.URL, "grpc://" + s.GRPC} {
		cmd := exec.CommandContext(ctx, program, "-to", to, "-token", sender.Secret)
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		if err != nil {
			return fmt.Errorf("run harbour: %w", err)
		}
		fmt.Println("  | " + strings.TrimSpace(string(out)))
	}
	return awaitReceived(ctx, c)
}

// awaitReceived waits until what was sent has become evidence.
func awaitReceived(ctx context.Context, c *client.Client) error {
	for {
		list, err := c.ListEvidence(ctx, harbourCase)
		if err != nil {
			return err
		}
		if len(list) > 0 {
			e, err := c.Await(ctx, harbourCase, list[0].Name, nil)
			if err == nil {
				fmt.Printf("  %s/%s: %s, %s\n", harbourCase, e.Name, moments(e.Moments), e.Outcome)
			}
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}
