package debuginfo

import (
	"debug/dwarf"
	"errors"
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/cursor"
)

// ErrOptimisedAway says that a variable is kept nowhere at a program counter.
var ErrOptimisedAway = errors.New("optimised away here")

// Variable is a variable or parameter of a scope, or a global one.
type Variable struct {
	Name     string
	Scope    event.Scope
	Line     int // of its declaration, 0 if not known
	Type     TypeRef
	Unit     *Unit
	Indirect bool // what is kept is the address of the variable
	entry    *dwarf.Entry
}

// TypeRef names a type by the debug information that describes it.
type TypeRef struct {
	Debug  *Debug
	Offset dwarf.Offset
}

// attrVariableParameter marks the results among a Go function's parameters.
const attrVariableParameter = dwarf.AttrVarParam

// Variables lists the variables that the scope itself declares, parameters first.
func (s *Scope) Variables() []Variable {
	var out []Variable
	u := s.Function.Unit
	for _, e := range s.entries {
		v := u.variable(e)
		if v.Name == "" {
			continue
		}
		v.Scope = event.Local
		if e.Tag == dwarf.TagFormalParameter {
			v.Scope = event.Parameter
			if result, _ := (entry{e, u.Debug}).value(attrVariableParameter).(bool); result && u.Go() {
				v.Scope = event.Return
			}
		}
		out = append(out, v)
	}
	return out
}

func (u *Unit) variable(e *dwarf.Entry) Variable {
	v := Variable{Unit: u, entry: e}
	x := entry{e, u.Debug}
	if named, ok := x.having(dwarf.AttrName); ok {
		v.Name = named.text(dwarf.AttrName)
	}
	if u.Go() {
		if v.Name, v.Indirect = strings.CutPrefix(v.Name, "&"); strings.HasPrefix(v.Name, ".") || strings.HasPrefix(v.Name, "~") {
			v.Name = ""
		}
	}
	if u.Rust() && strings.Contains(v.Name, "{vtable}") {
		v.Name = "" // the compiler's own
	}
	if typed, ok := x.having(dwarf.AttrType); ok {
		v.Type.Debug, v.Type.Offset, _ = typed.reference(dwarf.AttrType)
	}
	n, _ := x.value(dwarf.AttrDeclLine).(int64)
	v.Line = int(n)
	return v
}

// Place says where a variable is kept: by an expression, or it is a constant.
type Place struct {
	Expression []byte
	Constant   any // int64, uint64, string or []byte; nil for none
}

// Place returns where the variable is kept while the code at a program counter
// runs. The error wraps ErrOptimisedAway where it is kept nowhere.
func (v Variable) Place(pc uint64) (Place, error) {
	return v.Unit.place(v.entry, dwarf.AttrLocation, pc)
}

// FrameBase returns where the function's frame base is.
func (f *Function) FrameBase(pc uint64) ([]byte, error) {
	p, err := f.Unit.place(f.entry, dwarf.AttrFrameBase, pc)
	return p.Expression, err
}

func (u *Unit) place(e *dwarf.Entry, a dwarf.Attr, pc uint64) (Place, error) {
	if c := (entry{e, u.Debug}).value(dwarf.AttrConstValue); c != nil && a == dwarf.AttrLocation {
		return Place{Constant: c}, nil
	}
	f := e.AttrField(a)
	if f == nil {
		if o, ok := (entry{e, u.Debug}).origin(); ok {
			f = o.AttrField(a)
		}
	}
	if f == nil {
		return Place{}, fmt.Errorf("%w: no location at this instruction", ErrOptimisedAway)
	}
	switch x := f.Val.(type) {
	case []byte:
		if len(x) == 0 {
			return Place{}, fmt.Errorf("%w: no location at this instruction", ErrOptimisedAway)
		}
		return Place{Expression: x}, nil
	case int64: // an offset
		if u.version >= 5 {
			return u.inLists(uint64(x), pc)
		}
		return u.inOldList(uint64(x), pc)
	case uint64: // an index
		c := cursor.At(u.Debug.locLists, u.locBase)
		if x > uint64(c.Len())/4 {
			return Place{}, fmt.Errorf("%w: there is no location list %d", ErrMalformed, x)
		}
		c.Skip(x * 4)
		return u.inLists(u.locBase+uint64(c.U32()), pc)
	}
	return Place{}, fmt.Errorf("%w: a location of another kind", ErrMalformed)
}

func elsewhere() error {
	return fmt.Errorf("%w: it is kept elsewhere in the function, not while this code runs", ErrOptimisedAway)
}

