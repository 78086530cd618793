package evidence

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wraithology/core/room"
)

// Kept is a timeline that is kept. Evidence is the path of the evidence that it was made from, empty if
// that is not known; Used is when it was opened last.
type Kept struct {
	Name     string
	Evidence string
	Bytes    int64
	Used     time.Time
}

const (
	evidenceFile  = "evidence" // in the folder of a timeline: the path of its evidence
	partialPrefix = "."        // of the folders of timelines that are being built

	// defaultRoom limits the bytes of a user's own timelines, as roomShare limits the share of the disk
	// that is free for them.
	defaultRoom = 10 << 30
	roomShare   = 10
	// abandonedAfter is the time without writes after which a timeline that is not complete has been
	// left by a process that ended.
	abandonedAfter = time.Hour
)

// Room returns the maximum bytes of all timelines: Most, or else the smaller one of 10 GB and a tenth
// of what would be free without them, or else the Share of that. It is 0 without a limit.
func (t Timelines) Room() (int64, error) {
	list, err := t.List()
	if err != nil {
		return 0, err
	}
	return t.room(list)
}

// room is Room if these timelines are kept.
func (t Timelines) room(list []Kept) (int64, error) {
	if t.Most > 0 || t.Lasting && t.Share == 0 {
		return t.Most, nil
	}
	disk, err := room.Of(t.Folder)
	if err != nil {
		return 0, err
	}
	free := int64(disk.Free)
	for _, k := range list {
		free += k.Bytes
	}
	if t.Share > 0 {
		return free / t.Share, nil
	}
	return min(defaultRoom, free/roomShare), nil
}

// List lists the timelines that are kept, the most recently used one first.
func (t Timelines) List() ([]Kept, error) {
	entries, err := os.ReadDir(t.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("list the timelines: %w", err)
	}
	var list []Kept
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !e.IsDir() || strings.HasPrefix(e.Name(), partialPrefix) {
			continue // removed in the meantime, or not complete
		}
		path, _ := os.ReadFile(filepath.Join(t.Folder, e.Name(), evidenceFile))
		bytes, _ := sizeOf(filepath.Join(t.Folder, e.Name()))
		list = append(list, Kept{Name: e.Name(), Evidence: string(path), Bytes: bytes, Used: info.ModTime()})
	}
	slices.SortFunc(list, func(a, b Kept) int { return cmp.Or(b.Used.Compare(a.Used), cmp.Compare(a.Name, b.Name)) })
	return list, nil
}

// sizeOf returns the bytes of the files in a folder, and when the last one was written.
func sizeOf(dir string) (bytes int64, written time.Time) {
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // removed in the meantime
		}
		if info, err := e.Info(); err == nil && !e.IsDir() {
			bytes += info.Size()
			if info.ModTime().After(written) {
				written = info.ModTime()
			}
		}
		return nil
	})
	return bytes, written
}

// Remove removes the timelines that are kept and for which chosen, if not nil, returns true, and
// returns them; one that is being built stays. Evidence stays; its timeline is built again when it is opened. A process that has one
// open keeps it until it ends.
func (t Timelines) Remove(chosen func(Kept) bool) ([]Kept, error) {
	list, err := t.List()
	if err != nil {
		return nil, err
	}
	return t.remove(list, chosen)
}

// remove is Remove if these timelines are kept.
func (t Timelines) remove(list []Kept, chosen func(Kept) bool) (removed []Kept, err error) {
	for _, k := range list {
		if chosen != nil && !chosen(k) {
			continue
		}
		unlock, ok, err := t.tryLock(k.Name)
		if err != nil {
			return removed, err
		}
		if !ok {
			continue // it is being built
		}
		err = discard(filepath.Join(t.Folder, k.Name))
		unlock()
		if err != nil {
			return removed, fmt.Errorf("remove the timeline of %s: %w", cmp.Or(k.Evidence, k.Name), err)
		}
		removed = append(removed, k)
	}
	return removed, nil
}

// prune removes timelines that have not been opened for long, those that were never completed, and the
// least recently used ones until the others have room. It keeps the one with the name keep.
func (t Timelines) prune(keep string) {
	list, err := t.List()
	if err != nil {
		return // what stays is tried again
	}
	room, err := t.room(list)
	if err != nil {
		return
	}
	total := int64(0)
	_, _ = t.remove(list, func(k Kept) bool {
		total += k.Bytes
		return k.Name != keep && (time.Since(k.Used) > unusedFor || room > 0 && total > room)
	})
	entries, _ := os.ReadDir(t.Folder)
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), partialPrefix) || !e.IsDir() {
			continue
		}
		path := filepath.Join(t.Folder, e.Name())
		info, err := e.Info()
		if err != nil {
			continue // removed, or complete now
		}
		if _, written := sizeOf(path); time.Since(written) > abandonedAfter && time.Since(info.ModTime()) > abandonedAfter {
			_ = os.RemoveAll(path) // what stays is tried again
		}
	}
}

// discard removes a timeline, if there is one. Its name is free at once, and nobody opens a part of it.
func discard(dir string) error {
	away, err := os.MkdirTemp(filepath.Dir(dir), partialPrefix+filepath.Base(dir)+".removed-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(away) // what stays is removed by prune
	if err := os.Rename(dir, filepath.Join(away, filepath.Base(dir))); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
