package reproduce

import (
	"go/types"
	"maps"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// standType is a type of the test that stands in for an interface. Each method calls the field of its name with "on"
// before it.
type standType struct {
	name, text string
	short      string // for a variable
	methods    []*types.Func
	embeds     bool // the interface itself: it has methods that cannot be written here
}

// standKey is a value in an interface: its type, and for a pointer where it leads. Other values of one type share a stand-in, of which
// the calls are in the order of all. as is the interface: a stand-in has no other methods.
type standKey struct {
	of, as  string
	address uint64
}

func standKeyOf(inner replay.Value) standKey {
	k := standKey{of: inner.Type.Name}
	if inner.Form() == event.Pointer {
		k.address = inner.Address
	}
	return k
}

// standType returns the type that stands in for an interface. ok is false if there can be none.
func (b *builder) standType(t types.Type) (st *standType, ok bool) {
	u, isInterface := t.Underlying().(*types.Interface)
	text, ok := b.typeText(t)
	if !isInterface || !ok || u.NumMethods() == 0 {
		return nil, false
	}
	if st, ok := b.standTypes[text]; ok {
		return st, st != nil
	}
	b.standTypes[text] = nil
	st = &standType{}
	var fields, methods []string
	base := "value"
	if n, isNamed := types.Unalias(t).(*types.Named); isNamed {
		base = n.Obj().Name()
	}
	st.short = strings.ToLower(base[:1]) + base[1:]
	st.name = b.unique(st.short + b.standSuffix)
	for f := range u.Methods() {
		of, ok := b.typeText(f.Signature())
		if !ok || !f.Exported() && f.Pkg() != b.m.pkg.Types {
			st.embeds = true
			continue
		}
		st.methods = append(st.methods, f)
		fields = append(fields, "on"+f.Name()+" "+of)
		methods = append(methods, b.standMethod(st.name, f))
	}
	if st.embeds {
		if _, isNamed := types.Unalias(t).(*types.Named); !isNamed {
			return nil, false
		}
		fields = append([]string{text}, fields...)
	}
	st.text = "// " + st.name + " stands in for a " + text + " that cannot be rebuilt: it returns what was returned then.\ntype " + st.name + " struct {\n" + strings.Join(fields, "\n") + "\n}\n\n" +
		strings.Join(methods, "\n") + "\n"
	b.standTypes[text] = st
	return st, true
}

// standMethod writes a method that calls its field.
func (b *builder) standMethod(name string, f *types.Func) string {
	sig := f.Signature()
	params, results := b.header(sig, "p")
	var args []string
	for i := range sig.Params().Len() {
		args = append(args, "p"+strconv.Itoa(i))
	}
	call := "s.on" + f.Name() + "(" + strings.Join(args, ", ")
	if sig.Variadic() {
		call += "..."
	}
	call += ")"
	if sig.Results().Len() > 0 {
		call = "return " + call
	}
	return "func (s *" + name + ") " + f.Name() + params + " " + results + " { " + call + " }"
}

// header writes parameters and results of a function. Parameters are named with a number after the prefix, or "_" if it is empty.
func (b *builder) header(sig *types.Signature, prefix string) (params, results string) {
	var in, out []string
	for i := range sig.Params().Len() {
		p, _ := b.typeText(sig.Params().At(i).Type())
		if sig.Variadic() && i == sig.Params().Len()-1 {
			p = "..." + strings.TrimPrefix(p, "[]")
		}
		name := "_"
		if prefix != "" {
			name = prefix + strconv.Itoa(i)
		}
		in = append(in, name+" "+p)
	}
	for r := range sig.Results().Variables() {
		x, _ := b.typeText(r.Type())
		out = append(out, x)
	}
	results = strings.Join(out, ", ")
	if len(out) > 1 {
		results = "(" + results + ")"
	}
	return "(" + strings.Join(in, ", ") + ")", results
}

// madeOn lists the results of the recorded calls of a value's methods, by method, in order. Calls within others of them are left out: they are not
// made again.
func madeOn(call *replay.MadeCall, inner replay.Value) map[string][]replay.InnerCall {
	out := map[string][]replay.InnerCall{}
	key := standKeyOf(inner)
	within := map[event.CallID]bool{}
	for _, c := range call.Inner {
		if within[c.Parent] {
			within[c.Call] = true
			continue
		}
		if !isOn(c, inner.Type.Name, key) {
			continue
		}
		within[c.Call] = true
		method := c.Function[strings.LastIndexByte(c.Function, '.')+1:]
		out[method] = append(out[method], c)
	}
	return out
}

// isOn reports whether a call is of a method of a value, or of what it points to.
func isOn(c replay.InnerCall, typeName string, key standKey) bool {
	r := c.Receiver
	switch {
	case r.Type == nil:
		return false
	case r.Type.Name == typeName:
		return key.address == 0 || r.State == event.Known && r.Address == key.address
	}
	return "*"+r.Type.Name == typeName // a method of the value, called through a pointer
}

// calledLike lists the recorded calls of a function, in order, without those within others of them.
func calledLike(call *replay.MadeCall, name string) (list []replay.InnerCall) {
	within := map[event.CallID]bool{}
	for _, c := range call.Inner {
		isOne := c.Function == name
		if isOne && !within[c.Parent] {
			list = append(list, c)
		}
		if isOne || within[c.Parent] {
			within[c.Call] = true
		}
	}
	return list
}

// returnedBy lists what calls returned. ok is false if one of them did not return, or returned something else than the function in the source.
func returnedBy(list []replay.InnerCall, of *types.Signature) (returned [][]replay.Variable, ok bool) {
	for _, c := range list {
		if c.Outcome != replay.DidReturn || len(c.Results) != of.Results().Len() {
			return nil, false
		}
		returned = append(returned, c.Results)
	}
	return returned, true
}

// scanReturned meets what a stand-in returns.
func (b *builder) scanReturned(list []replay.InnerCall, of *types.Signature, path string) {
	returned, _ := returnedBy(list, of)
	for _, results := range returned {
		for i, r := range results {
			b.scan(of.Results().At(i).Type(), r.Value, path+"()")
		}
	}
}

// scanStandIn meets what the methods of an interface's value returned, if it is replaced.
func (b *builder) scanStandIn(t types.Type, inner replay.Value, path string) {
	if b.call == nil || b.scanned[standKeyOf(inner)] {
		return
	}
	b.scanned[standKeyOf(inner)] = true
	made := madeOn(b.call, inner)
	for f := range t.Underlying().(*types.Interface).Methods() {
		b.scanReturned(made[f.Name()], f.Signature(), path+"."+f.Name())
	}
}

// isStoodIn reports whether an interface's value is replaced by a stand-in.
func (b *builder) isStoodIn(inner replay.Value) bool { return b.stood[inner.Type.Name] }

// standInGap says that a value is replaced.
func (b *builder) standInGap(inner replay.Value, path string) {
	b.stood[inner.Type.Name] = true
	b.gap(path, "the %s is replaced by one that returns what it returned then", inner.TypeName())
}

// interfaceStandIn writes a value that stands in for what an interface holds. ok is false if there can be none.
func (a *assembly) interfaceStandIn(t types.Type, inner replay.Value, path string) (expr string, ok bool) {
	b := a.b
	key := standKeyOf(inner)
	key.as = types.TypeString(t, nil)
	if name, ok := a.standIns[key]; ok {
		return name, name != ""
	}
	a.standIns[key] = ""
	st, ok := b.standType(t)
	if !ok {
		return "", false
	}
	made := madeOn(&a.call, inner)
	var fields []string
	for _, f := range st.methods {
		returned, ok := returnedBy(made[f.Name()], f.Signature())
		if !ok || len(returned) == 0 {
			continue
		}
		fields = append(fields, "on"+f.Name()+": "+a.returning(f.Signature(), returned, path+"."+f.Name()))
	}
	b.standInGap(inner, path)
	name := b.unique(st.short)
	a.standIns[key] = name
	b.lines = append(b.lines, name+" := &"+st.name+braces(fields))
	b.declared[name] = true
	return name, true
}

// interfaceStandIn describes a value that stands in for what an interface holds.
func (e *encoder) interfaceStandIn(t types.Type, inner replay.Value, path string) (*node, bool) {
	if t == nil {
		return nil, false
	}
	key := standKeyOf(inner)
	key.as = types.TypeString(t, nil)
	if n, ok := e.standIns[key]; ok {
		return n, n != nil
	}
	e.standIns[key] = nil
	st, ok := e.b.standType(t)
	if !ok {
		return nil, false
	}
	e.h.types["*"+st.name] = "reflect.TypeFor[*" + st.name + "]()"
	e.h.types["= "+st.name] = "reflect.TypeFor[" + st.name + "]()"
	id := len(e.out.Objects)
	fields := &node{K: "s"}
	e.out.Objects = append(e.out.Objects, &objectData{K: "v", T: "= " + st.name, N: []*node{fields}})
	n := &node{K: "i", V: "*" + st.name, N: []*node{{K: "p", O: id}}}
	e.standIns[key] = n
	e.b.standInGap(inner, path)
	made := madeOn(&e.made, inner)
	if st.embeds {
		fields.N = append(fields.N, &node{})
	}
	for _, f := range st.methods {
		returned, ok := returnedBy(made[f.Name()], f.Signature())
		if !ok {
			fields.N = append(fields.N, &node{})
			continue
		}
		fields.N = append(fields.N, &node{K: "r", O: e.returning(f.Signature(), returned, path+"."+f.Name())})
	}
	return n, true
}

// standTexts writes the types that stand in for interfaces.
func standTexts(list map[string]*standType) string {
	var out strings.Builder
	for _, key := range slices.Sorted(maps.Keys(list)) {
		if st := list[key]; st != nil {
			out.WriteString(st.text + "\n")
		}
	}
	return out.String()
}
