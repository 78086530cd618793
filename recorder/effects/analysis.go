package effects

import (
	"go/token"
	"go/types"

	"golang.org/x/tools/go/ssa"
)

// The analysis of one function puts the values that may refer to the same memory into classes: Steensgaard,
// "Points-to Analysis in Almost Linear Time", 1996, without regard to fields. All that an argument leads
// to is one class. What is done to a class is done to the arguments in it.

// elsewhere is the owner of memory that no argument refers to.
const elsewhere = 1 << 63

// maxArgs limits the arguments, with the captured variables, that are told apart.
const maxArgs = 62

// class is a set of values that may refer to the same memory.
type class struct {
	parent *class
	owners uint64 // arguments whose memory it may be
	to     *class // what its memory refers to
}

func (c *class) root() *class {
	for c.parent != nil {
		if c.parent.parent != nil {
			c.parent = c.parent.parent
		}
		c = c.parent
	}
	return c
}

// analysis is the analysis of one function.
type analysis struct {
	fn      *ssa.Function
	of      func(*ssa.Function) Summary // of the functions that it calls, so far
	classes map[ssa.Value]*class
	other   *class // memory elsewhere
	effects [maxArgs]Effect
	writes  bool // elsewhere
}

// pointee returns what the memory of a class refers to.
func (c *class) pointee() *class {
	r := c.root()
	if r.to == nil {
		r.to = &class{}
	}
	return r.to.root()
}

// owned returns the class of all that some owners lead to.
func owned(owners uint64) *class {
	c := &class{owners: owners}
	c.to = c
	return c
}

// unify joins two classes. Memory of different arguments that is joined is kept: one may be reached from
// the other.
func (a *analysis) unify(x, y *class) {
	for {
		x, y = x.root(), y.root()
		if x == y {
			return
		}
		if x.owners != 0 && y.owners != 0 && x.owners != y.owners {
			a.do(x.owners|y.owners, Keeps)
		}
		x.owners |= y.owners
		xt, yt := x.to, y.to
		y.parent = x
		switch {
		case xt == nil:
			x.to = yt
			return
		case yt == nil:
			return
		}
		x, y = xt, yt
	}
}

// do adds an effect on the memory of some owners.
func (a *analysis) do(owners uint64, e Effect) {
	if owners&elsewhere != 0 && e&Writes != 0 {
		a.writes = true
	}
	for i := range a.effects {
		if owners>>i&1 != 0 {
			a.effects[i] |= e
		}
	}
}

// reached returns the owners of a class and of all that it leads to.
func (c *class) reached() (owners uint64) {
	seen := map[*class]bool{}
	for c = c.root(); !seen[c]; c = c.to.root() {
		seen[c] = true
		owners |= c.owners
		if c.to == nil {
			break
		}
	}
	return owners
}

// summarize analyses a function. Captured variables come after its arguments.
func summarize(fn *ssa.Function, of func(*ssa.Function) Summary) Summary {
	n := len(fn.Params) + len(fn.FreeVars)
	if n > maxArgs {
		return unknown(n)
	}
	a := &analysis{fn: fn, of: of, classes: map[ssa.Value]*class{}}
	a.other = owned(elsewhere)
	for i, p := range fn.Params {
		a.classes[p] = owned(1 << i)
	}
	for i, v := range fn.FreeVars {
		a.classes[v] = owned(1 << (len(fn.Params) + i))
	}
	for _, b := range fn.Blocks {
		for _, i := range b.Instrs {
			a.instruction(i)
		}
	}
	for _, b := range fn.Blocks { // what stands later may have joined classes
		for _, i := range b.Instrs {
			a.effect(i)
		}
	}
	return Summary{Args: append([]Effect(nil), a.effects[:n]...), Elsewhere: a.writes}
}

// class returns the class of a value.
func (a *analysis) class(v ssa.Value) *class {
	if c := a.classes[v]; c != nil {
		return c.root()
	}
	c := &class{}
	if _, global := v.(*ssa.Global); global {
		c = a.other
	}
	a.classes[v] = c
	return c.root()
}

// refers reports whether a value of a type can refer to memory that can be written.
func refers(t types.Type) bool {
	switch u := t.Underlying().(type) {
	case *types.Basic:
		return u.Kind() == types.UnsafePointer || u.Kind() == types.Uintptr
	case *types.Tuple:
		for i := range u.Len() {
			if refers(u.At(i).Type()) {
				return true
			}
		}
		return false
	}
	return true
}

