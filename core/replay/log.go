package replay

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// logRecording is an execution log opened for replay.
type logRecording struct {
	t     *timeline.Timeline
	info  func() Info
	names func() map[string]bool // of all variables of all functions
}

// OfLog returns the replay of an execution log's timeline.
func OfLog(t *timeline.Timeline) Replay {
	r := &logRecording{t: t}
	r.info = sync.OnceValue(r.describe)
	r.names = sync.OnceValue(r.allNames)
	return r
}

// Info implements Recording.
func (r *logRecording) Info() Info { return r.info() }

func (r *logRecording) describe() Info {
	h := r.t.Header
	info := Info{Kind: cmp.Or(h.Kind, "execution-log"), Program: h.Program, BuildID: h.BuildID, Revision: h.Revision, Language: h.Language, Host: h.Host,
		Command: h.Command, Started: h.Started, Moments: int64(r.t.Len()), Threads: r.t.Threads()}
	if len(r.t.Processes) > 0 {
		info.Started = time.Unix(0, r.t.Processes[0].Started).UTC()
	}
	if n := r.t.Len(); n > 0 {
		info.Duration = time.Duration(r.t.Time(n - 1))
	}
	if r.recorded() {
		info.Failure, info.Gaps = r.failure(), r.gaps()
	} else {
		info.Failure, info.Gaps = r.reportedFailure(), r.reportedGaps()
	}
	return info
}

func (r *logRecording) check(at event.Moment) error {
	switch n := r.t.Len(); {
	case n == 0:
		return fmt.Errorf("moment %d is %w: the recording has no moments", at, ErrOutOfRange)
	case at < 0 || at >= n:
		return fmt.Errorf("moment %d is %w: the recording has moments 0 to %d", at, ErrOutOfRange, n-1)
	}
	return nil
}

func (r *logRecording) checkThread(t event.ThreadID) error {
	if t < 1 || int(t) > r.t.Threads() {
		return fmt.Errorf("thread %d: %w; the recording has threads 1 to %d", t, ErrNoThread, r.t.Threads())
	}
	return nil
}

// ThreadOf implements Recording.
func (r *logRecording) ThreadOf(at event.Moment) (event.ThreadID, error) {
	if err := r.check(at); err != nil {
		return 0, err
	}
	return r.t.Thread(at), nil
}

// Threads implements Recording.
func (r *logRecording) Threads(ctx context.Context, at event.Moment) ([]Thread, error) {
	if err := r.check(at); err != nil {
		return nil, err
	}
	var out []Thread
	for id := event.ThreadID(1); int(id) <= r.t.Threads(); id++ {
		if id%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		first, last := r.t.Span(id)
		if first > at || r.t.Ended(id, at) {
			continue
		}
		th := r.t.ThreadInfo(id)
		if !r.recorded() {
			if out = r.reportedThread(out, th, at); id%1024 == 0 && ctx.Err() != nil {
				return nil, ctx.Err()
			}
			continue
		}
		state := "running"
		if r.callAt(id, at) == event.NoCall {
			state = "outside own code"
			if last <= at {
				state = "ended"
			}
		}
		out = append(out, Thread{ID: id, Name: r.threadName(th), Kind: "goroutine", State: r.waits(id, at, state), Creator: th.Creator})
	}
	return out, nil
}

func (r *logRecording) threadName(th event.Thread) string {
	name := fmt.Sprintf("goroutine %d", th.Number)
	if len(r.t.Processes) > 1 {
		for _, p := range r.t.Processes {
			if p.ID == th.Process {
				name += " of " + filepath.Base(p.Program)
			}
		}
	}
	return name
}

// callAt returns the innermost call of a thread at a moment. A call that is
// left at that very moment is still on the stack.
func (r *logRecording) callAt(t event.ThreadID, at event.Moment) event.CallID {
	m := r.t.OnThread(t, at)
	if m == event.NoMoment {
		return event.NoCall
	}
	c := r.t.CallOf(m)
	if k := r.t.Kind(m); m < at && c != event.NoCall && (k == event.Leave || k == event.Unwind) {
		if c = r.t.Call(c).Parent; c != event.NoCall && r.t.Call(c).Thread != t {
			return event.NoCall // a call of another thread called it
		}
	}
	return c
}

