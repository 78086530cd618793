package replay

import (
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/fxamacker/cbor/v2"

	"wraithology/core/event"
)

// ErrNoName says that a path leads to nothing that the frame has.
var ErrNoName = fmt.Errorf("%w: no such variable, field or element", ErrPath)

// scope is a call at a moment: where names are looked up.
type scope struct {
	r    *logRecording
	call event.CallID
	at   event.Moment
}

func (s scope) process() uint16 { return s.r.t.Call(s.call).Process }

// location is where a value is kept: a variable of a call that nothing else
// refers to, an address in memory, or an entry of a map. Within leads on inside
// the value that is kept there, where that has no address of its own.
type location struct {
	process  uint16
	call     event.CallID // of the variable; NoCall for the others
	variable event.VariableID
	address  uint64
	of       *event.Type
	entry    *event.Value // the key, for an entry of the map at address
	within   []PathStep
}

// key tells locations apart.
func (l location) key() string {
	k := fmt.Sprintf("%d %d %d %x", l.process, l.call, l.variable, l.address)
	if l.of != nil {
		k += " " + l.of.Name
	}
	if l.entry != nil {
		k += " " + identity(*l.entry)
	}
	return k + Path{Steps: l.within}.String()
}

// find looks a name up: a variable in scope, or a global of the frame's package.
func (s scope) find(name string) (Variable, event.VariableID, bool) {
	f := s.r.t.FunctionOf(s.call)
	if !s.r.recorded() {
		for i, v := range f.Variables {
			if v.Name == name {
				x := s.r.variable(v, event.VariableID(i), f, s.call, s.at)
				return x, event.VariableID(i), x.Value.State == event.Known
			}
		}
		return Variable{}, 0, false
	}
	global := -1
	for i := len(f.Variables) - 1; i >= 0; i-- {
		v := f.Variables[i]
		if v.Name == name && s.r.visible(v, s.call, s.at) {
			return s.r.variable(v, event.VariableID(i), f, s.call, s.at), event.VariableID(i), true
		}
		if v.Scope == event.Global && strings.HasSuffix(v.Name, "."+name) {
			global = i
		}
	}
	if global >= 0 {
		return s.r.variable(f.Variables[global], event.VariableID(global), f, s.call, s.at), event.VariableID(global), true
	}
	return Variable{}, 0, false
}

// locate follows a path to where its value is kept, and the value. Where the path
// has an element that is not known, it is the one whose value is like one of the given ones.
func (s scope) locate(p Path, like []Value) (location, Value, error) {
	v, id, ok := s.find(p.Root)
	steps := p.Steps
	// A global of another package stands in the source as package.name, and
	// attributes have dots in their names.
	for name := p.Root; !ok && len(steps) > 0 && steps[0].Field != ""; {
		name += "." + steps[0].Field
		steps = steps[1:]
		v, id, ok = s.find(name)
	}
	if !ok {
		steps = p.Steps
	}
	if !ok {
		return location{}, Value{}, fmt.Errorf("%s: %w in the frame", p.Root, ErrNoName)
	}
	l := location{process: s.process(), call: s.call, variable: id}
	if v.Written != event.NoMoment {
		if e := s.r.t.Event(v.Written); e.Kind == event.Cell {
			if v.Value.Type == nil {
				return location{}, Value{}, fmt.Errorf("%s: %w: the log does not explain its type", p.Root, ErrNoName)
			}
			l = location{process: l.process, call: event.NoCall, address: e.Address, of: v.Value.Type}
		}
	}
	value := v.Value
	for i, step := range steps {
		var err error
		if l, value, err = s.follow(l, value, step, like); err != nil {
			return l, value, fmt.Errorf("%s: %w", Path{p.Root, steps[:i+1]}, err)
		}
	}
	return l, value, nil
}

