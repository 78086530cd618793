package replay

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"wraithology/core/event"
)

// failure finds where the program went wrong. In order: a crash of the
// language's runtime, a test that failed, an end by signal, and an end with a
// code, which is taken back to the error that led to it.
func (r *logRecording) failure() *Failure {
	if r.t.Len() == 0 {
		return nil
	}
	last := r.t.Len() - 1
	for _, p := range r.t.Processes {
		if end := r.t.Ends[p.ID]; end.Crash != "" {
			return r.crash(p.ID, end.Crash)
		}
	}
	if list := r.t.Notable(event.Failure); list.Len() > 0 {
		m := list.At(0)
		return &Failure{Kind: "failed-assertion", Summary: r.firstText(m, "a test failed"), Moment: m, Thread: r.t.Thread(m)}
	}
	if f := r.openPanic(); f != nil {
		return f
	}
	code := 0
	for _, p := range r.t.Processes {
		end := r.t.Ends[p.ID]
		if end.Signal != "" {
			return &Failure{Kind: "signal", Summary: "ended by the signal: " + end.Signal, Moment: last, Thread: r.t.Thread(last)}
		}
		code = max(code, end.ExitCode)
	}
	exit := last
	for i := range r.t.Notable(event.Exit).Len() {
		m := r.t.Notable(event.Exit).At(i)
		if e := r.t.Event(m); e.ID != 0 {
			code, exit = int(int32(e.ID)), m
		}
	}
	if code == 0 {
		return nil
	}
	if f := r.errorBefore(exit, code); f != nil {
		return f
	}
	return &Failure{Kind: "exit", Summary: fmt.Sprintf("ended with code %d", code), Moment: exit, Thread: r.t.Thread(exit)}
}

var (
	crashGoroutine = regexp.MustCompile(`(?m)^goroutine (\d+) `)
	crashState     = regexp.MustCompile(`^goroutine (\d+) .*\[([^\]]+)\]:`)
)

// crash places a crash that the Go runtime reported.
func (r *logRecording) crash(process uint16, text string) *Failure {
	summary, _, _ := strings.Cut(text, "\n")
	f := &Failure{Kind: "fatal", Summary: summary, Moment: event.NoMoment}
	if state := crashState.FindStringSubmatch(summary); state != nil {
		// The runtime told its reason to standard error alone.
		f.Summary = fmt.Sprintf("the Go runtime ended the program; goroutine %s was in %s", state[1], state[2])
	}
	if strings.HasPrefix(summary, "panic:") {
		f.Kind, f.Summary = "panic", strings.TrimSpace(strings.TrimPrefix(summary, "panic:"))
	}
	var number uint64
	if m := crashGoroutine.FindStringSubmatch(text); m != nil {
		number, _ = strconv.ParseUint(m[1], 10, 64)
	}
	for id := event.ThreadID(1); int(id) <= r.t.Threads(); id++ {
		if th := r.t.ThreadInfo(id); th.Process == process && th.Number == number {
			f.Thread = id
		}
	}
	panics := r.t.Notable(event.Panic)
	for i := range panics.Len() {
		if m := panics.At(i); f.Kind == "panic" && (f.Thread == 0 || r.t.Thread(m) == f.Thread) && r.t.Process(m) == process {
			f.Moment = m
		}
	}
	if f.Moment == event.NoMoment {
		f.Moment = r.t.Len() - 1
		if f.Thread != 0 {
			f.Moment = r.t.OnThread(f.Thread, f.Moment)
		}
	}
	f.Thread = r.t.Thread(f.Moment)
	return f
}

// openPanic finds a panic that nothing recovered, for a log whose program left
// no crash text.
func (r *logRecording) openPanic() *Failure {
	panics := r.t.Notable(event.Panic)
	for i := panics.Len() - 1; i >= 0; i-- {
		m := panics.At(i)
		th := r.t.Thread(m)
		if _, last := r.t.Span(th); r.t.Kind(last) != event.Unwind || r.recoveredAfter(m) {
			continue
		}
		return &Failure{Kind: "panic", Summary: r.firstText(m, "panic (its message was not recorded)"), Moment: m, Thread: th}
	}
	return nil
}

func (r *logRecording) recoveredAfter(m event.Moment) bool {
	recovers := r.t.Notable(event.Recover)
	for i := recovers.After(m); i < recovers.Len(); i++ {
		if r.t.Thread(recovers.At(i)) == r.t.Thread(m) {
			return true
		}
	}
	c := r.t.CallOf(m)
	for c != event.NoCall && r.unwound(c) {
		c = r.t.Call(c).Parent
	}
	return c != event.NoCall
}

// unwound reports whether a call was left by a panic or by the end of its thread.
func (r *logRecording) unwound(c event.CallID) bool {
	left := r.t.Call(c).Leave
	return left != event.NoMoment && r.t.Kind(left) == event.Unwind
}

// firstText renders the first value of the event at a moment.
func (r *logRecording) firstText(m event.Moment, otherwise string) string {
	values, err := r.t.Values(m)
	if err != nil || len(values) == 0 {
		return otherwise
	}
	v := Value{Value: values[0], Memory: r.memoryAt(r.t.Process(m), m, 0)}
	if v.Form() == event.Text {
		return v.Value.Text
	}
	if text := r.errorText(v); text != "" {
		return text
	}
	return v.Text()
}

