// Package relations finds simple relations between values that hold in all passing runs and break in a failing one: nil or
// not, ranges, few values, lengths, equality and order of two values, numbers of calls, at the entries and returns of
// functions and at lines with local values. The relations are instances of templates that are kept while no run contradicts them (Ernst, Cockrell, Griswold and
// Notkin: Dynamically Discovering Likely Program Invariants to Support Program Evolution, IEEE Transactions on Software
// Engineering 27(2), 2001). They are guessed from a sample of the passing runs. Those that no hit of the passing runs contradicts, and one of the
// failing run does, are then checked as the expressions that they are.
package relations

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/guard"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/state"
)

// Limits of the search.
const (
	mostSampled  = 1500 // hits of a checkpoint that are looked at in each passing run
	mostFields   = 12   // of a struct
	mostPaths    = 40   // at a checkpoint
	mostPaired   = 10   // paths whose order is compared
	mostDistinct = 5    // values of a set
	leastSampled = 5    // hits below which nothing is guessed
	leastRange   = 20   // hits below which no range is guessed
	inPiece      = 1024 // hits that are looked at by one goroutine
	// Of a checkpoint with more hits than this in a run, a candidate is tried first at as many, half of them spread evenly, and the others the last
	// before the failure. One that is not broken there is given up.
	mostTried = 20_000
)

// Find lists relations that hold in all passing runs and break in the failing one before its failure, the most telling first, at most
// most. more is set if there were more candidates than are checked.
func Find(ctx context.Context, failing find.Finder, passing []find.Finder, most int) (out []replay.Relation, more bool, err error) {
	if len(passing) == 0 {
		return nil, false, nil
	}
	s := &search{failing: failing, passing: passing, end: failing.T.Len()}
	if f := failing.Info().Failure; f != nil {
		s.end = f.Moment + 1
	}
	names := s.shared()
	for _, name := range names {
		for _, kind := range []string{"enter", "return"} {
			if err := s.at(ctx, kind, name); err != nil {
				return nil, false, err
			}
		}
		if err := s.calls(ctx, name); err != nil {
			return nil, false, err
		}
	}
	if err := s.lines(ctx, names); err != nil {
		return nil, false, err
	}
	if err := s.check(ctx); err != nil {
		return nil, false, err
	}
	slices.SortStableFunc(s.found, func(a, b scored) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(a.Breaks, b.Breaks), cmp.Compare(a.Broken, b.Broken), cmp.Compare(len(a.That), len(b.That)))
	})
	for _, x := range s.found[:min(len(s.found), most)] {
		out = append(out, x.Relation)
	}
	return out, s.more, nil
}

type search struct {
	failing find.Finder
	passing []find.Finder
	end     event.Moment // behind the failure
	more    bool
	open    []unchecked
	found   []scored
}

// unchecked is a candidate that is still to be evaluated as an expression, and what was counted until now.
type unchecked struct {
	candidate
	expected     replay.Expected
	held, breaks int
	broken       event.Moment
}

type scored struct {
	replay.Relation
	score int
}

// shared lists the own functions that all runs called, those with the fewest calls first: they are checked soonest.
func (s *search) shared() (names []string) {
	in := map[string]int{}
	for _, r := range append([]find.Finder{s.failing}, s.passing...) {
		seen := map[string]bool{}
		for id, f := range r.T.Functions {
			if f.Own && !seen[f.Name] && r.T.Enters(id).Len() > 0 {
				seen[f.Name] = true
				in[f.Name]++
			}
		}
	}
	calls := map[string]int{}
	for id, f := range s.failing.T.Functions {
		calls[f.Name] += s.failing.T.Enters(id).Len()
	}
	for name, n := range in {
		if n == len(s.passing)+1 {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(calls[a]-calls[b], strings.Compare(a, b)) })
	return names
}

// at guesses relations at a checkpoint, and keeps those that break in the failing run only.
func (s *search) at(ctx context.Context, kind, name string) error {
	c := replay.Checkpoint{Kind: kind, About: name}
	var all observations
	for _, r := range s.passing {
		if _, err := all.sample(ctx, r, c, mostSampled, valuesOfCall(kind == "return")); err != nil {
			return err
		}
	}
	return s.keep(ctx, c, all.candidates(), valuesOfCall(kind == "return"))
}

