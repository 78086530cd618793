package reproduce

import (
	"fmt"
	"go/types"
	"math"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/calls"
)

// mostChecks limits the comparisons of a test; a run compares everything.
const mostChecks = 80

// checker writes comparisons of what a call gave back, and of what it changed, with the recording.
type checker struct {
	a      *assembly
	before map[string]string // leaves of the arguments before the call; nil for results
	out    []string
	left   int
	seen   map[spot]string
}

// checks writes the comparisons.
func (a *assembly) checks() []string {
	c := &checker{a: a, seen: map[spot]string{}}
	if a.call.Outcome == replay.DidPanic {
		c.panicked()
	} else {
		sig := a.f.sig
		for i, v := range a.call.Results {
			if i < len(a.results) && i < sig.Results().Len() {
				c.value(sig.Results().At(i).Type(), v.Value, a.results[i], a.results[i], 0)
			}
		}
	}
	var names []string
	var before, after []replay.Value
	for _, r := range a.roots {
		names, before, after = append(names, r.name), append(before, r.before), append(after, r.after)
	}
	c.before = map[string]string{}
	for _, l := range calls.LeavesOf(names, before) {
		c.before[l.Path] = l.Text
	}
	changed := false
	for _, l := range calls.LeavesOf(names, after) {
		changed = changed || c.before[l.Path] != l.Text
	}
	if changed {
		c.seen = map[spot]string{}
		for _, r := range a.roots {
			c.value(r.of, r.after, r.expr, r.name, 0)
		}
	}
	if c.left > 0 {
		c.out = append(c.out, fmt.Sprintf("// %d more are compared by wraith reproduce --run.", c.left))
	}
	return c.out
}

func (c *checker) panicked() {
	if text := c.a.call.Panic; text != "" {
		c.add(`check("panic", ` + c.a.b.use("fmt", "fmt") + ".Sprint(panicked), " + quote(text) + ")")
		return
	}
	c.add(`check("panics", panicked != nil, true)`)
}

// add adds a comparison of a leaf, unless it is as it was before the call.
func (c *checker) add(line string) {
	if len(c.out) >= mostChecks {
		c.left++
		return
	}
	c.out = append(c.out, line)
}

// differs reports whether the leaf at a path has to be compared.
func (c *checker) differs(path, text string) bool { return c.before == nil || c.before[path] != text }

func (c *checker) compare(path, expr, want, text string) {
	if c.differs(path, text) {
		c.add("check(" + strconv.Quote(path) + ", " + expr + ", " + want + ")")
	}
}

// value compares what is known of a value at an expression.
func (c *checker) value(t types.Type, v replay.Value, expr, path string, depth int) {
	if v.State != event.Known || v.Type == nil || !matches(t, v.Value) || isOpaque(t) || depth > 12 || c.left > 100_000 {
		return
	}
	b := c.a.b
	if isSpecial(t) {
		if at, ok := replay.Instant(v.Value); ok && c.differs(path, at.Format("2006-01-02T15:04:05.999999999Z07:00")) {
			c.add("check(" + strconv.Quote(path) + ", " + expr + ".Equal(" + b.time(v.With(utc(v)), place{path: path}) + "), true)")
		}
		return
	}
	switch u := t.Underlying().(type) {
	case *types.Basic:
		c.basic(t, v, expr, path)
	case *types.Pointer:
		c.pointer(u, v, expr, path, depth)
	case *types.Struct:
		for i := range min(u.NumFields(), len(v.Items)) {
			f := u.Field(i)
			if f.Name() != "_" && (f.Exported() || f.Pkg() == b.m.pkg.Types) {
				c.value(f.Type(), v.With(v.Items[i]), expr+"."+f.Name(), path+"."+f.Name(), depth+1)
			}
		}
	case *types.Slice:
		if v.Nil {
			c.compare(path, expr+" == nil", "true", "nil")
			return
		}
		length := strconv.FormatUint(v.Length, 10)
		if c.differs(path, "len "+length) {
			c.add("if len(" + expr + ") != " + length + " {\nt.Fatalf(\"len(" + escape(path) + ") is %d, recorded was " + length + "\", len(" + expr + "))\n}")
		}
		c.elements(u.Elem(), v, expr, path, depth)
	case *types.Array:
		c.elements(u.Elem(), v, expr, path, depth)
	case *types.Map:
		c.entries(u, v, expr, path, depth)
	case *types.Interface:
		c.dynamic(v, expr, path, depth)
	case *types.Signature, *types.Chan:
		if v.Nil {
			c.compare(path, expr+" == nil", "true", "nil")
		} else {
			c.compare(path, expr+" != nil", "true", "set")
		}
	}
}

