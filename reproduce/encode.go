package reproduce

import (
	"fmt"
	"go/types"
	"math"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// encoder describes the arguments of a call for a harness.
type encoder struct {
	h      *harness
	b      *builder
	made   replay.MadeCall
	a      *assembly
	ids    map[*object]int
	out    *callData
	stands map[string]int
	// standIns are those for what interfaces hold; nil where there can be none.
	standIns map[standKey]*node
	parts    int // values that are described
	// In a chain the objects are those of its first call, of which there are first: isFixed. unfit is set if a call refers to others. isResult is set while
	// what a call gave back is described: created are the objects that it made.
	first          int
	isFixed, unfit bool
	isResult       bool
	created        []*object
}

func newEncoder(h *harness, call replay.MadeCall) *encoder {
	b := newBuilder(h.m)
	b.names, b.imports, b.standTypes, b.stood, b.call = h.names, h.imports, h.standTypes, h.stood, &call
	b.standSuffix = "InCalls"
	return &encoder{h: h, b: b, made: call, a: &assembly{b: b, f: h.f, call: call}, ids: map[*object]int{}, out: &callData{}, stands: map[string]int{}, standIns: map[standKey]*node{}}
}

// call describes the call.
func (e *encoder) call() *callData {
	e.a.findGlobals()
	params, given := e.a.match()
	set := e.a.changedGlobals()
	e.freshGlobals()
	for _, g := range set {
		e.b.scan(g.of.Type(), g.Before, g.Name)
	}
	for i, p := range params {
		if given[i] != nil {
			e.b.scan(p.Type(), given[i].Value, p.Name())
		}
	}
	if e.b.full {
		e.b.gap(e.made.Function.Name, "its arguments have more than %d parts", mostParts)
	}
	e.b.nest()
	held := e.b.outerLocks()
	e.arguments(set, params, given)
	e.locks(held)
	return e.out
}

// begin goes on with another call of a chain, which has first objects.
func (e *encoder) begin(call replay.MadeCall, first int) {
	e.made, e.a.call, e.b.call, e.out = call, call, &call, &callData{}
	e.first, e.isFixed, e.unfit = first, true, false
}

// freshGlobals notes the package variables that the call expects as the initialisation left them.
func (e *encoder) freshGlobals() {
	for _, g := range e.made.Globals {
		if x, ok := e.a.named(g); ok && g.Used && !isOpaque(x.of.Type()) && g.IsFresh() {
			e.h.fresh[e.global(x)] = true
		}
	}
}

// arguments describes the arguments, of which given are the recorded values, and the package variables that are set.
func (e *encoder) arguments(set []global, params []*types.Var, given []*replay.Variable) {
	for _, g := range set {
		e.out.Globals = append(e.out.Globals, setting{Root: e.global(g), Value: e.value(g.of.Type(), g.Before, g.Name)})
	}
	for i, p := range params {
		x, name := &node{}, ""
		switch {
		case given[i] != nil:
			x, name = e.value(p.Type(), given[i].Value, p.Name()), p.Name()
		case i == 0 && e.h.f.sig.Recv() != nil:
			if _, isPointer := p.Type().Underlying().(*types.Pointer); isPointer {
				e.unfit = e.isFixed
				e.out.Objects = append(e.out.Objects, &objectData{K: "v", N: []*node{{}}})
				x = &node{K: "p", O: len(e.out.Objects) - 1}
			}
		}
		e.out.Args, e.out.Names = append(e.out.Args, x), append(e.out.Names, name)
	}
}

// global returns the expression of a package variable, which the harness then knows.
func (e *encoder) global(g global) string {
	expr := g.Name
	if g.of.Pkg() != e.h.m.pkg.Types {
		expr = e.b.use(g.of.Pkg().Path(), g.of.Pkg().Name()) + "." + g.Name
	}
	e.h.values[expr] = true
	return expr
}

// value describes a value. t is nil if its type cannot be found in the source.
func (e *encoder) value(t types.Type, v replay.Value, path string) *node {
	e.parts++
	if t != nil && isOpaque(t) {
		return &node{}
	}
	if e.isResult && (v.State != event.Known || v.Type == nil) {
		return &node{K: "?"} // whatever it is
	}
	if v.State == event.MayHaveChanged && v.Last != nil {
		e.b.gap(path, "code that is not recorded may have changed it since; the last known value is used")
		v = v.With(*v.Last)
	}
	if v.State != event.Known || v.Type == nil {
		e.b.gap(path, "%s; the zero value is used", unknown(v))
		return &node{}
	}
	if t != nil && !matches(t, v.Value) {
		e.b.gap(path, "is a %s in the recording and a %s in the source", v.TypeName(), types.TypeString(t, nil))
		return &node{}
	}
	if v.Nil {
		return &node{}
	}
	if at, ok := replay.Instant(v.Value); ok {
		return e.time(v, at.Unix(), at.Nanosecond(), path)
	}
	switch v.Form() {
	case event.Bool, event.Int, event.Uint, event.Float, event.Complex, event.Text:
		return e.scalar(v, path)
	case event.Struct:
		return e.fields(t, v, path)
	case event.Array:
		x := &node{K: "a"}
		for i := range v.Type.Length {
			x.N = append(x.N, e.value(elemOf(t), v.Element(i), path+"["+strconv.FormatUint(i, 10)+"]"))
		}
		return x
	case event.Pointer:
		return e.pointer(t, v, path)
	case event.Slice:
		return e.slice(t, v, path)
	case event.Map:
		o := e.b.objects[spot{v.Address, v.Type.ID, true}]
		if o == nil {
			o = e.meet(spot{v.Address, v.Type.ID, true}, v, t, path)
		}
		return &node{K: "m", O: e.object(o)}
	case event.Interface:
		return e.dynamic(t, v, path)
	case event.Func:
		return e.function(t, v, path)
	case event.Chan:
		e.b.gap(path, "a channel cannot be rebuilt; an empty one is used")
		return &node{K: "c", C: max(v.Capacity, 1)}
	}
	e.b.gap(path, "an unsafe pointer cannot be rebuilt")
	return &node{}
}

func elemOf(t types.Type) types.Type {
	if t == nil {
		return nil
	}
	switch u := t.Underlying().(type) {
	case *types.Array:
		return u.Elem()
	case *types.Slice:
		return u.Elem()
	case *types.Pointer:
		return u.Elem()
	}
	return nil
}

func (e *encoder) time(v replay.Value, seconds int64, nanoseconds int, path string) *node {
	x := &node{K: "t", V: fmt.Sprint(seconds, " ", nanoseconds)}
	hasZone := v.Items[2].State == event.Known && !v.Items[2].Nil
	switch {
	case hasZone && v.Items[0].Uint>>63 != 0:
		x.L = 1
	case hasZone || v.Items[2].State != event.Known:
		e.b.gap(path, "the zone of the time is not recorded; UTC is used")
	}
	return x
}

func (e *encoder) scalar(v replay.Value, path string) *node {
	x := &node{K: "v"}
	switch v.Form() {
	case event.Bool:
		x.V = strconv.FormatBool(v.Uint != 0)
	case event.Int:
		x.V = strconv.FormatInt(v.Int, 10)
	case event.Uint:
		x.V = strconv.FormatUint(v.Uint, 10)
	case event.Float:
		x.V = strconv.FormatUint(math.Float64bits(v.Float), 16)
	case event.Complex:
		x.V = fmt.Sprintf("%x %x", math.Float64bits(v.Float), math.Float64bits(v.Imag))
	case event.Text:
		if v.Whole > 0 {
			e.b.gap(path, "only the first %d of %d bytes were recorded", len(v.Value.Text), v.Whole)
		}
		x.V = strconv.Quote(v.Value.Text)
	}
	return x
}

func (e *encoder) fields(t types.Type, v replay.Value, path string) *node {
	var u *types.Struct
	if t != nil {
		u, _ = t.Underlying().(*types.Struct)
	}
	x := &node{K: "s"}
	for i, f := range v.Type.Fields {
		if i >= len(v.Items) {
			break
		}
		var of types.Type
		if u != nil {
			of = u.Field(i).Type()
		}
		x.N = append(x.N, e.value(of, v.With(v.Items[i]), path+"."+f.Name))
	}
	return x
}

func (e *encoder) pointer(t types.Type, v replay.Value, path string) *node {
	if name := e.b.globalAt(v.Address); name != "" {
		e.h.values[name] = true
		return &node{K: "g", V: name}
	}
	if s, ok := sentinels[v.Field("s").Value.Text]; ok && v.Type.Name == "*errors.errorString" {
		name := e.b.use(s[0], s[0][strings.LastIndexByte(s[0], '/')+1:]) + "." + s[1]
		e.h.values[name] = true
		return &node{K: "g", V: name}
	}
	o := e.b.objects[spot{v.Address, v.Type.Elem, false}]
	if o == nil {
		o = e.meet(spot{v.Address, v.Type.Elem, false}, v.Deref(), elemOf(t), path)
	}
	root := o.root()
	return &node{K: "p", O: e.object(root), I: o.address - root.address}
}

func (e *encoder) slice(t types.Type, v replay.Value, path string) *node {
	el := v.ElemType()
	if v.Length == 0 || el == nil || el.Size == 0 {
		return &node{K: "e", L: v.Length, C: max(v.Capacity, v.Length)}
	}
	o := e.b.objects[spot{v.Address, el.ID, false}]
	if o == nil || !o.isList && o.within == nil {
		e.unfit = e.unfit || e.isFixed && !e.isResult
		o = &object{spot: spot{v.Address, el.ID, false}, value: v, gt: elemOf(t), path: path, isList: true, length: v.Length, room: max(v.Capacity, v.Length)}
	}
	root := o.root()
	if e.isFixed && root.isList && (v.Address-root.address)/el.Size+v.Length > root.length {
		e.unfit = true // it has grown
	}
	return &node{K: "l", O: e.object(root), I: v.Address - root.address, L: v.Length, C: max(v.Capacity, v.Length)}
}

// meet meets an object that was not scanned.
func (e *encoder) meet(at spot, v replay.Value, t types.Type, path string) *object {
	e.unfit = e.unfit || e.isFixed && !e.isResult
	return e.b.meet(at, v, t, path)
}

// object describes an object, unless it is, and returns its number.
func (e *encoder) object(o *object) int {
	if id, ok := e.ids[o]; ok {
		return id
	}
	at := len(e.out.Objects)
	id := e.first + at
	e.ids[o] = id
	if e.isResult {
		e.created = append(e.created, o)
	}
	e.out.Objects = append(e.out.Objects, nil)
	e.out.Objects[at] = e.described(o)
	return id
}

// described describes an object.
func (e *encoder) described(o *object) *objectData {
	d := &objectData{K: "v"}
	if o.gt != nil && !o.isMap {
		if text, ok := e.b.typeText(o.gt); ok {
			d.T = "= " + text
			e.h.types[d.T] = "reflect.TypeFor[" + text + "]()"
		}
	}
	switch {
	case o.isMap:
		d.K, d.T = "m", ""
		pairs, all := o.value.Memory.Entries(o.address, o.value.Type)
		if !all {
			e.b.gap(o.path, "not all entries are known")
		}
		var key, elem types.Type
		if o.gt != nil {
			if u, ok := o.gt.Underlying().(*types.Map); ok {
				key, elem = u.Key(), u.Elem()
			}
		}
		for i := 0; i+1 < len(pairs); i += 2 {
			if pairs[i].State != event.Known {
				e.b.gap(o.path, "a key is not known")
				continue
			}
			k := o.value.With(pairs[i])
			d.N = append(d.N, e.value(key, k, o.path+" key"), e.value(elem, o.value.With(pairs[i+1]), o.path+"["+k.Text()+"]"))
		}
	case o.isList:
		d.K, d.C = "l", max(o.room, o.length)
		v := o.value
		v.Address, v.Length, v.Items = o.address, o.length, nil
		for i := range o.length {
			d.N = append(d.N, e.value(o.gt, v.Element(i), o.path+"["+strconv.FormatUint(i, 10)+"]"))
		}
	default:
		d.N = []*node{e.value(o.gt, o.value, o.path)}
	}
	return d
}

// dynamic describes what an interface holds.
func (e *encoder) dynamic(t types.Type, v replay.Value, path string) *node {
	inner := v.With(v.Items[0])
	key := inner.Type.Name
	of := e.h.m.typeNamed(inner.Value)
	if parent := inner.Field("Context"); key == "*context.valueCtx" && (parent.State != event.Known || inner.Field("key").State != event.Known) {
		return e.background(path, "what the context carries is not known; the background context is used")
	}
	if s, ok := sampled[key]; ok && (of == nil || !e.b.nameable(of, 0)) {
		e.h.types[key] = "reflect.TypeOf(" + fmt.Sprintf(s[1], e.b.use(s[0], s[0])) + ")"
		return &node{K: "i", V: key, N: []*node{e.value(nil, inner, path)}}
	}
	if key == "*context.cancelCtx" || key == "*context.timerCtx" {
		return e.background(path, "whether the context was cancelled is not recorded; one that is not is used")
	}
	if of == nil || !e.b.nameable(of, 0) {
		if n, ok := e.interfaceStandIn(t, inner, path); ok {
			return n
		}
		e.b.gap(path, "%s cannot be named here", key)
		return &node{}
	}
	text, _ := e.b.typeText(of)
	e.h.types[key] = "reflect.TypeFor[" + text + "]()"
	return &node{K: "i", V: key, N: []*node{e.value(of, inner, path)}}
}

// background stands for a context that cannot be rebuilt.
func (e *encoder) background(path, why string) *node {
	e.b.gap(path, "%s", why)
	e.h.types["context.backgroundCtx"] = "reflect.TypeOf(" + e.b.use("context", "context") + ".Background())"
	return &node{K: "i", V: "context.backgroundCtx", N: []*node{{}}}
}

func (e *encoder) function(t types.Type, v replay.Value, path string) *node {
	var of *types.Signature
	if t != nil {
		of, _ = t.Underlying().(*types.Signature)
	}
	name := v.Value.Text
	if of != nil {
		if expr, ok := e.h.m.functionNamed(e.b, name, of); ok {
			e.h.funcs[expr] = true
			return &node{K: "f", V: expr}
		}
		if n, ok := e.standIn(name, of, path); ok {
			return n
		}
	}
	e.b.gap(path, "the function %s cannot be rebuilt", name)
	return &node{}
}

// standIn describes a function by what it returned during the call.
func (e *encoder) standIn(name string, of *types.Signature, path string) (*node, bool) {
	if i, ok := e.stands[name]; ok {
		return &node{K: "r", O: i}, true
	}
	returned, ok := returnedBy(calledLike(&e.made, name), of)
	if !ok {
		return nil, false
	}
	if len(returned) > 0 || !e.h.m.isOwn(name) { // else it is not called
		e.b.gap(path, "the function %s is replaced by one that returns what it returned then", name)
	}
	e.stands[name] = e.returning(of, returned, path)
	return &node{K: "r", O: e.stands[name]}, true
}

// returning describes a function that returns something else each time, and returns its number.
func (e *encoder) returning(of *types.Signature, returned [][]replay.Variable, path string) int {
	id := len(e.out.Stands)
	e.out.Stands = append(e.out.Stands, nil)
	calls := [][]*node{}
	for _, list := range returned {
		results := []*node{}
		for i, r := range list {
			results = append(results, e.value(of.Results().At(i).Type(), r.Value, path+"()"))
		}
		calls = append(calls, results)
	}
	e.out.Stands[id] = calls
	return id
}

// changesNothing reports whether, in the recording, all objects that the call was given are at its end as they were. It may be false although
// they are.
func (e *encoder) changesNothing() bool {
	if len(e.made.After) == 0 && len(e.out.Globals) == 0 {
		return true
	}
	for _, g := range e.made.Globals {
		if g.Used && !g.IsFresh() && !identical(g.Before.Value, g.After.Value) {
			return false
		}
	}
	var memory replay.Memory
	for _, v := range e.made.After {
		memory = v.Value.Memory
	}
	if memory == nil {
		return false
	}
	for _, o := range e.b.order {
		before := o.snapshot(o.value.Memory)
		if !o.isMap && !o.isList && o.value.Type == nil || o.changed(memory, &before, false) {
			return false
		}
	}
	return true
}

// identical reports whether two values are one that was loaded once, or equal without parts.
func identical(a, b event.Value) bool {
	if a.State != b.State || a.Nil != b.Nil || a.Int != b.Int || a.Uint != b.Uint || math.Float64bits(a.Float) != math.Float64bits(b.Float) ||
		math.Float64bits(a.Imag) != math.Float64bits(b.Imag) || a.Text != b.Text || a.Address != b.Address || a.Length != b.Length || a.Capacity != b.Capacity || len(a.Items) != len(b.Items) {
		return false
	}
	return len(a.Items) == 0 || &a.Items[0] == &b.Items[0]
}
