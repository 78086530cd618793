package editor

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/google/go-dap"

	"wraithology/client"
	"wraithology/core/ask"
	"wraithology/core/event"
	"wraithology/core/fault"
)

// point is a checkpoint that the editor has set.
type point struct {
	id  int
	on  ask.CheckpointOn
	at  ask.Place // for a path: where it is reached
	log string    // what is said at a hit, where replay does not halt; empty if it halts
}

// points are the checkpoints of an editor: by file, on functions, on errors, and on values.
type points struct {
	next      int
	files     map[string][]point
	functions []point
	errors    []point
	values    []point
}

func newPoints() points { return points{files: map[string][]point{}} }

func (p *points) all() (list []point) {
	for _, file := range sortedKeys(p.files) {
		list = append(list, p.files[file]...)
	}
	return slices.Concat(list, p.functions, p.errors, p.values)
}

func sortedKeys(m map[string][]point) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (p *points) id() int {
	p.next++
	return p.next
}

// set checks a checkpoint with the evidence. What is wrong with it is in the breakpoint that the editor gets.
func (s *Session) set(ctx context.Context, x point) (point, dap.Breakpoint) {
	x.id = s.points.id()
	b := dap.Breakpoint{Id: x.id, Verified: true}
	at := x.at
	if at == (ask.Place{}) {
		at = ask.Place{Moment: event.NoMoment}
	}
	if _, err := client.Put(ctx, s.of, ask.HitsRequest{Place: at, CheckpointOn: ask.CheckpointOn{On: x.on.On, Nth: x.on.Nth}, Count: 1}); err != nil {
		b.Verified, b.Message = false, err.Error()
	}
	return x, b
}

// suffixes lists a path and what is left of it without its outer folders: the evidence names files by their path in the module, or in
// full.
func suffixes(file string) []string {
	file = strings.ReplaceAll(file, "\\", "/")
	list := []string{file}
	for rest := strings.TrimPrefix(file, "/"); ; {
		if rest != list[len(list)-1] {
			list = append(list, rest)
		}
		_, after, ok := strings.Cut(rest, "/")
		if !ok {
			return list
		}
		rest = after
	}
}

// recordedFile returns the name of a file in the evidence, or the file as it was named if the evidence does not have it.
func (s *Session) recordedFile(ctx context.Context, of dap.Source) string {
	if name, ok := s.refs.files[of.SourceReference]; ok && of.SourceReference > 0 {
		return name
	}
	for _, name := range suffixes(of.Path) {
		if _, err := client.Put(ctx, s.of, ask.FileRequest{File: name}); err == nil {
			return name
		}
	}
	for _, name := range suffixes(of.Path) { // a frame can name it differently: the checkpoint finds it by its end
		if _, err := client.Put(ctx, s.of, ask.HitsRequest{Place: ask.Place{Moment: event.NoMoment}, CheckpointOn: ask.CheckpointOn{On: fmt.Sprintf("line %s:1", name)}, Count: 1}); err == nil || strings.Contains(err.Error(), "no statement on this line") {
			return name
		}
	}
	return path.Base(strings.ReplaceAll(of.Path, "\\", "/"))
}

// nth converts a hit condition: "5" and ">= 5" are the fifth, "% 5" every fifth; other texts are those of checkpoints.
func nth(condition string) string {
	text := strings.TrimSpace(condition)
	if rest, ok := strings.CutPrefix(text, "%"); ok {
		return "every " + strings.TrimSpace(rest)
	}
	return strings.TrimSpace(strings.TrimLeft(text, "=> "))
}

// hit is where replay halts.
type hit struct {
	place ask.Place
	of    point
}

// nearest finds the next hit of the checkpoints that halt, or the previous one; ok is false if there is none.
func (s *Session) nearest(ctx context.Context, back bool) (best hit, ok bool, err error) {
	for _, x := range s.points.all() {
		if x.log != "" {
			continue
		}
		p, found, err := s.nearestOf(ctx, x, back)
		if err != nil {
			return best, false, err
		}
		if found && (!ok || (p.Moment < best.place.Moment) != back) {
			best, ok = hit{p, x}, true
		}
	}
	return best, ok, nil
}

// mostPathHits limits the writes of one value that replay halts at.
const mostPathHits = 100_000

func (s *Session) nearestOf(ctx context.Context, x point, back bool) (ask.Place, bool, error) {
	if strings.HasPrefix(x.on.On, "write ") { // its path is reached from where it was set
		hits, err := client.Put(ctx, s.of, ask.HitsRequest{Place: x.at, CheckpointOn: x.on, Count: mostPathHits})
		if err != nil {
			return ask.Place{}, false, ignoreMissing(err)
		}
		list := hits.Hits
		if back {
			slices.Reverse(list)
		}
		for _, h := range list {
			if h.Moment != s.place.Moment && (h.Moment < s.place.Moment) == back {
				return ask.Place{Moment: h.Moment, Thread: h.Thread}, true, nil
			}
		}
		return ask.Place{}, false, nil
	}
	at, err := client.Put(ctx, s.of, ask.RunRequest{Place: s.place, CheckpointOn: x.on, Back: back})
	if err != nil {
		return ask.Place{}, false, ignoreMissing(err)
	}
	return ask.Place{Moment: at.Moment, Thread: at.Thread}, true, nil
}

// ignoreMissing drops the errors of a checkpoint without hits, and of one on code that the evidence does not have.
func ignoreMissing(err error) error {
	if errors.Is(err, fault.NoHit) || errors.Is(err, fault.NoCode) {
		return nil
	}
	return err
}

// mostLogged limits the lines that one run logs.
const mostLogged = 1000

// logBetween writes what the logging checkpoints say between two moments.
func (s *Session) logBetween(ctx context.Context, from, to event.Moment) {
	if from > to {
		from, to = to, from
	}
	left := mostLogged
	for _, x := range s.points.all() {
		if x.log == "" {
			continue
		}
		text, expressions := logForm(x.log)
		hits, err := client.Put(ctx, s.of, ask.HitsRequest{Place: ask.Place{Moment: event.NoMoment}, CheckpointOn: x.on, Show: expressions, Count: mostPathHits})
		if err != nil {
			s.event("output", dap.OutputEventBody{Category: "console", Output: fmt.Sprintf("%s: %s\n", x.log, err)})
			continue
		}
		for _, h := range hits.Hits {
			if h.Moment <= from || h.Moment > to {
				continue
			}
			if left--; left < 0 {
				s.event("output", dap.OutputEventBody{Category: "console", Output: fmt.Sprintf("… more than %d lines: stop sooner to see the rest\n", mostLogged)})
				return
			}
			var values []any
			for _, v := range h.Shown {
				values = append(values, v.Value)
			}
			for len(values) < len(expressions) {
				values = append(values, "?")
			}
			s.event("output", dap.OutputEventBody{Category: "stdout", Output: fmt.Sprintf("@%d  "+text+"\n", append([]any{h.Moment}, values...)...)})
		}
	}
}

// logForm returns the format of a text with {EXPRESSION} in it, and the expressions.
func logForm(text string) (format string, expressions []string) {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "{")
		b.WriteString(strings.ReplaceAll(before, "%", "%%"))
		if !ok {
			return b.String(), expressions
		}
		inner, after, closed := strings.Cut(rest, "}")
		if !closed || strings.TrimSpace(inner) == "" {
			b.WriteString("{")
			text = rest
			continue
		}
		b.WriteString("%s")
		expressions = append(expressions, inner)
		text = after
	}
}
