package failure

import (
	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/timeline"
)

// maxErrorsBefore limits the errors that are looked at for the first of a chain.
const maxErrorsBefore = 1000

// reportedFailure finds where what is reported went wrong: from the last error to
// the last one before it in a call that the failed one had made, and so on.
func (r Finder) reportedFailure() *replay.Failure {
	errors := r.T.Notable(event.Error)
	if errors.Len() == 0 {
		return nil
	}
	m := errors.At(errors.Len() - 1)
	if first, ok := r.firstUnhandled(errors); ok {
		m = first
	}
	cause := r.CauseAt(m)
	f := &replay.Failure{Kind: "error", Summary: r.ReportedError(m), Moment: m, Thread: r.T.Thread(m), Causes: []replay.Cause{cause}}
	for i := errors.Len() - 2; i >= max(0, errors.Len()-maxErrorsBefore); i-- {
		outer := r.T.CallOf(f.Moment)
		inner := errors.At(i)
		if outer == event.NoCall || inner < r.T.Call(outer).Enter {
			break
		}
		c := r.T.CallOf(inner)
		for c != event.NoCall && c != outer {
			c = r.T.Call(c).Parent
		}
		if c == outer && r.T.CallOf(inner) != outer {
			f.Moment, f.Thread = inner, r.T.Thread(inner)
			f.Causes = append(f.Causes, r.CauseAt(inner))
		}
	}
	if cause.Type != "" {
		f.Kind = "exception"
	}
	frames := r.TracebackFrames(f.Moment, f.Thread)
	for i := range frames {
		if frames[i].Own {
			f.Frame = i
			break
		}
	}
	return f
}

// firstUnhandled returns the first error that ended a program.
func (r Finder) firstUnhandled(errors timeline.List) (event.Moment, bool) {
	sites := map[event.SiteID]bool{}
	for id, site := range r.T.Sites {
		f := r.T.Functions[site.Function]
		for _, v := range site.Values {
			if int(v) < len(f.Variables) && f.Variables[v].Name == event.Unhandled {
				sites[id] = true
			}
		}
	}
	for i := 0; len(sites) > 0 && i < errors.Len(); i++ {
		if m := errors.At(i); sites[r.T.Site(m).ID] {
			return m, true
		}
	}
	return 0, false
}

// reportedGaps lists what the evidence lacks.
func (r Finder) reportedGaps() []replay.Gap {
	gaps := append([]replay.Gap(nil), r.T.Gaps...)
	for _, l := range r.T.Losses {
		gaps = append(gaps, replay.Gap{What: l.What, Remedy: "split the evidence into parts"})
	}
	if r.T.Len() == 0 {
		gaps = append(gaps, replay.Gap{What: "the evidence contains no events", Remedy: "check that it is the right file"})
	}
	return gaps
}
