// Package failure finds where and how a recorded program went wrong, and what its
// evidence lacks.
package failure

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Describe adds to a recording's description how the program ended and what is missing.
func Describe(log *state.Log, info *replay.Info) {
	f := Finder{log}
	if log.Recorded() {
		info.Failure, info.Gaps = f.failure(), f.gaps()
		if info.Failure != nil {
			f.explain(info.Failure)
		}
	} else {
		info.Failure, info.Gaps = f.reportedFailure(), f.reportedGaps()
	}
}

// Finder finds the failure of a timeline.
type Finder struct{ *state.Log }

// failure finds where the program went wrong. In order: a crash of the
// language's runtime, a test that failed, an end by signal, and an end with a
// code, which is taken back to the error that led to it.
func (r Finder) failure() *replay.Failure {
	if r.T.Len() == 0 {
		return nil
	}
	last := r.T.Len() - 1
	for _, p := range r.T.Processes {
		if end := r.T.Ends[p.ID]; end.Crash != "" {
			return r.crash(p.ID, end.Crash)
		}
	}
	if list := r.T.Notable(event.Failure); list.Len() > 0 {
		m := list.At(0)
		return &replay.Failure{Kind: "failed-assertion", Summary: r.FirstText(m, "a test failed"), Moment: m, Thread: r.T.Thread(m)}
	}
	if f := r.openPanic(); f != nil {
		return f
	}
	code := 0
	for _, p := range r.T.Processes {
		end := r.T.Ends[p.ID]
		if end.Signal != "" {
			return &replay.Failure{Kind: "signal", Summary: "ended by the signal: " + end.Signal, Moment: last, Thread: r.T.Thread(last)}
		}
		code = max(code, end.ExitCode)
	}
	exit := last
	for i := range r.T.Notable(event.Exit).Len() {
		m := r.T.Notable(event.Exit).At(i)
		if e := r.T.Event(m); e.ID != 0 {
			code, exit = int(int32(e.ID)), m
		}
	}
	if code == 0 {
		return nil
	}
	if f := r.errorBefore(exit, code); f != nil {
		return f
	}
	return &replay.Failure{Kind: "exit", Summary: fmt.Sprintf("ended with code %d", code), Moment: exit, Thread: r.T.Thread(exit)}
}

var (
	crashGoroutine = regexp.MustCompile(`(?m)^goroutine (\d+) `)
	crashState     = regexp.MustCompile(`^goroutine (\d+) .*\[([^\]]+)\]:`)
)

// crash places a crash that the Go runtime reported.
func (r Finder) crash(process uint16, text string) *replay.Failure {
	summary, _, _ := strings.Cut(text, "\n")
	f := &replay.Failure{Kind: "fatal", Summary: summary, Moment: event.NoMoment}
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
	for id := event.ThreadID(1); int(id) <= r.T.Threads(); id++ {
		if th := r.T.ThreadInfo(id); th.Process == process && th.Number == number {
			f.Thread = id
		}
	}
	panics := r.T.Notable(event.Panic)
	for i := range panics.Len() {
		if m := panics.At(i); f.Kind == "panic" && (f.Thread == 0 || r.T.Thread(m) == f.Thread) && r.T.Process(m) == process {
			f.Moment = m
		}
	}
	if f.Moment == event.NoMoment {
		f.Moment = r.T.Len() - 1
		if f.Thread != 0 {
			f.Moment = r.T.OnThread(f.Thread, f.Moment)
		}
	}
	f.Thread = r.T.Thread(f.Moment)
	switch {
	case f.Kind != "fatal":
	case strings.Contains(text, "\nruntime.newstack(") && strings.Contains(text, "runtime.throw("):
		r.stackOverflow(f)
	case deadlocked(text):
		r.deadlock(f, process)
	case strings.Contains(text, "runtime/maps.fatal(") || strings.Contains(text, "concurrent map"):
		r.concurrentMap(f)
	}
	return f
}

// openPanic finds a panic that nothing recovered, for a log whose program left
// no crash text.
func (r Finder) openPanic() *replay.Failure {
	panics := r.T.Notable(event.Panic)
	for i := panics.Len() - 1; i >= 0; i-- {
		m := panics.At(i)
		th := r.T.Thread(m)
		if _, last := r.T.Span(th); r.T.Kind(last) != event.Unwind || r.recoveredAfter(m) {
			continue
		}
		return &replay.Failure{Kind: "panic", Summary: r.FirstText(m, "panic (its message was not recorded)"), Moment: m, Thread: th}
	}
	return nil
}

func (r Finder) recoveredAfter(m event.Moment) bool {
	recovers := r.T.Notable(event.Recover)
	for i := recovers.After(m); i < recovers.Len(); i++ {
		if r.T.Thread(recovers.At(i)) == r.T.Thread(m) {
			return true
		}
	}
	c := r.T.CallOf(m)
	for c != event.NoCall && r.Unwound(c) {
		c = r.T.Call(c).Parent
	}
	return c != event.NoCall
}