// utc returns a time as one in UTC.
func utc(v replay.Value) event.Value {
	x := v.Value
	x.Items = append([]event.Value{}, x.Items...)
	x.Items[2].Nil, x.Items[2].State = true, event.Known
	return x
}

// escape prepares a path for a format string in quotation marks.
func escape(path string) string {
	quoted := strconv.Quote(strings.ReplaceAll(path, "%", "%%"))
	return quoted[1 : len(quoted)-1]
}

func (c *checker) basic(t types.Type, v replay.Value, expr, path string) {
	text, ok := calls.Scalar(v.Value)
	if !ok || !c.differs(path, text) {
		return
	}
	b := c.a.b
	if v.Form() == event.Float && math.IsNaN(v.Float) {
		c.add("check(" + strconv.Quote(path) + ", " + b.use("math", "math") + ".IsNaN(float64(" + expr + ")), true)")
		return
	}
	c.add("check(" + strconv.Quote(path) + ", " + expr + ", " + b.expr(t, v, place{path: path}, true) + ")")
}

func (c *checker) pointer(u *types.Pointer, v replay.Value, expr, path string, depth int) {
	if v.Nil {
		c.compare(path, expr+" == nil", "true", "nil")
		return
	}
	at := spot{v.Address, v.Type.Elem, false}
	if before, ok := c.seen[at]; ok {
		c.compare(path, expr+" == "+before, "true", "= "+before)
		return
	}
	c.seen[at] = expr
	d := v.Deref()
	n := len(c.out) + c.left
	if _, isStruct := u.Elem().Underlying().(*types.Struct); isStruct {
		if isSpecial(u.Elem()) || d.State != event.Known {
			c.compare(path, expr+" != nil", "true", "&")
			return
		}
		c.value(u.Elem(), d, expr, path, depth+1)
	} else {
		c.value(u.Elem(), d, "(*"+expr+")", path+".*", depth+1)
	}
	if len(c.out)+c.left == n {
		c.compare(path, expr+" != nil", "true", "&")
	}
}

func (c *checker) elements(elem types.Type, v replay.Value, expr, path string, depth int) {
	for i := uint64(0); i < v.Length && c.left < 100_000; i++ {
		n := "[" + strconv.FormatUint(i, 10) + "]"
		c.value(elem, v.Element(i), expr+n, path+n, depth+1)
	}
}

func (c *checker) entries(u *types.Map, v replay.Value, expr, path string, depth int) {
	if v.Nil {
		c.compare(path, expr+" == nil", "true", "nil")
		return
	}
	pairs, all := v.Memory.Entries(v.Address, v.Type)
	if all {
		c.compare(path, "len("+expr+")", strconv.Itoa(len(pairs)/2), "len "+strconv.Itoa(len(pairs)/2))
	}
	basic, ok := u.Key().Underlying().(*types.Basic)
	if !ok || basic.Info()&types.IsConstType == 0 || basic.Info()&types.IsFloat != 0 {
		return // a run compares these
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		key := v.With(pairs[i])
		text, ok := calls.Key(key)
		if !ok {
			continue
		}
		c.value(u.Elem(), v.With(pairs[i+1]), expr+"["+c.a.b.expr(u.Key(), key, place{path: path}, false)+"]", path+"["+text+"]", depth+1)
	}
}

func (c *checker) dynamic(v replay.Value, expr, path string, depth int) {
	if v.Nil {
		c.compare(path, expr, "nil", "nil")
		return
	}
	b := c.a.b
	inner := v.With(v.Items[0])
	if b.isStoodIn(inner) {
		return
	}
	if text, ok := errorText(inner); ok {
		if c.differs(path+".s", strconv.Quote(text)) && c.differs(path+".msg", strconv.Quote(text)) {
			c.add("check(" + strconv.Quote(path) + ", " + b.use("fmt", "fmt") + ".Sprint(" + expr + "), " + quote(text) + ")")
		}
		return
	}
	of := b.m.typeNamed(inner.Value)
	name, ok := "", false
	if of != nil {
		name, ok = b.typeText(of)
	}
	n := len(c.out) + c.left
	if ok {
		c.value(of, inner, expr+".("+name+")", path, depth+1)
	}
	if len(c.out)+c.left == n && c.differs(path+".(type)", inner.Type.Name) {
		c.compare(path+".(type)", b.use("fmt", "fmt")+`.Sprintf("%T", `+expr+")", strconv.Quote(typeOf(inner.Type.Name)), inner.Type.Name)
	}
}

// typeOf returns a recorded type's name as package fmt prints it.
func typeOf(name string) string { return strings.ReplaceAll(name, "[]byte", "[]uint8") }
