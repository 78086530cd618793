package evidence

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"

	"wraithology/core/fault"
	"wraithology/core/intake"
	"wraithology/core/packed"
	"wraithology/core/room"
	"wraithology/core/timeline"
)

// Timelines says where timelines are kept. Without a Folder they are built each time and not kept.
// Lasting ones are synced to disk. Most limits their bytes; 0 stands for the usual limit, or for none if
// they are lasting.
type Timelines struct {
	Folder  string
	Lasting bool
	Most    int64
	// Share limits the bytes to that part of what would be free without them, if Most is 0: 2 for a half.
	Share int64
	// Unpacked limits the bytes of the disk that packed evidence uses while it is read; 0 for half of the free space.
	Unpacked int64
}

// OwnTimelines returns the folder of the user's own timelines.
func OwnTimelines() Timelines {
	dir, err := os.UserCacheDir()
	if err != nil {
		return Timelines{}
	}
	return Timelines{Folder: filepath.Join(dir, "wraithology", "timelines")}
}

// plain is evidence as it was before it was packed.
type plain struct {
	File
	close func()
}

// Unpack unpacks evidence into an anonymous file, on the disk of the timelines. The error wraps fault.DiskFull if it needs more of the disk than it may
// use. What came before damage is there.
func (t Timelines) Unpack(ctx context.Context, f *os.File, how packed.How, progress func(float64)) (out *os.File, damage, err error) {
	folder := t.Folder
	if folder == "" || os.MkdirAll(folder, 0o700) != nil {
		folder = os.TempDir()
	}
	most := t.Unpacked
	if most == 0 {
		disk, err := room.Of(folder)
		if err != nil {
			return nil, nil, err
		}
		most = int64(disk.Free / 2)
	}
	out, damage, err = packed.Unpack(ctx, f, how, folder, most, progress)
	switch {
	case errors.Is(err, packed.ErrTooLarge):
		err = fault.DiskFull.New("free some space, or unpack a part of it", "unpack: %w: it may use %d MB of the disk, by default half of what is free", err, most>>20)
	case errors.Is(err, syscall.ENOSPC):
		err = fmt.Errorf("unpack: %w: %w", fault.DiskFull, err)
	case err != nil:
		err = fmt.Errorf("unpack: %w", err)
	}
	return out, damage, err
}

// plainOf returns the evidence, unpacked into an anonymous file if it is packed.
func plainOf(ctx context.Context, f *os.File, how packed.How, t Timelines, progress func(float64)) (plain, error) {
	out := plain{File: File{File: f}, close: func() {}}
	if how != "" {
		unpacked, damage, err := t.Unpack(ctx, f, how, progress)
		if err != nil {
			return plain{}, err
		}
		if out.File.File, out.close = unpacked, func() { _ = unpacked.Close() }; damage != nil {
			out.Damage = "the packed file is damaged or cut off (" + damage.Error() + "): what came before is here"
		}
	}
	info, err := out.Stat()
	if err != nil {
		out.close()
		return plain{}, err
	}
	out.Size = info.Size()
	return out, nil
}

// timelineOf opens the timeline of evidence and builds it if necessary. The timeline of a packed
// file is identified by the file alone.
func timelineOf(ctx context.Context, kind Kind, f *os.File, info os.FileInfo, how packed.How, o Options, progress func(float64)) (*timeline.Timeline, error) {
	b := builder{kind: kind, file: f, info: info, how: how, options: o, progress: progress}
	if o.Timelines.Folder == "" {
		return b.unkept(ctx)
	}
	name := timelineName(f.Name(), info, kind, o)
	dir := filepath.Join(o.Timelines.Folder, name)
	if t, err := b.kept(dir); !timeline.Stale(err) {
		return t, err
	}
	if err := os.MkdirAll(o.Timelines.Folder, 0o700); err != nil {
		return b.unkept(ctx) // nowhere to keep it
	}
	unlock, err := o.Timelines.lock(ctx, name)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if t, err := b.kept(dir); !timeline.Stale(err) {
		return t, err // built while this one waited
	}
	o.Timelines.prune("")
	if err := discard(dir); err != nil {
		return nil, fmt.Errorf("remove an outdated timeline: %w", err)
	}
	build := func(ctx context.Context) error { return b.build(ctx, dir) }
	if o.Timelines.Lasting { // others need what is free too
		err = room.Keep(ctx, o.Timelines.Folder, build)
	} else {
		err = build(ctx)
	}
	if err != nil {
		return nil, err
	}
	t, err := b.open(dir) // what is mapped stays usable if another process prunes
	if err != nil {
		return nil, err
	}
	full, err := filepath.Abs(f.Name())
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, evidenceFile), []byte(full), 0o600)
	}
	if err == nil {
		o.Timelines.prune(name)
	}
	return t, nil
}

