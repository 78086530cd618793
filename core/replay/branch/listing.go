package branch

import (
	"context"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// mostListed limits the values of a line of a listing.
const mostListed = 8

// Listing implements replay.Brancher.
func (r Brancher) Listing(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (replay.Listing, error) {
	out := replay.Listing{}
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return out, err
	}
	a, err := r.activation(ctx, c)
	if err != nil {
		return out, err
	}
	f := r.T.FunctionOf(c)
	out.Function, out.File = f.Name, r.T.Files[f.File].Path
	begin, end := r.T.Call(c).Enter, a.end()
	for line := f.Line; line <= min(f.EndLine, len(a.body.Lines)); line++ {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		x := replay.ListedLine{Line: line, Text: a.body.Lines[line-1], Hits: -1, Last: event.NoMoment}
		if line == f.Line {
			x.Hits, x.Last = 1, begin
			x.Values = r.parametersOf(f, c, begin)
		} else if len(a.sites[line]) > 0 {
			x.Hits, x.Last = a.count(line, begin, end), a.last(line, min(at, end))
			if x.Last == event.NoMoment { // it ran later only
				x.Last = a.last(line, end)
			}
			if x.Last != event.NoMoment {
				x.Values = a.usedOn(x.Last)
			}
		}
		out.Lines = append(out.Lines, x)
	}
	return out, nil
}

// parametersOf lists the arguments of a call.
func (r Brancher) parametersOf(f *event.Function, c event.CallID, begin event.Moment) []replay.Operand {
	var out []replay.Operand
	for _, id := range f.Parameters {
		if int(id) < len(f.Variables) && len(out) < mostListed && f.Variables[id].Name != "" && f.Variables[id].Name != "_" {
			v := r.VariableOf(f.Variables[id], id, f, c, begin)
			out = append(out, replay.Operand{Name: v.Name, Path: v.Name, Value: v.Value, Written: begin})
		}
	}
	return out
}

// usedOn lists the values that a line read when it was reached at a moment, and those that it wrote.
func (a *activation) usedOn(m event.Moment) []replay.Operand {
	var out []replay.Operand
	site := a.r.T.Site(m)
	seen := map[string]bool{}
	until := a.during(m)
	add := func(name string, at event.Moment) {
		if seen[name] || len(out) == mostListed {
			return
		}
		p, err := replay.ParsePath(name)
		if err != nil {
			return
		}
		_, v, err := a.r.ScopeOf(a.call, at).Locate(p, nil)
		if err != nil {
			return
		}
		seen[name] = true
		out = append(out, replay.Operand{Name: name, Path: name, Value: v, Written: event.NoMoment})
	}
	for _, name := range site.Writes {
		add(name, until)
	}
	for _, name := range site.Reads {
		if !slices.ContainsFunc(site.Reads, func(part string) bool { return within(part, name) }) {
			add(name, m)
		}
	}
	return out
}

// within reports whether a path leads to a part of what another path leads to.
func within(part, of string) bool {
	rest, ok := strings.CutPrefix(part, of)
	return ok && rest != "" && (rest[0] == '.' || rest[0] == '[')
}
