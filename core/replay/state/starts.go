package state

import (
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
)

// maxStarts limits the moments at which a goroutine may have been started.
const maxStarts = 256

// Starts lists the moments before a thread's first one at which the place that started it was reached, on the
// thread that started it if that is known, latest first. ok is false if the runtime did not say the
// place.
func (r *Log) Starts(t event.ThreadID) (list []event.Moment, ok bool) {
	of, file, line, ok := parseCreator(r.T.ThreadInfo(t).Creator)
	if !ok {
		return nil, false
	}
	first, _ := r.T.Span(t)
	for id, s := range r.T.Sites {
		if s.Line != line || !strings.HasSuffix(file, r.T.Files[r.T.Function(s.Function).File].Path) {
			continue
		}
		moments := r.T.SiteMoments(id)
		for i, n := moments.Before(first), 0; i >= 0 && n < maxStarts; i, n = i-1, n+1 {
			if m := moments.At(i); of == 0 || r.T.ThreadInfo(r.T.Thread(m)).Number == of {
				list = append(list, m)
			}
		}
	}
	slices.Sort(list)
	slices.Reverse(list)
	return list[:min(len(list), maxStarts)], true
}

// parseCreator parses "function in goroutine 7 at /path/file.go:12".
func parseCreator(s string) (goroutine uint64, file string, line int, ok bool) {
	i := strings.LastIndex(s, " at ")
	if i < 0 {
		return 0, "", 0, false
	}
	if j := strings.Index(s, " in goroutine "); j >= 0 && j < i {
		goroutine, _ = strconv.ParseUint(s[j+len(" in goroutine "):i], 10, 64)
	}
	place := s[i+len(" at "):]
	colon := strings.LastIndexByte(place, ':')
	if colon < 0 {
		return 0, "", 0, false
	}
	line, err := strconv.Atoi(place[colon+1:])
	return goroutine, place[:colon], line, err == nil
}
