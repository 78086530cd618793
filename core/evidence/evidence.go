// Package evidence opens a file of any kind of evidence for replay.
package evidence

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"wraithology/core/coredump"
	"wraithology/core/crashtext"
	"wraithology/core/eventtrace"
	"wraithology/core/execlog"
	"wraithology/core/intake"
	"wraithology/core/packed"
	"wraithology/core/replay"
	"wraithology/core/runtimetrace"
	"wraithology/core/source"
	"wraithology/core/structuredlog"
	"wraithology/core/timeline"
	"wraithology/core/traceback"
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
// source text. They count for core dumps and crash texts.
type Artifacts = coredump.Options

// Options say how evidence is read. As, if not empty, says of which kind it is;
// else its bytes tell.
type Options struct {
	Timelines Timelines
	Artifacts Artifacts
	As        Kind
	Rules     structuredlog.Rules // for structured logs
	Own       traceback.Own       // for crash texts
}

// Open opens the evidence at path. The timeline that it may need is looked up
// among those that are kept, and built when it is missing or outdated; progress,
// if not nil, is told from time to time which share is done. Damage within
// evidence is no error: it is among the recording's gaps. Errors of the file
// itself wrap ErrUnreadable.
func Open(ctx context.Context, path string, o Options, progress func(float64)) (replay.Replay, error) {
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
	sample, how, err := sampleOf(f, info.Size())
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrUnreadable, path, err)
	}
	form, err := formOf(sample, o.As)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrUnreadable, path, err)
	}
	switch form {
	case formDump: // which unpacks it itself, with its holes
		dump, err := coredump.Open(ctx, f, o.Artifacts)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
		}
		return replay.Still(dump), nil
	case formCrashText:
		plain, err := plainOf(ctx, f, how, os.TempDir(), progress)
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %w", ErrUnreadable, path, err)
		}
		defer plain.close()
		options := o.crashText()
		options.Damage = plain.damage
		text, err := crashtext.Open(ctx, plain.File, plain.size, options)
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %w", ErrUnreadable, path, err)
		}
		return replay.Still(text), nil
	}
	t, err := timelineOf(ctx, f, info, how, form, o, progress)
	if err != nil {
		return nil, err
	}
	return replay.OfLog(t), nil
}

// crashText says what explains a crash text.
func (o Options) crashText() crashtext.Options {
	a := o.Artifacts
	var binaries []crashtext.Binary
	for _, path := range a.Modules.Binaries {
		binaries = append(binaries, crashtext.Binary{Path: path, Name: filepath.Base(path)})
	}
	for _, path := range a.Modules.Offered {
		binaries = append(binaries, crashtext.Binary{Path: path, Name: cmp.Or(a.Modules.Names[path], filepath.Base(path)), Offered: true})
	}
	return crashtext.Options{Binaries: binaries, Own: o.Own,
		Source: source.Places{Folders: a.Source, Paths: a.Paths, Own: !a.Modules.Alone}}
}

// plain is evidence as it was before it was packed.
type plain struct {
	*os.File
	size   int64
	damage string // why it ends before its end, or nothing
	close  func()
}

// roomIn is how many bytes packed evidence may unpack to in a folder: half of what is free
// there, so that a small file that unpacks to a huge one leaves room for everyone else.
func roomIn(folder string) (int64, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(folder, &s); err != nil {
		return 0, fmt.Errorf("see how much room %s has: %w", folder, err)
	}
	return int64(s.Bavail) * s.Bsize / 2, nil
}

// plainOf unpacks evidence where it is packed, into a file without a name in a folder.
func plainOf(ctx context.Context, f *os.File, how packed.How, folder string, progress func(float64)) (plain, error) {
	out := plain{File: f, close: func() {}}
	if how != "" {
		most, err := roomIn(folder)
		if err != nil {
			return plain{}, err
		}
		unpacked, damage, err := packed.Unpack(ctx, f, how, folder, most, progress)
		switch {
		case errors.Is(err, packed.ErrTooLarge):
			return plain{}, fmt.Errorf("unpack it: %w for the disk: it may have %d MB in %s, half of what is free there. Make room, or unpack a part of it", err, most>>20, folder)
		case err != nil:
			return plain{}, fmt.Errorf("unpack it: %w", err)
		}
		if out.File, out.close = unpacked, func() { _ = unpacked.Close() }; damage != nil {
			out.damage = "the packed file is damaged or cut off (" + damage.Error() + "): what came before is here"
		}
	}
	info, err := out.Stat()
	if err != nil {
		out.close()
		return plain{}, err
	}
	out.size = info.Size()
	return out, nil
}

