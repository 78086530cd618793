package contrast

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"wraithology/core/replay"
)

// Bounds of what is compared.
const (
	maxValues   = 4096    // different values of a name; names with more hold IDs
	maxNames    = 1 << 14 // names of attributes, operations and messages
	maxMeasures = 1 << 20 // numbers of a name
	leastThings = 3       // things that must have a value for it to count
	falseRate   = 0.01    // share of the differences that may be chance
)

// key is a feature: an attribute with a value, an operation, or a message.
type key struct{ what, name, value string }

// counts of a feature: how many things with the property have it, and how many others.
type counts struct {
	with, without int
	last          int // the last thing that was counted, from 1
}

// features are what the things have. The zero value is not usable.
type features struct {
	sets     map[key]*counts
	values   map[string]int // number of different values by name
	many     map[string]bool
	measures map[key]*measured // duration or number by name
	thing    int
	has      bool
	n, m     int
	full     bool
}

// measured is a number of each thing: the greatest one, if a thing has several.
type measured struct {
	list []measure
	last int // the last thing that was counted, from 1
}

func newFeatures() *features {
	return &features{sets: map[key]*counts{}, values: map[string]int{}, many: map[string]bool{}, measures: map[key]*measured{}}
}

// next begins a thing.
func (f *features) next(has bool) {
	f.thing++
	if f.has = has; has {
		f.n++
	} else {
		f.m++
	}
}

// set says that the thing has a feature. Having it several times counts once.
func (f *features) set(k key) {
	c := f.sets[k]
	if c == nil {
		group := k.what + "\x00" + k.name
		switch {
		case f.many[group]:
			return
		case f.values[group] >= maxValues:
			f.many[group] = true
			return
		case len(f.values) >= maxNames:
			f.full = true
			return
		}
		f.values[group]++
		k.name, k.value = strings.Clone(k.name), strings.Clone(k.value)
		c = &counts{}
		f.sets[k] = c
	}
	if c.last == f.thing {
		return
	}
	c.last = f.thing
	if f.has {
		c.with++
	} else {
		c.without++
	}
}

// measure says that the thing has a number.
func (f *features) measure(what, name string, x float64) {
	k := key{what: what, name: name}
	m := f.measures[k]
	switch {
	case math.IsNaN(x):
		return
	case m == nil && len(f.measures) >= maxNames, m != nil && len(m.list) >= maxMeasures:
		f.full = true
		return
	case m == nil:
		k.name = strings.Clone(k.name)
		m = &measured{}
		f.measures[k] = m
	case m.last == f.thing:
		last := &m.list[len(m.list)-1]
		last.x = max(last.x, x)
		return
	}
	m.list, m.last = append(m.list, measure{x, f.has}), f.thing
}

// merge adds features of other things.
func (f *features) merge(o *features) {
	for k, c := range o.sets {
		x := f.sets[k]
		if x == nil {
			x = &counts{}
			f.sets[k] = x
			group := k.what + "\x00" + k.name
			if f.values[group]++; f.values[group] > maxValues {
				f.many[group] = true
			}
		}
		x.with, x.without = x.with+c.with, x.without+c.without
	}
	for group := range o.many {
		f.many[group] = true
	}
	for k, m := range o.measures {
		if f.measures[k] == nil {
			f.measures[k] = &measured{}
		}
		f.measures[k].list = append(f.measures[k].list, m.list...)
	}
	f.n, f.m, f.full = f.n+o.n, f.m+o.m, f.full || o.full
}

// finding is a difference with its probability under chance.
type finding struct {
	replay.Difference
	p float64
}

// differences ranks what separates the things, the greatest effect first. Names in the condition are left out: they
// separate by definition.
func (f *features) differences(but []string) []replay.Difference {
	var list []finding
	for k, c := range f.sets {
		group := k.what + "\x00" + k.name
		if c.with+c.without < leastThings || f.many[group] || slices.Contains(but, k.name) {
			continue
		}
		d := replay.Difference{What: k.what, Name: k.name, Value: k.value, With: c.with, Without: c.without}
		d.Score = apart(share(c.with, f.n), share(c.without, f.m))
		if k.what == "operation" && share(c.with, f.n) < share(c.without, f.m) { // what did not happen
			d.What, d.With, d.Without = "missing", f.n-c.with, f.m-c.without
		}
		list = append(list, finding{d, fisher(c.with, f.n, c.without, f.m)})
	}
	for k, m := range f.measures {
		numbers := m.list
		if slices.Contains(but, k.name) || len(numbers) < leastThings {
			continue
		}
		p, effect, threshold := rank(numbers)
		with, without := 0, 0
		for _, v := range numbers {
			if above := v.x >= threshold; above == (effect > 0) {
				if v.has {
					with++
				} else {
					without++
				}
			}
		}
		sign := ">= "
		if effect < 0 {
			sign = "< "
		}
		list = append(list, finding{replay.Difference{What: k.what, Name: k.name, Value: sign + numberText(k.what, threshold), With: with, Without: without, Score: apart(share(with, f.n), share(without, f.m))}, p})
	}
	list = significant(list, func(x finding) float64 { return x.p }, falseRate)
	slices.SortStableFunc(list, func(a, b finding) int {
		switch {
		case a.Score != b.Score:
			return map[bool]int{true: -1, false: 1}[a.Score > b.Score]
		case likelihood(a.p) != likelihood(b.p):
			return likelihood(a.p) - likelihood(b.p)
		case a.With != b.With: // what they have says more than what they lack
			return b.With - a.With
		}
		return strings.Compare(a.What+a.Name+a.Value, b.What+b.Name+b.Value)
	})
	var out []replay.Difference
	named := map[string]bool{}
	for _, x := range list {
		// Of an attribute, the value that separates best stands for the others, which follow from it.
		if name := x.What + "\x00" + x.Name; x.What == "attribute" && named[name] {
			continue
		} else {
			named[name] = true
		}
		out = append(out, x.Difference)
	}
	return out
}

// likelihood is the logarithm of a probability, rounded so that equal ones compare as equal.
func likelihood(p float64) int {
	const least = 1e-300
	return int(math.Round(math.Log10(max(p, least)) * 100))
}

// apart is the difference of two shares, to six digits, so that equal ones compare as equal.
func apart(a, b float64) float64 { return math.Round(math.Abs(a-b)*1e6) / 1e6 }

func share(part, whole int) float64 {
	if whole == 0 {
		return 0
	}
	return float64(part) / float64(whole)
}

func numberText(what string, x float64) string {
	if what == "duration" {
		return time.Duration(x).String()
	}
	return strconv.FormatFloat(x, 'g', -1, 64)
}

// template returns a message with its numbers and IDs replaced, so that messages of one place are alike.
func template(s string) string {
	const longest = 160
	if len(s) > longest {
		s = s[:longest]
	}
	line, _, _ := strings.Cut(s, "\n")
	var b strings.Builder
	words := strings.FieldsFunc(line, unicode.IsSpace)
	for i, w := range words {
		if i > 0 {
			b.WriteByte(' ')
		}
		if strings.ContainsAny(w, "0123456789") {
			w = strings.Map(func(r rune) rune {
				if r >= '0' && r <= '9' {
					return '#'
				}
				return r
			}, w)
			for strings.Contains(w, "##") {
				w = strings.ReplaceAll(w, "##", "#")
			}
			if strings.Count(w, "#") > 2 { // an ID
				w = "#"
			}
		}
		b.WriteString(w)
	}
	return b.String()
}
