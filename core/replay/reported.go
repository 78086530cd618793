package replay

import (
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/traceback"
)

// Most evidence was made by no recorder: it is what services reported of
// themselves. Its calls have no lines; what they say in between is what there is
// to halt at, and their beginnings and ends.

// recorded reports whether a recorder made the evidence.
func (r *logRecording) recorded() bool { return r.t.Header.Kind == "" }

// hasSite reports whether the ID of an event is that of a site.
func hasSite(k event.Kind) bool {
	return k == event.Line || k == event.Fields || k == event.Message || k == event.Error
}

// outer lists the values that hold for all calls of a function, and for all that a
// process does, as globals.
func (r *logRecording) outer(c event.CallID, at event.Moment) []Variable {
	process := r.t.Call(c).Process
	var out []Variable
	add := func(list []event.Named) {
		for _, x := range list {
			values, err := execlog.DecodeValues(x.Data, 1, r.t.Types(process))
			if err != nil || values[0].Type == nil {
				continue
			}
			out = append(out, Variable{Name: x.Name, Scope: event.Global, Type: values[0].Type.Name, Value: Value{values[0], r.memoryAt(process, at, 0)}, Written: event.NoMoment})
		}
	}
	add(r.t.FunctionOf(c).Outer)
	if p := r.process(process); p != nil {
		add(p.Outer)
	}
	return out
}

// process finds a process by its number.
func (r *logRecording) process(id uint16) *event.Process {
	if int(id) < len(r.t.Processes) && r.t.Processes[id].ID == id {
		return &r.t.Processes[id]
	}
	for i := range r.t.Processes {
		if r.t.Processes[i].ID == id {
			return &r.t.Processes[i]
		}
	}
	return nil
}

// reportedThread adds a thread that does something at a moment.
func (r *logRecording) reportedThread(out []Thread, th event.Thread, at event.Moment) []Thread {
	c := r.callAt(th.ID, at)
	if c == event.NoCall {
		return out
	}
	t := Thread{ID: th.ID, Name: r.reportedName(th), Kind: r.threadKind(), State: "running", Creator: th.Creator}
	t.State = r.waits(th.ID, at, t.State)
	for p := r.t.Call(c); p.Parent != event.NoCall; p = r.t.Call(p.Parent) {
		if outer := r.t.Call(p.Parent); outer.Thread != th.ID {
			t.Creator = fmt.Sprintf("%s on thread %d", r.functionName(p.Parent), outer.Thread)
			break
		}
	}
	return append(out, t)
}

// threadKind says what the threads of the evidence are.
func (r *logRecording) threadKind() string {
	switch r.t.Header.Kind {
	case "runtime-trace":
		return "goroutine"
	case "structured-log":
		return "log"
	}
	return "service"
}