// locateKnown is locate, and returns the path with the element put in that the
// path did not say.
func (s scope) locateKnown(p Path, like []Value) (Path, location, Value, error) {
	for i, step := range p.Steps {
		if !step.Any {
			continue
		}
		_, v, err := s.locate(Path{p.Root, p.Steps[:i]}, nil)
		if err != nil {
			return p, location{}, Value{}, err
		}
		if known, ok := s.elementLike(v.settled(), like); ok {
			p.Steps = append(append(append([]PathStep(nil), p.Steps[:i]...), known), p.Steps[i+1:]...)
		}
	}
	l, v, err := s.locate(p, like)
	return p, l, v, err
}

// elementLike finds the index or key of an element that is like one of the given
// values.
func (s scope) elementLike(v Value, like []Value) (PathStep, bool) {
	is := alike(like)
	switch v.Form() {
	case event.Slice, event.Array:
		for i := range min(v.Length, maxLike) {
			if is(v.Element(i).Value) {
				n := int64(i)
				return PathStep{Number: &n}, true
			}
		}
	case event.Map:
		pairs, _ := v.Memory.Entries(v.Address, v.Type)
		for i := 0; i+1 < len(pairs); i += 2 {
			if !is(pairs[i+1]) {
				continue
			}
			switch k := pairs[i]; k.Form() {
			case event.Text:
				return PathStep{Text: &k.Text}, true
			case event.Int:
				return PathStep{Number: &k.Int}, true
			}
			return PathStep{}, false
		}
	}
	return PathStep{}, false
}

// memoryLocation is a place in memory, with what lies there.
func (s scope) memoryLocation(address uint64, of *event.Type) (location, Value) {
	m := s.r.memoryAt(s.process(), s.at, 0)
	l := location{process: s.process(), call: event.NoCall, address: address, of: of}
	return l, Value{Value: m.Load(address, of), Memory: m}
}

func (l location) inner(step PathStep) location {
	l.within = append(append([]PathStep(nil), l.within...), step)
	return l
}

// follow takes one step of a path from a value that is kept at a location.
func (s scope) follow(l location, v Value, step PathStep, like []Value) (location, Value, error) {
	for range 8 {
		if v.Form() == event.Interface && len(v.Items) == 1 && v.State == event.Known {
			v = v.with(v.Items[0])
			l = l.inner(PathStep{Deref: true})
			continue
		}
		if v.Form() != event.Pointer || v.State != event.Known {
			break
		}
		t := v.elemType()
		if v.Nil || t == nil {
			return l, v, fmt.Errorf("%w: the pointer on the way is nil or leads to what is not recorded", ErrNoName)
		}
		if f, ok := fieldOf(t, step.Field); ok && v.elem(f.Type) != nil {
			l, v = s.memoryLocation(v.Address+f.Offset, v.elem(f.Type)) // no need to put the rest together
			return l, v, nil
		}
		l, v = s.memoryLocation(v.Address, t)
		if step.Deref {
			return l, v, nil
		}
	}
	switch {
	case v.State != event.Known || v.Nil:
		return l, v, fmt.Errorf("%w: the value on the way is not known or nil", ErrNoName)
	case step.Deref:
		return l, v, nil
	case step.Field != "":
		return s.field(l, v, step.Field)
	}
	return s.element(l, v, step, like)
}

func fieldOf(t *event.Type, name string) (event.Field, bool) {
	if t.Form == event.Struct && name != "" {
		for _, f := range t.Fields {
			if f.Name == name {
				return f, true
			}
		}
	}
	return event.Field{}, false
}

func (s scope) field(l location, v Value, name string) (location, Value, error) {
	if v.Form() != event.Struct {
		return l, v, fmt.Errorf("%w: it has no fields", ErrNoName)
	}
	for i, f := range v.Type.Fields {
		if f.Name != name || i >= len(v.Items) {
			continue
		}
		if l.inMemory() && v.elem(f.Type) != nil {
			l, v = s.memoryLocation(l.address+f.Offset, v.elem(f.Type))
			return l, v, nil
		}
		return l.inner(PathStep{Field: name}), v.with(v.Items[i]), nil
	}
	for i, f := range v.Type.Fields { // a field of an embedded struct
		t := v.elem(f.Type)
		if t == nil || i >= len(v.Items) || strings.TrimPrefix(t.Name, "*") != f.Name && !strings.HasSuffix(t.Name, "."+f.Name) {
			continue
		}
		if inner, x, err := s.field(l, v, f.Name); err == nil {
			if inner, x, err = s.follow(inner, x, PathStep{Field: name}, nil); err == nil {
				return inner, x, nil
			}
		}
	}
	return l, v, fmt.Errorf("%w: there is no field %s", ErrNoName, name)
}