// keep checks the candidates that some hit of the failing run contradicts, and none of the passing runs.
func (s *search) keep(ctx context.Context, c replay.Checkpoint, list []candidate, values valuesAt) error {
	list, err := s.hold(ctx, c, mostTried/4, list, values) // most are chance, and cheap to give up
	if err != nil {
		return err
	}
	broken, all, err := contradicted(ctx, s.failing, c, s.end, mostTried, list, values)
	if err != nil {
		return err
	}
	s.more = s.more || !all && len(broken) < len(list)
	if broken, err = s.hold(ctx, c, math.MaxInt, broken, values); err != nil {
		return err
	}
	for _, x := range broken {
		that, err := question.Parse(x.that)
		if err != nil {
			continue // a name that cannot be written
		}
		s.open = append(s.open, unchecked{candidate: x, expected: replay.Expected{Checkpoint: c, That: that.Strict()}})
	}
	return nil
}

// hold returns the candidates that no passing run contradicts at most of its hits.
func (s *search) hold(ctx context.Context, c replay.Checkpoint, most int, list []candidate, values valuesAt) ([]candidate, error) {
	for _, r := range s.passing {
		wrong, _, err := contradicted(ctx, r, c, r.T.Len(), most, list, values)
		if err != nil {
			return nil, err
		}
		list = slices.DeleteFunc(list, func(x candidate) bool {
			return slices.ContainsFunc(wrong, func(y candidate) bool { return x.that == y.that })
		})
	}
	return list, nil
}

