package state

import (
	"cmp"
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/traceback"
)

// Recorded reports whether a recorder made the evidence.
func (r *Log) Recorded() bool { return r.T.Header.Kind == "" }

// hasSite reports whether the ID of an event is that of a site.
func hasSite(k event.Kind) bool {
	return k == event.Line || k == event.Fields || k == event.Message || k == event.Error
}

// Outer lists the values that hold for all calls of a function, and those of its process, as
// globals.
func (r *Log) Outer(c event.CallID, at event.Moment) []replay.Variable {
	process := r.T.Call(c).Process
	var out []replay.Variable
	add := func(list []event.Named) {
		for _, x := range list {
			values, err := event.DecodeValues(x.Data, 1, r.T.Types(process))
			if err != nil || values[0].Type == nil {
				continue
			}
			out = append(out, replay.Variable{Name: x.Name, Scope: event.Global, Type: values[0].Type.Name, Value: replay.Value{Value: values[0], Memory: r.MemoryAt(process, at, 0)}, Written: event.NoMoment})
		}
	}
	add(r.T.FunctionOf(c).Outer)
	if p := r.process(process); p != nil {
		add(p.Outer)
	}
	return out
}

// process finds a process by its number.
func (r *Log) process(id uint16) *event.Process {
	if int(id) < len(r.T.Processes) && r.T.Processes[id].ID == id {
		return &r.T.Processes[id]
	}
	for i := range r.T.Processes {
		if r.T.Processes[i].ID == id {
			return &r.T.Processes[i]
		}
	}
	return nil
}

// reportedThread adds a thread that is active at a moment.
func (r *Log) reportedThread(out []replay.Thread, th event.Thread, at event.Moment) []replay.Thread {
	c := r.CallAt(th.ID, at)
	if c == event.NoCall {
		return out
	}
	t := replay.Thread{ID: th.ID, Name: r.ReportedName(th), Kind: r.threadKind(), State: "running", Creator: th.Creator}
	t.State = r.waits(th.ID, at, t.State)
	for p := r.T.Call(c); p.Parent != event.NoCall; p = r.T.Call(p.Parent) {
		if outer := r.T.Call(p.Parent); outer.Thread != th.ID {
			t.Creator = fmt.Sprintf("%s on thread %d", r.FunctionName(p.Parent), outer.Thread)
			break
		}
	}
	return append(out, t)
}

// threadKind returns the kind of the evidence's threads.
func (r *Log) threadKind() string {
	return cmp.Or(r.T.Header.ThreadKind, "service")
}

// ReportedName returns the name of a thread: its own, or that of its process with its number.
func (r *Log) ReportedName(th event.Thread) string {
	if th.Name != "" {
		return th.Name
	}
	p := r.process(th.Process)
	if p == nil {
		return fmt.Sprintf("thread %d", th.Number)
	}
	name := p.Program
	if len(p.Args) > 0 && r.sameName(p.Program) > 1 {
		name += " (" + p.Args[0] + ")"
	}
	return fmt.Sprintf("%s %d", name, th.Number)
}

// sameName counts the processes of a name.
func (r *Log) sameName(program string) int {
	n := 0
	for i := range r.T.Processes {
		if r.T.Processes[i].Program == program {
			n++
		}
	}
	return n
}

// noteFrames marks frames on other threads, and the outermost frame if its caller is missing.
func (r *Log) noteFrames(frames []replay.Frame, t event.ThreadID) {
	for i := range frames {
		if on := r.T.Call(frames[i].Call).Thread; on != t {
			frames[i].Note = "on thread " + r.ReportedName(r.T.ThreadInfo(on))
		}
	}
	if len(frames) == 0 {
		return
	}
	last := &frames[len(frames)-1]
	if parent := r.TextOf(last.Call, "parentSpanID"); parent != "" {
		last.Note = strings.TrimPrefix(last.Note+"; the span that it belongs to, "+parent+", is not here", "; ")
	}
}

// TracebackFrames lists the frames of the traceback at an error moment. They are inside the call and have
// its variables.
func (r *Log) TracebackFrames(at event.Moment, t event.ThreadID) []replay.Frame {
	if r.Recorded() || r.T.Kind(at) != event.Error || r.T.Thread(at) != t {
		return nil
	}
	c := r.T.CallOf(at)
	values, err := r.T.Values(at)
	if err != nil || c == event.NoCall {
		return nil
	}
	f := r.T.FunctionOf(c)
	var texts, stacks []string
	for i, id := range r.T.Site(at).Values {
		if i < len(values) && values[i].Form() == event.Array && int(id) < len(f.Variables) {
			if frames, _, ok := traceback.FromObjects(textsOf(values[i])); ok {
				traceback.Own(nil).Mark("", frames)
				return framesOf(frames, c)
			}
		}
		if i >= len(values) || int(id) >= len(f.Variables) || values[i].Form() != event.Text || i > 0 && !strings.Contains(values[i].Text, "\n") && f.Variables[id].Name != "text" {
			continue
		}
		if texts = append(texts, values[i].Text); strings.Contains(strings.ToLower(f.Variables[id].Name), "stack") {
			stacks = append(stacks, values[i].Text)
		}
	}
	for _, text := range append(stacks, strings.Join(texts, "\n")) {
		crash, ok := traceback.Parse(text)
		if !ok || len(crash.Threads) == 0 {
			continue
		}
		frames := crash.Threads[0].Frames
		traceback.Own(nil).Mark(crash.Language, frames)
		return framesOf(frames, c)
	}
	return nil
}

// framesOf returns frames of a traceback as those of a call.
func framesOf(frames []traceback.Frame, c event.CallID) (out []replay.Frame) {
	for _, x := range frames {
		out = append(out, replay.Frame{Index: len(out), Function: x.Name(), File: x.File, Line: x.Line, Own: x.Own, Inlined: x.Inlined, PC: x.Address, Call: c})
	}
	if n := len(out); n > 0 {
		out[n-1].Note = "up to here from the traceback that was reported"
	}
	return out
}

// textsOf returns the items of a list that are texts.
func textsOf(v event.Value) (out []string) {
	for _, x := range v.Items {
		for x.Form() == event.Interface && len(x.Items) == 1 {
			x = x.Items[0]
		}
		if x.Form() == event.Text {
			out = append(out, x.Text)
		}
	}
	return out
}

// TextOf returns a text that is known from the beginning of a call.
func (r *Log) TextOf(c event.CallID, name string) string {
	f := r.T.FunctionOf(c)
	for i, p := range f.Parameters {
		if int(p) < len(f.Variables) && f.Variables[p].Name == name {
			e := r.T.Event(r.T.Call(c).Enter)
			if v, err := event.DecodeNth(e.Data, e.Args, i, r.T.Types(r.T.Call(c).Process)); err == nil && v.Form() == event.Text {
				return v.Text
			}
		}
	}
	return ""
}
