package debuginfo

import (
	"cmp"
	"debug/dwarf"
	"fmt"
	"slices"
	"sync"
)

// Span is a range of code addresses.
type Span struct{ Low, High uint64 }

func holds(list []Span, pc uint64) bool {
	for _, s := range list {
		if pc >= s.Low && pc < s.High {
			return true
		}
	}
	return false
}

// Function is a function with code of its own.
type Function struct {
	Unit  *Unit
	Name  string
	Spans []Span
	entry *dwarf.Entry

	read sync.Once
	top  *Scope
}

// Scope is a function, an inlined function, or a block.
type Scope struct {
	Function *Function
	Parent   *Scope
	// Inlined is the name of the function that was inlined here; empty for others.
	Inlined  string
	CallFile string // the place of the call of an inlined function
	CallLine int
	spans    []Span
	entry    *dwarf.Entry
	children []*Scope
	entries  []*dwarf.Entry // variables and parameters
	calls    []call
}

// call is a call site with the passed values.
type call struct {
	begins     uint64 // address of the instruction; 0 if unknown
	returns    uint64 // return address, also of a jump: the address after it; 0 if unknown
	target     []byte // expression for the address that is called; nil if there is none
	parameters []*dwarf.Entry
	tail       bool
}

// Entries of the standard and of GNU compilers before it.
const (
	tagCallSite       = 0x48
	tagCallParameter  = 0x49
	tagGNUCallSite    = 0x4109
	tagGNUCallParam   = 0x410a
	attrCallValue     = 0x7e
	attrCallReturn    = 0x7d
	attrCallParameter = 0x80
	attrCallPC        = 0x81
	attrCallTail      = 0x82
	attrCallTarget    = 0x83
	attrGNUCallValue  = 0x2111
	attrGNUCallTarget = 0x2113
	attrGNUTailCall   = 0x2115
	maxEntriesOfScope = 200_000
)

// list returns the functions of the unit by address, without nested ones.
func (u *Unit) list() []*Function {
	u.scan.Do(func() {
		var err error
		defer guard(&err) // keep what was read before the damage
		r := u.Debug.data.Reader()
		r.Seek(u.first)
		for {
			e, err := r.Next()
			if err != nil || e == nil || e.Offset >= u.end {
				break
			}
			if e.Tag != dwarf.TagSubprogram {
				continue
			}
			if spans := u.spans(e); len(spans) > 0 {
				u.functions = append(u.functions, &Function{Unit: u, Spans: spans, entry: e})
			}
			if e.Children && e.AttrField(dwarf.AttrSibling) != nil {
				r.SkipChildren()
			}
		}
		u.named(u.functions)
	})
	return u.functions
}

func (u *Unit) named(list []*Function) {
	slices.SortStableFunc(list, func(a, b *Function) int { return cmp.Compare(a.Spans[0].Low, b.Spans[0].Low) })
	for _, f := range list {
		f.Name = entry{f.entry, u.Debug}.name()
	}
}

// within returns the functions nested in functions of the unit, such as members of local classes
// and closures of C++.
type within struct {
	functions []*Function
	names     map[dwarf.Offset]string // functions with their parents
}

// inner reads the nested entries of the unit's functions. That is slower than skipping them and
// rarely necessary.
func (u *Unit) inner() *within {
	u.scanInner.Do(func() {
		u.within.names = map[dwarf.Offset]string{}
		var err error
		defer guard(&err) // keep what was read before the damage
		r := u.Debug.data.Reader()
		r.Seek(u.first)
		type level struct {
			name     string // with its parents; empty for entries that are neither functions nor classes
			function int    // number of enclosing functions
			nameless int    // number of anonymous classes so far
		}
		stack := []level{{}}
		for len(stack) > 0 && len(stack) < maxScopeDepth {
			e, err := r.Next()
			if err != nil || e == nil || e.Offset >= u.end {
				return
			}
			if e.Tag == 0 {
				stack = stack[:len(stack)-1]
				continue
			}
			outer := &stack[len(stack)-1]
			next := level{name: outer.name, function: outer.function}
			switch e.Tag {
			case dwarf.TagSubprogram:
				next.name = u.nameWithin(e, outer.name)
				if outer.function > 0 {
					u.within.names[e.Offset] = next.name
					if spans := u.spans(e); len(spans) > 0 {
						u.within.functions = append(u.within.functions, &Function{Unit: u, Spans: spans, entry: e, Name: next.name})
					}
				}
				next.function++
			case dwarf.TagStructType, dwarf.TagClassType, dwarf.TagUnionType:
				if outer.function == 0 {
					break
				}
				name, _ := e.Val(dwarf.AttrName).(string)
				if name == "" {
					outer.nameless++
					name = fmt.Sprintf("{lambda#%d}", outer.nameless)
				}
				next.name = outer.name + "::" + name
			}
			if e.Children {
				stack = append(stack, next)
			}
		}
	})
	return &u.within
}

