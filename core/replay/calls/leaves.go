package calls

import (
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Leaf is a known part of a value that has no parts: a number, a text, a length, the type in an interface, or where
// a pointer leads. Path names it from a root, as in b.stations["Inner Ness"][3].HeightMetres; pointers to structs are
// followed without a sign, others with ".*".
//
// The text of a leaf is that which the generated tests of package reproduce print, so that both can be compared:
//
//	numbers, truth   in the notation of Go; floats with the shortest digits
//	texts            quoted
//	times            RFC 3339 with nanoseconds, in UTC
//	lists, maps      "len N", or "nil"
//	interfaces       "nil", or the type at the path with ".(type)"; what they hold is at the same path
//	pointers         "&", "nil", or "= PATH" if what they refer to is there already
//	functions, channels  "set" or "nil"
type Leaf struct{ Path, Text string }

// Bounds of leaves.
const (
	MostLeaves = 400_000
	mostDepth  = 60
)

// Leaves lists the known leaves of a value and of all that it refers to, at most MostLeaves. What is not known is left
// out.
func Leaves(root string, v replay.Value) []Leaf {
	return LeavesOf([]string{root}, []replay.Value{v})
}

// LeavesOf lists the leaves of several values, of which later ones can refer into earlier ones.
func LeavesOf(roots []string, values []replay.Value) []Leaf {
	w := walker{seen: map[place]string{}}
	for i, v := range values {
		w.walk(roots[i], v, 0)
	}
	return w.out
}

// LeavesBoth lists the leaves of values before and after a call. An object keeps the path at which it was met before, also where it is then met
// at another path first.
func LeavesBoth(roots []string, before, after []replay.Value) (old, now []Leaf) {
	w := walker{seen: map[place]string{}}
	for i, v := range before {
		w.walk(roots[i], v, 0)
	}
	x := walker{seen: map[place]string{}, kept: w.seen, later: map[string]replay.Value{}}
	for i, v := range after {
		x.walk(roots[i], v, 0)
	}
	for len(x.later) > 0 {
		for _, path := range slices.Sorted(maps.Keys(x.later)) {
			v := x.later[path]
			delete(x.later, path)
			if _, ok := x.seen[place{v.Address, v.Type.ID}]; !ok {
				x.walk(path, v, 0)
			}
		}
	}
	return w.out, x.out
}

// place is an object that a pointer or a map refers to.
type place struct {
	address uint64
	of      event.TypeID
}

type walker struct {
	seen map[place]string
	out  []Leaf
	// Paths that objects keep, and those that are still to be walked at theirs; nil if there are none.
	kept  map[place]string
	later map[string]replay.Value
}

func (w *walker) leaf(path, text string) { w.out = append(w.out, Leaf{path, text}) }

// first reports whether an object is met for the first time; else it is a leaf that names where it was.
func (w *walker) first(path string, v replay.Value) bool {
	at := place{v.Address, v.Type.ID}
	if kept, ok := w.kept[at]; ok && kept != path {
		w.leaf(path, "= "+kept)
		if _, done := w.seen[at]; !done {
			w.later[kept] = v
		}
		return false
	}
	if before, ok := w.seen[at]; ok {
		w.leaf(path, "= "+before)
		return false
	}
	w.seen[at] = path
	return true
}

func (w *walker) walk(path string, v replay.Value, depth int) {
	if v.State != event.Known || v.Type == nil || depth > mostDepth || len(w.out) >= MostLeaves {
		return
	}
	if at, ok := replay.Instant(v.Value); ok {
		w.leaf(path, at.Format(time.RFC3339Nano))
		return
	}
	switch v.Form() {
	case event.Bool, event.Int, event.Uint, event.Float, event.Complex, event.Text:
		if text, ok := Scalar(v.Value); ok {
			w.leaf(path, text)
		}
	case event.Struct:
		for i, f := range v.Type.Fields {
			if i < len(v.Items) && f.Name != "_" {
				w.walk(path+"."+f.Name, v.With(v.Items[i]), depth+1)
			}
		}
	case event.Func, event.Chan:
		w.leaf(path, map[bool]string{true: "nil", false: "set"}[v.Nil])
	case event.Interface:
		w.inner(path, v, depth)
	case event.Pointer:
		w.pointee(path, v, depth)
	case event.Array:
		w.elements(path, v, depth)
	case event.Slice:
		if v.Nil {
			w.leaf(path, "nil")
			return
		}
		w.leaf(path, "len "+strconv.FormatUint(v.Length, 10))
		w.elements(path, v, depth)
	case event.Map:
		w.entries(path, v, depth)
	}
}

func (w *walker) inner(path string, v replay.Value, depth int) {
	switch {
	case v.Nil:
		w.leaf(path, "nil")
	case len(v.Items) == 1 && v.Items[0].Type != nil:
		w.leaf(path+".(type)", v.Items[0].Type.Name)
		w.walk(path, v.With(v.Items[0]), depth+1)
	}
}

func (w *walker) pointee(path string, v replay.Value, depth int) {
	if v.Nil {
		w.leaf(path, "nil")
		return
	}
	if !w.first(path, v) {
		return
	}
	w.leaf(path, "&")
	d := v.Deref()
	if _, isTime := replay.Instant(d.Value); isTime || d.Form() != event.Struct {
		path += ".*"
	}
	w.walk(path, d, depth+1)
}

func (w *walker) elements(path string, v replay.Value, depth int) {
	for i := uint64(0); i < v.Length && len(w.out) < MostLeaves; i++ {
		w.walk(path+"["+strconv.FormatUint(i, 10)+"]", v.Element(i), depth+1)
	}
}

// entries walks a map whose entries are all known; else only its length is.
func (w *walker) entries(path string, v replay.Value, depth int) {
	if v.Nil {
		w.leaf(path, "nil")
		return
	}
	if !w.first(path, v) {
		return
	}
	pairs, all := v.Memory.Entries(v.Address, v.Type)
	if all {
		w.leaf(path, "len "+strconv.Itoa(len(pairs)/2))
	}
	type entry struct {
		key   string
		value event.Value
	}
	var list []entry
	for i := 0; i+1 < len(pairs); i += 2 {
		if key, ok := Key(v.With(pairs[i])); ok {
			list = append(list, entry{key, pairs[i+1]})
		}
	}
	slices.SortFunc(list, func(a, b entry) int { return strings.Compare(a.key, b.key) })
	for _, e := range list {
		w.walk(path+"["+e.key+"]", v.With(e.value), depth+1)
	}
}

// Key returns the text of a map's key in a path; ok is false for keys that are told apart by their address, or are not known.
func Key(v replay.Value) (text string, ok bool) {
	if v.State != event.Known || v.Type == nil {
		return "", false
	}
	if at, ok := replay.Instant(v.Value); ok {
		return at.Format(time.RFC3339Nano), true
	}
	switch v.Form() {
	case event.Interface:
		if v.Nil {
			return "nil", true
		}
		if len(v.Items) != 1 || v.Items[0].Type == nil {
			return "", false
		}
		inner, ok := Key(v.With(v.Items[0]))
		return "(" + v.Items[0].Type.Name + ") " + inner, ok
	case event.Struct, event.Array:
		var parts []string
		for i := range v.Items {
			part, ok := Key(v.With(v.Items[i]))
			if !ok {
				return "", false
			}
			parts = append(parts, part)
		}
		return "{" + strings.Join(parts, " ") + "}", true
	}
	return Scalar(v.Value)
}

// Scalar returns the text of a number, a truth value or a whole text.
func Scalar(v event.Value) (text string, ok bool) {
	if v.State != event.Known || v.Whole > 0 || v.Type == nil {
		return "", false
	}
	switch v.Type.Form {
	case event.Bool:
		return strconv.FormatBool(v.Uint != 0), true
	case event.Int:
		return strconv.FormatInt(v.Int, 10), true
	case event.Uint:
		return strconv.FormatUint(v.Uint, 10), true
	case event.Float:
		return Float(v.Float, int(v.Type.Size)*8), true
	case event.Complex:
		bits := int(v.Type.Size) * 4
		return "(" + Float(v.Float, bits) + " " + Float(v.Imag, bits) + ")", true
	case event.Text:
		return strconv.Quote(v.Text), true
	}
	return "", false
}

// Float returns the shortest text of a floating-point number of 32 or 64 bits.
func Float(f float64, bits int) string {
	if math.IsNaN(f) {
		return "NaN"
	}
	return strconv.FormatFloat(f, 'g', -1, bits)
}
