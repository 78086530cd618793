package state

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/fxamacker/cbor/v2"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// Scope is a call at a moment, in which names are resolved.
type Scope struct {
	R    *Log
	Call event.CallID
	At   event.Moment
}

// ScopeOf returns the scope of a call at a moment.
func (r *Log) ScopeOf(c event.CallID, at event.Moment) Scope { return Scope{r, c, at} }

func (s Scope) process() uint16 { return s.R.T.Call(s.Call).Process }

// Location is the place of a value: a variable of a call that nothing else refers to, an address,
// or an entry of a map. Within is the path inside the value there, if its parts have no addresses.
type Location struct {
	Process  uint16
	Call     event.CallID // of the variable; NoCall for the others
	Variable event.VariableID
	Address  uint64
	Of       *event.Type
	Entry    *event.Value // the key, for an entry of the map at address
	Within   []replay.PathStep
}

// Key tells locations apart.
func (l Location) Key() string {
	k := fmt.Sprintf("%d %d %d %x", l.Process, l.Call, l.Variable, l.Address)
	if l.Of != nil {
		k += " " + l.Of.Name
	}
	if l.Entry != nil {
		k += " " + replay.Identity(*l.Entry)
	}
	return k + replay.Path{Steps: l.Within}.String()
}

// find resolves a name: a variable in scope, or a global of the frame's package.
func (s Scope) find(name string) (replay.Variable, event.VariableID, bool) {
	f := s.R.T.FunctionOf(s.Call)
	if !s.R.Recorded() {
		for i, v := range f.Variables {
			if v.Name == name {
				x := s.R.VariableOf(v, event.VariableID(i), f, s.Call, s.At)
				return x, event.VariableID(i), x.Value.State == event.Known
			}
		}
		return replay.Variable{}, 0, false
	}
	for i := len(f.Variables) - 1; i >= 0; i-- {
		v := f.Variables[i]
		if v.Name == name && s.R.Visible(v, s.Call, s.At) {
			return s.R.VariableOf(v, event.VariableID(i), f, s.Call, s.At), event.VariableID(i), true
		}
	}
	if global := globalNamed(f, name); global >= 0 {
		return s.R.VariableOf(f.Variables[global], event.VariableID(global), f, s.Call, s.At), event.VariableID(global), true
	}
	return replay.Variable{}, 0, false
}

// absent finds a field of records that the record at the moment does not have: the longest beginning of the path
// that names one. Its value is null.
func (s Scope) absent(p replay.Path) (v replay.Variable, id event.VariableID, steps []replay.PathStep, ok bool) {
	f := s.R.T.FunctionOf(s.Call)
	name, rest := p.Root, p.Steps
	for {
		if i := slices.IndexFunc(f.Variables, func(v event.Variable) bool { return v.Name == name }); i >= 0 {
			v, id, steps, ok = s.R.VariableOf(f.Variables[i], event.VariableID(i), f, s.Call, s.At), event.VariableID(i), rest, true
			v.Value.Value = event.Value{Type: PlainText, State: event.Known, Nil: true}
		}
		if len(rest) == 0 || rest[0].Field == "" {
			return v, id, steps, ok
		}
		name, rest = name+"."+rest[0].Field, rest[1:]
	}
}

// Locate follows a path to the location of its value, and returns the value. An unknown element of
// the path is the one whose value is like one of the given ones.
func (s Scope) Locate(p replay.Path, like []replay.Value) (Location, replay.Value, error) {
	v, id, ok := s.find(p.Root)
	steps := p.Steps
	// Globals of other packages are written package.name, and names of attributes contain dots.
	for name := p.Root; !ok && len(steps) > 0 && steps[0].Field != ""; {
		name += "." + steps[0].Field
		steps = steps[1:]
		v, id, ok = s.find(name)
	}
	if !ok && !s.R.Recorded() {
		v, id, steps, ok = s.absent(p)
	}
	if !ok {
		return Location{}, replay.Value{}, fmt.Errorf("%s: %w in the frame", p.Root, fault.NoName)
	}
	l := Location{Process: s.process(), Call: s.Call, Variable: id}
	if v.Written != event.NoMoment {
		if e := s.R.T.Event(v.Written); e.Kind == event.Cell {
			if v.Value.Type == nil {
				return Location{}, replay.Value{}, fmt.Errorf("%s: %w: the log does not define its type", p.Root, fault.NoName)
			}
			l = Location{Process: l.Process, Call: event.NoCall, Address: e.Address, Of: v.Value.Type}
		}
	}
	value := v.Value
	for i, step := range steps {
		var err error
		if l, value, err = s.Follow(l, value, step, like); err != nil {
			return l, value, fmt.Errorf("%s: %w", replay.Path{Root: p.Root, Steps: steps[:i+1]}, err)
		}
	}
	return l, value, nil
}

