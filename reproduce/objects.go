package reproduce

import (
	"fmt"
	"go/types"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// pointer writes a pointer: the address of a literal, the name of a shared object, or the address of a part of one.
func (b *builder) pointer(t types.Type, u *types.Pointer, v replay.Value, at place, alone bool) string {
	if v.Nil {
		return b.typed(t, "nil", alone)
	}
	if name := b.globalAt(v.Address); name != "" {
		return name
	}
	if expr, ok := b.special(v, at); ok {
		return expr
	}
	o := b.objects[spot{v.Address, v.Type.Elem, false}]
	if o == nil {
		b.gap(at.path, "more is referred to than is rebuilt")
		return b.typed(t, "nil", alone)
	}
	if o.within != nil {
		inside, open, ok := b.inside(o, v.ElemType(), at)
		switch {
		case ok && !open:
			return addressOf(inside)
		case ok && at.lvalue != "":
			b.fixes = append(b.fixes, at.assign(addressOf(inside)))
			return b.typed(t, "nil", alone)
		}
		b.gap(at.path, "points into another value, and is rebuilt apart from it")
	}
	if _, ok := b.typeText(u.Elem()); !ok {
		b.gap(at.path, "%s cannot be named here", types.TypeString(u.Elem(), nil))
		return b.typed(t, "nil", alone)
	}
	if o.refs > 1 || b.needsName(u.Elem()) {
		return b.reference(o, at)
	}
	if _, isStruct := u.Elem().Underlying().(*types.Struct); isStruct && !isSpecial(u.Elem()) && !isOpaque(u.Elem()) {
		at.isPointer = true
		return "&" + b.expr(u.Elem(), o.value, at, true)
	}
	return b.reference(o, at)
}

// needsName reports whether a value has to be a variable because it is completed after it was made.
func (b *builder) needsName(t types.Type) bool {
	n, ok := types.Unalias(t).(*types.Named)
	if !ok || n.Obj().Pkg() == nil || n.Obj().Pkg() == b.m.pkg.Types {
		return false
	}
	u, ok := n.Underlying().(*types.Struct)
	if !ok {
		return false
	}
	for f := range u.Fields() {
		if !f.Exported() && !isOpaque(f.Type()) {
			return true
		}
	}
	return false
}

// reference returns the name of an object, which is declared first. In a cycle the reference is set later.
func (b *builder) reference(o *object, at place) string {
	switch o.state {
	case 2:
		return o.name
	case 1:
		if at.lvalue == "" {
			b.gap(at.path, "a cycle through a value that cannot be assigned to is not rebuilt")
			return "nil"
		}
		b.fixes = append(b.fixes, at.assign(o.name))
		return "nil"
	}
	o.state, o.name = 1, b.unique(b.nameFor(o))
	b.declared[o.name] = true
	line := ""
	here := place{path: o.path, lvalue: o.name, isPointer: !o.isMap}
	switch u := o.gt.Underlying().(type) {
	case *types.Struct:
		if isSpecial(o.gt) || isOpaque(o.gt) {
			line = b.boxed(o, here)
			break
		}
		line = o.name + " := &" + b.expr(o.gt, o.value, here, true)
	case *types.Map:
		if o.isMap {
			line = o.name + " := " + b.entries(o.gt, u, o.value, here)
			break
		}
		line = b.boxed(o, here)
	default:
		line = b.boxed(o, here)
	}
	b.lines = append(b.lines, line)
	o.state = 2
	return o.name
}

// boxed declares a pointer to something other than a struct literal.
func (b *builder) boxed(o *object, here place) string {
	text, _ := b.typeText(o.gt)
	here.lvalue, here.isPointer = "(*"+o.name+")", false
	value := b.expr(o.gt, o.value, here, false)
	if isZero(o.gt, o.value) {
		return o.name + " := new(" + text + ")"
	}
	b.lines = append(b.lines, o.name+" := new("+text+")")
	return "*" + o.name + " = " + value
}

// nameFor proposes a name for an object: the last part of the path to it, or that of its type.
func (b *builder) nameFor(o *object) string {
	last := strings.TrimSuffix(o.path[strings.LastIndexAny(o.path, ".*]")+1:], "()")
	if last == "" || strings.ContainsAny(last, "[ ") {
		if n, ok := types.Unalias(o.gt).(*types.Named); ok {
			last = n.Obj().Name()
		} else {
			last = "shared"
		}
	}
	return strings.ToLower(last[:1]) + last[1:]
}

// inside returns the lvalue of a part of a larger object. open is set if that is being made.
func (b *builder) inside(o *object, part *event.Type, at place) (expr string, open, ok bool) {
	outer := o.within
	open = outer.state == 1
	name := outer.name
	if !open {
		name = b.backing(outer, at)
	}
	if name == "" || part == nil {
		return "", open, false
	}
	offset := o.address - outer.address
	if outer.isList {
		e := outer.value.ElemType()
		if e == nil || e.Size == 0 {
			return "", open, false
		}
		expr, ok = b.descend(place{lvalue: name + "[" + strconv.FormatUint(offset/e.Size, 10) + "]"}, outer.gt, e, offset%e.Size, part, outer.value.Memory)
		return expr, open, ok
	}
	expr, ok = b.descend(place{lvalue: name, isPointer: true}, outer.gt, outer.value.Type, offset, part, outer.value.Memory)
	return expr, open, ok
}

// fieldOf returns the lvalue of an unexported field of another package's struct, of which the address is given.
func (b *builder) fieldOf(address string, f *types.Var) (string, bool) {
	text, ok := b.typeText(f.Type())
	return fmt.Sprintf("(*fieldOf(%s, %q).(*%s))", address, f.Name(), text), ok
}

// descend finds the field or element of a type at an offset from a place.
func (b *builder) descend(at place, gt types.Type, t *event.Type, offset uint64, part *event.Type, m replay.Memory) (string, bool) {
	for range 32 {
		if t == nil {
			return "", false
		}
		if offset == 0 && t.ID == part.ID {
			return at.lvalue, true
		}
		switch u := gt.Underlying().(type) {
		case *types.Struct:
			i, inner, ok := fieldAt(u, t, offset, m)
			if !ok {
				return "", false
			}
			field := place{lvalue: at.lvalue + "." + t.Fields[i].Name}
			if !u.Field(i).Exported() && u.Field(i).Pkg() != b.m.pkg.Types {
				if field.lvalue, ok = b.fieldOf(at.address(), u.Field(i)); !ok {
					return "", false
				}
			}
			at, gt, t, offset = field, u.Field(i).Type(), inner, offset-t.Fields[i].Offset
		case *types.Array:
			inner := m.Type(t.Elem)
			if inner == nil || inner.Size == 0 {
				return "", false
			}
			at, gt, t, offset = place{lvalue: at.lvalue + "[" + strconv.FormatUint(offset/inner.Size, 10) + "]"}, u.Elem(), inner, offset%inner.Size
		default:
			return "", false
		}
	}
	return "", false
}

// fieldAt returns the number and the recorded type of the last field of a struct that has the byte at an offset.
func fieldAt(u *types.Struct, t *event.Type, offset uint64, m replay.Memory) (i int, inner *event.Type, ok bool) {
	for i := min(len(t.Fields), u.NumFields()) - 1; i >= 0; i-- {
		f := t.Fields[i]
		if inner := m.Type(f.Type); inner != nil && f.Offset <= offset && offset < f.Offset+max(inner.Size, 1) {
			return i, inner, true
		}
	}
	return 0, nil, false
}

// backing declares an object of which parts are shared, and returns its name; empty if it is being made.
func (b *builder) backing(o *object, at place) string {
	if !o.isList {
		if o.state == 1 {
			return ""
		}
		return b.reference(o, at)
	}
	switch o.state {
	case 2:
		return o.name
	case 1:
		return ""
	}
	o.state, o.name = 1, b.unique(b.nameFor(o))
	b.declared[o.name] = true
	text, ok := b.typeText(o.gt)
	if !ok {
		b.gap(o.path, "%s cannot be named here", types.TypeString(o.gt, nil))
		return ""
	}
	v := o.value
	v.Address, v.Length, v.Items = o.address, o.length, nil
	list := b.items("[]"+text, o.gt, v, place{path: o.path, lvalue: o.name})
	if o.room > o.length {
		list = fmt.Sprintf("append(make([]%s, 0, %d), %s...)", text, o.room, list)
	}
	b.lines = append(b.lines, o.name+" := "+list)
	o.state = 2
	return o.name
}

func (b *builder) slice(t types.Type, u *types.Slice, v replay.Value, at place, alone bool) string {
	if v.Nil {
		return b.typed(t, "nil", alone)
	}
	name, ok := b.typeText(t)
	if !ok {
		b.gap(at.path, "%s cannot be named here", types.TypeString(t, nil))
		return "nil"
	}
	if v.Length == 0 {
		if v.Capacity > 0 {
			return fmt.Sprintf("make(%s, 0, %d)", name, v.Capacity)
		}
		return name + "{}"
	}
	if e := v.ElemType(); e != nil {
		o := b.objects[spot{v.Address, e.ID, false}]
		if o != nil && (o.refs > 1 || o.within != nil) {
			if expr, ok := b.part(o, e, v, at); ok {
				return expr
			}
		}
	}
	if text, ok := b.bytes(u, v); ok {
		if v.Capacity > v.Length {
			return fmt.Sprintf("append(make(%s, 0, %d), %s...)", name, v.Capacity, text)
		}
		return name + "(" + text + ")"
	}
	list := b.list(t, u.Elem(), v, at)
	if v.Capacity > v.Length {
		return fmt.Sprintf("append(make(%s, 0, %d), %s...)", name, v.Capacity, list)
	}
	return list
}

// bytes writes a list of bytes that are a text as one.
func (b *builder) bytes(u *types.Slice, v replay.Value) (string, bool) {
	if e, ok := u.Elem().Underlying().(*types.Basic); !ok || e.Kind() != types.Uint8 {
		return "", false
	}
	text := make([]byte, 0, min(v.Length, 1<<20))
	for i := range v.Length {
		x := v.Element(i)
		if x.State != event.Known || x.Uint < 0x20 && x.Uint != '\n' && x.Uint != '\t' || x.Uint > 0x7e {
			return "", false
		}
		text = append(text, byte(x.Uint))
	}
	return quote(string(text)), true
}

// part writes a slice of an array that is shared.
func (b *builder) part(o *object, e *event.Type, v replay.Value, at place) (string, bool) {
	outer := o.root()
	name, shift := "", uint64(0)
	if outer.isList && outer.of == e.ID {
		name, shift = b.backing(outer, at), (v.Address-outer.address)/e.Size
		if name != "" && shift == 0 && v.Length == outer.length && v.Capacity >= outer.room {
			return name, true
		}
	} else if array, open, ok := b.inside(o, e, at); ok && !open {
		i := strings.LastIndexByte(array, '[') // the slice begins at an element of an array
		if i < 0 {
			return "", false
		}
		n, err := strconv.ParseUint(array[i+1:len(array)-1], 10, 64)
		if err != nil {
			return "", false
		}
		name, shift = array[:i], n
	}
	if name == "" {
		return "", false
	}
	bounds := fmt.Sprintf("[%d:%d", shift, shift+v.Length)
	if shift == 0 {
		bounds = fmt.Sprintf("[:%d", v.Length)
	}
	if v.Capacity >= v.Length && (!outer.isList || v.Capacity+shift < outer.room) {
		bounds = fmt.Sprintf("[%d:%d:%d", shift, shift+v.Length, shift+v.Capacity)
	}
	return name + bounds + "]", true
}

// list writes a literal of elements.
func (b *builder) list(t, elem types.Type, v replay.Value, at place) string {
	text, ok := b.typeText(t)
	if !ok {
		b.gap(at.path, "%s cannot be named here", types.TypeString(t, nil))
		return b.zero(t)
	}
	return b.items(text, elem, v, at)
}

// inOneFunction is the largest number of parts of a literal in one function. The time to compile a function grows faster than its
// length.
const inOneFunction = 100

// items writes a literal of elements, one a line if they are long.
func (b *builder) items(text string, elem types.Type, v replay.Value, at place) string {
	var parts []string
	last := 0 // behind the last element that is not zero
	isArray := v.Form() == event.Array
	for i := range v.Length {
		x := v.Element(i)
		parts = append(parts, b.short(elem, b.expr(elem, x, at.index(strconv.FormatUint(i, 10)), false)))
		if !isArray || !isZero(elem, x) {
			last = len(parts)
		}
	}
	parts = parts[:last]
	if _, isBasic := elem.Underlying().(*types.Basic); isBasic || isArray || len(parts) <= inOneFunction {
		return text + braces(parts)
	}
	var chunks []string
	for chunk := range slices.Chunk(parts, inOneFunction) {
		chunks = append(chunks, "func() "+text+" {\nreturn "+text+braces(chunk)+"\n}()")
	}
	return b.use("slices", "slices") + ".Concat(\n" + strings.Join(chunks, ",\n") + ",\n)"
}

// short leaves off the type of an element's literal, where Go allows it.
func (b *builder) short(elem types.Type, expr string) string {
	if _, isPointer := elem.(*types.Pointer); isPointer {
		if text, ok := b.typeText(elem.(*types.Pointer).Elem()); ok && strings.HasPrefix(expr, "&"+text+"{") {
			return expr[len("&"+text):]
		}
		return expr
	}
	switch elem.Underlying().(type) {
	case *types.Struct, *types.Slice, *types.Array, *types.Map:
		if text, ok := b.typeText(elem); ok && strings.HasPrefix(expr, text+"{") && closes(expr[len(text):]) {
			return expr[len(text):]
		}
	}
	return expr
}

// closes reports whether the brace that a text begins with is closed at its end.
func closes(text string) bool {
	return strings.HasSuffix(text, "}")
}

const longLine = 120

// braces writes parts of a literal.
func braces(parts []string) string {
	one := "{" + strings.Join(parts, ", ") + "}"
	if len(one) <= longLine && !strings.Contains(one, "\n") {
		return one
	}
	return "{\n" + strings.Join(parts, ",\n") + ",\n}"
}

func (b *builder) mapped(t types.Type, u *types.Map, v replay.Value, at place, alone bool) string {
	if v.Nil {
		return b.typed(t, "nil", alone)
	}
	if o := b.objects[spot{v.Address, v.Type.ID, true}]; o != nil && o.refs > 1 {
		return b.reference(o, at)
	}
	return b.entries(t, u, v, at)
}

// entries writes a literal of a map.
func (b *builder) entries(t types.Type, u *types.Map, v replay.Value, at place) string {
	text, ok := b.typeText(t)
	if !ok {
		b.gap(at.path, "%s cannot be named here", types.TypeString(t, nil))
		return "nil"
	}
	pairs, all := v.Memory.Entries(v.Address, v.Type)
	if !all {
		b.gap(at.path, "not all entries are known")
	}
	var parts []string
	for i := 0; i+1 < len(pairs); i += 2 {
		key := v.With(pairs[i])
		if key.State != event.Known {
			b.gap(at.path, "a key is not known")
			continue
		}
		k := b.expr(u.Key(), key, place{path: at.path + " key"}, false)
		x := b.expr(u.Elem(), v.With(pairs[i+1]), at.index(k), false)
		parts = append(parts, b.short(u.Key(), k)+": "+b.short(u.Elem(), x))
	}
	if len(parts) > inOneFunction {
		return b.chunked(text, parts)
	}
	return text + braces(parts)
}

// chunked writes a large map as the union of smaller ones.
func (b *builder) chunked(text string, parts []string) string {
	out := "func() " + text + " {\nall := " + text + "{}\n"
	for chunk := range slices.Chunk(parts, inOneFunction) {
		out += "func() {\n" + b.use("maps", "maps") + ".Copy(all, " + text + braces(chunk) + ")\n}()\n"
	}
	return out + "return all\n}()"
}

// structure writes a literal of a struct. Fields that are zero are left off.
func (b *builder) structure(t types.Type, u *types.Struct, v replay.Value, at place, alone bool) string {
	text, ok := b.typeText(t)
	if !ok {
		b.gap(at.path, "%s cannot be named here", types.TypeString(t, nil))
		return b.zero(t)
	}
	var parts []string
	for i := range u.NumFields() {
		f, x := u.Field(i), v.With(v.Items[i])
		if f.Name() == "_" || isZero(f.Type(), x) {
			continue
		}
		if !f.Exported() && f.Pkg() != b.m.pkg.Types {
			b.setField(f, x, at)
			continue
		}
		value := b.expr(f.Type(), x, at.field(f.Name()), false)
		if value == b.zero(f.Type()) {
			continue // a gap, or a reference that is set later
		}
		parts = append(parts, f.Name()+": "+value)
	}
	return text + braces(parts)
}

// setField sets an unexported field of another package's struct after it was made.
func (b *builder) setField(f *types.Var, x replay.Value, at place) {
	if x.State == event.Unrecorded || x.State == event.MayHaveChanged && x.Last == nil {
		b.gap(at.path+"."+f.Name(), "%s", unknown(x))
		return
	}
	if at.lvalue == "" {
		b.gap(at.path+"."+f.Name(), "a field of another package that cannot be set here")
		return
	}
	if _, ok := b.typeText(f.Type()); !ok {
		under := f.Type().Underlying() // a value of it is converted by the helper
		switch under.(type) {
		case *types.Basic, *types.Slice, *types.Map:
		default:
			b.gap(at.path+"."+f.Name(), "%s cannot be named here", types.TypeString(f.Type(), nil))
			return
		}
		if _, ok := b.typeText(under); !ok {
			b.gap(at.path+"."+f.Name(), "%s cannot be named here", types.TypeString(f.Type(), nil))
			return
		}
		b.set(f, b.expr(under, x, place{path: at.path + "." + f.Name()}, true), at)
		return
	}
	// What is set within the field comes after the field itself.
	before := len(b.fixes)
	lvalue, _ := b.fieldOf(at.address(), f)
	value := b.expr(f.Type(), x, place{path: at.path + "." + f.Name(), lvalue: lvalue, setter: setterOf(f, at)}, true)
	if value == "nil" || value == b.typed(f.Type(), b.zero(f.Type()), true) {
		return // a gap, or a reference that is set later
	}
	within := slices.Clone(b.fixes[before:])
	b.fixes = b.fixes[:before]
	b.set(f, value, at)
	b.fixes = append(b.fixes, within...)
}

func (b *builder) set(f *types.Var, value string, at place) {
	b.fixes = append(b.fixes, setterOf(f, at)+value+")")
}

// setterOf is the beginning of a call of the helper that sets a field.
func setterOf(f *types.Var, at place) string {
	return fmt.Sprintf("setField(%s, %q, ", at.address(), f.Name())
}

// dynamic writes what an interface holds.
func (b *builder) dynamic(t types.Type, v replay.Value, at place, alone bool) string {
	if v.Nil {
		return b.typed(t, "nil", alone)
	}
	inner := v.With(v.Items[0])
	if expr, ok := b.special(inner, at); ok {
		return expr
	}
	of := b.m.typeNamed(inner.Value)
	if of == nil {
		return b.replaced(t, inner, at, alone)
	}
	if !types.AssignableTo(of, t) {
		b.gap(at.path, "%s does not implement its interface in the source", inner.TypeName())
		return b.typed(t, "nil", alone)
	}
	if _, ok := b.typeText(of); !ok {
		return b.replaced(t, inner, at, alone)
	}
	return b.expr(of, inner, place{path: at.path, lvalue: b.asserted(of, at)}, true)
}

// asserted returns the lvalue of what an interface holds, where parts of it can be assigned to.
func (b *builder) asserted(of types.Type, at place) string {
	text, ok := b.typeText(of)
	if _, isPointer := of.Underlying().(*types.Pointer); !isPointer || !ok || at.lvalue == "" {
		return ""
	}
	return at.lvalue + ".(" + text + ")"
}

// replaced writes a stand-in for what an interface holds, or leaves it nil with a gap.
func (b *builder) replaced(t types.Type, inner replay.Value, at place, alone bool) string {
	if b.standsFor != nil {
		if expr, ok := b.standsFor(t, inner, at.path); ok {
			return expr
		}
	}
	b.gap(at.path, "%s cannot be named here", inner.TypeName())
	return b.typed(t, "nil", alone)
}

// known reports whether a pointer is to something that a function of its package makes.
func (b *builder) known(v replay.Value) bool {
	name := v.Type.Name
	return name == "*errors.errorString" || strings.HasPrefix(name, "*context.") || name == "*time.Location"
}

// sentinels are errors that programs compare with by address.
var sentinels = map[string][2]string{
	"EOF": {"io", "EOF"}, "unexpected EOF": {"io", "ErrUnexpectedEOF"}, "file does not exist": {"io/fs", "ErrNotExist"}, "file already exists": {"io/fs", "ErrExist"},
	"permission denied": {"io/fs", "ErrPermission"}, "file already closed": {"io/fs", "ErrClosed"}, "context canceled": {"context", "Canceled"},
}

// special writes values that a function of their package makes: errors, contexts.
func (b *builder) special(v replay.Value, at place) (expr string, ok bool) {
	if v.State != event.Known || v.Type == nil {
		return "", false
	}
	switch v.Type.Name {
	case "*errors.errorString":
		if v.Nil {
			return "", false
		}
		if name := b.globalAt(v.Address); name != "" {
			return name, true
		}
		text := v.Field("s")
		if text.State != event.Known || text.Whole > 0 {
			b.gap(at.path, "the text of the error is not known")
		}
		if s, ok := sentinels[text.Value.Text]; ok {
			return b.use(s[0], s[0][strings.LastIndexByte(s[0], '/')+1:]) + "." + s[1], true
		}
		o := b.meet(spot{v.Address, v.Type.Elem, false}, v, types.Universe.Lookup("error").Type(), at.path)
		if o.state == 0 {
			o.state, o.name = 2, b.unique("err")
			b.lines = append(b.lines, o.name+" := "+b.use("errors", "errors")+".New("+quote(text.Value.Text)+")")
		}
		return o.name, true
	case "*fmt.wrapError":
		if v.Nil {
			return "", false
		}
		return b.wrapped(v, at)
	case "context.backgroundCtx":
		return b.use("context", "context") + ".Background()", true
	case "context.todoCtx":
		return b.use("context", "context") + ".TODO()", true
	case "*context.cancelCtx", "*context.timerCtx":
		b.gap(at.path, "whether the context was cancelled is not recorded; one that is not is used")
		return b.use("context", "context") + ".Background()", true
	case "*context.valueCtx":
		return b.valueContext(v, at)
	}
	return "", false
}

// wrapped writes an error that fmt.Errorf made with %w.
func (b *builder) wrapped(v replay.Value, at place) (string, bool) {
	d := v.Deref()
	message, err := d.Field("msg"), d.Field("err")
	if message.State != event.Known || message.Whole > 0 {
		b.gap(at.path, "the text of the error is not known")
		return b.use("errors", "errors") + `.New("")`, true
	}
	inner := b.expr(types.Universe.Lookup("error").Type(), err, place{path: at.path + ".err"}, false)
	text := message.Value.Text
	if cause, ok := errorText(err); ok && cause != "" && strings.Contains(text, cause) {
		i := strings.LastIndex(text, cause)
		format := strings.ReplaceAll(text[:i], "%", "%%") + "%w" + strings.ReplaceAll(text[i+len(cause):], "%", "%%")
		return b.use("fmt", "fmt") + ".Errorf(" + quote(format) + ", " + inner + ")", true
	}
	b.gap(at.path, "how the error includes its cause is not known")
	return b.use("fmt", "fmt") + ".Errorf(" + quote(strings.ReplaceAll(text, "%", "%%")+" %w") + ", " + inner + ")", true
}

// errorText returns the text of an error of the standard library, as far as its fields have it.
func errorText(v replay.Value) (string, bool) {
	if v.Form() == event.Interface && len(v.Items) == 1 {
		v = v.With(v.Items[0])
	}
	if v.Type == nil {
		return "", false
	}
	name := map[string]string{"*errors.errorString": "s", "*fmt.wrapError": "msg", "*fmt.wrapErrors": "msg"}[v.Type.Name]
	if name == "" {
		return "", false
	}
	text := v.Field(name)
	return text.Value.Text, text.State == event.Known && text.Whole == 0
}

func (b *builder) valueContext(v replay.Value, at place) (string, bool) {
	d := v.Deref()
	anyType := types.Universe.Lookup("any").Type()
	parent, ok := "", false
	if p := d.Field("Context"); len(p.Items) == 1 {
		parent, ok = b.special(p.With(p.Items[0]), at)
	}
	if !ok {
		b.gap(at.path, "the parent of the context is not known; the background context is used")
		parent = b.use("context", "context") + ".Background()"
	}
	key := b.expr(anyType, d.Field("key"), place{path: at.path + ".key"}, false)
	if key == "nil" {
		return parent, true // a gap says why
	}
	return b.use("context", "context") + ".WithValue(" + parent + ", " + key + ", " + b.expr(anyType, d.Field("val"), place{path: at.path + ".val"}, false) + ")", true
}

// function writes a function: its name, or a stand-in that returns what was returned then.
func (b *builder) function(t types.Type, u *types.Signature, v replay.Value, at place, alone bool) string {
	if v.Nil {
		return b.typed(t, "nil", alone)
	}
	_, isNamed := types.Unalias(t).(*types.Named)
	if name, ok := b.m.functionNamed(b, v.Value.Text, u); ok {
		return b.typed(t, name, alone && isNamed)
	}
	if b.stands != nil {
		if expr, ok := b.stands(v.Value.Text, u, v, at.path); ok {
			return b.typed(t, expr, alone && isNamed)
		}
	}
	b.gap(at.path, "the function %s cannot be rebuilt", v.Value.Text)
	return b.typed(t, "nil", alone)
}
