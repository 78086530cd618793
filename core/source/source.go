// Package source finds the source text of frames: in folders, in git repositories at the revision
// of the build, and in unpacked archives.
package source

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"wraithology/core/fault"
)

// maxText limits a source file that is read.
const maxText = 16 << 20

// Places are where source text is searched.
type Places struct {
	Folders []string
	// Revision is the revision of the build; a folder that is a git repository gives its files at
	// that revision.
	Revision string
	// Paths replaces the beginnings of paths of the build.
	Paths map[string]string
	// Own allows files of this machine at the path of the build.
	Own bool
}

// Text returns the text of the file that had a path in the build. It is searched at the replaced
// path, then in each folder by the longest end of its path.
func (p Places) Text(ctx context.Context, file string) (string, error) {
	name := path.Clean("/" + file)
	for from, to := range p.Paths {
		if rest, ok := strings.CutPrefix(name, strings.TrimSuffix(from, "/")+"/"); ok {
			if text, err := inFolder(to, rest); err == nil {
				return text, nil
			}
		}
	}
	for _, dir := range p.Folders {
		read := inFolder
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil && p.Revision != "" {
			read = func(dir, rest string) (string, error) { return inRepository(ctx, dir, p.Revision, rest) }
		}
		for rest := strings.TrimPrefix(name, "/"); rest != ""; {
			if text, err := read(dir, rest); err == nil {
				return text, nil
			}
			_, after, _ := strings.Cut(rest, "/")
			rest = after
		}
	}
	if p.Own && strings.HasPrefix(file, "/") {
		if text, err := inFolder("/", strings.TrimPrefix(name, "/")); err == nil {
			return text, nil
		}
	}
	return "", fmt.Errorf("%s: %w", file, fault.NoSource)
}

// inFolder reads a file below a folder; links cannot point out of it.
func inFolder(dir, rest string) (string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	f, err := root.Open(filepath.FromSlash(rest))
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() || info.Size() > maxText {
		return "", fmt.Errorf("%s: %w: it is not a source file", rest, fault.NoSource)
	}
	b, err := io.ReadAll(f)
	return string(b), err
}

const gitTime = 10 * time.Second

// inRepository reads a file at a revision.
func inRepository(ctx context.Context, dir, revision, rest string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, gitTime)
	defer cancel()
	if strings.Trim(revision, "0123456789abcdef") != "" {
		return "", fmt.Errorf("%s: %w: not a revision", revision, fault.NoSource)
	}
	out, err := exec.CommandContext(ctx, "git", "-C", dir, "show", revision+":"+rest).Output()
	if err != nil || len(out) > maxText {
		return "", fmt.Errorf("%s at %s: %w", rest, revision, fault.NoSource)
	}
	return string(out), nil
}
