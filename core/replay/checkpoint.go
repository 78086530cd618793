package replay

import (
	"context"
	"errors"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"wraithology/core/event"
	"wraithology/core/timeline"
)

// ErrNumber says that a hit number cannot be read.
var ErrNumber = errors.New("this is no hit number")

// Number says which of the hits count: the nth (from 1), each nth, or the last,
// also before a moment. The zero Number lets all count.
type Number struct {
	Nth    int
	Every  int
	Last   bool
	Before event.Moment // with Last; 0 for anywhere
}

// ParseNumber reads a hit number: "5", "every 100", "last", "last before 4711".
func ParseNumber(s string) (Number, error) {
	words := strings.Fields(s)
	whole := func(w string, least int64) (int64, bool) {
		n, err := strconv.ParseInt(w, 10, 64)
		return n, err == nil && n >= least && n <= math.MaxInt32
	}
	switch {
	case len(words) == 0:
		return Number{}, nil
	case len(words) == 1 && words[0] == "last":
		return Number{Last: true}, nil
	case len(words) == 1:
		if n, ok := whole(words[0], 1); ok {
			return Number{Nth: int(n)}, nil
		}
	case len(words) == 2 && words[0] == "every":
		if n, ok := whole(words[1], 1); ok {
			return Number{Every: int(n)}, nil
		}
	case len(words) == 3 && words[0] == "last" && words[1] == "before":
		if n, ok := whole(words[2], 1); ok {
			return Number{Last: true, Before: event.Moment(n)}, nil
		}
	}
	return Number{}, fmt.Errorf("%q: %w: write 5, every 100, last, or last before 4711", s, ErrNumber)
}

func (n Number) all() bool { return n == Number{} }

// places are the moments at which a checkpoint may hold, before its condition,
// thread and number are looked at.
type places struct {
	lists []timeline.List
	known []event.Moment // in order, where they had to be found
	keep  func(event.Moment) bool
}

// Hits implements Replay. Without a condition the total is read off the lists;
// with one it is evaluated at the place's moments only.
func (r *logRecording) Hits(ctx context.Context, c Checkpoint, page Page) (Hits, error) {
	p, err := r.placesOf(ctx, c)
	if err != nil {
		return Hits{}, err
	}
	if c.When == nil && c.Thread == 0 && p.keep == nil && c.Number.all() {
		return p.page(page), nil
	}
	moments := p.moments()
	var hits Hits
	held, undecided, trouble, err := r.holding(ctx, c, p, moments)
	if err != nil {
		return hits, fmt.Errorf("list the hits: %w", err)
	}
	hits.Undecided, hits.Trouble = undecided, trouble
	if len(moments) > 0 && undecided == len(moments) && trouble != nil {
		return hits, trouble
	}
	held = c.Number.choose(held)
	hits.Total = len(held)
	from, to := page.Cut(len(held))
	hits.Page = append(hits.Page, held[from:to]...)
	return hits, nil
}

func (n Number) choose(held []event.Moment) []event.Moment {
	switch {
	case n.Nth > 0:
		if n.Nth > len(held) {
			return nil
		}
		return held[n.Nth-1 : n.Nth]
	case n.Every > 0:
		var out []event.Moment
		for i := n.Every - 1; i < len(held); i += n.Every {
			out = append(out, held[i])
		}
		return out
	case n.Last:
		if n.Before > 0 {
			held = held[:sort.Search(len(held), func(i int) bool { return held[i] >= n.Before })]
		}
		return held[max(len(held)-1, 0):]
	}
	return held
}

// pieceOfHits is how many moments a condition is evaluated at in one go.
const pieceOfHits = 2048

// holding evaluates a checkpoint's condition at its moments, on all processors.
func (r *logRecording) holding(ctx context.Context, c Checkpoint, p places, moments []event.Moment) (held []event.Moment, undecided int, trouble, err error) {
	type piece struct {
		held      []event.Moment
		undecided int
		trouble   error
	}
	pieces := make([]piece, (len(moments)+pieceOfHits-1)/pieceOfHits)
	next := make(chan int)
	var done sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(pieces)) {
		done.Go(func() {
			for i := range next {
				x := &pieces[i]
				for _, m := range moments[i*pieceOfHits : min((i+1)*pieceOfHits, len(moments))] {
					holds, err := r.holdsAt(ctx, c, p, m)
					if err != nil {
						if x.trouble == nil {
							x.trouble = err
						}
						x.undecided++
					} else if holds {
						x.held = append(x.held, m)
					}
				}
			}
		})
	}
	for i := range pieces {
		if ctx.Err() != nil {
			break
		}
		next <- i
	}
	close(next)
	done.Wait()
	if err := ctx.Err(); err != nil {
		return nil, 0, nil, err
	}
	for _, x := range pieces {
		held = append(held, x.held...)
		undecided += x.undecided
		if trouble == nil {
			trouble = x.trouble
		}
	}
	return held, undecided, trouble, nil
}

