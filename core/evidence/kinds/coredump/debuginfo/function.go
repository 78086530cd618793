package debuginfo

import (
	"cmp"
	"debug/dwarf"
	"fmt"
	"slices"
	"sync"
)

// Span is a stretch of code.
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

// Scope is a function, a function that was inlined into it, or a block.
type Scope struct {
	Function *Function
	Parent   *Scope
	// Inlined is the name of the function that was inlined here; empty for others.
	Inlined  string
	CallFile string // where an inlined function was called
	CallLine int
	spans    []Span
	entry    *dwarf.Entry
	children []*Scope
	entries  []*dwarf.Entry // variables and parameters
	calls    []call
}

// call is a place where a function is called, and what it is passed.
type call struct {
	returns    uint64 // address after it
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
	attrCallTail      = 0x82
	attrGNUCallValue  = 0x2111
	attrGNUTailCall   = 0x2115
	maxEntriesOfScope = 200_000
)

// list returns the functions of the unit, by address, but for those that lie within others.
func (u *Unit) list() []*Function {
	u.scan.Do(func() {
		var err error
		defer guard(&err) // what was read before damage counts
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

// within is what lies within the functions of a unit: those of local classes, as those of
// C++'s closures are.
type within struct {
	functions []*Function
	names     map[dwarf.Offset]string // of functions: with what they lie in
}

// inner reads what lies within the unit's functions. That takes longer than to pass over it,
// and is seldom needed.
func (u *Unit) inner() *within {
	u.scanInner.Do(func() {
		u.within.names = map[dwarf.Offset]string{}
		var err error
		defer guard(&err) // what was read before damage counts
		r := u.Debug.data.Reader()
		r.Seek(u.first)
		type level struct {
			name     string // of a function, with what it lies in, or of a class; empty for others
			function int    // how many functions it is within
			nameless int    // how many classes without a name there were
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

// nameWithin names a function by its linkage name, else by what it lies in.
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

// FunctionAt returns the function that has the code at a program counter, or nil.
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

// Scopes returns the scopes that the code at a program counter lies in, the
// innermost first; the last one is the function itself.
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

// Captured is a variable that a closure of Go took along. Offset is where it lies
// behind the closure's pointer to its code.
type Captured struct {
	Variable
	Offset uint64
}

// attrGoClosureOffset says of a variable where it lies in its closure.
const attrGoClosureOffset = 0x2907

// Captured lists what the function takes along as a closure.
func (f *Function) Captured() []Captured {
	var out []Captured
	for _, e := range f.scopes().entries {
		if at, ok := e.Val(attrGoClosureOffset).(int64); ok && at >= 0 {
			out = append(out, Captured{f.Unit.variable(e), uint64(at)})
		}
	}
	return out
}

// Passed returns the expression that gives, in this function's frame, the value
// that it passed in a register when it called what returns to an address: for
// that register's value at the callee's entry. ok is false where nothing says.
func (f *Function) Passed(returns uint64, register []byte) (expression []byte, ok bool) {
	return f.passed(returns, func(p *dwarf.Entry) bool {
		at, _ := p.Val(dwarf.AttrLocation).([]byte)
		return len(at) > 0 && string(at) == string(register)
	})
}

// PassedFor is Passed for a parameter that the called function was made to do
// without, by its entry.
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
	var visit func(s *Scope) []byte
	visit = func(s *Scope) []byte {
		for _, c := range s.calls {
			if c.returns != returns || c.tail {
				continue
			}
			for _, p := range c.parameters {
				if !is(p) {
					continue
				}
				for _, a := range []dwarf.Attr{attrCallValue, attrGNUCallValue} {
					if v, ok := p.Val(a).([]byte); ok {
						return v
					}
				}
			}
		}
		for _, c := range s.children {
			if v := visit(c); v != nil {
				return v
			}
		}
		return nil
	}
	expression = visit(f.scopes())
	return expression, expression != nil
}