// elementsRefer reports whether the elements of a slice or string can refer to memory.
func elementsRefer(t types.Type) bool {
	list, ok := t.Underlying().(*types.Slice)
	if !ok {
		_, text := t.Underlying().(*types.Basic)
		return !text // a type parameter
	}
	return refers(list.Elem())
}

// instruction joins the classes that an instruction makes refer to the same memory.
func (a *analysis) instruction(i ssa.Instruction) {
	same := func(v ssa.Value, x ssa.Value) {
		if refers(v.Type()) && refers(x.Type()) {
			a.unify(a.class(v), a.class(x))
		}
	}
	loads := func(v ssa.Value, x ssa.Value) {
		if refers(v.Type()) {
			a.unify(a.class(v), a.class(x).pointee())
		}
	}
	stores := func(to ssa.Value, x ssa.Value) {
		if refers(x.Type()) {
			a.unify(a.class(to).pointee(), a.class(x))
		}
	}
	switch i := i.(type) {
	case *ssa.FieldAddr:
		same(i, i.X)
	case *ssa.IndexAddr:
		same(i, i.X)
	case *ssa.Slice:
		same(i, i.X)
	case *ssa.SliceToArrayPointer:
		same(i, i.X)
	case *ssa.Phi:
		for _, e := range i.Edges {
			same(i, e)
		}
	case *ssa.ChangeType:
		same(i, i.X)
	case *ssa.ChangeInterface:
		same(i, i.X)
	case *ssa.Convert:
		same(i, i.X)
	case *ssa.MultiConvert:
		same(i, i.X)
	case *ssa.MakeInterface:
		same(i, i.X)
	case *ssa.TypeAssert:
		same(i, i.X)
	case *ssa.Extract:
		same(i, i.Tuple)
	case *ssa.Field:
		same(i, i.X)
	case *ssa.Index:
		same(i, i.X)
	case *ssa.Range:
		same(i, i.X)
	case *ssa.Next:
		loads(i, i.Iter)
	case *ssa.Lookup:
		loads(i, i.X)
	case *ssa.UnOp:
		if i.Op == token.MUL || i.Op == token.ARROW {
			loads(i, i.X)
		}
	case *ssa.Store:
		stores(i.Addr, i.Val)
	case *ssa.MapUpdate:
		stores(i.Map, i.Key)
		stores(i.Map, i.Value)
	case *ssa.Send:
		stores(i.Chan, i.X)
	case *ssa.Select:
		for _, s := range i.States {
			if s.Send != nil {
				stores(s.Chan, s.Send)
			} else {
				loads(i, s.Chan)
			}
		}
	case *ssa.MakeClosure:
		for _, b := range i.Bindings {
			stores(i, b)
		}
	case ssa.CallInstruction:
		a.joins(i)
	}
}

// joins is instruction for calls: what a call returns can be what it got.
func (a *analysis) joins(i ssa.CallInstruction) {
	c := i.Common()
	v := i.Value()
	if b, ok := c.Value.(*ssa.Builtin); ok {
		switch b.Name() {
		case "append":
			a.unify(a.class(v), a.class(c.Args[0]))
			if len(c.Args) > 1 && elementsRefer(c.Args[1].Type()) {
				a.unify(a.class(v).pointee(), a.class(c.Args[1]).pointee())
			}
		case "copy":
			if elementsRefer(c.Args[1].Type()) {
				a.unify(a.class(c.Args[0]).pointee(), a.class(c.Args[1]).pointee())
			}
		case "ssa:wrapnilchk", "Add", "Slice", "SliceData", "StringData":
			if v != nil {
				a.unify(a.class(v), a.class(c.Args[0]))
			}
		}
		return
	}
	if v == nil || !refers(v.Type()) {
		return
	}
	callee := c.StaticCallee()
	if callee == nil {
		for _, x := range c.Args {
			if refers(x.Type()) {
				a.unify(a.class(v), a.class(x))
			}
		}
		a.class(v).owners |= elsewhere
		return
	}
	s := a.of(callee)
	for k, x := range c.Args {
		if k < len(s.Args) && s.Args[k]&results != 0 && refers(x.Type()) {
			a.unify(a.class(v), a.class(x))
		}
	}
	if s.Elsewhere { // it may return what it found there
		a.class(v).owners |= elsewhere
	}
}

