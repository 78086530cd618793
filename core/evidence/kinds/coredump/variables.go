package coredump

import (
	"context"
	"debug/dwarf"
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/evidence/kinds/coredump/values"
	"wraithology/core/replay"
)

// registerPrefix leads the names of registers.
const registerPrefix = "reg."

// maxGlobals limits the global variables in a frame's list; all of them can be asked for by name.
const maxGlobals = 200

// Variables implements replay.Recording: parameters, results, locals, globals of
// the frame's unit, registers.
func (d *Dump) Variables(ctx context.Context, at event.Moment, t event.ThreadID, index int) ([]replay.Variable, error) {
	f, err := d.frameOf(ctx, at, t, index)
	if err != nil {
		return nil, err
	}
	var out []replay.Variable
	for _, scope := range []event.Scope{event.Parameter, event.Return, event.Local} {
		for _, v := range f.variables() {
			if v.Scope == scope {
				out = append(out, d.variable(f, v))
			}
		}
	}
	if f.function != nil && f.Own {
		for i, v := range f.function.Unit.Globals() {
			if i == maxGlobals {
				break
			}
			out = append(out, d.variable(f, v))
		}
	}
	if d.golang == nil {
		s := &f.steps[f.at]
		for n, name := range d.core.Arch.Names() {
			if _, ok := s.regs.Get(machine.Register(n)); ok {
				out = append(out, d.register(s, machine.Register(n), name))
			}
		}
	}
	return out, ctx.Err()
}

// variables lists the variables of a frame. Inner variables hide outer ones with the same name.
func (f *frame) variables() []debuginfo.Variable {
	var out []debuginfo.Variable
	seen := map[string]bool{}
	for _, s := range f.scopes {
		for _, v := range s.Variables() {
			if !seen[v.Name] {
				seen[v.Name] = true
				out = append(out, v)
			}
		}
	}
	return out
}

// Variable implements replay.Recording. A name that starts with "reg." is a
// register; a global of another file is FILE:NAME, or its name alone.
func (d *Dump) Variable(ctx context.Context, at event.Moment, t event.ThreadID, index int, name string) (replay.Variable, bool, error) {
	f, err := d.frameOf(ctx, at, t, index)
	if err != nil {
		return replay.Variable{}, false, err
	}
	for _, v := range f.variables() {
		if v.Name == name {
			return d.variable(f, v), true, nil
		}
	}
	if r, ok := strings.CutPrefix(name, registerPrefix); ok {
		if n := d.core.Arch.Named(r); n != machine.None {
			return d.register(&f.steps[f.at], n, r), true, nil
		}
		return replay.Variable{}, false, nil
	}
	v, ok := d.global(f, name)
	if !ok {
		return replay.Variable{}, false, nil
	}
	return d.variable(f, v), true, nil
}

// global finds a global variable; those of the frame's unit and module are preferred.
func (d *Dump) global(f *frame, name string) (debuginfo.Variable, bool) {
	var in *debuginfo.Unit
	var first *loaded
	names := []string{name}
	if f.function != nil {
		in, first = f.function.Unit, f.steps[f.at].module
		if in.Go() && !strings.Contains(name, ".") {
			names = append(names, goPackage(f.function.Name)+"."+name)
		}
	}
	for _, l := range append([]*loaded{first}, d.programFirst()...) {
		if l == nil {
			continue
		}
		if l.load(&d.core.Memory); l.debug == nil {
			continue
		}
		for _, name := range names {
			if v, ok := l.debug.Global(name, in); ok {
				return v, true
			}
		}
	}
	return debuginfo.Variable{}, false
}

func (d *Dump) register(s *step, n machine.Register, name string) replay.Variable {
	t := &event.Type{Name: "register", Form: event.Opaque, Size: 8}
	v := event.Value{Type: t, State: event.OptimisedOut, Text: "the functions called from here did not keep it"}
	if x, ok := s.regs.Get(n); ok {
		v = event.Value{Type: t, State: event.Known, Uint: x}
	}
	return replay.Variable{Name: registerPrefix + name, Scope: event.Register, Type: t.Name, Value: replay.Value{Value: v, Memory: d.memory}, Written: event.NoMoment}
}