// timelineOf opens the timeline of evidence, which it builds where it must. That of a
// packed file is known by the file alone.
func timelineOf(ctx context.Context, f *os.File, info os.FileInfo, how packed.How, form form, o Options, progress func(float64)) (*timeline.Timeline, error) {
	dir := ""
	if o.Timelines.Folder != "" {
		dir = filepath.Join(o.Timelines.Folder, timelineName(f.Name(), info, form, o.Rules))
		t, err := openTimeline(dir, f, info.Size(), how)
		if err == nil {
			_ = os.Chtimes(dir, time.Now(), time.Now()) // it is in use: prune leaves it
			return t, nil
		}
		if !timeline.Stale(err) {
			return nil, err
		}
		if err := os.MkdirAll(o.Timelines.Folder, 0o700); err != nil {
			dir = "" // nowhere to keep it
		}
	}
	if dir == "" {
		parent, err := os.MkdirTemp("", "wraith-timeline-*")
		if err != nil {
			return nil, fmt.Errorf("make a folder for the timeline: %w", err)
		}
		defer os.RemoveAll(parent) // what is mapped stays usable
		dir = filepath.Join(parent, "timeline")
	} else {
		prune(o.Timelines.Folder)
		if err := os.RemoveAll(dir); err != nil {
			return nil, fmt.Errorf("remove an outdated timeline: %w", err)
		}
	}
	content, err := plainOf(ctx, f, how, filepath.Dir(dir), part(progress, 0, unpacking(how)))
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrUnreadable, f.Name(), err)
	}
	defer content.close()
	if err := build(ctx, content, f.Name(), info.ModTime(), form, dir, o, part(progress, unpacking(how), 1)); err != nil {
		return nil, err
	}
	return openTimeline(dir, f, info.Size(), how)
}

// unpacking is which share of the work it is to unpack a file.
func unpacking(how packed.How) float64 {
	if how == "" {
		return 0
	}
	return 0.2
}

// part tells progress of a part of the work as that of the whole.
func part(progress func(float64), from, to float64) func(float64) {
	if progress == nil {
		return nil
	}
	return func(done float64) { progress(from + done*(to-from)) }
}

func openTimeline(dir string, f *os.File, size int64, how packed.How) (*timeline.Timeline, error) {
	if how != "" {
		return timeline.OpenKnown(dir)
	}
	return timeline.Open(dir, f, size)
}

// build makes the timeline of evidence in the folder dir.
func build(ctx context.Context, f plain, name string, written time.Time, form form, dir string, o Options, progress func(float64)) (err error) {
	in := intake.Input{File: f.File, Size: f.size, Written: written, Damage: f.damage, Folder: dir, Lasting: o.Timelines.Lasting, Temporary: filepath.Dir(dir), Progress: progress}
	switch form {
	case formOTLP, formOTLPJSON:
		err = eventtrace.Build(ctx, in, form == formOTLPJSON)
	case formStructured:
		err = structuredlog.Build(ctx, in, o.Rules)
	case formRuntime:
		err = runtimetrace.Build(ctx, in)
	default:
		var log *execlog.Log
		if log, err = execlog.Open(f.File, f.size); err == nil {
			return timeline.Build(ctx, log, dir, o.Timelines.Lasting, progress)
		}
	}
	if err != nil && ctx.Err() == nil {
		return fmt.Errorf("%w: %s: %w", ErrUnreadable, name, err)
	}
	return err
}

// timelineName names a file's timeline by its place, size and time, and by how it is read.
func timelineName(path string, info os.FileInfo, form form, rules structuredlog.Rules) string {
	full, err := filepath.Abs(path)
	if err != nil {
		full = path
	}
	name := fmt.Appendf(nil, "%s\x00%d\x00%d", full, info.Size(), info.ModTime().UnixNano())
	if form != formLog {
		name = fmt.Appendf(name, "\x00%d\x00%s", form, rules)
	}
	sum := sha256.Sum256(name)
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
