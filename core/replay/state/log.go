// Package state reconstructs a moment of a timeline: threads, stacks, variables, memory, and the
// locations of paths.
package state

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/syntax"
	"wraithology/core/timeline"
)

// Log is a timeline for access by moment. It is safe for concurrent use.
type Log struct {
	T        *timeline.Timeline
	Syntax   *syntax.Sources
	info     func() replay.Info
	names    func() map[string]bool // of all variables of all functions
	packages func() map[string]bool // names of the packages of recorded functions
	overlaps *overlaps
	lists    atomic.Pointer[decoded]
	maps     mapCache
}

// New returns the states of a timeline. describe adds the end of the program and the gaps to its
// description.
func New(t *timeline.Timeline, describe func(*Log, *replay.Info)) *Log {
	r := &Log{T: t, Syntax: syntax.New(t), overlaps: newOverlaps(t)}
	r.info = sync.OnceValue(func() replay.Info {
		info := r.describe()
		describe(r, &info)
		return info
	})
	r.names = sync.OnceValue(r.allNames)
	r.packages = sync.OnceValue(func() map[string]bool {
		all := map[string]bool{}
		for _, f := range t.Functions {
			name, _, _ := strings.Cut(f.Name[strings.LastIndexByte(f.Name, '/')+1:], ".")
			all[name] = true
		}
		return all
	})
	return r
}

// startedAt returns when the first process started, or the zero time if that is not known.
func (r *Log) startedAt() time.Time {
	if len(r.T.Processes) == 0 || r.T.Processes[0].Started == event.UnknownStart {
		return time.Time{}
	}
	return time.Unix(0, r.T.Processes[0].Started).UTC()
}

func (r *Log) describe() replay.Info {
	h := r.T.Header
	info := replay.Info{Kind: cmp.Or(h.Kind, "execution-log"), Program: h.Program, BuildID: h.BuildID, Revision: h.Revision, Language: h.Language, Host: h.Host,
		Command: h.Command, Dir: h.Dir, Started: h.Started, Moments: int64(r.T.Len()), Threads: r.T.Threads(), Reading: h.Reading}
	if len(r.T.Processes) > 0 {
		info.Started = r.startedAt()
		if p := r.T.Processes[0]; r.Recorded() { // a program that writes its log by itself says these only here
			info.Host, info.BuildID = cmp.Or(info.Host, p.Host), cmp.Or(info.BuildID, p.BuildID)
			if info.Program == "" && p.Program != "" {
				info.Program = filepath.Base(p.Program)
			}
		}
	}
	if n := r.T.Len(); n > 0 {
		info.Duration = time.Duration(r.T.Time(n - 1))
	}
	return info
}

// OwnPackage reports whether functions of a package with a name are recorded.
func (r *Log) OwnPackage(name string) bool { return r.packages()[name] }

// HasLines reports whether steps are lines of source text: a recorder made the evidence.
func (r *Log) HasLines() bool { return r.Recorded() }

// Info implements replay.Recording.
func (r *Log) Info() replay.Info { return r.info() }

func (r *Log) Check(at event.Moment) error {
	switch n := r.T.Len(); {
	case n == 0:
		return fmt.Errorf("moment %d is %w: the recording has no moments", at, fault.OutOfRange)
	case at < 0 || at >= n:
		return fmt.Errorf("moment %d is %w: the recording has moments 0 to %d", at, fault.OutOfRange, n-1)
	}
	return nil
}

func (r *Log) CheckThread(t event.ThreadID) error {
	if t < 1 || int(t) > r.T.Threads() {
		return fmt.Errorf("thread %d: %w; the recording has threads 1 to %d", t, fault.NoThread, r.T.Threads())
	}
	return nil
}

// ThreadOf implements replay.Recording.
func (r *Log) ThreadOf(at event.Moment) (event.ThreadID, error) {
	if err := r.Check(at); err != nil {
		return 0, err
	}
	return r.T.Thread(at), nil
}

// Threads implements replay.Recording.
func (r *Log) Threads(ctx context.Context, at event.Moment) ([]replay.Thread, error) {
	if err := r.Check(at); err != nil {
		return nil, err
	}
	var out []replay.Thread
	for id := event.ThreadID(1); int(id) <= r.T.Threads(); id++ {
		if id%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		first, last := r.T.Span(id)
		if first > at || r.T.Ended(id, at) {
			continue
		}
		th := r.T.ThreadInfo(id)
		if !r.Recorded() {
			if out = r.reportedThread(out, th, at); id%1024 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			continue
		}
		state := "running"
		if r.CallAt(id, at) == event.NoCall {
			state = "outside own code"
			if last <= at {
				state = "ended"
			}
		}
		out = append(out, replay.Thread{ID: id, Name: r.ThreadName(th), Kind: "goroutine", State: r.waits(id, at, state), Creator: th.Creator})
	}
	return out, nil
}