// inOldList looks a program counter up in a location list of DWARF 4 (section
// 2.6.2).
func (u *Unit) inOldList(offset, pc uint64) (Place, error) {
	c := cursor.At(u.Debug.loc, offset)
	base := u.low
	for c.Err() == nil {
		low, high := c.U64(), c.U64()
		switch {
		case c.Err() != nil:
		case low == 0 && high == 0:
			return Place{}, elsewhere()
		case low == 1<<64-1:
			base = high
		default:
			b := c.Bytes(uint64(c.U16()))
			if pc >= base+low && pc < base+high && c.Err() == nil {
				return placed(b)
			}
		}
	}
	return Place{}, fmt.Errorf("%w: a location list %w", ErrMalformed, c.Err())
}

func placed(expression []byte) (Place, error) {
	if len(expression) == 0 {
		return Place{}, elsewhere()
	}
	return Place{Expression: expression}, nil
}

// inLists looks a program counter up in a location list of DWARF 5 (section
// 7.7.3).
func (u *Unit) inLists(offset, pc uint64) (Place, error) {
	const (
		endOfList       = 0
		baseAddressx    = 1
		startxEndx      = 2
		startxLength    = 3
		offsetPair      = 4
		defaultLocation = 5
		baseAddress     = 6
		startEnd        = 7
		startLength     = 8
		viewPair        = 9
	)
	c := cursor.At(u.Debug.locLists, offset)
	base := u.low
	var fallback []byte
	for c.Err() == nil {
		var low, high uint64
		var err error
		kind := c.U8()
		switch kind {
		case endOfList:
			if c.Err() == nil {
				return placed(fallback)
			}
			continue
		case baseAddressx:
			if base, err = u.Address(c.Uleb()); err != nil {
				return Place{}, err
			}
			continue
		case baseAddress:
			base = c.U64()
			continue
		case viewPair:
			c.Uleb()
			c.Uleb()
			continue
		case startxEndx:
			low, err = u.Address(c.Uleb())
			if err == nil {
				high, err = u.Address(c.Uleb())
			}
		case startxLength:
			low, err = u.Address(c.Uleb())
			high = low + c.Uleb()
		case offsetPair:
			low, high = base+c.Uleb(), base+c.Uleb()
		case defaultLocation:
		case startEnd:
			low, high = c.U64(), c.U64()
		case startLength:
			low = c.U64()
			high = low + c.Uleb()
		default:
			return Place{}, fmt.Errorf("%w: a location list entry of kind %d", ErrMalformed, kind)
		}
		if err != nil {
			return Place{}, err
		}
		b := c.Bytes(c.Uleb())
		switch {
		case c.Err() != nil:
		case kind == defaultLocation:
			fallback = b
		case pc >= low && pc < high:
			return placed(b)
		}
	}
	return Place{}, fmt.Errorf("%w: a location list %w", ErrMalformed, c.Err())
}

// Referred returns the variable that an entry of the module is: what an implicit
// pointer leads to.
func (d *Debug) Referred(offset uint64) (Variable, error) {
	u := d.unitOf(dwarf.Offset(offset))
	if u == nil {
		return Variable{}, fmt.Errorf("%w: there is no entry at 0x%x", ErrMalformed, offset)
	}
	e, err := d.entryAt(dwarf.Offset(offset))
	if err != nil {
		return Variable{}, err
	}
	return u.variable(e), nil
}

// Called returns the expression of the entry at an offset in the unit.
func (u *Unit) Called(offset uint64) ([]byte, error) {
	e, err := u.Debug.entryAt(u.start + dwarf.Offset(offset))
	if err != nil {
		return nil, err
	}
	b, _ := e.Val(dwarf.AttrLocation).([]byte)
	return b, nil
}

// Bound returns what gives an array's highest index at run time: an expression,
// or a variable.
func (t *Type) Bound() (expression []byte, v Variable, ok bool) {
	e, err := t.Debug.entryAt(t.Bounds)
	u := t.Debug.unitOf(t.Bounds)
	if err != nil || u == nil {
		return nil, v, false
	}
	switch x := e.Val(dwarf.AttrUpperBound).(type) {
	case []byte:
		return x, v, true
	case dwarf.Offset:
		if e, err := t.Debug.entryAt(x); err == nil {
			v = u.variable(e)
			v.Scope = event.Local
			return nil, v, true
		}
	}
	return nil, v, false
}

// Offset returns the place of an entry by its offset in the unit.
func (u *Unit) Offset(inUnit uint64) dwarf.Offset { return u.start + dwarf.Offset(inUnit) }
