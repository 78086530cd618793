package relations

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

// Limits of the search at lines.
const (
	mostLineSampled = 400       // hits of a line that are looked at in each passing run
	mostReads       = 6         // values that a line reads
	mostLineChecks  = 2_000_000 // hits of lines in the failing run that are looked at
)

// chanceful are the scores of bounds of many values. At the entries and returns of functions some of them say something; lines are so
// many that chance is in most.
var chanceful = []int{scoreWhole, scoreFloat}

// lineOf is a line of the failing run, the local values that it reads, and how often it ran.
type lineOf struct {
	replay.Checkpoint
	function string
	reads    []read
	hits     int
}

// read is a path that a line reads.
type read struct {
	name string
	path replay.Path
}

// lines guesses relations between the local values that lines read, in the functions with these names, the lines with the fewest hits
// first. Parameters are looked at at the entry.
func (s *search) lines(ctx context.Context, names []string) error {
	checked := map[string]bool{} // the same relation at several lines of a function counts once
	budget := mostLineChecks
	for _, x := range s.linesOf(names) {
		if budget -= min(x.hits, mostTried); budget < 0 {
			s.more = true
			return nil
		}
		var all observations
		isShared := true
		for _, r := range s.passing {
			n, err := all.sample(ctx, r, x.Checkpoint, mostLineSampled, x.values(ctx))
			if ctx.Err() != nil {
				return ctx.Err()
			}
			isShared = isShared && err == nil && n > 0 // another version may not have this line
		}
		if !isShared {
			continue
		}
		var list []candidate
		for _, c := range all.candidates() {
			key := x.function + "\x00" + c.that
			if !checked[key] && !slices.Contains(chanceful, c.score) {
				checked[key] = true
				list = append(list, c)
			}
		}
		if err := s.keep(ctx, x.Checkpoint, list, x.values(ctx)); err != nil {
			return err
		}
	}
	return nil
}

// values sees the local values that the line reads.
func (x lineOf) values(ctx context.Context) valuesAt {
	return func(r find.Finder, m event.Moment, wanted func(name string) bool, see func(name string, v replay.Value)) {
		for _, y := range x.reads {
			if !wanted(y.name) {
				continue
			}
			if v, err := replay.Follow(ctx, r, m, r.T.Thread(m), 0, y.path); err == nil {
				see(y.name, v)
			}
		}
	}
}

// linesOf lists the lines of functions that read local values.
func (s *search) linesOf(names []string) (list []lineOf) {
	t, texts := s.failing.T, map[event.FileID][]string{}
	for id, site := range t.Sites {
		f := t.Function(site.Function)
		if f == nil || !f.Own || !slices.Contains(names, f.Name) {
			continue
		}
		isLocal := map[string]bool{}
		for _, v := range f.Variables {
			isLocal[v.Name] = isLocal[v.Name] || v.Scope == event.Local
		}
		var reads []read
		for _, name := range site.Reads {
			root, _, _ := strings.Cut(name, ".")
			if !isLocal[root] || len(reads) == mostReads || slices.ContainsFunc(reads, func(x read) bool { return x.name == name }) {
				continue
			}
			if path, err := replay.ParsePath(name); err == nil {
				reads = append(reads, read{name, path})
			}
		}
		file := f.File
		if site.File != 0 {
			file = site.File
		}
		lines, ok := texts[file]
		if !ok {
			lines = strings.Split(t.Files[file].Text, "\n")
			texts[file] = lines
		}
		if len(reads) == 0 || site.Line < 1 || site.Line > len(lines) {
			continue
		}
		c := replay.Checkpoint{Kind: "line", About: fmt.Sprintf("%s:%d", t.Files[file].Path, site.Line), Text: strings.TrimSpace(lines[site.Line-1])}
		list = append(list, lineOf{c, f.Name, reads, t.SiteMoments(id).Len()})
	}
	slices.SortFunc(list, func(a, b lineOf) int { return cmp.Or(a.hits-b.hits, strings.Compare(a.About, b.About)) })
	return list
}