// variable reads a variable in a frame.
func (d *Dump) variable(f *frame, v debuginfo.Variable) replay.Variable {
	out := d.bare(f, v)
	if v.Scope == event.Local && (out.Value.State == event.Known || out.Value.State == event.Unrecorded) {
		if why := d.notReached(f, v); why != "" {
			out.Value.Value = event.Value{Type: out.Value.Type, State: event.Leftover, Text: why}
		}
	}
	if out.Value.State == event.Known {
		if why := d.moved(f, v, out.Value); why != "" {
			out.Value.Value = event.Value{Type: out.Value.Type, State: event.Moved, Text: why}
		}
	}
	return out
}

// bare is variable without regard to whether the variable has its value yet, or still.
func (d *Dump) bare(f *frame, v debuginfo.Variable) replay.Variable {
	t := d.types.Get(d.types.ID(v.Type))
	out := replay.Variable{Name: v.Name, Scope: v.Scope, Written: event.NoMoment, Value: replay.Value{Memory: d.memory}}
	if t == nil {
		out.Value.Value = values.Unknown(nil, "its type is not known")
		return out
	}
	if v.Indirect {
		out.Value.Value = d.indirect(f, v, t)
	} else {
		out.Value.Value = d.value(f, v, t)
	}
	if out.Value.Type != nil {
		out.Type = out.Value.Type.Name
	}
	return out
}

// notReached returns the reason why a local variable has no value yet: its declaration is further
// down, or the line computes it. It is empty otherwise, or if that is not certain.
func (d *Dump) notReached(f *frame, v debuginfo.Variable) string {
	switch {
	case f.Line <= 0 || f.Inlined || v.Line < f.Line:
	case v.Line > f.Line:
		return fmt.Sprintf("declared on line %d, which has not been reached", v.Line)
	default:
		return d.stillComputed(f, v.Name)
	}
	return ""
}

const (
	computing  = "its declaration on this line is still being computed"
	mayCompute = "declared on this line, which is still running: it may not have been assigned"
)

// stillComputed returns the reason why a variable that the frame's line declares has no value yet: the line computes it, or may do
// so. It is empty if the declaration computes nothing that can be in progress.
func (d *Dump) stillComputed(f *frame, name string) string {
	text, err := d.Source(f.File)
	if err != nil {
		return mayCompute
	}
	lines := strings.Split(text, "\n")
	if f.Line > len(lines) {
		return mayCompute
	}
	// The name, further names of the same statement, and what they are set to.
	declares, err := regexp.Compile(`\b` + regexp.QuoteMeta(name) + `\b(?:\s*,[\w\s,]*|\s*\[[^=;]*\]\s*|\s*)(?::=|=|\{|\()\s*([^=;][^;{]*|)(.*)$`)
	if err != nil {
		return mayCompute
	}
	m := declares.FindStringSubmatch(lines[f.Line-1])
	switch {
	case m == nil:
		return ""
	case f.Index > 0 && !strings.Contains(m[1], "("), d.callsLater(f, m[1], m[2]):
		return "" // the call that has not returned is elsewhere on the line
	case strings.Trim(m[2], "; \t{}") == "":
		return computing
	}
	return mayCompute
}

// callsLater reports whether the call that a frame makes is in the rest of its line, and not in a declaration before.
func (d *Dump) callsLater(f *frame, declaration, rest string) bool {
	if f.at == 0 {
		return false
	}
	name := d.functionName(&f.steps[f.at-1])
	name = name[strings.LastIndexAny(name, ".:")+1:]
	called, err := regexp.Compile(`\b` + regexp.QuoteMeta(name) + `\s*\(`)
	return err == nil && name != "" && called.MatchString(rest) && !called.MatchString(declaration)
}

