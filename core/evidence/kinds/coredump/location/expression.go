// Package location evaluates DWARF expressions (DWARF 5, sections 2.5 and 2.6): the location of a
// value, or the value itself.
package location

import (
	"cmp"
	"errors"
	"fmt"

	"wraithology/core/evidence/kinds/coredump/cursor"
	"wraithology/core/evidence/kinds/coredump/machine"
)

// Errors that callers distinguish.
var (
	// ErrUnavailable means that an input of the expression is not known: a register of an outer
	// frame, memory that was not kept.
	ErrUnavailable = errors.New("not available")
	// ErrMalformed means that the expression is invalid or not supported.
	ErrMalformed = errors.New("the debug information's expression cannot be evaluated")
)

// Frame is the context of an expression. Nil functions mean that the input is not known.
type Frame struct {
	Registers *machine.Registers
	Read      func(address, n uint64) ([]byte, bool)
	// Bias is the difference between addresses in memory and in the module's file.
	Bias      uint64
	CFA       func() (uint64, error)
	FrameBase func() (uint64, error)
	// Address returns an address of the file by its index in .debug_addr.
	Address func(index uint64) (uint64, error)
	// TLS returns the address of a variable by its offset in the module's thread-local storage.
	TLS func(offset uint64) (uint64, error)
	// Entry returns the value of an expression at the function's entry.
	Entry func(expression []byte) (uint64, error)
	// Parameter returns the value that the caller passed for an optimised-out parameter, by the
	// offset of its entry in the unit.
	Parameter func(entry uint64) (uint64, error)
	// BaseType returns a type by its offset in the unit.
	BaseType func(offset uint64) (BaseType, error)
	// Called returns the expression of another entry of the unit.
	Called func(offset uint64) ([]byte, error)
	// Object is the address of the object, for expressions of its type.
	Object   uint64
	HasValue bool // Object is set
}

// BaseType is the type of a value on the typed stack: a number of 1, 2, 4 or 8 bytes.
type BaseType struct {
	Size   int
	Signed bool
	Float  bool
}

// Kind is the kind of a piece's location.
type Kind int

// The kinds of piece.
const (
	InMemory        Kind = iota // at Address
	InRegister                  // in Register
	Constant                    // the value is Number
	Literal                     // the value is Bytes
	ImplicitPointer             // a pointer without a location; Entry and Offset say to what
	Gone                        // optimised away
)

// Piece is the location of a part of a value. Bits is its length; 0 for the whole value.
type Piece struct {
	Kind     Kind
	Address  uint64
	Register machine.Register
	Number   uint64
	Bytes    []byte
	Entry    uint64 // offset in .debug_info
	Offset   int64
	Bits     uint64
	From     uint64 // offset in bits in the register or memory
	Stack    bool   // a constant is an address in the stack
	Why      error  // why a piece is gone, if an input of its expression is not known
}

// maxOperations limits the operations of an expression, maxStack its stack.
const (
	maxOperations = 10_000
	maxStack      = 256
	maxPieces     = 256
	maxNested     = 8
)

// number is an entry of the stack. A zero type is the generic one: eight bytes,
// an address.
type number struct {
	bits  uint64
	of    BaseType
	stack bool // an address in the stack
}

type evaluation struct {
	f      *Frame
	stack  []number
	lost   error // an input of the current piece that is not available
	steps  int
	nested int
}

// Where evaluates an expression to the pieces of a value.
func Where(expression []byte, f *Frame) ([]Piece, error) {
	e := &evaluation{f: f}
	return e.pieces(expression)
}

// Number evaluates an expression to a number; start is pushed before it begins.
func Number(expression []byte, f *Frame, start ...uint64) (uint64, error) {
	e := &evaluation{f: f}
	for _, n := range start {
		e.stack = append(e.stack, number{bits: n})
	}
	p, err := e.pieces(expression)
	if err != nil {
		return 0, err
	}
	if len(p) == 1 {
		switch p[0].Kind {
		case InMemory:
			return p[0].Address, nil
		case Constant:
			return p[0].Number, nil
		case InRegister:
			return e.register(p[0].Register)
		}
	}
	return 0, fmt.Errorf("%w: expected a number", ErrMalformed)
}

