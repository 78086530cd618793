// Package relations finds simple relations between values that hold in all passing runs and break in a failing one: nil or
// not, ranges, few values, lengths, equality and order of two values, numbers of calls, at the entries and returns of
// functions and at lines with local values. The relations are instances of templates that are kept while no run contradicts them (Ernst, Cockrell, Griswold and
// Notkin: Dynamically Discovering Likely Program Invariants to Support Program Evolution, IEEE Transactions on Software
// Engineering 27(2), 2001). They are guessed from a sample of the passing runs, and then checked in whole runs.
package relations

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
)

// Limits of the search.
const (
	mostSampled  = 1500      // hits of a checkpoint that are looked at in each passing run
	mostFields   = 12        // of a struct
	mostPaths    = 40        // at a checkpoint
	mostPaired   = 10        // paths whose order is compared
	mostDistinct = 5         // values of a set
	leastSampled = 5         // hits below which nothing is guessed
	leastRange   = 20        // hits below which no range is guessed
	mostChecks   = 3_000_000 // evaluations of expressions in the failing run
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
	checks  int
	more    bool
	found   []scored
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
		if err := sample(ctx, r, c, &all); err != nil {
			return err
		}
	}
	hits, err := s.failing.Hits(ctx, c, replay.Page{})
	if err != nil {
		return err
	}
	for _, x := range all.candidates() {
		if s.checks += hits.Total; s.checks > mostChecks {
			s.more = true
			return nil
		}
		if err := s.check(ctx, c, x); err != nil {
			return err
		}
	}
	return nil
}

// check checks a candidate in all runs.
func (s *search) check(ctx context.Context, c replay.Checkpoint, x candidate) error {
	that, err := question.Parse(x.that)
	if err != nil {
		return nil // a name that cannot be written
	}
	v, err := s.failing.Expect(ctx, c, that.Strict())
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil || v.Breaks == 0 || v.First >= s.end {
		return nil
	}
	held := 0
	for _, r := range s.passing {
		p, err := r.Expect(ctx, c, that.Strict())
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil || p.Breaks > 0 {
			return nil
		}
		held += p.Holds
	}
	s.found = append(s.found, scored{replay.Relation{Checkpoint: c.Kind + " " + c.About, Text: c.Text, That: x.that, Held: held, Breaks: v.Breaks, Broken: v.First, IsExpression: true}, x.score})
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

// candidate is a relation that the sample does not contradict.
type candidate struct {
	that  string
	score int
}

// observations are what a sample showed of the values at a checkpoint.
type observations struct {
	paths []*path
	named map[string]*path
	pairs map[[2]int]*pair
}

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

// sample looks at hits of a checkpoint, evenly spread.
func sample(ctx context.Context, r find.Finder, c replay.Checkpoint, all *observations) error {
	hits, err := r.Hits(ctx, c, replay.Page{Count: 1 << 30})
	if err != nil {
		return err
	}
	step := max((len(hits.Page)+mostSampled-1)/mostSampled, 1)
	for i := 0; i < len(hits.Page); i += step {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		all.observe(r, hits.Page[i], c.Kind == "return")
	}
	return nil
}

// observe looks at the arguments of a call, and at its results if it returns.
func (o *observations) observe(r find.Finder, m event.Moment, returns bool) {
	c := r.T.CallOf(m)
	f := r.T.FunctionOf(c)
	list := slices.Clone(f.Parameters)
	if returns {
		list = append(list, f.Results...)
	}
	o.hit(func(see func(name string, v replay.Value)) {
		for _, id := range list {
			v := r.VariableOf(f.Variables[id], id, f, c, m)
			see(v.Name, v.Value)
		}
	})
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
	for k, i := range order[:min(len(order), mostPaired)] {
		for _, j := range order[k+1 : min(len(order), mostPaired)] {
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
	if v.State != event.Known || v.Type == nil {
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
		if p.comparable {
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
			out = append(out, candidate{a + " == " + b, scorePair})
		case p.greater == 0:
			out = append(out, candidate{a + " <= " + b, scorePair})
		case p.less == 0:
			out = append(out, candidate{a + " >= " + b, scorePair})
		}
	}
	slices.SortFunc(out, func(a, b candidate) int { return strings.Compare(a.that, b.that) })
	return out
}

func (p *path) candidates() (out []candidate) {
	add := func(score int, format string, args ...any) {
		out = append(out, candidate{fmt.Sprintf(format, args...), score})
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
			add(scoreNil, "%s != null", p.name)
		case p.n:
			add(scoreNil, "%s == null", p.name)
		}
	case p.form == event.Bool:
		if len(values) == 1 {
			add(scoreTruth, "%s == %s", p.name, values[0])
		}
	case p.form == event.Text:
		if len(values) > 0 && p.n >= leastRange {
			add(scoreSet, "%s in [%s]", p.name, strings.Join(values, ", "))
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
			add(score, "%s <= %s", p.name, text(p.max, p.form))
		}
		if p.atMin > 1 {
			add(score, "%s >= %s", p.name, text(p.min, p.form))
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