func (v Value) elem(id event.TypeID) *event.Type {
	if v.Memory == nil {
		return nil
	}
	return v.Memory.Type(id)
}

// maxLike bounds the elements that are compared to find one like another.
const maxLike = 4096

func (s scope) element(l location, v Value, step PathStep, like []Value) (location, Value, error) {
	if v.Form() == event.Map {
		return s.entry(l, v, step, like)
	}
	if v.Form() != event.Slice && v.Form() != event.Array {
		return l, v, fmt.Errorf("%w: it has no elements", ErrNoName)
	}
	at := func(i uint64) (location, Value, error) {
		if list, ok := v.items(i, i+1); ok && v.Form() == event.Slice {
			n := int64(i)
			return l.inner(PathStep{Number: &n}), v.with(list[0]), nil
		}
		t := v.elemType()
		switch {
		case i >= v.Length || t == nil:
			return l, v, fmt.Errorf("%w: it has %d elements", ErrNoName, v.Length)
		case v.Form() == event.Slice && v.Address <= math.MaxUint64-i*t.Size:
			x, value := s.memoryLocation(v.Address+i*t.Size, t)
			return x, value, nil
		case l.inMemory():
			x, value := s.memoryLocation(l.address+i*t.Size, t)
			return x, value, nil
		}
		n := int64(i)
		return l.inner(PathStep{Number: &n}), v.Element(i), nil
	}
	switch {
	case step.Any:
		if known, ok := s.elementLike(v, like); ok {
			return at(uint64(*known.Number))
		}
		return l, v, fmt.Errorf("%w: no element has the value", ErrNoName)
	case step.Number != nil && *step.Number >= 0:
		return at(uint64(*step.Number))
	case step.Index != nil:
		_, i, err := s.locate(*step.Index, nil)
		if err != nil {
			return l, v, err
		}
		switch i.Form() {
		case event.Int:
			if i.Int >= 0 {
				return at(uint64(i.Int))
			}
		case event.Uint:
			return at(i.Uint)
		}
	}
	return l, v, fmt.Errorf("%w: this is no index of it", ErrNoName)
}

// alike returns a function that reports whether a value is the same as one of several.
func alike(like []Value) func(event.Value) bool {
	type known struct {
		of       *event.Type
		identity string
	}
	var list []known
	for _, x := range like {
		if x.State == event.Known {
			list = append(list, known{x.Type, identity(x.Value)})
		}
	}
	return func(v event.Value) bool {
		for _, x := range list {
			if v.State == event.Known && v.Type == x.of && identity(v) == x.identity {
				return true
			}
		}
		return false
	}
}

func (s scope) entry(l location, v Value, step PathStep, like []Value) (location, Value, error) {
	pairs, _ := v.Memory.Entries(v.Address, v.Type)
	wanted, isLike := "", alike(like)
	if step.Index != nil {
		_, k, err := s.locate(*step.Index, nil)
		if err != nil {
			return l, v, err
		}
		wanted = keyText(k.Value)
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		k := pairs[i]
		var is bool
		switch {
		case step.Any:
			is = isLike(pairs[i+1])
		case step.Text != nil:
			is = keyText(k) == "t"+*step.Text
		case step.Number != nil:
			is = keyText(k) == fmt.Sprint("n", *step.Number)
		case step.Index != nil:
			is = keyText(k) == wanted
		}
		if is {
			key := k
			return location{process: l.process, call: event.NoCall, address: v.Address, of: v.Type, entry: &key}, v.with(pairs[i+1]), nil
		}
	}
	return l, v, fmt.Errorf("%w: it has no such entry", ErrNoName)
}