// Frames implements Recording.
func (r *logRecording) Frames(_ context.Context, at event.Moment, t event.ThreadID) ([]Frame, error) {
	if err := r.check(at); err != nil {
		return nil, err
	}
	if err := r.checkThread(t); err != nil {
		return nil, err
	}
	frames := r.thrown(at, t)
	for c := r.callAt(t, at); c != event.NoCall; c = r.t.Call(c).Parent {
		f := r.t.FunctionOf(c)
		frames = append(frames, Frame{Index: len(frames), Function: r.functionName(c), File: r.fileOf(c, at), Line: r.lineOf(c, at), Own: f.Own, Call: c})
	}
	if !r.recorded() {
		r.noteFrames(frames, t)
	}
	return frames, nil
}

func (r *logRecording) functionName(c event.CallID) string {
	if name := r.t.FunctionOf(c).Name; name != "" {
		return name
	}
	return fmt.Sprintf("function %d (not in the log's tables)", r.t.Call(c).Function)
}

// lineOf returns the line that a call has reached at a moment.
func (r *logRecording) lineOf(c event.CallID, at event.Moment) int {
	if m := r.t.LastLine(c, at); m != event.NoMoment && hasSite(r.t.Kind(m)) {
		return r.t.Site(m).Line
	}
	return r.t.FunctionOf(c).Line
}

// fileOf returns the file of the line that a call has reached at a moment.
func (r *logRecording) fileOf(c event.CallID, at event.Moment) string {
	if !r.recorded() {
		if m := r.t.LastLine(c, at); m != event.NoMoment && hasSite(r.t.Kind(m)) && r.t.Site(m).File != 0 {
			return r.t.Files[r.t.Site(m).File].Path
		}
	}
	return r.t.Files[r.t.FunctionOf(c).File].Path
}

// Place implements Replay.
func (r *logRecording) Place(at event.Moment) (Place, error) {
	if err := r.check(at); err != nil {
		return Place{}, err
	}
	p := Place{Moment: at, Thread: r.t.Thread(at), Kind: r.t.Kind(at), Time: time.Duration(r.t.Time(at)), Call: r.t.CallOf(at)}
	if p.Call != event.NoCall {
		p.Function, p.File, p.Line = r.functionName(p.Call), r.fileOf(p.Call, at), r.lineOf(p.Call, at)
	}
	return p, nil
}

// Source implements Recording.
func (r *logRecording) Source(file string) (string, error) {
	for _, f := range r.t.Files {
		if f.Path == file {
			if f.Text == "" {
				return "", fmt.Errorf("%s: %w: the log carries none", file, ErrNoSource)
			}
			return f.Text, nil
		}
	}
	return "", fmt.Errorf("%s: %w: no file of the recording has this name", file, ErrNoSource)
}

// Activity implements Replay. It looks at no more than sampled moments of each
// span, so that its cost does not grow with the recording.
func (r *logRecording) Activity(ctx context.Context, from, to event.Moment, spans int) ([]Lane, error) {
	n := r.t.Len()
	from, to = max(from, 0), min(to, n)
	if n == 0 || from >= to || spans < 1 {
		return nil, fmt.Errorf("moments %d to %d in %d spans: %w", from, to, spans, ErrOutOfRange)
	}
	const maxSpans, sampled = 2000, 64
	spans = min(spans, maxSpans, int(to-from))
	lanes := map[event.ThreadID]*Lane{}
	var order []event.ThreadID
	for s := range spans {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		begin := from + (to-from)*event.Moment(s)/event.Moment(spans)
		end := from + (to-from)*event.Moment(s+1)/event.Moment(spans)
		stride := max((end-begin)/sampled, 1)
		for m := begin; m < end; m += stride {
			t := r.t.Thread(m)
			lane := lanes[t]
			if lane == nil {
				lane = &Lane{Thread: t, Counts: make([]int, spans), Depths: make([]int, spans)}
				lanes[t] = lane
				order = append(order, t)
			}
			lane.Counts[s] += int(stride)
			depth := 0
			for c := r.t.CallOf(m); c != event.NoCall && depth < 256; c = r.t.Call(c).Parent {
				depth++
			}
			lane.Depths[s] = max(lane.Depths[s], depth)
		}
	}
	out := make([]Lane, 0, len(order))
	for _, t := range order {
		lane := lanes[t]
		th := r.t.ThreadInfo(t)
		if lane.Name = r.reportedName(th); r.recorded() {
			lane.Name = r.threadName(th)
		}
		out = append(out, *lane)
	}
	return out, nil
}