// effect adds the effects of an instruction on the classes.
func (a *analysis) effect(i ssa.Instruction) {
	write := func(v ssa.Value) { a.do(a.class(v).owners, Writes) }
	switch i := i.(type) {
	case *ssa.Store:
		write(i.Addr)
	case *ssa.MapUpdate:
		write(i.Map)
	case *ssa.Send:
		write(i.Chan)
	case *ssa.Select:
		for _, s := range i.States {
			write(s.Chan)
		}
	case *ssa.Return:
		for _, r := range i.Results {
			if refers(r.Type()) {
				owners := a.class(r).reached()
				a.do(owners, results)
				if _, function := r.Type().Underlying().(*types.Signature); function {
					a.do(owners, Keeps) // what it captures is not seen when it is called
				}
			}
		}
	case *ssa.MakeClosure:
		fn := i.Fn.(*ssa.Function)
		s := a.of(fn)
		for k, b := range i.Bindings {
			if at := len(fn.Params) + k; at < len(s.Args) && refers(b.Type()) {
				a.do(a.class(b).reached(), s.Args[at]&anything)
			}
		}
		a.writes = a.writes || s.Elsewhere
	case ssa.CallInstruction:
		a.call(i)
	}
}

func (a *analysis) call(i ssa.CallInstruction) {
	c := i.Common()
	reached := func(v ssa.Value) uint64 {
		if !refers(v.Type()) {
			return 0
		}
		return a.class(v).reached()
	}
	if b, ok := c.Value.(*ssa.Builtin); ok {
		switch b.Name() {
		case "append", "copy", "delete", "clear":
			a.do(a.class(c.Args[0]).owners, Writes)
		}
		return
	}
	if _, async := i.(*ssa.Go); async {
		for _, x := range c.Args {
			a.do(reached(x), anything)
		}
		if !c.IsInvoke() {
			a.do(reached(c.Value), anything)
		}
		a.writes = true
		return
	}
	callee := c.StaticCallee()
	if callee == nil {
		a.dynamic(c, reached)
		return
	}
	s := a.of(callee)
	a.writes = a.writes || s.Elsewhere
	handed := Effect(0) // what functions that it calls do with what it hands to them
	for k, x := range c.Args {
		if k < len(s.Args) && s.Args[k]&Calls != 0 {
			if p, own := a.parameter(x); own {
				a.do(1<<p, Calls)
				handed |= Hands
			} else if fn := functionOf(x); fn != nil {
				of := a.of(fn)
				for n := range fn.Params {
					if n < len(of.Args) {
						handed |= of.Args[n] & anything
					}
				}
				a.writes = a.writes || of.Elsewhere
			} else {
				handed |= anything
				a.do(reached(x), anything)
				a.writes = true
			}
		}
	}
	for k, x := range c.Args {
		if k >= len(s.Args) {
			a.do(reached(x), anything)
			continue
		}
		e := s.Args[k] & anything
		if s.Args[k]&Hands != 0 {
			e |= handed
		}
		a.do(reached(x), e)
	}
	if mc, ok := c.Value.(*ssa.MakeClosure); ok {
		for k, b := range mc.Bindings {
			if at := len(callee.Params) + k; at < len(s.Args) {
				a.do(reached(b), s.Args[at]&anything)
			}
		}
	}
}

// dynamic adds the effects of a call of a function value or of an interface's method.
func (a *analysis) dynamic(c *ssa.CallCommon, reached func(ssa.Value) uint64) {
	if p, ok := a.parameter(c.Value); ok {
		a.do(1<<p, Calls)
		for _, x := range c.Args {
			a.do(reached(x), Hands)
		}
		return
	}
	if c.IsInvoke() && c.Method.Name() == "Error" && len(c.Args) == 0 {
		return
	}
	a.do(reached(c.Value), anything)
	for _, x := range c.Args {
		a.do(reached(x), anything)
	}
	a.writes = true
}

// parameter returns the number of the parameter that a value is.
func (a *analysis) parameter(v ssa.Value) (int, bool) {
	for {
		switch x := v.(type) {
		case *ssa.Parameter:
			for i, p := range a.fn.Params {
				if p == x {
					return i, true
				}
			}
			return 0, false
		case *ssa.ChangeInterface:
			v = x.X
		case *ssa.ChangeType:
			v = x.X
		default:
			return 0, false
		}
	}
}

// functionOf returns the function that a value certainly is, or nil.
func functionOf(v ssa.Value) *ssa.Function {
	switch x := v.(type) {
	case *ssa.Function:
		return x
	case *ssa.MakeClosure:
		fn, _ := x.Fn.(*ssa.Function)
		return fn
	case *ssa.ChangeType:
		return functionOf(x.X)
	}
	return nil
}
