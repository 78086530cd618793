package receive

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wraithology/core/evidence/kinds/eventtrace"
	"wraithology/core/evidence/kinds/eventtrace/otlp"
	"wraithology/core/fault"
)

// late joins late parts to their traces: the new evidence gets a copy of what the case's latest
// evidence with the same trace has of it, which contains the parts before that. It remembers the traces
// of received evidence in files, CASE-NAME.traces: sorted trace IDs.
type late struct {
	dir    string
	keeper Keeper
	bytes  int64         // of all lists; the oldest are removed beyond it
	age    time.Duration // of a list
	trace  int           // bytes of one trace that are copied at most
}

const listEnding = ".traces"

// newLate uses the lists of an earlier run in the folder dir.
func newLate(dir string, keeper Keeper) (*late, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("create the folder for the traces of received evidence: %w", err)
	}
	return &late{dir: dir, keeper: keeper, bytes: 64 << 20, age: 24 * time.Hour, trace: 8 << 20}, nil
}

func (l *late) path(caseID int64, name string) string {
	return filepath.Join(l.dir, fmt.Sprintf("%d-%s%s", caseID, name, listEnding))
}

// remember writes the list of new evidence, and removes the oldest lists beyond the limits.
func (l *late) remember(caseID int64, name string, traces []eventtrace.TraceID) error {
	if len(traces) > 0 {
		path := l.path(caseID, name)
		var list []byte
		for _, id := range traces {
			list = append(list, id[:]...)
		}
		if err := errors.Join(os.WriteFile(path+".new", list, 0o600), os.Rename(path+".new", path)); err != nil {
			return fmt.Errorf("remember the traces of %s: %w", name, err)
		}
	}
	list, err := filepath.Glob(filepath.Join(l.dir, "*"+listEnding))
	if err != nil {
		return fmt.Errorf("find the lists of traces: %w", err)
	}
	type file struct {
		path string
		info os.FileInfo
	}
	files := make([]file, 0, len(list))
	for _, path := range list {
		info, err := os.Stat(path)
		if err != nil {
			return fmt.Errorf("read the lists of traces: %w", err)
		}
		files = append(files, file{path, info})
	}
	slices.SortFunc(files, func(a, b file) int {
		return cmp.Or(b.info.ModTime().Compare(a.info.ModTime()), cmp.Compare(b.path, a.path))
	})
	left := l.bytes
	for _, f := range files {
		if left -= f.info.Size(); left >= 0 && time.Since(f.info.ModTime()) <= l.age {
			continue
		}
		if err := os.Remove(f.path); err != nil {
			return fmt.Errorf("remove an old list of traces: %w", err)
		}
	}
	return nil
}

// join returns what earlier evidence of the case has of the traces, which are sorted, of most bytes at most.
// The evidence called name is not searched.
func (l *late) join(ctx context.Context, caseID int64, name string, traces []eventtrace.TraceID, most int64) ([]byte, error) {
	prefix := fmt.Sprintf("%d-", caseID)
	lists, err := filepath.Glob(filepath.Join(l.dir, prefix+"*"+listEnding))
	if err != nil {
		return nil, fmt.Errorf("find the lists of traces: %w", err)
	}
	slices.Sort(lists) // by time, which the names contain
	slices.Reverse(lists)
	var out []byte
	for _, path := range lists {
		earlier := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(path), prefix), listEnding)
		if len(traces) == 0 {
			break
		}
		if earlier == name {
			continue
		}
		both, rest, err := listed(path, traces)
		if err != nil {
			return nil, err
		}
		traces = rest
		if len(both) == 0 {
			continue
		}
		b, err := l.copied(ctx, caseID, earlier, both, most-int64(len(out)))
		if errors.Is(err, fault.NotFound) {
			continue // somebody removed it
		} else if err != nil {
			return nil, fmt.Errorf("join late parts of traces: %w", err)
		}
		out = append(out, b...)
	}
	return out, nil
}

// listed divides sorted traces into those that a list contains, and the others.
func listed(path string, traces []eventtrace.TraceID) (both, rest []eventtrace.TraceID, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, fmt.Errorf("read a list of traces: %w", err)
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 1<<16)
	var id eventtrace.TraceID
	for n := 0; ; {
		if _, err := io.ReadFull(r, id[:]); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || n == len(traces) {
			return both, append(rest, traces[n:]...), nil
		} else if err != nil {
			return nil, nil, fmt.Errorf("read a list of traces: %w", err)
		}
		for n < len(traces) && bytes.Compare(traces[n][:], id[:]) < 0 {
			rest = append(rest, traces[n])
			n++
		}
		if n < len(traces) && traces[n] == id {
			both = append(both, id)
			n++
		}
	}
}

// copied returns the records of traces in evidence. A trace that is too large, and one that does not fit
// into most bytes together with the others, is left out as a whole.
func (l *late) copied(ctx context.Context, caseID int64, name string, traces []eventtrace.TraceID, most int64) (out []byte, err error) {
	size := make(map[eventtrace.TraceID]int, len(traces))
	for _, id := range traces {
		size[id] = 0
	}
	err = l.keeper.Requests(ctx, caseID, name, func(b []byte) error {
		// Nothing is selected at first: it finds the sizes.
		_, err := otlp.Select(b, func(id []byte, n int) bool {
			if _, ok := size[eventtrace.TraceID(id)]; ok {
				size[eventtrace.TraceID(id)] += n
			}
			return false
		})
		if err != nil {
			return err
		}
		for _, id := range traces {
			if n := size[id]; n > l.trace || int64(n) > most {
				delete(size, id)
			} else {
				most -= int64(n)
			}
		}
		if len(size) == 0 {
			return nil
		}
		out, err = otlp.Select(b, func(id []byte, _ int) bool {
			_, ok := size[eventtrace.TraceID(id)]
			return ok
		})
		return err
	})
	return out, err
}
