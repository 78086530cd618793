package main

import (
	"archive/zip"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"wraithology/client"
)

// crashing is a demo program that crashes: a core dump, its binary and its source
// text become a case.
type crashing struct {
	program, caseName, title string
	build                    []string // into the file that follows it, in the program's folder
}

var crashes = []crashing{
	{"sluiced", "stuck-gate", "sluiced died while it swept the lock gates", []string{"gcc", "-g", "-O0", "-pthread", "sluiced.c", "-o"}},
	{"pilotd", "lapsed-licence", "pilotd died while it gave out pilots", []string{"go", "build", "-buildvcs=false", "-o"}},
}

func (x crashing) fill(ctx context.Context, c *client.Client, data string) error {
	if err := openCase(ctx, c, x.caseName, x.title); err != nil {
		return err
	}
	have, err := c.ListEvidence(ctx, x.caseName)
	if err != nil {
		return err
	}
	if len(have) > 0 {
		fmt.Printf("%s/%s is there already\n", x.caseName, have[0].Name)
		return nil
	}
	dir, err := filepath.Abs(filepath.Join(data, x.program))
	if err != nil {
		return fmt.Errorf("find a place for %s: %w", x.program, err)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("make a place for %s: %w", x.program, err)
	}
	core, err := x.crash(ctx, dir)
	if err != nil {
		return err
	}
	text := filepath.Join(dir, "crash.txt")
	if info, err := os.Stat(text); err == nil && info.Size() > 0 { // what the language's runtime printed
		if err := upload(ctx, c, x.caseName, x.program+".crash", text); err != nil {
			return err
		}
	}
	if core == "" {
		return nil
	}
	sources := filepath.Join(dir, x.program+"-source.zip")
	if err := pack(filepath.Join("demo", x.program), sources); err != nil {
		return err
	}
	for _, path := range []string{filepath.Join(dir, x.program), sources} {
		if err := addArtifact(ctx, c, x.caseName, path); err != nil {
			return err
		}
	}
	return upload(ctx, c, x.caseName, x.program+".core", core)
}

// crash builds the program and lets it crash. It returns no core where the machine
// writes none, and says what switches that on.
func (x crashing) crash(ctx context.Context, dir string) (string, error) {
	binary := filepath.Join(dir, x.program)
	build := exec.CommandContext(ctx, x.build[0], append(x.build[1:], binary)...)
	build.Dir = filepath.Join("demo", x.program)
	if out, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("build %s: %w: %s", x.program, err, out)
	}
	old, _ := filepath.Glob(filepath.Join(dir, "core*")) // the pattern is sound
	for _, f := range old {
		if err := os.Remove(f); err != nil {
			return "", fmt.Errorf("remove an old core dump: %w", err)
		}
	}
	fmt.Printf("crashing %s\n", x.program)
	run := exec.CommandContext(ctx, "/bin/sh", "-c", `ulimit -c unlimited 2> crash.txt; exec "$0" 2> crash.txt`, binary)
	run.Dir = dir
	out, err := run.Output()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return "", fmt.Errorf("run %s: %w", x.program, err)
	}
	if text := strings.TrimSpace(string(out)); text != "" {
		fmt.Println("  | " + text)
	}
	cores, _ := filepath.Glob(filepath.Join(dir, "core*")) // the pattern is sound
	if len(cores) == 0 {
		pattern, _ := os.ReadFile("/proc/sys/kernel/core_pattern") // said as it is, or not at all
		fmt.Printf("  no core dump appeared: the kernel's pattern is %q, and the hard limit may be 0.\n"+
			"  To get one: ulimit -Hc shows the limit; sysctl -w kernel.core_pattern=core lets dumps go to the program's folder.\n", strings.TrimSpace(string(pattern)))
		return x.kept(ctx, dir)
	}
	return cores[0], ctx.Err()
}

// kept takes the dump that comes with the program's source text, and the binary
// that it was made of; there is not one for each program.
func (x crashing) kept(ctx context.Context, dir string) (string, error) {
	from := filepath.Join("demo", x.program, "dump")
	if _, err := os.Stat(from); err != nil {
		return "", ctx.Err()
	}
	fmt.Println("  the one that comes with the demo is taken instead")
	core := filepath.Join(dir, "core")
	for _, f := range [][2]string{{filepath.Join(from, "core.gz"), core}, {filepath.Join(from, x.program+".gz"), filepath.Join(dir, x.program)}} {
		if err := unzip(f[0], f[1]); err != nil {
			return "", fmt.Errorf("unpack %s: %w", f[0], err)
		}
	}
	return core, ctx.Err()
}

func unzip(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	z, err := gzip.NewReader(in)
	if err != nil {
		return err
	}
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, z)
	return errors.Join(err, out.Close())
}

// pack puts the files of a folder into an archive.
func pack(folder, archive string) (err error) {
	f, err := os.Create(archive)
	if err != nil {
		return fmt.Errorf("pack the source text: %w", err)
	}
	z := zip.NewWriter(f)
	defer func() { err = errors.Join(err, z.Close(), f.Close()) }()
	for _, pattern := range []string{"*.go", "*.c", "*.mod"} {
		names, err := filepath.Glob(filepath.Join(folder, pattern))
		if err != nil {
			return err
		}
		for _, name := range names {
			text, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			w, err := z.Create(filepath.Base(name))
			if err != nil {
				return err
			}
			if _, err := w.Write(text); err != nil {
				return err
			}
		}
	}
	return nil
}

func addArtifact(ctx context.Context, c *client.Client, caseName, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("open the artifact: %w", err)
	}
	defer f.Close()
	_, err = c.AddArtifact(ctx, caseName, filepath.Base(path), f)
	return err
}