// builder builds and opens the timeline of a file.
type builder struct {
	kind     Kind
	file     *os.File
	info     os.FileInfo
	how      packed.How
	options  Options
	progress func(float64)
}

// kept opens a timeline that is kept. timeline.Stale tells whether it must be built.
func (b builder) kept(dir string) (*timeline.Timeline, error) {
	t, err := b.open(dir)
	if err == nil {
		_ = os.Chtimes(dir, time.Now(), time.Now()) // it is in use: prune leaves it
	}
	return t, err
}

// unkept builds a timeline in a temporary folder.
func (b builder) unkept(ctx context.Context) (*timeline.Timeline, error) {
	parent, err := os.MkdirTemp("", "wraith-timeline-*")
	if err != nil {
		return nil, fmt.Errorf("create a folder for the timeline: %w", err)
	}
	defer os.RemoveAll(parent) // what is mapped stays usable
	dir := filepath.Join(parent, "timeline")
	if err := b.build(ctx, dir); err != nil {
		return nil, err
	}
	return b.open(dir)
}

// build builds the timeline in the folder dir, which must not exist.
func (b builder) build(ctx context.Context, dir string) error {
	o := b.options
	content, err := plainOf(ctx, b.file, b.how, o.Timelines, part(b.progress, 0, unpacking(b.how)))
	if err != nil {
		return fmt.Errorf("%w: %w", fault.Unreadable, err)
	}
	defer content.close()
	in := intake.Input{File: content.File.File, Size: content.Size, Written: b.info.ModTime(), Damage: content.Damage, Folder: dir, Lasting: o.Timelines.Lasting, Temporary: filepath.Dir(dir), Mask: o.Mask,
		Progress: part(b.progress, unpacking(b.how), 1)}
	if text, ok := o.Fields[intake.LongestText]; ok {
		if in.LongestText, err = strconv.Atoi(text); err != nil || in.LongestText < 1 {
			return fmt.Errorf("%s=%s: %w: it is a number of bytes", intake.LongestText, text, fault.InvalidRule)
		}
	}
	err = b.kind.Build(ctx, in, o)
	var path *fs.PathError
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &path) || errors.Is(err, syscall.ENOSPC): // of this machine, not of the evidence
		return err
	}
	return fmt.Errorf("%w: %w", fault.Unreadable, err)
}

func (b builder) open(dir string) (*timeline.Timeline, error) {
	if b.how != "" {
		return timeline.OpenKnown(dir)
	}
	return timeline.Open(dir, b.file, b.info.Size())
}

// unpacking is the share of unpacking in the whole work.
func unpacking(how packed.How) float64 {
	if how == "" {
		return 0
	}
	return 0.2
}

// part converts the progress of a part of the work to progress of the whole.
func part(progress func(float64), from, to float64) func(float64) {
	if progress == nil {
		return nil
	}
	return func(done float64) { progress(from + done*(to-from)) }
}

// timelineName identifies a timeline by the file's path, size and time, and by the options.
func timelineName(path string, info os.FileInfo, kind Kind, o Options) string {
	full, err := filepath.Abs(path)
	if err != nil {
		full = path
	}
	name := fmt.Appendf(nil, "%s\x00%d\x00%d\x00%s", full, info.Size(), info.ModTime().UnixNano(), kind.Name)
	if o.Mask != nil {
		name = fmt.Appendf(name, "\x00mask %s", o.Mask.ID())
	}
	meanings := slices.Sorted(maps.Keys(o.Fields))
	for _, m := range meanings {
		name = fmt.Appendf(name, "\x00%s=%s", m, o.Fields[m])
	}
	sum := sha256.Sum256(name)
	return fmt.Sprintf("%x.timeline", sum[:12])
}

// unusedFor is the time after which an unused timeline is removed.
const unusedFor = 14 * 24 * time.Hour