// reportedName names a thread: by its own name, or by its process and its number there.
func (r *logRecording) reportedName(th event.Thread) string {
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
func (r *logRecording) sameName(program string) int {
	n := 0
	for i := range r.t.Processes {
		if r.t.Processes[i].Program == program {
			n++
		}
	}
	return n
}

// noteFrames says of frames of other threads where they are, and of the outermost
// one whether there should be one further out.
func (r *logRecording) noteFrames(frames []Frame, t event.ThreadID) {
	for i := range frames {
		if on := r.t.Call(frames[i].Call).Thread; on != t {
			frames[i].Note = "on thread " + r.reportedName(r.t.ThreadInfo(on))
		}
	}
	if len(frames) == 0 || r.t.Header.Kind != "event-trace" {
		return
	}
	last := &frames[len(frames)-1]
	if parent := r.textOf(last.Call, "parentSpanID"); parent != "" {
		last.Note = strings.TrimPrefix(last.Note+"; the span that it belongs to, "+parent+", is not here", "; ")
	}
}

// thrown lists the frames of the traceback that an error moment reports. They lie
// within the call, and see what it sees.
func (r *logRecording) thrown(at event.Moment, t event.ThreadID) []Frame {
	if r.recorded() || r.t.Kind(at) != event.Error || r.t.Thread(at) != t {
		return nil
	}
	c := r.t.CallOf(at)
	values, err := r.t.Values(at)
	if err != nil || c == event.NoCall {
		return nil
	}
	f := r.t.FunctionOf(c)
	var texts, stacks []string
	for i, id := range r.t.Site(at).Values {
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
		var out []Frame
		frames := crash.Threads[0].Frames
		traceback.Own(nil).Tell(crash.Language, frames)
		for _, x := range frames {
			out = append(out, Frame{Index: len(out), Function: x.Name(), File: x.File, Line: x.Line, Own: x.Own, Inlined: x.Inlined, PC: x.Address, Call: c})
		}
		if n := len(out); n > 0 {
			out[n-1].Note = "up to here from the traceback that was reported"
		}
		return out
	}
	return nil
}

// textOf returns a text that is known from a call's beginning on.
func (r *logRecording) textOf(c event.CallID, name string) string {
	f := r.t.FunctionOf(c)
	for i, p := range f.Parameters {
		if int(p) < len(f.Variables) && f.Variables[p].Name == name {
			e := r.t.Event(r.t.Call(c).Enter)
			if v, err := execlog.DecodeNth(e.Data, e.Args, i, r.t.Types(r.t.Call(c).Process)); err == nil && v.Form() == event.Text {
				return v.Text
			}
		}
	}
	return ""
}

// reportedError says what an error moment reports: its type, where it has one, and
// its message.
func (r *logRecording) reportedError(m event.Moment) string {
	cause := r.causeAt(m)
	switch {
	case cause.Type == "" || strings.HasPrefix(cause.Message, cause.Type+":"):
		return cause.Message
	case cause.Message == "" || cause.Message == cause.Type:
		return cause.Type
	}
	return cause.Type + ": " + cause.Message
}

func (r *logRecording) causeAt(m event.Moment) Cause {
	c := r.t.CallOf(m)
	cause := Cause{Message: r.firstText(m, "")}
	values, err := r.t.Values(m)
	if err != nil || c == event.NoCall {
		return cause
	}
	f := r.t.FunctionOf(c)
	for i, id := range r.t.Site(m).Values {
		if i >= len(values) || int(id) >= len(f.Variables) {
			continue
		}
		switch f.Variables[id].Name {
		case "exception.type":
			cause.Type = values[i].Text
		case "exception.message":
			cause.Message = values[i].Text
		}
	}
	return cause
}

// maxErrorsBefore bounds the errors that are looked at for the first of a chain.
const maxErrorsBefore = 1000

// reportedFailure finds where what is reported went wrong: from the last error to
// the last one before it in a call that the failed one had made, and so on.
func (r *logRecording) reportedFailure() *Failure {
	errors := r.t.Notable(event.Error)
	if errors.Len() == 0 {
		return nil
	}
	m := errors.At(errors.Len() - 1)
	cause := r.causeAt(m)
	f := &Failure{Kind: "error", Summary: r.reportedError(m), Moment: m, Thread: r.t.Thread(m), Causes: []Cause{cause}}
	for i := errors.Len() - 2; i >= max(0, errors.Len()-maxErrorsBefore); i-- {
		outer := r.t.CallOf(f.Moment)
		inner := errors.At(i)
		if outer == event.NoCall || inner < r.t.Call(outer).Enter {
			break
		}
		c := r.t.CallOf(inner)
		for c != event.NoCall && c != outer {
			c = r.t.Call(c).Parent
		}
		if c == outer && r.t.CallOf(inner) != outer {
			f.Moment, f.Thread = inner, r.t.Thread(inner)
			f.Causes = append(f.Causes, r.causeAt(inner))
		}
	}
	if cause.Type != "" {
		f.Kind = "exception"
	}
	thrown := r.thrown(f.Moment, f.Thread)
	for i := range thrown {
		if thrown[i].Own {
			f.Frame = i
			break
		}
	}
	return f
}

// reportedGaps lists what the evidence lacks.
func (r *logRecording) reportedGaps() []Gap {
	gaps := append([]Gap(nil), r.t.Gaps...)
	for _, l := range r.t.Losses {
		gaps = append(gaps, Gap{What: l.What, Remedy: "split the evidence and look at its parts"})
	}
	if r.t.Len() == 0 {
		gaps = append(gaps, Gap{What: "the evidence holds nothing that happened", Remedy: "check that it is the right file"})
	}
	return gaps
}