// contradicted returns the candidates that a hit of a checkpoint before a moment contradicts. all is set if all hits were looked at, and not only
// most of them.
func contradicted(ctx context.Context, r find.Finder, c replay.Checkpoint, before event.Moment, most int, list []candidate, values valuesAt) (out []candidate, all bool, err error) {
	if len(list) == 0 {
		return nil, true, nil
	}
	hits, err := r.Hits(ctx, c, replay.Page{Count: 1 << 30})
	if err != nil {
		return nil, false, err
	}
	end, _ := slices.BinarySearch(hits.Page, before)
	moments := tried(hits.Page[:end], most)
	pieces := slices.Collect(slices.Chunk(moments, inPiece))
	found := make([][]bool, len(pieces))
	err = guard.Each(ctx, len(pieces), func(ctx context.Context, i int) error {
		o, kept := observing(list), &state.Kept{}
		for _, m := range pieces[i] {
			memory := r.MemoryKept(r.T.Process(m), m, kept)
			o.hit(func(see func(name string, v replay.Value)) {
				values(r, m, o.wants, func(name string, v replay.Value) {
					v.Memory = memory
					see(name, v)
				})
			})
		}
		for _, x := range list {
			found[i] = append(found[i], x.isWrong(&o))
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, false, err
	}
	for k, x := range list {
		if slices.ContainsFunc(found, func(wrong []bool) bool { return wrong[k] }) {
			out = append(out, x)
		}
	}
	return out, len(moments) == end, nil
}

// tried chooses at most most of the hits: half of them spread evenly, and the last ones.
func tried(hits []event.Moment, most int) []event.Moment {
	if len(hits) <= most {
		return hits
	}
	last := hits[len(hits)-most/2:]
	before := hits[:len(hits)-most/2]
	var out []event.Moment
	for i := range most - most/2 {
		out = append(out, before[i*len(before)/(most-most/2)])
	}
	return append(out, last...)
}

// check evaluates the candidates in all runs, and keeps those that hold in the passing ones and break in the failing one.
func (s *search) check(ctx context.Context) error {
	for i, r := range append([]find.Finder{s.failing}, s.passing...) {
		var expected []replay.Expected
		for _, x := range s.open {
			expected = append(expected, x.expected)
		}
		verdicts, err := r.Expect(ctx, expected)
		if err != nil {
			return err
		}
		var open []unchecked
		for k, v := range verdicts {
			x := s.open[k]
			isWrong := v.Missing != nil || v.Breaks > 0
			if i == 0 {
				isWrong = v.Breaks == 0 || v.First >= s.end
				x.breaks, x.broken = v.Breaks, v.First
			} else {
				x.held += v.Holds
			}
			if !isWrong {
				open = append(open, x)
			}
		}
		s.open = open
	}
	for _, x := range s.open {
		c := x.expected.Checkpoint
		s.found = append(s.found, scored{replay.Relation{Checkpoint: c.Kind + " " + c.About, Text: c.Text, That: x.that, Held: x.held, Breaks: x.breaks, Broken: x.broken, IsExpression: true}, x.score})
	}
	return nil
}

// calls compares the numbers of calls of a function.
func (s *search) calls(ctx context.Context, name string) error {
	c := replay.Checkpoint{Kind: "enter", About: name}
	times := -1
	for _, r := range s.passing {
		h, err := r.Hits(ctx, c, replay.Page{})
		if err != nil {
			return err
		}
		if times >= 0 && times != h.Total {
			return nil
		}
		times = h.Total
	}
	h, err := s.failing.Hits(ctx, c, replay.Page{From: times, Count: 1})
	if err != nil || h.Total <= times || len(h.Page) == 0 || h.Page[0] >= s.end {
		return err
	}
	s.found = append(s.found, scored{replay.Relation{Checkpoint: "enter " + name, That: fmt.Sprintf("number of calls <= %d", times), Held: len(s.passing), Breaks: h.Total - times, Broken: h.Page[0]}, scoreCalls})
	return nil
}

// The scores of relations: what says most comes first.
const (
	scoreFloat = iota
	scorePair
	scoreLength
	scoreCalls
	scoreWhole
	scoreSet
	scoreTruth
	scoreNil
)

// candidate is a relation that the sample does not contradict. names are the paths that it is about; isWrong reports whether observations
// contradict it.
type candidate struct {
	that    string
	score   int
	names   []string
	isWrong func(*observations) bool
}

// observations are what was seen of the values at a checkpoint.
type observations struct {
	paths []*path
	named map[string]*path
	pairs map[[2]int]*pair
	// Only these paths are observed, and only these are paired; all if they are nil.
	only, paired map[string]bool
}

// observing returns observations of what candidates are about.
func observing(list []candidate) observations {
	o := observations{only: map[string]bool{}, paired: map[string]bool{}}
	for _, x := range list {
		for _, name := range x.names {
			if len(x.names) > 1 {
				o.paired[name] = true
			}
			o.only[name] = true
			name = strings.TrimSuffix(strings.TrimPrefix(name, "size("), ")")
			for name != "" {
				o.only[name] = true
				name = name[:max(strings.LastIndexByte(name, '.'), 0)]
			}
		}
	}
	return o
}

// wants reports whether a path is observed, or leads to one that is.
func (o *observations) wants(name string) bool { return o.only == nil || o.only[name] }

// path is a value that was seen under a name.
type path struct {
	name       string
	form       event.Form
	n, nils    int
	isLength   bool
	min, max   float64
	atMin      int // how often the least value was seen
	atMax      int
	distinct   map[string]bool // texts of the values; nil if there are too many
	comparable bool            // a number or a length
}

// pair says how two numbers were ordered.
type pair struct{ n, less, equal, greater int }

// sample looks at up to most hits of a checkpoint, evenly spread, and returns how many there are.
func (o *observations) sample(ctx context.Context, r find.Finder, c replay.Checkpoint, most int, values valuesAt) (int, error) {
	hits, err := r.Hits(ctx, c, replay.Page{Count: 1 << 30})
	if err != nil {
		return 0, err
	}
	step := max((len(hits.Page)+most-1)/most, 1)
	for i := 0; i < len(hits.Page); i += step {
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		o.hit(func(see func(name string, v replay.Value)) { values(r, hits.Page[i], o.wants, see) })
	}
	return len(hits.Page), nil
}

// valuesAt calls see with the values at a moment of which the names are wanted.
type valuesAt func(r find.Finder, m event.Moment, wanted func(name string) bool, see func(name string, v replay.Value))

// valuesOfCall sees the arguments of a call, and its results if it returns.
func valuesOfCall(returns bool) valuesAt {
	return func(r find.Finder, m event.Moment, wanted func(name string) bool, see func(name string, v replay.Value)) {
		c := r.T.CallOf(m)
		f := r.T.FunctionOf(c)
		list := f.Parameters
		if returns {
			list = append(slices.Clone(list), f.Results...)
		}
		for _, id := range list {
			if wanted(f.Variables[id].Name) {
				v := r.VariableOf(f.Variables[id], id, f, c, m)
				see(v.Name, v.Value)
			}
		}
	}
}

// hit looks at the values of one hit: those that each calls see with.
func (o *observations) hit(each func(see func(name string, v replay.Value))) {
	if o.named == nil {
		o.named, o.pairs = map[string]*path{}, map[[2]int]*pair{}
	}
	numbers := map[int]float64{}
	each(func(name string, v replay.Value) { o.value(name, v, 0, numbers) })
	var order []int
	for i := range numbers {
		order = append(order, i)
	}
	slices.Sort(order)
	order = order[:min(len(order), mostPaired)]
	for k, i := range order {
		for _, j := range order[k+1:] {
			p := o.pairs[[2]int{i, j}]
			if p == nil {
				p = &pair{}
				o.pairs[[2]int{i, j}] = p
			}
			p.n++
			switch a, b := numbers[i], numbers[j]; {
			case a < b:
				p.less++
			case a == b:
				p.equal++
			default:
				p.greater++
			}
		}
	}
}

func (o *observations) path(name string, form event.Form) (*path, int) {
	if p, ok := o.named[name]; ok {
		return p, slices.Index(o.paths, p)
	}
	if len(o.paths) >= mostPaths {
		return nil, -1
	}
	p := &path{name: name, form: form, distinct: map[string]bool{}}
	o.named[name] = p
	o.paths = append(o.paths, p)
	return p, len(o.paths) - 1
}

// value observes a value, and the fields of a struct that it is or leads to.
func (o *observations) value(name string, v replay.Value, depth int, numbers map[int]float64) {
	if v.State != event.Known || v.Type == nil || !o.wants(name) {
		return
	}
	if _, isTime := replay.Instant(v.Value); isTime {
		return
	}
	switch v.Form() {
	case event.Bool, event.Int, event.Uint, event.Float, event.Text:
		p, i := o.path(name, v.Form())
		if p == nil || v.Whole > 0 {
			return
		}
		p.scalar(v)
		if p.comparable && (o.paired == nil || o.paired[name]) {
			numbers[i] = number(v)
		}
	case event.Pointer, event.Interface, event.Func, event.Chan, event.Map, event.Slice:
		p, _ := o.path(name, v.Form())
		if p == nil {
			return
		}
		p.n++
		if v.Nil {
			p.nils++
			return
		}
		switch v.Form() {
		case event.Slice: // counting the entries of a map would read all of them
			o.length(name, v)
		case event.Pointer:
			if depth < 1 {
				if d := v.Deref(); d.Form() == event.Struct {
					o.value(name, d, depth, numbers)
				}
			}
		}
	case event.Struct:
		if depth > 1 {
			return
		}
		for i, f := range v.Type.Fields[:min(len(v.Type.Fields), mostFields)] {
			if i < len(v.Items) && f.Name != "_" {
				o.value(name+"."+f.Name, v.With(v.Items[i]), depth+1, numbers)
			}
		}
	}
}

func (o *observations) length(name string, v replay.Value) {
	if !o.wants("size(" + name + ")") {
		return
	}
	p, _ := o.path("size("+name+")", event.Uint)
	if p == nil {
		return
	}
	p.isLength = true
	p.numeric(float64(v.Count()), strconv.FormatUint(v.Count(), 10))
}

func number(v replay.Value) float64 {
	switch v.Form() {
	case event.Int:
		return float64(v.Int)
	case event.Uint:
		return float64(v.Uint)
	}
	return v.Float
}

func (p *path) scalar(v replay.Value) {
	switch v.Form() {
	case event.Bool:
		p.n++
		p.remember(strconv.FormatBool(v.Uint != 0))
	case event.Text:
		p.n++
		p.remember(strconv.Quote(v.Value.Text))
	default:
		p.numeric(number(v), v.Text())
	}
}

func (p *path) numeric(x float64, text string) {
	if p.n++; p.n == 1 {
		p.min, p.max = x, x
	}
	p.comparable = true
	switch {
	case x < p.min:
		p.min, p.atMin = x, 0
	case x > p.max:
		p.max, p.atMax = x, 0
	}
	if x == p.min {
		p.atMin++
	}
	if x == p.max {
		p.atMax++
	}
	p.remember(text)
}

func (p *path) remember(text string) {
	if p.distinct == nil {
		return
	}
	if p.distinct[text] = true; len(p.distinct) > mostDistinct {
		p.distinct = nil
	}
}

// candidates lists what the sample does not contradict.
func (o *observations) candidates() (out []candidate) {
	for _, p := range o.paths {
		if p.n >= leastSampled {
			out = append(out, p.candidates()...)
		}
	}
	for k, p := range o.pairs {
		if p.n < leastRange || (o.paths[k[0]].form == event.Float) != (o.paths[k[1]].form == event.Float) {
			continue // a count and a measure are not in order but by chance
		}
		a, b := o.paths[k[0]].name, o.paths[k[1]].name
		switch {
		case p.equal == p.n:
			out = append(out, paired(a, "==", b, func(p pair) bool { return p.less+p.greater > 0 }))
		case p.greater == 0:
			out = append(out, paired(a, "<=", b, func(p pair) bool { return p.greater > 0 }))
		case p.less == 0:
			out = append(out, paired(a, ">=", b, func(p pair) bool { return p.less > 0 }))
		}
	}
	slices.SortFunc(out, func(a, b candidate) int { return strings.Compare(a.that, b.that) })
	return out
}

// paired is a candidate for the order of two values.
func paired(a, relation, b string, isWrong func(pair) bool) candidate {
	return candidate{a + " " + relation + " " + b, scorePair, []string{a, b}, func(o *observations) bool { return isWrong(o.pairOf(a, b)) }}
}

// pairOf returns how two values were ordered, in whatever order they were met.
func (o *observations) pairOf(a, b string) pair {
	p, q := o.named[a], o.named[b]
	if p == nil || q == nil {
		return pair{}
	}
	i, j := slices.Index(o.paths, p), slices.Index(o.paths, q)
	if x := o.pairs[[2]int{i, j}]; x != nil {
		return *x
	}
	if x := o.pairs[[2]int{j, i}]; x != nil {
		return pair{x.n, x.greater, x.equal, x.less}
	}
	return pair{}
}

func (p *path) candidates() (out []candidate) {
	add := func(score int, isWrong func(*path) bool, format string, args ...any) {
		out = append(out, candidate{fmt.Sprintf(format, args...), score, []string{p.name}, func(o *observations) bool {
			seen := o.named[p.name]
			return seen != nil && seen.n > 0 && isWrong(seen)
		}})
	}
	others := func(q *path) bool { // it has values that were not seen here
		if q.distinct == nil {
			return true
		}
		for v := range q.distinct {
			if !p.distinct[v] {
				return true
			}
		}
		return false
	}
	var values []string
	for v := range p.distinct {
		values = append(values, v)
	}
	slices.Sort(values)
	switch {
	case !p.comparable && p.form != event.Bool && p.form != event.Text:
		switch p.nils {
		case 0:
			add(scoreNil, func(q *path) bool { return q.nils > 0 }, "%s != null", p.name)
		case p.n:
			add(scoreNil, func(q *path) bool { return q.nils < q.n }, "%s == null", p.name)
		}
	case p.form == event.Bool:
		if len(values) == 1 {
			add(scoreTruth, others, "%s == %s", p.name, values[0])
		}
	case p.form == event.Text:
		if len(values) > 0 && p.n >= leastRange {
			add(scoreSet, others, "%s in [%s]", p.name, strings.Join(values, ", "))
		}
	case p.n >= leastRange:
		score := scoreWhole
		if p.isLength {
			score = scoreLength
		}
		if p.form == event.Float {
			score = scoreFloat
		}
		if p.distinct != nil && score == scoreWhole {
			score = scoreSet // few values: their bounds are not chance
		}
		if p.atMax > 1 {
			add(score, func(q *path) bool { return q.max > p.max }, "%s <= %s", p.name, text(p.max, p.form))
		}
		if p.atMin > 1 {
			add(score, func(q *path) bool { return q.min < p.min }, "%s >= %s", p.name, text(p.min, p.form))
		}
	}
	return out
}

// text writes a bound.
func text(x float64, form event.Form) string {
	if form == event.Float {
		s := strconv.FormatFloat(x, 'g', -1, 64)
		if strings.Trim(s, "-0123456789") == "" {
			s += ".0"
		}
		return s
	}
	return strconv.FormatFloat(x, 'f', -1, 64)
}
