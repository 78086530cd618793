// Package evidence opens a file of any kind of evidence for replay.
package evidence

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"wraithology/core/coredump"
	"wraithology/core/execlog"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// ErrUnreadable says that a file is not evidence, or not readable at all.
var ErrUnreadable = errors.New("the evidence cannot be read")

// Timelines says where timelines are kept. With an empty Folder they are built
// anew and not kept; Lasting ones outlast a failure of power.
type Timelines struct {
	Folder  string
	Lasting bool
}

// Artifacts explain evidence that does not explain itself: binaries, debug files,
// source text. They count for core dumps.
type Artifacts = coredump.Options

// Open opens the evidence at path. A core dump is read with the artifacts. The timeline that it needs is looked up among
// those that are kept, and built when it is missing or outdated; progress, if not
// nil, is told from time to time which share is done. Damage within
// evidence is no error: it is among the recording's gaps. Errors of the file
// itself wrap ErrUnreadable.
func Open(ctx context.Context, path string, timelines Timelines, artifacts Artifacts, progress func(float64)) (replay.Replay, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, fmt.Errorf("%w: there is no file %s", ErrUnreadable, path)
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
	case info.IsDir():
		return nil, fmt.Errorf("%w: %s is a folder", ErrUnreadable, path)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%w: %s is not a file", ErrUnreadable, path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	defer f.Close()
	head := make([]byte, 64)
	n, _ := f.ReadAt(head, 0) // a shorter file has a shorter head
	if coredump.Is(head[:n]) {
		dump, err := coredump.Open(ctx, f, artifacts)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
		}
		return replay.Still(dump), nil
	}
	t, err := timelineOf(ctx, f, info, timelines, progress)
	if err != nil {
		return nil, err
	}
	return replay.OfLog(t), nil
}

// timelineOf opens the timeline of a log, which it builds where it must.
func timelineOf(ctx context.Context, f *os.File, info os.FileInfo, timelines Timelines, progress func(float64)) (*timeline.Timeline, error) {
	dir := ""
	if timelines.Folder != "" {
		dir = filepath.Join(timelines.Folder, timelineName(f.Name(), info))
		t, err := timeline.Open(dir, f, info.Size())
		if err == nil {
			_ = os.Chtimes(dir, time.Now(), time.Now()) // it is in use: prune leaves it
			return t, nil
		}
		if !timeline.Stale(err) {
			return nil, err
		}
	}
	log, err := execlog.Open(f, info.Size())
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrUnreadable, f.Name(), err)
	}
	if dir == "" {
		return timeline.OfLog(ctx, log, progress)
	}
	if err := os.MkdirAll(timelines.Folder, 0o700); err != nil {
		return timeline.OfLog(ctx, log, progress) // nowhere to keep it
	}
	prune(timelines.Folder)
	if err := os.RemoveAll(dir); err != nil {
		return nil, fmt.Errorf("remove an outdated timeline: %w", err)
	}
	if err := timeline.Build(ctx, log, dir, timelines.Lasting, progress); err != nil {
		return nil, err
	}
	return timeline.Open(dir, f, info.Size())
}

// timelineName names a file's timeline by its place, size and time.
func timelineName(path string, info os.FileInfo) string {
	full, err := filepath.Abs(path)
	if err != nil {
		full = path
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x00%d\x00%d", full, info.Size(), info.ModTime().UnixNano()))
	return fmt.Sprintf("%x.timeline", sum[:12])
}

// unusedFor is how long a timeline is kept that nobody opens.
const unusedFor = 14 * 24 * time.Hour

// prune removes timelines that nobody has opened for long.
func prune(timelines string) {
	list, err := os.ReadDir(timelines)
	if err != nil {
		return
	}
	for _, x := range list {
		if info, err := x.Info(); err == nil && time.Since(info.ModTime()) > unusedFor {
			_ = os.RemoveAll(filepath.Join(timelines, x.Name())) // what stays is tried again
		}
	}
}

// OwnTimelines is where a person's own timelines are kept.
func OwnTimelines() Timelines {
	dir, err := os.UserCacheDir()
	if err != nil {
		return Timelines{}
	}
	return Timelines{Folder: filepath.Join(dir, "wraithology", "timelines")}
}