// nameWithin returns the name of a function: its linkage name, else a name made of its parents.
func (u *Unit) nameWithin(e *dwarf.Entry, outer string) string {
	x := entry{e, u.Debug}
	if name := x.linkage(); name != "" {
		return name
	}
	of, ok := x.having(dwarf.AttrName)
	switch {
	case !ok:
		return outer
	case outer == "":
		return of.text(dwarf.AttrName)
	}
	return outer + "::" + of.text(dwarf.AttrName)
}

func (u *Unit) spans(e *dwarf.Entry) []Span {
	if e.AttrField(dwarf.AttrLowpc) == nil && e.AttrField(dwarf.AttrRanges) == nil {
		return nil
	}
	ranges, err := u.Debug.data.Ranges(e)
	if err != nil {
		return nil
	}
	var out []Span
	for _, r := range ranges {
		if r[0] < r[1] && r[0] != 0 {
			out = append(out, Span{r[0], r[1]})
		}
	}
	return out
}

// FunctionAt returns the function at a program counter, or nil.
func (d *Debug) FunctionAt(pc uint64) *Function {
	u := d.UnitAt(pc)
	if u == nil {
		return nil
	}
	for _, f := range u.list() {
		if holds(f.Spans, pc) {
			return f
		}
	}
	for _, f := range u.inner().functions {
		if holds(f.Spans, pc) {
			return f
		}
	}
	return nil
}

// scopes reads the function's scopes.
func (f *Function) scopes() *Scope {
	f.read.Do(func() {
		f.top = &Scope{Function: f, spans: f.Spans, entry: f.entry}
		var err error
		defer guard(&err)
		r := f.Unit.Debug.data.Reader()
		r.Seek(f.entry.Offset)
		if e, err := r.Next(); err != nil || e == nil || !e.Children {
			return
		}
		f.fill(r, f.top, new(int), 0)
	})
	return f.top
}

const maxScopeDepth = 200

func (f *Function) fill(r *dwarf.Reader, into *Scope, count *int, depth int) {
	for {
		e, err := r.Next()
		if err != nil || e == nil || e.Tag == 0 {
			return
		}
		if *count++; *count > maxEntriesOfScope {
			return
		}
		switch e.Tag {
		case dwarf.TagFormalParameter, dwarf.TagVariable:
			into.entries = append(into.entries, e)
		case dwarf.TagLexDwarfBlock, dwarf.TagInlinedSubroutine:
			s := &Scope{Function: f, Parent: into, entry: e, spans: f.Unit.spans(e)}
			if e.Tag == dwarf.TagInlinedSubroutine {
				s.Inlined = entry{e, f.Unit.Debug}.name()
				if n, ok := e.Val(dwarf.AttrCallFile).(int64); ok {
					s.CallFile = f.Unit.fileName(n)
				}
				n, _ := e.Val(dwarf.AttrCallLine).(int64)
				s.CallLine = int(n)
			}
			into.children = append(into.children, s)
			if e.Children && depth < maxScopeDepth {
				f.fill(r, s, count, depth+1)
				continue
			}
		case tagCallSite, tagGNUCallSite:
			into.calls = append(into.calls, f.call(r, e))
			continue
		}
		if e.Children {
			r.SkipChildren()
		}
	}
}

func (f *Function) call(r *dwarf.Reader, e *dwarf.Entry) call {
	c := call{}
	if v, ok := e.Val(attrCallReturn).(uint64); ok {
		c.returns = v
	} else if v, ok := e.Val(dwarf.AttrLowpc).(uint64); ok {
		c.returns = v
	}
	c.begins, _ = e.Val(attrCallPC).(uint64)
	for _, a := range []dwarf.Attr{attrCallTarget, attrGNUCallTarget} {
		if v, ok := e.Val(a).([]byte); ok {
			c.target = v
		}
	}
	c.tail, _ = e.Val(attrCallTail).(bool)
	if v, ok := e.Val(attrGNUTailCall).(bool); ok {
		c.tail = v
	}
	if !e.Children {
		return c
	}
	for {
		p, err := r.Next()
		if err != nil || p == nil || p.Tag == 0 {
			return c
		}
		if p.Tag == tagCallParameter || p.Tag == tagGNUCallParam {
			c.parameters = append(c.parameters, p)
		}
		if p.Children {
			r.SkipChildren()
		}
	}
}