// LocateKnown is Locate. It also returns the path with the unknown element replaced.
func (s Scope) LocateKnown(p replay.Path, like []replay.Value) (replay.Path, Location, replay.Value, error) {
	for i, step := range p.Steps {
		if !step.Any {
			continue
		}
		_, v, err := s.Locate(replay.Path{Root: p.Root, Steps: p.Steps[:i]}, nil)
		if err != nil {
			return p, Location{}, replay.Value{}, err
		}
		if known, ok := s.ElementLike(v.Settled(), like); ok {
			p.Steps = append(append(append([]replay.PathStep(nil), p.Steps[:i]...), known), p.Steps[i+1:]...)
		}
	}
	l, v, err := s.Locate(p, like)
	return p, l, v, err
}

// ElementLike finds the index or key of an element that is like one of the given
// values.
func (s Scope) ElementLike(v replay.Value, like []replay.Value) (replay.PathStep, bool) {
	is := Alike(like)
	switch v.Form() {
	case event.Slice, event.Array:
		for i := range min(v.Length, maxLike) {
			if is(v.Element(i).Value) {
				n := int64(i)
				return replay.PathStep{Number: &n}, true
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
				return replay.PathStep{Text: &k.Text}, true
			case event.Int:
				return replay.PathStep{Number: &k.Int}, true
			}
			return replay.PathStep{}, false
		}
	}
	return replay.PathStep{}, false
}

// memoryLocation is a place in memory, with what is there.
func (s Scope) memoryLocation(address uint64, of *event.Type) (Location, replay.Value) {
	m := s.R.MemoryAt(s.process(), s.At, 0)
	l := Location{Process: s.process(), Call: event.NoCall, Address: address, Of: of}
	return l, replay.Value{Value: m.Load(address, of), Memory: m}
}

func (l Location) inner(step replay.PathStep) Location {
	l.Within = append(append([]replay.PathStep(nil), l.Within...), step)
	return l
}

// Follow takes one step of a path from the value at a location.
func (s Scope) Follow(l Location, v replay.Value, step replay.PathStep, like []replay.Value) (Location, replay.Value, error) {
	for range 8 {
		if v.Form() == event.Interface && len(v.Items) == 1 && v.State == event.Known {
			v = v.With(v.Items[0])
			l = l.inner(replay.PathStep{Deref: true})
			continue
		}
		if v.Form() != event.Pointer || v.State != event.Known {
			v = v.Opened()
			break
		}
		t := v.ElemType()
		if v.Nil || t == nil {
			return l, v, fmt.Errorf("%w: a pointer in the path is nil, or its target is not recorded", fault.NoName)
		}
		if f, ok := t.FieldNamed(step.Field); ok && typeIn(v, f.Type) != nil {
			l, v = s.memoryLocation(v.Address+f.Offset, typeIn(v, f.Type)) // no need to put the rest together
			return l, v, nil
		}
		l, v = s.memoryLocation(v.Address, t)
		if step.Deref {
			return l, v, nil
		}
	}
	switch {
	case v.State != event.Known || v.Nil:
		return l, v, fmt.Errorf("%w: a value in the path is nil or not known", fault.NoName)
	case step.Deref:
		return l, v, nil
	case step.Field != "":
		return s.field(l, v, step.Field)
	}
	return s.element(l, v, step, like)
}

