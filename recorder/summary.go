package recorder

import (
	"slices"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// summariser follows the calls of a log's threads while it is packed.
type summariser struct {
	summary execlog.Summary
	process uint16
	thread  event.ThreadID
	types   event.Types
	stack   []execlog.OpenCall // outermost first
	current int                // number of open calls up to the current one
	notable []execlog.NotableEvent
	last    int64
}

// perThread limits the notable events that are kept of a thread: the last ones count.
const perThread = 8

// begin begins a thread, if the events that follow are not of the same one.
func (s *summariser) begin(process uint16, thread event.ThreadID, types event.Types) {
	if s.process == process && s.thread == thread {
		return
	}
	s.end()
	s.process, s.thread, s.types = process, thread, types
}

// end ends the thread.
func (s *summariser) end() {
	if s.thread == 0 {
		return
	}
	s.summary.Threads++
	s.summary.Last = max(s.summary.Last, s.last)
	if room := execlog.MaxNotable - len(s.summary.Notable); room > 0 {
		s.summary.Notable = append(s.summary.Notable, s.notable[max(0, len(s.notable)-room):]...)
	}
	if len(s.stack) > 0 && len(s.summary.Open) < execlog.MaxOpen {
		s.summary.Open = append(s.summary.Open, s.calls(len(s.stack)))
	}
	s.thread, s.stack, s.current, s.notable, s.last = 0, s.stack[:0], 0, nil, 0
}

// calls returns the first n of the open calls.
func (s *summariser) calls(n int) execlog.OpenCalls {
	list := slices.Clone(s.stack[max(0, n-execlog.MaxCalls):n])
	slices.Reverse(list)
	return execlog.OpenCalls{Process: s.process, Thread: s.thread, Time: s.last, Depth: n, Calls: list}
}

// see takes the next event of the thread.
func (s *summariser) see(e event.Event) {
	s.summary.Moments++
	s.last = e.Time
	switch e.Kind {
	case event.Enter:
		s.stack = append(s.stack, execlog.OpenCall{Function: event.FunctionID(e.ID)})
		s.current = len(s.stack)
	case event.Leave, event.Unwind:
		if s.current > 0 {
			s.current--
			s.stack = s.stack[:s.current]
		}
	case event.Resume:
		if n := int(e.ID); n >= 1 && n <= len(s.stack) {
			s.current = n
		}
	case event.Open:
		if depth, f := event.DecodeOpen(e.Data); depth == uint64(len(s.stack)+1) {
			s.stack = append(s.stack, execlog.OpenCall{Function: f, Site: event.SiteID(e.ID), Reached: true})
			s.current = len(s.stack)
		}
	case event.Line:
		if s.current > 0 {
			c := &s.stack[s.current-1]
			c.Site, c.Reached = event.SiteID(e.ID), true
		}
	case event.Panic, event.Failure, event.Exit:
		n := execlog.NotableEvent{Kind: e.Kind, Code: e.ID, OpenCalls: s.calls(s.current)}
		if values, err := event.DecodeValues(e.Data, e.Args, s.types); err == nil && len(values) > 0 {
			n.Text = textIn(values[0])
		}
		if s.notable = append(s.notable, n); len(s.notable) > perThread {
			s.notable = s.notable[1:]
		}
	case event.Recover:
		s.notable = slices.DeleteFunc(s.notable, func(n execlog.NotableEvent) bool { return n.Kind == event.Panic })
	}
}

// textIn returns the text of a value: its own, or the first one in it.
func textIn(v event.Value) string {
	if v.Form() == event.Text {
		return v.Text
	}
	for _, item := range v.Items {
		if text := textIn(item); text != "" {
			return text
		}
	}
	return ""
}