func (r *logRecording) holdsAt(ctx context.Context, c Checkpoint, p places, m event.Moment) (bool, error) {
	t := r.t.Thread(m)
	if c.Thread != 0 && t != c.Thread || p.keep != nil && !p.keep(m) {
		return false, nil
	}
	if c.When == nil {
		return true, nil
	}
	return c.When.Holds(ctx, r, m, t)
}

func (p places) count() int {
	n := len(p.known)
	for _, l := range p.lists {
		n += l.Len()
	}
	return n
}

// moments lists all moments in order.
func (p places) moments() []event.Moment {
	out := slices.Grow([]event.Moment(nil), p.count())
	for _, l := range p.lists {
		for i := range l.Len() {
			out = append(out, l.At(i))
		}
	}
	out = append(out, p.known...)
	if len(p.lists) > 1 || len(p.lists) == 1 && len(p.known) > 0 {
		slices.Sort(out)
	}
	return out
}

func (p places) page(page Page) Hits {
	hits := Hits{Total: p.count()}
	from, to := page.Cut(hits.Total)
	if len(p.lists) == 1 && len(p.known) == 0 {
		for i := from; i < to; i++ {
			hits.Page = append(hits.Page, p.lists[0].At(i))
		}
		return hits
	}
	hits.Page = append(hits.Page, p.moments()[from:to]...)
	return hits
}

// placesOf finds where a checkpoint may hold.
func (r *logRecording) placesOf(ctx context.Context, c Checkpoint) (places, error) {
	var p places
	switch c.Kind {
	case OnLine, "":
		sites, err := r.sitesAt(c.File, c.Line)
		for _, s := range sites {
			p.lists = append(p.lists, r.t.SiteMoments(s))
		}
		return p, err
	case OnEnter, OnReturn:
		functions, err := r.functionsNamed(c.Function)
		for _, f := range functions {
			if c.Kind == OnEnter {
				p.lists = append(p.lists, r.t.Enters(f))
			} else {
				p.lists = append(p.lists, r.t.Returns(f))
			}
		}
		return p, err
	case OnError:
		p.lists = []timeline.List{r.t.ErrorReturns(), r.t.Notable(event.Panic), r.t.Notable(event.Failure), r.t.Notable(event.Error)}
		if c.Text != "" {
			p.keep = func(m event.Moment) bool { return contains(r.errorAt(m), c.Text) }
		}
		return p, nil
	case OnOutput:
		p.lists = []timeline.List{r.t.Notable(event.Output), r.t.Notable(event.Message), r.t.Notable(event.Error)}
		if c.Text != "" {
			p.keep = func(m event.Moment) bool { return contains(r.firstText(m, ""), c.Text) }
		}
		return p, nil
	case OnWrite:
		moments, err := r.writeMoments(ctx, c.Path, c.At, c.PathThread, c.Frame)
		p.known = moments
		return p, err
	}
	return p, fmt.Errorf("checkpoints of the kind %q are not known", c.Kind)
}

// contains reports whether a text has another in it, letter case aside.
func contains(text, part string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(part))
}

// Text implements Replay.
func (r *logRecording) Text(at event.Moment) string {
	if r.check(at) != nil {
		return ""
	}
	switch r.t.Kind(at) {
	case event.Output, event.Message:
		return r.firstText(at, "")
	case event.Error:
		return r.reportedError(at)
	case event.Panic, event.Failure:
		return r.firstText(at, r.t.Kind(at).String())
	case event.Leave:
		if i := r.t.ErrorReturns().Before(at); i >= 0 && r.t.ErrorReturns().At(i) == at {
			v := r.returnedError(at)
			if len(v.Items) == 1 && v.Items[0].Type != nil {
				return v.Items[0].Type.Name + ": " + strings.Join(r.causes(v), "; caused by ")
			}
			return strings.Join(r.causes(v), "; caused by ")
		}
	}
	return ""
}

// errorAt says which error a moment is: type and message.
func (r *logRecording) errorAt(m event.Moment) string {
	switch r.t.Kind(m) {
	case event.Leave:
		v := r.returnedError(m)
		text := v.TypeName()
		for _, cause := range r.causes(v) {
			text += " " + cause
		}
		return text
	case event.Panic, event.Failure:
		return r.t.Kind(m).String() + " " + r.firstText(m, "")
	case event.Error:
		return r.reportedError(m) + " " + r.firstText(m, "")
	}
	return ""
}