// errorBefore finds the error that led to an exit: the last one that own code returned before it
// on the same thread, at the call that returned this very error first. An error after which other
// calls went well was handled.
func (r Finder) errorBefore(exit event.Moment, code int) *replay.Failure {
	list := r.T.ErrorReturns()
	i := list.Before(exit)
	for i >= 0 && r.T.Thread(list.At(i)) != r.T.Thread(exit) {
		i--
	}
	if i < 0 || r.handled(list.At(i), exit) || !r.ledTo(list.At(i), exit) {
		return nil
	}
	found := list.At(i)
	identity := r.errorIdentity(found)
	for i--; i >= 0 && identity != "" && r.errorIdentity(list.At(i)) == identity; i-- {
		found = list.At(i)
	}
	v := r.ReturnedError(found)
	summary := r.ErrorText(v)
	if summary == "" {
		summary = v.Text()
	}
	return &replay.Failure{Kind: "error", Summary: fmt.Sprintf("%s (the program ended with code %d)", summary, code), Moment: found, Thread: r.T.Thread(found)}
}

// ledTo reports whether an error, returned at a moment, was passed on until a call that was open at the exit. A call
// that got it and returned without an error has dealt with it.
func (r Finder) ledTo(failed, exit event.Moment) bool {
	for c := r.T.Call(r.T.CallOf(failed)).Parent; c != event.NoCall; c = r.T.Call(c).Parent {
		left := r.T.Call(c).Leave
		if left == event.NoMoment || left > exit {
			return true
		}
		f := r.T.FunctionOf(c)
		if r.T.Kind(left) != event.Leave {
			continue // a panic left it
		}
		if len(f.Results) == 0 || f.Variables[f.Results[len(f.Results)-1]].Type != "error" || r.ReturnedError(left).Nil {
			return false
		}
	}
	return true
}

// maxHandled limits the calls that are examined after an error.
const maxHandled = 4096

// handled reports whether, after an error, the program made another call of own code that could
// return an error, and it returned none.
func (r Finder) handled(failed, exit event.Moment) bool {
	thread := r.T.Thread(failed)
	calls := r.T.ThreadCalls(thread)
	for n, i := 0, calls.Len()-1; i >= 0 && n < maxHandled; n, i = n+1, i-1 {
		c := event.CallID(calls.At(i))
		call := r.T.Call(c)
		if call.Enter <= failed {
			return false
		}
		f := r.T.FunctionOf(c)
		if call.Leave == event.NoMoment || call.Leave > exit || r.T.Kind(call.Leave) != event.Leave || len(f.Results) == 0 {
			continue
		}
		if last := f.Results[len(f.Results)-1]; f.Variables[last].Type != "error" {
			continue
		}
		if v := r.ReturnedError(call.Leave); v.Nil {
			return true
		}
	}
	return false
}

// errorIdentity tells errors apart: by address where there is one, else by text.
func (r Finder) errorIdentity(m event.Moment) string {
	v := r.ReturnedError(m)
	if len(v.Items) == 1 && v.Items[0].Address != 0 {
		return fmt.Sprintf("%d/%x", r.T.Process(m), v.Items[0].Address)
	}
	return v.Text()
}

// gaps lists what the log lacks.
func (r Finder) gaps() []replay.Gap {
	gaps := append([]replay.Gap(nil), r.T.Gaps...)
	for _, l := range r.T.Losses {
		remedy := "fetch the whole file again; what is before and after the damage is available"
		if strings.Contains(l.What, "cut off") {
			remedy = "the copy is incomplete, or the recorder was killed while it wrote: fetch the file again or record again; everything before is here"
		}
		gaps = append(gaps, replay.Gap{What: fmt.Sprintf("at byte %d, %d bytes could not be read: %s", l.Offset, l.Bytes, l.What), Remedy: remedy})
	}
	level, ring, _ := strings.Cut(r.T.Header.Detail, ", ")
	if ring != "" {
		gaps = append(gaps, replay.Gap{What: "only " + ring + " of events were kept", Remedy: "earlier events are missing: record with a larger --ring, or without one"})
	}
	switch level {
	case "calls":
		gaps = append(gaps, replay.Gap{What: "lines and the values of variables were not recorded", Remedy: "record with --detail values to see more than calls, arguments and results"})
	case "lines":
		gaps = append(gaps, replay.Gap{What: "the values of variables were not recorded", Remedy: "record with --detail values to see more than lines, arguments and results"})
	}
	if r.T.Len() == 0 {
		gaps = append(gaps, replay.Gap{What: "the log contains no moments", Remedy: "no own code ran before the program ended, or all of it is lost: record again"})
	}
	for _, p := range r.T.Processes {
		end, known := r.T.Ends[p.ID]
		switch {
		case !known:
			gaps = append(gaps, replay.Gap{What: fmt.Sprintf("the log does not say how process %d ended", p.PID), Remedy: "its end is cut off, or the program ran without wraith record: run it as wraith record -o FILE -- PROGRAM"})
		case end.Trouble != "":
			gaps = append(gaps, replay.Gap{What: "the recorder stopped early: " + end.Trouble, Remedy: "free some disk space and record again"})
		}
	}
	for _, f := range r.T.Files {
		if f.Text == "" {
			gaps = append(gaps, replay.Gap{What: "the log contains no source text", Remedy: "values and lines are complete; open the sources at revision " + r.T.Header.Revision})
			break
		}
	}
	return gaps
}