// indirect reads a Go variable on the heap: the frame has its address.
func (d *Dump) indirect(f *frame, v debuginfo.Variable, pointer *debuginfo.Type) event.Value {
	to := d.types.Get(pointer.Elem)
	p := d.value(f, v, pointer)
	switch {
	case to == nil:
		return values.Unknown(nil, "its type is not known")
	case p.State != event.Known:
		return event.Value{Type: &to.Type, State: p.State, Text: p.Text}
	case p.Nil:
		return event.Value{Type: &to.Type, State: event.Unassigned, Text: "its memory has not been taken yet"}
	}
	return d.memory.Load(p.Address, &to.Type)
}

// value reads a variable's value at its location.
func (d *Dump) value(f *frame, v debuginfo.Variable, t *debuginfo.Type) event.Value {
	l := d.moduleOf(v.Unit.Debug)
	if l == nil {
		return values.Unknown(&t.Type, "its module was not found")
	}
	place, err := v.Place(f.steps[f.at].look - l.Bias)
	if err != nil {
		return d.unavailable(t, err)
	}
	if place.Constant != nil {
		return d.constant(t, place.Constant)
	}
	if place.Lasting && f.function != nil && location.IsTransient(place.Expression, &f.steps[f.at].regs) && f.function.CallsIn(v) {
		// Compilers leave out where the register ends to hold the value.
		return d.unavailable(t, fmt.Errorf("%w: the debug information names one register for the whole function, in which calls may use it", location.ErrUnavailable))
	}
	context := d.contextOf(f, v, l)
	pieces, err := location.Where(place.Expression, context)
	if err != nil {
		return d.unavailable(t, err)
	}
	t = d.sized(f, v, t, context)
	if len(pieces) == 1 && pieces[0].Kind == location.InMemory && pieces[0].From == 0 {
		return d.memory.Load(pieces[0].Address, &t.Type)
	}
	return d.gather(f, v, t, pieces)
}

// contextOf returns what the location of a variable is computed from.
func (d *Dump) contextOf(f *frame, v debuginfo.Variable, l *loaded) *location.Frame {
	context := d.evaluation(f.steps, f.at, f.function, 0)
	context.Bias = l.Bias
	context.Address = v.Unit.Address
	context.BaseType = d.baseTypes(v.Unit)
	context.Called = v.Unit.Called
	if v.Scope == event.Global {
		context.TLS = func(offset uint64) (uint64, error) { return d.threadLocal(l, &f.steps[f.at].regs, offset) }
	}
	return context
}

// addressOf returns where a variable is in memory, and how many bytes it has. ok is false for one that is elsewhere.
func (d *Dump) addressOf(f *frame, v debuginfo.Variable) (address, size uint64, ok bool) {
	t, l := d.types.Get(d.types.ID(v.Type)), d.moduleOf(v.Unit.Debug)
	if t == nil || l == nil {
		return 0, 0, false
	}
	place, err := v.Place(f.steps[f.at].look - l.Bias)
	if err != nil || place.Constant != nil {
		return 0, 0, false
	}
	context := d.contextOf(f, v, l)
	pieces, err := location.Where(place.Expression, context)
	if err != nil || len(pieces) != 1 || pieces[0].Kind != location.InMemory {
		return 0, 0, false
	}
	return pieces[0].Address, d.sized(f, v, t, context).Size, true
}

// unavailable says why a value is not known.
func (d *Dump) unavailable(t *debuginfo.Type, err error) event.Value {
	v := event.Value{Type: &t.Type, State: event.Unrecorded, Text: err.Error()}
	if errors.Is(err, debuginfo.ErrOptimisedAway) || errors.Is(err, location.ErrUnavailable) {
		v.State, v.Text = event.OptimisedOut, whyUnavailable(err)
	}
	return v
}