// NextHit implements Replay. Checkpoints on places that this recording does not
// have are passed over.
func (r *logRecording) NextHit(ctx context.Context, at event.Moment, back bool, of []Checkpoint) (event.Moment, int, error) {
	if err := r.check(at); err != nil {
		return event.NoMoment, -1, err
	}
	best, which := event.NoMoment, -1
	for i, c := range of {
		p, err := r.placesOf(ctx, c)
		if err != nil {
			continue
		}
		var found event.Moment
		if c.Number.all() {
			found, err = r.nearest(ctx, c, p, at, back, best)
		} else {
			found, err = r.nearestNumbered(ctx, c, p, at, back)
		}
		if err != nil {
			return event.NoMoment, -1, fmt.Errorf("look for the next hit: %w", err)
		}
		if found != event.NoMoment && (best == event.NoMoment || (found < best) != back) {
			best, which = found, i
		}
	}
	return best, which, nil
}

// nearestNumbered finds the nearest of the hits that a number lets count.
func (r *logRecording) nearestNumbered(ctx context.Context, c Checkpoint, p places, at event.Moment, back bool) (event.Moment, error) {
	held, _, _, err := r.holding(ctx, c, p, p.moments())
	if err != nil {
		return event.NoMoment, err
	}
	held = c.Number.choose(held)
	i := sort.Search(len(held), func(i int) bool { return held[i] > at })
	if back {
		i = sort.Search(len(held), func(i int) bool { return held[i] >= at }) - 1
	}
	if i < 0 || i >= len(held) {
		return event.NoMoment, nil
	}
	return held[i], nil
}

// nearest finds the nearest moment at which a checkpoint holds and that is
// nearer than best, or NoMoment.
func (r *logRecording) nearest(ctx context.Context, c Checkpoint, p places, at event.Moment, back bool, best event.Moment) (event.Moment, error) {
	type walk struct {
		at   func(i int) event.Moment
		i, n int
	}
	step := 1
	if back {
		step = -1
	}
	var walks []*walk
	begin := func(n int, get func(int) event.Moment) {
		i := sort.Search(n, func(i int) bool { return get(i) > at })
		if back {
			i = sort.Search(n, func(i int) bool { return get(i) >= at }) - 1
		}
		walks = append(walks, &walk{get, i, n})
	}
	for _, l := range p.lists {
		begin(l.Len(), l.At)
	}
	begin(len(p.known), func(i int) event.Moment { return p.known[i] })
	for n := 0; ; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return event.NoMoment, ctx.Err()
		}
		var next *walk
		for _, w := range walks {
			if w.i >= 0 && w.i < w.n && (next == nil || (w.at(w.i) < next.at(next.i)) != back) {
				next = w
			}
		}
		if next == nil {
			return event.NoMoment, nil
		}
		m := next.at(next.i)
		next.i += step
		if best != event.NoMoment && (m >= best) != back {
			return event.NoMoment, nil
		}
		if holds, err := r.holdsAt(ctx, c, p, m); err == nil && holds {
			return m, nil
		}
	}
}

// Lines implements Replay.
func (r *logRecording) Lines(file string) []int {
	var lines []int
	for _, s := range r.t.Sites {
		if r.t.Files[r.siteFile(s)].Path == file && s.Line > 0 {
			lines = append(lines, s.Line)
		}
	}
	slices.Sort(lines)
	return slices.Compact(lines)
}

// FindLine implements Replay.
func (r *logRecording) FindLine(file string, line int) (string, error) {
	sites, err := r.sitesAt(file, line)
	if err != nil {
		return "", err
	}
	return r.t.Files[r.siteFile(r.t.Sites[sites[0]])].Path, nil
}

// FindFunction implements Replay.
func (r *logRecording) FindFunction(name string) (string, error) {
	functions, err := r.functionsNamed(name)
	if err != nil {
		return "", err
	}
	return r.t.Function(functions[0]).Name, nil
}