// errorBefore finds the error that led to an exit: the last one that own code
// returned before it, at the call that returned this very error first.
func (r *logRecording) errorBefore(exit event.Moment, code int) *Failure {
	list := r.t.ErrorReturns()
	i := list.Before(exit)
	if i < 0 {
		return nil
	}
	found := list.At(i)
	identity := r.errorIdentity(found)
	for i--; i >= 0 && identity != "" && r.errorIdentity(list.At(i)) == identity; i-- {
		found = list.At(i)
	}
	v := r.returnedError(found)
	summary := r.errorText(v)
	if summary == "" {
		summary = v.Text()
	}
	return &Failure{Kind: "error", Summary: fmt.Sprintf("%s (the program ended with code %d)", summary, code), Moment: found, Thread: r.t.Thread(found)}
}

func (r *logRecording) returnedError(m event.Moment) Value {
	values, err := r.t.Values(m)
	if err != nil || len(values) == 0 {
		return Value{}
	}
	return Value{Value: values[len(values)-1], Memory: r.memoryAt(r.t.Process(m), m, 0)}
}

// errorIdentity tells errors apart: by address where there is one, else by text.
func (r *logRecording) errorIdentity(m event.Moment) string {
	v := r.returnedError(m)
	if len(v.Items) == 1 && v.Items[0].Address != 0 {
		return fmt.Sprintf("%d/%x", r.t.Process(m), v.Items[0].Address)
	}
	return v.Text()
}

// errorText finds an error's message without running anything: in the fields of
// the standard library's errors, or in what a recorded call of its Error method
// returned.
func (r *logRecording) errorText(v Value) string {
	if v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.with(v.Items[0])
	}
	if v.Type == nil {
		return ""
	}
	fields := v
	if v.Form() == event.Pointer && v.Address != 0 {
		fields = v.Deref()
	}
	switch v.Type.Name {
	case "*errors.errorString":
		return fields.Field("s").Value.Text
	case "*fmt.wrapError", "*fmt.wrapErrors":
		return fields.Field("msg").Value.Text
	}
	return r.errorMethodResult(v)
}

func (r *logRecording) errorMethodResult(v Value) string {
	short := strings.TrimPrefix(v.Type.Name, "*")
	if i := strings.LastIndexByte(short, '.'); i >= 0 {
		short = short[i+1:]
	}
	for id, f := range r.t.Functions {
		if !strings.HasSuffix(f.Name, "(*"+short+").Error") && !strings.HasSuffix(f.Name, "."+short+".Error") {
			continue
		}
		calls := r.t.Enters(id)
		for i := range min(calls.Len(), maxErrorCalls) {
			enter := calls.At(i)
			left := r.t.Call(r.t.CallOf(enter)).Leave
			receiver, err := r.t.Values(enter)
			if left == event.NoMoment || err != nil || len(receiver) == 0 || receiver[0].Address != v.Address || receiver[0].Type != v.Type {
				continue
			}
			if result, err := r.t.Values(left); err == nil && len(result) == 1 {
				return result[0].Text
			}
		}
	}
	return ""
}

// maxErrorCalls bounds the calls of an Error method that are looked at.
const maxErrorCalls = 10000

// gaps lists what the log lacks.
func (r *logRecording) gaps() []Gap {
	var gaps []Gap
	for _, l := range r.t.Losses {
		remedy := "ask for the whole file again; what lies before and after the place is here"
		if strings.Contains(l.What, "cut off") {
			remedy = "the copy is incomplete, or the recorder was killed while it wrote: fetch the file again or record again; everything before is here"
		}
		gaps = append(gaps, Gap{What: fmt.Sprintf("at byte %d, %d bytes could not be read: %s", l.Offset, l.Bytes, l.What), Remedy: remedy})
	}
	level, ring, _ := strings.Cut(r.t.Header.Detail, ", ")
	if ring != "" {
		gaps = append(gaps, Gap{What: "only " + ring + " of events were kept", Remedy: "what came before is not here: record with a larger --ring, or without one"})
	}
	switch level {
	case "calls":
		gaps = append(gaps, Gap{What: "lines and the values of variables were not recorded", Remedy: "record with --detail values to see more than calls, arguments and results"})
	case "lines":
		gaps = append(gaps, Gap{What: "the values of variables were not recorded", Remedy: "record with --detail values to see more than lines, arguments and results"})
	}
	if r.t.Len() == 0 {
		gaps = append(gaps, Gap{What: "the log holds no moments", Remedy: "no own code ran before the program ended, or all of it is lost: record again"})
	}
	for _, p := range r.t.Processes {
		end, known := r.t.Ends[p.ID]
		switch {
		case !known:
			gaps = append(gaps, Gap{What: fmt.Sprintf("the log does not say how process %d ended", p.PID), Remedy: "its end is cut off, or the program ran without wraith record: run it as wraith record -o FILE -- PROGRAM"})
		case end.Trouble != "":
			gaps = append(gaps, Gap{What: "the recorder stopped early: " + end.Trouble, Remedy: "make room on the disk and record again"})
		}
	}
	for _, f := range r.t.Files {
		if f.Text == "" {
			gaps = append(gaps, Gap{What: "the log carries no source text", Remedy: "values and lines are here all the same; open the sources at revision " + r.t.Header.Revision})
			break
		}
	}
	return gaps
}
