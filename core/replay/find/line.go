package find

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

var _ = register(Kind{Name: "line", Form: "FILE:N", Doc: "on a line, as FILE:N", Bare: true,
	places: func(_ context.Context, r Finder, c replay.Checkpoint) (places, error) {
		c.About = r.moved(c)
		sites, err := r.sitesOf(c.About)
		var p places
		if heads := r.headsOf(c.About); len(sites) == 0 && len(heads) > 0 {
			for _, f := range heads {
				p.lists = append(p.lists, r.T.Enters(f))
			}
			return p, nil
		}
		for _, s := range sites {
			p.lists = append(p.lists, r.T.SiteMoments(s))
		}
		return p, err
	},
	locate: func(_ context.Context, r Finder, c replay.Checkpoint) (replay.Located, error) {
		c.About = r.moved(c)
		sites, err := r.sitesOf(c.About)
		if heads := r.headsOf(c.About); err != nil && len(heads) > 0 {
			f := r.T.Function(heads[0])
			return r.locatedAt(r.T.Files[f.File].Path, f.Line), nil
		}
		if err != nil {
			return replay.Located{}, err
		}
		site := r.T.Sites[sites[0]]
		return r.locatedAt(r.T.Files[r.siteFile(site)].Path, site.Line), nil
	},
})

// locatedAt returns the place of a checkpoint on a line.
func (r Finder) locatedAt(file string, line int) replay.Located {
	at := replay.Located{About: LineText(file, line), File: file, Line: line}
	if text, err := r.Source(file); err == nil {
		if lines := strings.Split(text, "\n"); line >= 1 && line <= len(lines) {
			at.Text = strings.TrimSpace(lines[line-1])
		}
	}
	return at
}

// moved returns the line of a checkpoint in this recording: the nearest one with its text, or as it is written if there
// is none.
func (r Finder) moved(c replay.Checkpoint) string {
	file, line, err := ParseLine(c.About)
	if err != nil || c.Text == "" {
		return c.About
	}
	files, err := r.filesNamed(file)
	if err != nil {
		return c.About
	}
	for id := range files {
		text, err := r.Source(r.T.Files[id].Path)
		if !files[id] || err != nil {
			continue
		}
		lines := strings.Split(text, "\n")
		for away := range max(line, len(lines)-line) + 1 {
			for _, n := range []int{line - away, line + away} {
				if n >= 1 && n <= len(lines) && strings.TrimSpace(lines[n-1]) == c.Text {
					return LineText(r.T.Files[id].Path, n)
				}
			}
		}
	}
	return c.About
}

// headsOf lists the functions that begin on a line: it is reached when they are entered.
func (r Finder) headsOf(about string) []event.FunctionID {
	file, line, err := ParseLine(about)
	if err != nil || !r.Recorded() {
		return nil
	}
	files, err := r.filesNamed(file)
	if err != nil {
		return nil
	}
	var out []event.FunctionID
	for id, f := range r.T.Functions {
		if f.Line == line && files[f.File] {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

func (r Finder) sitesOf(about string) ([]event.SiteID, error) {
	file, line, err := ParseLine(about)
	if err != nil {
		return nil, err
	}
	return r.sitesAt(file, line)
}

// Lines implements replay.Finder.
func (r Finder) Lines(file string) []int {
	var lines []int
	for _, s := range r.T.Sites {
		if r.T.Files[r.siteFile(s)].Path == file && s.Line > 0 {
			lines = append(lines, s.Line)
		}
	}
	slices.Sort(lines)
	return slices.Compact(lines)
}

// sitesAt returns the first site of each function on a line, in the files that the name fits.
func (r Finder) sitesAt(file string, line int) ([]event.SiteID, error) {
	files, err := r.filesNamed(file)
	if err != nil {
		return nil, err
	}
	first := map[event.FunctionID]event.SiteID{}
	var out []event.SiteID
	var lines []int
	for id, s := range r.T.Sites {
		if !files[r.siteFile(s)] {
			continue
		}
		lines = append(lines, s.Line)
		if s.Line != line {
			continue
		}
		if !r.Recorded() { // each message of the line has a site of its own
			out = append(out, id)
		}
		if have, ok := first[s.Function]; !ok || id < have {
			first[s.Function] = id
		}
	}
	if len(first) == 0 {
		return nil, fmt.Errorf("%s:%d: %w: no statement on this line%s", file, line, fault.NoCode, nearestLines(file, line, lines))
	}
	if r.Recorded() {
		for _, s := range first {
			out = append(out, s)
		}
	}
	slices.Sort(out)
	return out, nil
}

// siteFile returns the file of a site.
func (r Finder) siteFile(s event.Site) event.FileID {
	if s.File != 0 {
		return s.File
	}
	return r.T.Function(s.Function).File
}

// nearestLines returns the nearest lines before and after one that can hold a checkpoint.
func nearestLines(file string, line int, lines []int) string {
	slices.Sort(lines)
	lines = slices.Compact(lines)
	i := sort.SearchInts(lines, line)
	var near []string
	if i > 0 {
		near = append(near, fmt.Sprintf("%s:%d", file, lines[i-1]))
	}
	if i < len(lines) {
		near = append(near, fmt.Sprintf("%s:%d", file, lines[i]))
	}
	if len(near) == 0 {
		return ", nor does any other of this file"
	}
	return "; the nearest that do are " + strings.Join(near, " and ")
}

// filesNamed finds the files whose path is the name or ends in it.
func (r Finder) filesNamed(name string) (map[event.FileID]bool, error) {
	found := map[event.FileID]bool{}
	var paths []string
	for id, f := range r.T.Files {
		if f.Path == name || strings.HasSuffix(f.Path, "/"+strings.TrimPrefix(name, "./")) {
			found[id] = true
			paths = append(paths, f.Path)
		}
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	switch {
	case len(paths) > 1 && !slices.Contains(paths, name):
		return nil, fmt.Errorf("%s: %w: ambiguous: %s", name, fault.NoCode, strings.Join(paths, " or "))
	case len(paths) > 1:
		for id, f := range r.T.Files {
			found[id] = f.Path == name
		}
	case len(paths) == 0:
		for _, f := range r.T.Files {
			paths = append(paths, f.Path)
		}
		slices.Sort(paths)
		return nil, fmt.Errorf("%s: %w: no recorded file has this name%s", name, fault.NoCode, alternatives(paths, 12))
	}
	return found, nil
}

// alternatives lists names that exist, at most most of them, for an error about one that does
// not. It is empty if there are none.
func alternatives(names []string, most int) string {
	if len(names) == 0 {
		return ""
	}
	text := "; there are " + strings.Join(names[:min(len(names), most)], ", ")
	if n := len(names) - most; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}