// functionsNamed finds the function that a name, or its last parts, mean. A
// function may stand in the tables more than once, as tests build it anew.
func (r *logRecording) functionsNamed(name string) ([]event.FunctionID, error) {
	name = strings.TrimSpace(name)
	found := map[string][]event.FunctionID{}
	for id, f := range r.t.Functions {
		fits := f.Name == name || strings.HasSuffix(f.Name, "."+name) || strings.HasSuffix(f.Name, "/"+name)
		if name != "" && (fits || r.recorded() && plainName(f.Name) == plainName(name)) {
			found[f.Name] = append(found[f.Name], id)
		}
	}
	if exact, ok := found[name]; ok {
		return exact, nil
	}
	var names []string
	for n, ids := range found {
		slices.Sort(ids)
		names = append(names, n)
	}
	slices.Sort(names)
	switch {
	case len(names) == 1:
		return found[names[0]], nil
	case len(names) > 1 && !r.recorded(): // an operation that several services name alike
		var all []event.FunctionID
		for _, n := range names {
			all = append(all, found[n]...)
		}
		return all, nil
	case len(names) > 1:
		return nil, fmt.Errorf("%s: %w: it may be %s; say which", name, ErrNoCode, strings.Join(names[:min(len(names), 12)], ", "))
	}
	for _, f := range r.t.Functions {
		names = append(names, f.Name)
	}
	last := name[strings.LastIndexByte(name, '.')+1:]
	slices.SortFunc(names, func(a, b string) int {
		x, y := common(a[strings.LastIndexByte(a, '.')+1:], last), common(b[strings.LastIndexByte(b, '.')+1:], last)
		if x != y {
			return y - x
		}
		return strings.Compare(a, b)
	})
	names = slices.Compact(names)
	return nil, fmt.Errorf("%s: %w: no recorded function has this name; there are %s", name, ErrNoCode, strings.Join(names[:min(len(names), 8)], ", "))
}

// plainName writes (*Book).Reading as Book.Reading, without the package's path.
func plainName(s string) string {
	s = s[strings.LastIndexByte(s, '/')+1:]
	return strings.NewReplacer("(*", "", ")", "").Replace(s)
}

// common counts the letters that two names begin with alike.
func common(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n]|0x20 == b[n]|0x20 {
		n++
	}
	return n
}

// sitesAt returns the sites that stand first on a line, one for each function,
// in the files that the name fits.
func (r *logRecording) sitesAt(file string, line int) ([]event.SiteID, error) {
	files, err := r.filesNamed(file)
	if err != nil {
		return nil, err
	}
	first := map[event.FunctionID]event.SiteID{}
	var out []event.SiteID
	var lines []int
	for id, s := range r.t.Sites {
		if !files[r.siteFile(s)] {
			continue
		}
		lines = append(lines, s.Line)
		if s.Line != line {
			continue
		}
		if !r.recorded() { // each message of the line has a site of its own
			out = append(out, id)
		}
		if have, ok := first[s.Function]; !ok || id < have {
			first[s.Function] = id
		}
	}
	if len(first) == 0 {
		return nil, fmt.Errorf("%s:%d: %w: the line holds no statement%s", file, line, ErrNoCode, nearestLines(file, line, lines))
	}
	if r.recorded() {
		for _, s := range first {
			out = append(out, s)
		}
	}
	slices.Sort(out)
	return out, nil
}

// siteFile returns the file of a site.
func (r *logRecording) siteFile(s event.Site) event.FileID {
	if s.File != 0 {
		return s.File
	}
	return r.t.Function(s.Function).File
}

// nearestLines names the lines before and after one that can hold a checkpoint.
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
func (r *logRecording) filesNamed(name string) (map[event.FileID]bool, error) {
	found := map[event.FileID]bool{}
	var paths []string
	for id, f := range r.t.Files {
		if f.Path == name || strings.HasSuffix(f.Path, "/"+strings.TrimPrefix(name, "./")) {
			found[id] = true
			paths = append(paths, f.Path)
		}
	}
	slices.Sort(paths)
	paths = slices.Compact(paths)
	switch {
	case len(paths) > 1 && !slices.Contains(paths, name):
		return nil, fmt.Errorf("%s: %w: it may be %s; say which", name, ErrNoCode, strings.Join(paths, " or "))
	case len(paths) > 1:
		for id, f := range r.t.Files {
			found[id] = f.Path == name
		}
	case len(paths) == 0:
		for _, f := range r.t.Files {
			paths = append(paths, f.Path)
		}
		slices.Sort(paths)
		return nil, fmt.Errorf("%s: %w: no recorded file has this name; there are %s", name, ErrNoCode, strings.Join(paths[:min(len(paths), 12)], ", "))
	}
	return found, nil
}

// Density implements Replay.
func (r *logRecording) Density(ctx context.Context, c Checkpoint, spans int) ([]int, error) {
	hits, err := r.Hits(ctx, c, Page{Count: math.MaxInt32})
	if err != nil {
		return nil, err
	}
	counts := make([]int, max(spans, 1))
	for _, m := range hits.Page {
		counts[int64(m)*int64(len(counts))/int64(r.t.Len())]++
	}
	return counts, nil
}