// pieces evaluates the whole expression.
func (e *evaluation) pieces(expression []byte) ([]Piece, error) {
	c := cursor.New(expression)
	var list []Piece
	var now *Piece // a single location, without its length
	for c.Len() > 0 {
		op := c.U8()
		if e.lost != nil && (op == opBra || op == opCall2 || op == opCall4 || op == opCallRef) {
			return nil, e.lost
		}
		if op == opPiece || op == opBitPiece {
			p := Piece{Kind: Gone}
			switch {
			case e.lost != nil:
				p.Why, e.lost, e.stack = e.lost, nil, e.stack[:0]
			case now != nil:
				p = *now
			case len(e.stack) > 0:
				p = Piece{Kind: InMemory, Address: e.pop().bits}
			}
			if op == opPiece {
				p.Bits = c.Uleb() * 8
			} else {
				p.Bits, p.From = c.Uleb(), c.Uleb()
			}
			now = nil
			if list = append(list, p); len(list) > maxPieces {
				return nil, fmt.Errorf("%w: more than %d pieces", ErrMalformed, maxPieces)
			}
			continue
		}
		if now != nil && op != opUninit && op != opNop {
			return nil, fmt.Errorf("%w: operations after a location", ErrMalformed)
		}
		p, err := e.step(op, c)
		if err != nil {
			return nil, cmp.Or(e.lost, err) // the zero in place of what is lost can be the reason for the other one
		}
		if p != nil {
			now = p
		}
		if c.Err() != nil {
			return nil, fmt.Errorf("%w: it %w", ErrMalformed, c.Err())
		}
	}
	if c.Err() != nil {
		return nil, fmt.Errorf("%w: it %w", ErrMalformed, c.Err())
	}
	switch {
	case e.lost != nil:
		return nil, e.lost
	case now != nil:
		list = append(list, *now)
	case len(list) > 0:
	case len(e.stack) == 0:
		list = append(list, Piece{Kind: Gone})
	default:
		list = append(list, Piece{Kind: InMemory, Address: e.pop().bits})
	}
	return list, nil
}

func (e *evaluation) push(n number) { e.stack = append(e.stack, n) }

func (e *evaluation) pop() number {
	if len(e.stack) == 0 {
		return number{}
	}
	n := e.stack[len(e.stack)-1]
	e.stack = e.stack[:len(e.stack)-1]
	return n
}

func (e *evaluation) register(r machine.Register) (uint64, error) {
	if e.f.Registers == nil {
		return 0, fmt.Errorf("%w: no registers are known here", ErrUnavailable)
	}
	if v, ok := e.f.Registers.Get(r); ok {
		return v, nil
	}
	if v, ok := e.f.Registers.Vector(r); ok {
		return le(v[:8]), nil
	}
	return 0, fmt.Errorf("%w: register %s is not preserved by called functions", ErrUnavailable, e.f.Registers.Arch.NameOf(r))
}

func le(b []byte) uint64 {
	var n uint64
	for i := len(b) - 1; i >= 0; i-- {
		n = n<<8 | uint64(b[i])
	}
	return n
}

// load reads a number of some bytes from memory.
func (e *evaluation) load(address uint64, size int) (uint64, error) {
	if size < 1 || size > 8 {
		return 0, fmt.Errorf("%w: a read of %d bytes is not supported", ErrMalformed, size)
	}
	if e.f.Read != nil {
		if b, ok := e.f.Read(address, uint64(size)); ok {
			return le(b), nil
		}
	}
	return 0, fmt.Errorf("%w: the memory at 0x%x was not kept", ErrUnavailable, address)
}

// ask calls one of the frame's functions, which may be missing.
func ask[A any](f func(A) (uint64, error), of A, what string) (uint64, error) {
	if f == nil {
		return 0, fmt.Errorf("%w: %s", ErrUnavailable, what)
	}
	return f(of)
}

// pushed pushes an input of the expression. If it is not available, the piece is lost, but not the pieces after it: a
// zero takes its place until the piece ends.
func (e *evaluation) pushed(v uint64, err error) (*Piece, error) {
	if errors.Is(err, ErrUnavailable) {
		v, e.lost, err = 0, cmp.Or(e.lost, err), nil
	}
	if err == nil {
		e.push(number{bits: v})
	}
	return nil, err
}

// offset pushes a register plus an offset.
func (e *evaluation) offset(r machine.Register, by int64) (*Piece, error) {
	v, err := e.register(r)
	p, err := e.pushed(v+uint64(by), err)
	if e.f.Registers != nil && r == e.f.Registers.Arch.SP {
		return e.inStack(p, err)
	}
	return p, err
}

// inStack marks what was pushed as an address in the stack.
func (e *evaluation) inStack(p *Piece, err error) (*Piece, error) {
	if n := len(e.stack); err == nil && n > 0 {
		e.stack[n-1].stack = true
	}
	return p, err
}

// errStackSlot means that a value would be a part of an address in the stack: compilers leave out that the value is
// in memory there.
var errStackSlot = fmt.Errorf("%w: the debug information takes the address of a place in the stack for the value", ErrUnavailable)

// CheckStack returns an error for a piece that is an address in the stack, unless it may be a pointer.
func (p Piece) CheckStack(pointer bool) error {
	if p.Kind == Constant && p.Stack && !pointer {
		return errStackSlot
	}
	return nil
}