func (s Scope) field(l Location, v replay.Value, name string) (Location, replay.Value, error) {
	if v.Form() != event.Struct {
		return l, v, fmt.Errorf("%w: it has no fields", fault.NoName)
	}
	for i, f := range v.Type.Fields {
		if f.Name != name || i >= len(v.Items) {
			continue
		}
		if l.InMemory() && typeIn(v, f.Type) != nil {
			l, v = s.memoryLocation(l.Address+f.Offset, typeIn(v, f.Type))
			return l, v, nil
		}
		return l.inner(replay.PathStep{Field: name}), v.With(v.Items[i]), nil
	}
	for i, f := range v.Type.Fields { // a field of an embedded struct
		if i >= len(v.Items) || !replay.Embeds(f, typeIn(v, f.Type)) {
			continue
		}
		if inner, x, err := s.field(l, v, f.Name); err == nil {
			if inner, x, err = s.Follow(inner, x, replay.PathStep{Field: name}, nil); err == nil {
				return inner, x, nil
			}
		}
	}
	return l, v, fmt.Errorf("%w: no field %s", fault.NoName, name)
}

func typeIn(v replay.Value, id event.TypeID) *event.Type {
	if v.Memory == nil {
		return nil
	}
	return v.Memory.Type(id)
}

// maxLike limits the elements that are compared to find a similar one.
const maxLike = 4096

func (s Scope) element(l Location, v replay.Value, step replay.PathStep, like []replay.Value) (Location, replay.Value, error) {
	if v.Form() == event.Map {
		return s.entry(l, v, step, like)
	}
	if v.Form() != event.Slice && v.Form() != event.Array {
		return l, v, fmt.Errorf("%w: it has no elements", fault.NoName)
	}
	at := func(i uint64) (Location, replay.Value, error) {
		if list, ok := v.Elements(i, i+1); ok && v.Form() == event.Slice {
			n := int64(i)
			return l.inner(replay.PathStep{Number: &n}), v.With(list[0]), nil
		}
		t := v.ElemType()
		switch {
		case i >= v.Length || t == nil:
			return l, v, fmt.Errorf("%w: it has %d elements", fault.NoName, v.Length)
		case v.Form() == event.Slice && v.Address <= math.MaxUint64-i*t.Size:
			x, value := s.memoryLocation(v.Address+i*t.Size, t)
			return x, value, nil
		case l.InMemory():
			x, value := s.memoryLocation(l.Address+i*t.Size, t)
			return x, value, nil
		}
		n := int64(i)
		return l.inner(replay.PathStep{Number: &n}), v.Element(i), nil
	}
	switch {
	case step.Any:
		if known, ok := s.ElementLike(v, like); ok {
			return at(uint64(*known.Number))
		}
		return l, v, fmt.Errorf("%w: no element has the value", fault.NoName)
	case step.Number != nil && *step.Number >= 0:
		return at(uint64(*step.Number))
	case step.Index != nil:
		_, i, err := s.Locate(*step.Index, nil)
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
	return l, v, fmt.Errorf("%w: invalid index", fault.NoName)
}

// Alike returns a function that reports whether a value equals one of several.
func Alike(like []replay.Value) func(event.Value) bool {
	type known struct {
		of       *event.Type
		identity string
	}
	var list []known
	for _, x := range like {
		if x.State == event.Known {
			list = append(list, known{x.Type, replay.Identity(x.Value)})
		}
	}
	return func(v event.Value) bool {
		for _, x := range list {
			if v.State == event.Known && v.Type == x.of && replay.Identity(v) == x.identity {
				return true
			}
		}
		return false
	}
}

func (s Scope) entry(l Location, v replay.Value, step replay.PathStep, like []replay.Value) (Location, replay.Value, error) {
	pairs, _ := v.Memory.Entries(v.Address, v.Type)
	wanted, isLike := "", Alike(like)
	missing := event.Value{State: event.Known, Type: typeIn(v, v.Type.Key)} // the key, if there is no such entry
	if step.Index != nil {
		_, k, err := s.Locate(*step.Index, nil)
		if err != nil {
			return l, v, err
		}
		wanted = keyText(k.Value)
		missing = k.Value
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		k := pairs[i]
		var is bool
		switch {
		case step.Position != nil:
			is = *step.Position == i/2
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
			return Location{Process: l.Process, Call: event.NoCall, Address: v.Address, Of: v.Type, Entry: &key}, v.With(pairs[i+1]), nil
		}
	}
	if missing.Type == nil || v.Nil || step.Any || step.Position != nil {
		return l, v, ErrNoEntry
	}
	switch form := missing.Type.Form; {
	case step.Text != nil && form == event.Text:
		missing.Text = *step.Text
	case step.Number != nil && form == event.Int:
		missing.Int = *step.Number
	case step.Number != nil && form == event.Uint && *step.Number >= 0:
		missing.Uint = uint64(*step.Number)
	case step.Index == nil:
		return l, v, ErrNoEntry
	}
	return Location{Process: l.Process, Call: event.NoCall, Address: v.Address, Of: v.Type, Entry: &missing}, v.With(event.Value{State: event.Unassigned}), ErrNoEntry
}

// ErrNoEntry is wrapped by the errors of paths to an entry that a map does not have at the moment. The
// location that is returned with it is that of the entry, if its key is known.
var ErrNoEntry = fmt.Errorf("%w: no such entry", fault.NoName)

// keyText identifies the keys of a map, numbers and texts by value.
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
	return "v" + replay.Identity(v)
}