func (r *Log) ThreadName(th event.Thread) string {
	name := fmt.Sprintf("goroutine %d", th.Number)
	if len(r.T.Processes) > 1 {
		for _, p := range r.T.Processes {
			if p.ID == th.Process {
				name += " of " + filepath.Base(p.Program)
			}
		}
	}
	return name
}

// CallAt returns the innermost call of a thread at a moment. A call that ends at that moment is
// still on the stack.
func (r *Log) CallAt(t event.ThreadID, at event.Moment) event.CallID {
	m := r.T.OnThread(t, at)
	if m == event.NoMoment {
		return event.NoCall
	}
	c := r.T.CallOf(m)
	if k := r.T.Kind(m); m < at && c != event.NoCall && (k == event.Leave || k == event.Unwind) {
		if c = r.T.Call(c).Parent; c != event.NoCall && r.T.Call(c).Thread != t {
			return event.NoCall // a call of another thread called it
		}
	}
	return c
}

// Frames implements replay.Recording.
func (r *Log) Frames(_ context.Context, at event.Moment, t event.ThreadID) ([]replay.Frame, error) {
	if err := r.Check(at); err != nil {
		return nil, err
	}
	if err := r.CheckThread(t); err != nil {
		return nil, err
	}
	frames := r.TracebackFrames(at, t)
	for c := r.CallAt(t, at); c != event.NoCall; c = r.T.Call(c).Parent {
		f := r.T.FunctionOf(c)
		frames = append(frames, replay.Frame{Index: len(frames), Function: r.FunctionName(c), File: r.fileOf(c, at), Line: r.lineOf(c, at), Own: f.Own, Call: c})
	}
	if !r.Recorded() {
		r.noteFrames(frames, t)
	}
	return frames, nil
}

func (r *Log) FunctionName(c event.CallID) string {
	if name := r.T.FunctionOf(c).Name; name != "" {
		return name
	}
	return fmt.Sprintf("function %d (not in the log's tables)", r.T.Call(c).Function)
}

// lineOf returns the line that a call has reached at a moment.
func (r *Log) lineOf(c event.CallID, at event.Moment) int {
	if m := r.T.LastLine(c, at); m != event.NoMoment && hasSite(r.T.Kind(m)) {
		return r.T.Site(m).Line
	}
	return r.T.FunctionOf(c).Line
}

// fileOf returns the file of the line that a call has reached at a moment.
func (r *Log) fileOf(c event.CallID, at event.Moment) string {
	if !r.Recorded() {
		if m := r.T.LastLine(c, at); m != event.NoMoment && hasSite(r.T.Kind(m)) && r.T.Site(m).File != 0 {
			return r.T.Files[r.T.Site(m).File].Path
		}
	}
	return r.T.Files[r.T.FunctionOf(c).File].Path
}

// Place implements replay.History.
func (r *Log) Place(at event.Moment) (replay.Place, error) {
	if err := r.Check(at); err != nil {
		return replay.Place{}, err
	}
	p := replay.Place{Moment: at, Thread: r.T.Thread(at), Kind: r.T.Kind(at), Time: time.Duration(r.T.Time(at)), Estimated: r.T.Estimated(at), Call: r.T.CallOf(at)}
	if started := r.startedAt(); !r.Recorded() && !p.Estimated && !started.IsZero() {
		p.At = started.Add(p.Time)
	}
	if p.Call != event.NoCall {
		p.Function, p.File, p.Line = r.FunctionName(p.Call), r.fileOf(p.Call, at), r.lineOf(p.Call, at)
	}
	return p, nil
}

// Source implements replay.Recording.
func (r *Log) Source(file string) (string, error) {
	for _, f := range r.T.Files {
		if f.Path == file {
			if f.Text == "" {
				return "", fmt.Errorf("%s: %w: the log contains none", file, fault.NoSource)
			}
			return f.Text, nil
		}
	}
	return "", fmt.Errorf("%s: %w: the recording has no file of this name", file, fault.NoSource)
}