// step executes one operation. It returns a piece if the operation ends one.
func (e *evaluation) step(op byte, c *cursor.Cursor) (*Piece, error) {
	if e.steps++; e.steps > maxOperations || len(e.stack) > maxStack {
		return nil, fmt.Errorf("%w: more than %d operations", ErrMalformed, maxOperations)
	}
	if need := operands(op); len(e.stack) < need {
		return nil, fmt.Errorf("%w: missing operands of operation 0x%x", ErrMalformed, op)
	}
	switch {
	case op >= opLit0 && op <= opLit31:
		e.push(number{bits: uint64(op - opLit0)})
		return nil, nil
	case op >= opReg0 && op <= opReg31:
		return &Piece{Kind: InRegister, Register: machine.Register(op - opReg0)}, nil
	case op >= opBreg0 && op <= opBreg31:
		return e.offset(machine.Register(op-opBreg0), c.Sleb())
	}
	switch op {
	case opNop, opUninit:
		return nil, nil
	case opRegx:
		return &Piece{Kind: InRegister, Register: machine.Register(c.Uleb() & 0xffff)}, nil
	case opStackValue:
		n := e.pop()
		return &Piece{Kind: Constant, Number: n.bits, Stack: n.stack}, nil
	case opImplicitValue:
		return &Piece{Kind: Literal, Bytes: c.Bytes(c.Uleb())}, nil
	case opImplicitPointer, opGNUImplicitPointer:
		return &Piece{Kind: ImplicitPointer, Entry: uint64(c.U32()), Offset: c.Sleb()}, nil
	case opFbreg:
		if e.f.FrameBase == nil {
			return nil, fmt.Errorf("%w: the function has no frame base", ErrMalformed)
		}
		base, err := e.f.FrameBase()
		return e.inStack(e.pushed(base+uint64(c.Sleb()), err))
	case opBregx:
		return e.offset(machine.Register(c.Uleb()&0xffff), c.Sleb())
	case opCallFrameCFA:
		if e.f.CFA == nil {
			return nil, fmt.Errorf("%w: the frame's own address is not known", ErrUnavailable)
		}
		return e.inStack(e.pushed(e.f.CFA()))
	case opAddr:
		return e.pushed(c.U64()+e.f.Bias, nil)
	case opAddrx, opGNUAddrIndex:
		v, err := ask(e.f.Address, c.Uleb(), "there is no table of addresses")
		return e.pushed(v+e.f.Bias, err)
	case opConstx, opGNUConstIndex:
		return e.pushed(ask(e.f.Address, c.Uleb(), "there is no table of addresses"))
	case opFormTLS, opGNUPushTLS:
		return e.pushed(ask(e.f.TLS, e.pop().bits, "the thread's local storage was not found"))
	case opEntryValue, opGNUEntryValue:
		return e.pushed(ask(e.f.Entry, c.Bytes(c.Uleb()), "the caller does not say what it passed"))
	case opGNUParameterRef:
		return e.pushed(ask(e.f.Parameter, uint64(c.U32()), "the caller does not say what it passed"))
	case opPushObject:
		if !e.f.HasValue {
			return nil, fmt.Errorf("%w: no object", ErrMalformed)
		}
		return e.pushed(e.f.Object, nil)
	case opCall2:
		return nil, e.call(uint64(c.U16()))
	case opCall4, opCallRef:
		return nil, e.call(uint64(c.U32()))
	}
	if e.constant(op, c) {
		return nil, nil
	}
	if done, err := e.typed(op, c); done || err != nil {
		return nil, err
	}
	return nil, e.compute(op, c)
}

// call evaluates the expression of another entry, on the same stack.
func (e *evaluation) call(entry uint64) error {
	if e.f.Called == nil {
		return fmt.Errorf("%w: reference to a missing entry", ErrMalformed)
	}
	expression, err := e.f.Called(entry)
	if err != nil {
		return err
	}
	if e.nested++; e.nested > maxNested {
		return fmt.Errorf("%w: calls nested too deeply", ErrMalformed)
	}
	defer func() { e.nested-- }()
	c := cursor.New(expression)
	for c.Len() > 0 && c.Err() == nil {
		if _, err := e.step(c.U8(), c); err != nil {
			return err
		}
	}
	return c.Err()
}

// IsAddress reports whether the result of an expression is the address of a value, not the value
// itself.
func IsAddress(expression []byte) bool {
	return len(expression) > 0 && expression[len(expression)-1] != opStackValue && expression[len(expression)-1] != opDeref
}

// IsTransient reports whether an expression is a register that called functions may use for themselves.
func IsTransient(expression []byte, r *machine.Registers) bool {
	return len(expression) == 1 && expression[0] >= opReg0 && expression[0] <= opReg31 && !IsPreserved(expression, r)
}

// IsPreserved reports whether an expression is a register that called functions preserve.
func IsPreserved(expression []byte, r *machine.Registers) bool {
	if len(expression) != 1 || expression[0] < opReg0 || expression[0] > opReg31 {
		return false
	}
	kept := r.Kept()
	_, ok := kept.Get(machine.Register(expression[0] - opReg0))
	return ok
}