// EncodedKey returns the CBOR item of a simple key as recorders write it, to find the events of its
// entry; nil for other keys.
func EncodedKey(v event.Value) []byte {
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

// At returns the value that a location holds at a moment.
func (l Location) At(r *Log, m event.Moment) replay.Value {
	memory := r.MemoryAt(l.Process, m, 0)
	var v replay.Value
	switch {
	case l.Entry != nil:
		v = replay.Value{Value: event.Value{State: event.Unassigned}, Memory: memory}
		pairs, _ := memory.Entries(l.Address, l.Of)
		for i := 0; i+1 < len(pairs); i += 2 {
			if replay.Identity(pairs[i]) == replay.Identity(*l.Entry) {
				v.Value = pairs[i+1]
			}
		}
	case l.Call == event.NoCall:
		v = replay.Value{Value: memory.Load(l.Address, l.Of), Memory: memory}
	default:
		f := r.T.FunctionOf(l.Call)
		v = r.VariableOf(f.Variables[l.Variable], l.Variable, f, l.Call, m).Value
	}
	return l.Part(v)
}

// Part follows the path within a value whose parts have no addresses.
func (l Location) Part(v replay.Value) replay.Value {
	for _, s := range l.Within {
		v = v.Inside(s)
	}
	return v
}

// Whole is the location of the whole value of which a location is a part.
func (l Location) Whole() Location {
	l.Within = nil
	return l
}

// InMemory reports whether a location has an address of its own.
func (l Location) InMemory() bool {
	return l.Call == event.NoCall && l.Entry == nil && len(l.Within) == 0
}

// LocatePath parses a path and follows it in a frame.
func (r *Log) LocatePath(path string, at event.Moment, t event.ThreadID, frame int) (Location, replay.Value, error) {
	p, err := replay.ParsePath(path)
	if err != nil {
		return Location{}, replay.Value{}, err
	}
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return Location{}, replay.Value{}, err
	}
	s := Scope{r, c, at}
	l, v, err := s.Locate(p, nil)
	if err != nil {
		if _, _, ok := s.find(p.Root); !ok {
			err = fmt.Errorf("%w%s", err, s.near(p.Root))
		}
	}
	return l, v, err
}

// near lists names that exist, for an error about one that does not.
func (s Scope) near(name string) string {
	var names []string
	for _, v := range s.R.T.FunctionOf(s.Call).Variables {
		if s.R.Visible(v, s.Call, s.At) {
			if CommonPrefix(v.Name, name) >= 3 || strings.EqualFold(v.Name, name) {
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
