package report

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"wraithology/core/fault"
)

// pdfLimit is the time limit for printing a report.
const pdfLimit = 2 * time.Minute

// PDF prints a page, which must not refer to other files, by Chromium. The error wraps fault.NoPrinter if that is not installed.
func PDF(ctx context.Context, page string) ([]byte, error) {
	chromium, err := exec.LookPath("chromium")
	if err != nil {
		return nil, fault.NoPrinter
	}
	dir, err := os.MkdirTemp("", "wraith-report-")
	if err != nil {
		return nil, fmt.Errorf("make a folder for the report: %w", err)
	}
	defer os.RemoveAll(dir)
	in, out := filepath.Join(dir, "report.html"), filepath.Join(dir, "report.pdf")
	if err := os.WriteFile(in, []byte(page), 0o600); err != nil {
		return nil, fmt.Errorf("write the report: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, pdfLimit)
	defer cancel()
	c := exec.CommandContext(ctx, chromium, "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run",
		"--user-data-dir="+filepath.Join(dir, "profile"), "--no-pdf-header-footer", "--print-to-pdf="+out, "file://"+in)
	c.Env = append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME="+dir, "XDG_CACHE_HOME="+dir)
	c.WaitDelay = 5 * time.Second
	said, err := c.CombinedOutput()
	if ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return nil, fmt.Errorf("print the report: %w", fault.TimeLimit)
	}
	pdf, readErr := os.ReadFile(out)
	if readErr != nil {
		return nil, fmt.Errorf("print the report: %w: %w: %.500s", err, readErr, said)
	}
	return pdf, nil
}