func whyUnavailable(err error) string {
	text := err.Error()
	for _, prefix := range []error{debuginfo.ErrOptimisedAway, location.ErrUnavailable} {
		text = strings.TrimPrefix(text, prefix.Error()+": ")
	}
	return text
}

// constant reads a value in the debug information itself.
func (d *Dump) constant(t *debuginfo.Type, c any) event.Value {
	var b []byte
	fill := byte(0)
	switch x := c.(type) {
	case int64:
		b = binary.LittleEndian.AppendUint64(nil, uint64(x))
		if x < 0 && t.Form == event.Int {
			fill = 0xff // of 128 bits
		}
	case uint64:
		b = binary.LittleEndian.AppendUint64(nil, x)
	case []byte:
		b = x
	case string:
		b = append([]byte(x), 0)
	default:
		return values.Unknown(&t.Type, "a constant of an unknown form")
	}
	for uint64(len(b)) < min(t.Size, 64) {
		b = append(b, fill)
	}
	return d.memory.Decode(t, b, nil)
}

// sized sets the lengths of an array that are known at run time only.
func (d *Dump) sized(f *frame, v debuginfo.Variable, t *debuginfo.Type, context *location.Frame) *debuginfo.Type {
	if t.Kind != debuginfo.Array || len(t.Bounds) == 0 {
		return t
	}
	var lengths []uint64
	for _, at := range t.Bounds {
		n, ok := d.length(f, t, at, context)
		if !ok {
			return t
		}
		lengths = append(lengths, n)
	}
	return d.types.WithLengths(t, lengths)
}

// length returns the number of elements of an array's dimension that is known at run time only.
func (d *Dump) length(f *frame, t *debuginfo.Type, at dwarf.Offset, context *location.Frame) (uint64, bool) {
	const most = 1 << 40
	bound, ok := t.Bound(at)
	if !ok {
		return 0, false
	}
	var last int64
	if bound.Expression != nil {
		n, err := location.Number(bound.Expression, context)
		if err != nil {
			return 0, false
		}
		if b, ok := d.read(n, 8); ok && location.IsAddress(bound.Expression) {
			n = binary.LittleEndian.Uint64(b)
		}
		last = int64(n)
	} else {
		of := d.types.Get(d.types.ID(bound.Variable.Type))
		if of == nil {
			return 0, false
		}
		x := d.value(f, bound.Variable, of)
		if x.State != event.Known {
			return 0, false
		}
		last = x.Int
		if of.Form == event.Uint {
			last = int64(x.Uint)
		}
	}
	if bound.Counts {
		last--
	} else {
		last -= bound.Lowest
	}
	return uint64(last + 1), last >= -1 && last < most
}

// referred writes the value that a pointer without a location refers to.
func (d *Dump) referred(f *frame, v debuginfo.Variable) (string, bool) {
	t := d.types.Get(d.types.ID(v.Type))
	if t == nil {
		return "", false
	}
	x := replay.Value{Value: d.value(f, v, t), Memory: d.memory}
	return x.Text(), x.State == event.Known
}

func (d *Dump) moduleOf(debug *debuginfo.Debug) *loaded {
	debug = debug.Whole()
	for _, l := range d.modules {
		if l.debug == debug {
			return l
		}
	}
	return nil
}

func (d *Dump) baseTypes(u *debuginfo.Unit) func(uint64) (location.BaseType, error) {
	return func(offset uint64) (location.BaseType, error) {
		t := d.types.Get(d.types.ID(debuginfo.TypeRef{Debug: u.Debug, Offset: u.Offset(offset)}))
		if t == nil || t.Kind != debuginfo.Plain {
			return location.BaseType{}, fmt.Errorf("%w: its type is not a number", location.ErrMalformed)
		}
		return location.BaseType{Size: int(t.Size), Signed: t.Form == event.Int, Float: t.Form == event.Float}, nil
	}
}