// Scopes returns the scopes at a program counter, innermost first. The last one is the function
// itself.
func (f *Function) Scopes(pc uint64) []*Scope {
	s := f.scopes()
	list := []*Scope{s}
	for {
		var next *Scope
		for _, c := range s.children {
			if holds(c.spans, pc) {
				next = c
				break
			}
		}
		if next == nil {
			slices.Reverse(list)
			return list
		}
		s = next
		list = append(list, s)
	}
}

// Captured is a captured variable of a Go closure. Offset is its offset from the closure's code
// pointer.
type Captured struct {
	Variable
	Offset uint64
}

// attrGoClosureOffset is the offset of a captured variable in its closure.
const attrGoClosureOffset = 0x2907

// Captured lists the captured variables of the function.
func (f *Function) Captured() []Captured {
	var out []Captured
	for _, e := range f.scopes().entries {
		if at, ok := e.Val(attrGoClosureOffset).(int64); ok && at >= 0 {
			out = append(out, Captured{f.Unit.variable(e), uint64(at)})
		}
	}
	return out
}

// Passed returns the expression, in this function's frame, for the value that a register had when
// the function called the code that returns to an address. ok is false if the debug information
// does not say.
func (f *Function) Passed(returns uint64, register []byte) (expression []byte, ok bool) {
	return f.passed(returns, func(p *dwarf.Entry) bool {
		at, _ := p.Val(dwarf.AttrLocation).([]byte)
		return len(at) > 0 && string(at) == string(register)
	})
}

// PassedFor is Passed for an optimised-out parameter of the called function, by its entry.
func (f *Function) PassedFor(returns uint64, parameter dwarf.Offset) (expression []byte, ok bool) {
	return f.passed(returns, func(p *dwarf.Entry) bool {
		o, ok := p.Val(attrCallParameter).(dwarf.Offset)
		if !ok {
			o, ok = p.Val(dwarf.AttrAbstractOrigin).(dwarf.Offset)
		}
		return ok && o == parameter
	})
}

func (f *Function) passed(returns uint64, is func(*dwarf.Entry) bool) (expression []byte, ok bool) {
	f.eachCall(func(c *call) bool {
		if c.returns != returns || c.tail {
			return true
		}
		for _, p := range c.parameters {
			if !is(p) {
				continue
			}
			for _, a := range []dwarf.Attr{attrCallValue, attrGNUCallValue} {
				if v, found := p.Val(a).([]byte); found {
					expression, ok = v, true
					return false
				}
			}
		}
		return true
	})
	return expression, ok
}

// Target returns the expression, in this function's frame, for the address that the call that returns to an
// address leads to. ok is false if the debug information does not say.
func (f *Function) Target(returns uint64) (expression []byte, ok bool) {
	f.eachCall(func(c *call) bool {
		if c.returns == returns && !c.tail && c.target != nil {
			expression, ok = c.target, true
		}
		return !ok
	})
	return expression, ok
}

// Jumps yields the tail calls of the function: the address of the jump, or the address after it; the other one is 0.
func (f *Function) Jumps(yield func(begins, ends uint64) bool) {
	f.eachCall(func(c *call) bool {
		if !c.tail {
			return true
		}
		if c.begins != 0 {
			return yield(c.begins, 0)
		}
		return yield(0, c.returns)
	})
}

// CallsIn reports whether there is a call in the scope of a variable of the function.
func (f *Function) CallsIn(v Variable) bool {
	calls := false
	var visit func(s *Scope) bool
	visit = func(s *Scope) bool {
		if slices.Contains(s.entries, v.entry) {
			s.eachCall(func(c *call) bool {
				calls = !c.tail
				return !calls
			})
			return false
		}
		return !slices.ContainsFunc(s.children, func(c *Scope) bool { return !visit(c) })
	}
	visit(f.scopes())
	return calls
}

// eachCall yields the call sites of the function, also those in inlined functions, until yield returns false.
func (f *Function) eachCall(yield func(*call) bool) { f.scopes().eachCall(yield) }

func (s *Scope) eachCall(yield func(*call) bool) bool {
	for i := range s.calls {
		if !yield(&s.calls[i]) {
			return false
		}
	}
	return !slices.ContainsFunc(s.children, func(c *Scope) bool { return !c.eachCall(yield) })
}