// keyText tells the keys of a map apart, numbers and texts by their value.
func keyText(v event.Value) string {
	if v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.Items[0]
	}
	switch v.Form() {
	case event.Int:
		return fmt.Sprint("n", v.Int)
	case event.Uint:
		return fmt.Sprint("n", v.Uint)
	case event.Text:
		return "t" + v.Text
	}
	return "v" + identity(v)
}

// encodedKey returns the CBOR item of a simple key as recorders write it, so that
// its entry's events are found; nil for others, whose events are all looked at.
func encodedKey(v event.Value) []byte {
	const shortText = 256
	var key any
	switch v.Form() {
	case event.Uint:
		key = v.Uint
	case event.Int:
		key = v.Int
	case event.Text:
		if v.Whole > 0 || len(v.Text) > shortText || !utf8.ValidString(v.Text) {
			return nil
		}
		key = v.Text
	default:
		return nil
	}
	b, err := cbor.Marshal(key)
	if err != nil {
		return nil
	}
	return b
}

// at returns the value that a location holds at a moment.
func (l location) at(r *logRecording, m event.Moment) Value {
	memory := r.memoryAt(l.process, m, 0)
	var v Value
	switch {
	case l.entry != nil:
		v = Value{Value: event.Value{State: event.Unassigned}, Memory: memory}
		pairs, _ := memory.Entries(l.address, l.of)
		for i := 0; i+1 < len(pairs); i += 2 {
			if identity(pairs[i]) == identity(*l.entry) {
				v.Value = pairs[i+1]
			}
		}
	case l.call == event.NoCall:
		v = Value{Value: memory.Load(l.address, l.of), Memory: memory}
	default:
		f := r.t.FunctionOf(l.call)
		v = r.variable(f.Variables[l.variable], l.variable, f, l.call, m).Value
	}
	return l.part(v)
}

// part follows the way within a value that has no addresses.
func (l location) part(v Value) Value {
	for _, s := range l.within {
		v = v.inside(s)
	}
	return v
}

// inside takes one step of a path within a value.
func (v Value) inside(s PathStep) Value {
	switch {
	case s.Field != "":
		return v.Field(s.Field)
	case s.Number != nil:
		return v.Element(uint64(*s.Number))
	case s.Deref && v.Form() == event.Interface && len(v.Items) == 1:
		return v.with(v.Items[0])
	}
	return v
}

// whole is the location of all that is kept where a location lies within.
func (l location) whole() location {
	l.within = nil
	return l
}

// inMemory reports whether a location has an address of its own.
func (l location) inMemory() bool {
	return l.call == event.NoCall && l.entry == nil && len(l.within) == 0
}

// locatePath reads a path and follows it in a frame.
func (r *logRecording) locatePath(path string, at event.Moment, t event.ThreadID, frame int) (location, Value, error) {
	p, err := ParsePath(path)
	if err != nil {
		return location{}, Value{}, err
	}
	c, err := r.frameCall(at, t, frame)
	if err != nil {
		return location{}, Value{}, err
	}
	s := scope{r, c, at}
	l, v, err := s.locate(p, nil)
	if err != nil {
		if _, _, ok := s.find(p.Root); !ok {
			err = fmt.Errorf("%w%s", err, s.near(p.Root))
		}
	}
	return l, v, err
}

// near says which names there are instead of one that there is not.
func (s scope) near(name string) string {
	var names []string
	for _, v := range s.r.t.FunctionOf(s.call).Variables {
		if s.r.visible(v, s.call, s.at) {
			if common(v.Name, name) >= 3 || strings.EqualFold(v.Name, name) {
				return "; did you mean " + v.Name + "?"
			}
			names = append(names, v.Name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "; there are " + strings.Join(names[:min(len(names), 8)], ", ")
}