// maxCallers limits the callers that are searched for values at a function's entry.
const maxCallers = 16

// evaluation returns the context of expressions in an activation. f is the function of the frame
// base, or nil.
func (d *Dump) evaluation(steps []step, at int, f *debuginfo.Function, depth int) *location.Frame {
	s := &steps[at]
	out := &location.Frame{Registers: &s.regs, Read: d.read}
	out.CFA = func() (uint64, error) {
		if !s.hasCFA {
			return 0, errNoBase
		}
		return s.cfa, nil
	}
	if f == nil || s.module == nil {
		return out
	}
	out.Bias = s.module.Bias
	out.Address = f.Unit.Address
	out.BaseType = d.baseTypes(f.Unit)
	out.Called = f.Unit.Called
	pc := s.look - s.module.Bias
	out.FrameBase = func() (uint64, error) {
		expression, err := f.FrameBase(pc)
		if err != nil {
			return 0, err
		}
		inner := *out
		inner.FrameBase = nil
		return location.Number(expression, &inner)
	}
	out.TLS = func(offset uint64) (uint64, error) { return d.threadLocal(s.module, &s.regs, offset) }
	out.Entry = func(expression []byte) (uint64, error) { return d.atEntry(steps, at, expression, depth) }
	out.Parameter = func(entry uint64) (uint64, error) {
		up, caller, err := d.callerOf(steps, at, depth)
		if err != nil {
			return 0, err
		}
		passed, ok := caller.PassedFor(up.pc-up.module.Bias, f.Unit.Offset(entry))
		if !ok {
			return 0, notPassed("the caller " + caller.Name + " does not say what it passed")
		}
		if err := d.checkCall(steps, at, up, caller, depth); err != nil {
			return 0, err
		}
		return location.Number(passed, d.evaluation(steps, at+1, caller, depth+1))
	}
	return out
}

// errNoBase is the reason why a variable of a frame that was guessed is not known.
var errNoBase = errors.New("where its frame begins is not known: without the file of a module, the stack was guessed")

// errCutOff is the reason why a value is not known that the caller passed: the stack is not in the dump.
var errCutOff = errors.New("the caller passed it, and its stack is not in the dump, which is cut off")

func notPassed(why string) error {
	return fmt.Errorf("%w: the caller passed it, and %s", location.ErrUnavailable, why)
}

// callerOf returns the caller of an activation and its function.
func (d *Dump) callerOf(steps []step, at, depth int) (*step, *debuginfo.Function, error) {
	switch {
	case depth >= maxCallers:
		return nil, nil, notPassed("too many callers handed it on")
	case at+1 >= len(steps) && d.core.Missing > 0:
		return nil, nil, errCutOff
	case at+1 >= len(steps):
		return nil, nil, notPassed("the caller is not known")
	}
	up := &steps[at+1]
	if up.module != nil && up.module.debug != nil && !steps[at].signal {
		if f := up.module.debug.FunctionAt(up.look - up.module.Bias); f != nil {
			return up, f, nil
		}
	}
	return nil, nil, notPassed("the caller has no debug information")
}

// atEntry returns the value of an expression at a function's entry, which the caller's call site
// describes (DWARF 5, section 3.4.2).
func (d *Dump) atEntry(steps []step, at int, expression []byte, depth int) (uint64, error) {
	up, f, err := d.callerOf(steps, at, depth)
	if err != nil {
		return 0, err
	}
	if passed, ok := f.Passed(up.pc-up.module.Bias, expression); ok {
		if err := d.checkCall(steps, at, up, f, depth); err != nil {
			return 0, err
		}
		return location.Number(passed, d.evaluation(steps, at+1, f, depth+1))
	}
	// A register that functions preserve is still as it was.
	if location.IsPreserved(expression, &up.regs) {
		return location.Number(expression, &location.Frame{Registers: &up.regs, Read: d.read})
	}
	return 0, notPassed("the caller " + f.Name + " does not say what")
}
