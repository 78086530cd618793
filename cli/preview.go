package cli

import (
	"cmp"
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// minPreview is the minimum number of moments of a log whose summary is shown while it is indexed, which
// takes about a second for them.
const minPreview = 5_000_000

// preview prints to standard error what the summary of an execution log says of its end, before the log
// is indexed. It prints nothing for a log without one, and for other evidence.
func (a *app) preview(name, path string) {
	log, err := execlog.OpenFile(path)
	if err != nil {
		return // opening it says what is wrong
	}
	defer log.Close()
	s := log.Summary
	if s == nil || s.Moments < minPreview {
		return
	}
	how, calls := ending(log)
	fmt.Fprintf(a.err, "%s has %d moments and is being indexed; its summary says\n  %s\n", plain(name), s.Moments, plain(how))
	for i, c := range calls.Calls {
		f := log.Functions[c.Function]
		line := f.Line
		if c.Reached {
			line = log.Sites[c.Site].Line
		}
		fmt.Fprintf(a.err, "  %3d  %s%s\n", i, plain(f.Name), inFile(log.Files[f.File].Path, line))
	}
	if left := calls.Depth - len(calls.Calls); left > 0 {
		fmt.Fprintf(a.err, "       … %d frames are left out\n", left)
	}
}

// ending returns how the processes of a log ended, and the calls that were open where one failed.
func ending(log *execlog.Log) (how string, calls execlog.OpenCalls) {
	s := log.Summary
	for _, p := range log.Processes {
		end := log.Ends[p.ID]
		if end.Crash == "" {
			continue
		}
		for _, n := range s.Notable {
			if n.Process == p.ID && n.Kind == event.Panic {
				calls = n.OpenCalls
			}
		}
		for _, o := range s.Open {
			if o.Process == p.ID && len(calls.Calls) == 0 {
				calls = o
			}
		}
		first, _, _ := strings.Cut(end.Crash, "\n")
		return cmp.Or(strings.TrimSpace(first), "the runtime ended the program"), calls
	}
	for _, kind := range []event.Kind{event.Failure, event.Panic, event.Exit} {
		for _, n := range s.Notable {
			switch {
			case n.Kind != kind || kind == event.Exit && n.Code == 0:
				continue
			case kind == event.Exit:
				return fmt.Sprintf("the program ended itself with code %d", int32(n.Code)), n.OpenCalls
			}
			return cmp.Or(n.Text, "a "+kind.String()), n.OpenCalls
		}
	}
	for _, p := range log.Processes {
		switch end := log.Ends[p.ID]; {
		case end.Signal != "":
			how = "ended by the signal: " + end.Signal
		case end.ExitCode > 0:
			how = fmt.Sprintf("ended with code %d", end.ExitCode)
		}
	}
	if len(s.Open) > 0 {
		calls = s.Open[0]
	}
	return cmp.Or(how, "no failure"), calls
}
