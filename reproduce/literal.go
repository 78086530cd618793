package reproduce

import (
	"cmp"
	"fmt"
	"go/token"
	"go/types"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/calls"
)

// builder writes the statements that make recorded values again. Objects to which several references lead become variables, so
// that they stay shared.
type builder struct {
	m       *module
	names   map[string]bool   // taken in the test
	imports map[string]string // path to name
	gaps    []string
	told    map[string]bool
	lines   []string // statements before the call
	fixes   []string // statements after them: references of cycles, fields of other packages
	objects map[spot]*object
	order   []*object // as they were met
	globals map[uint64]knownGlobal
	call    *replay.MadeCall
	// stands and standsFor write stand-ins for a function, and for what an interface holds.
	stands     func(name string, of *types.Signature, v replay.Value, path string) (expr string, ok bool)
	standsFor  func(t types.Type, inner replay.Value, path string) (expr string, ok bool)
	standTypes map[string]*standType // by the text of the interface
	// standSuffix makes their names unique among the tests of a package.
	standSuffix string
	stood       map[string]bool // names of the types that are replaced
	scanned     map[standKey]bool
	declared    map[string]bool // names of objects
	parts       int
	full        bool // too many parts
}

// mostParts limits the parts of what a test builds.
const mostParts = 200_000

// spot is where an object is.
type spot struct {
	address uint64
	of      event.TypeID
	isMap   bool
}

// object is memory to which references lead: what a pointer points to, a map, or the array of a slice.
type object struct {
	spot
	size   uint64
	value  replay.Value // for an array one of its slices
	gt     types.Type   // type of what is there; for an array that of its elements
	path   string       // of the first reference
	refs   int
	isList bool
	length uint64 // of an array: known elements and capacity
	room   uint64
	within *object // a larger one that it is a part of
	name   string
	state  int // 0, being made, made
}

func newBuilder(m *module) *builder {
	b := &builder{m: m, names: map[string]bool{}, imports: map[string]string{}, told: map[string]bool{}, objects: map[spot]*object{}, globals: map[uint64]knownGlobal{}, declared: map[string]bool{},
		standTypes: map[string]*standType{}, stood: map[string]bool{}, scanned: map[standKey]bool{}}
	for _, name := range append(m.pkg.Types.Scope().Names(), types.Universe.Names()...) {
		b.names[name] = true
	}
	for _, f := range m.pkg.Syntax { // the names of its imports stay free for them
		for _, i := range f.Imports {
			if i.Name != nil {
				b.names[i.Name.Name] = true
			}
		}
	}
	return b
}

// gap notes something that cannot be rebuilt, once.
func (b *builder) gap(path, format string, args ...any) {
	text := path + ": " + fmt.Sprintf(format, args...)
	if !b.told[text] {
		b.told[text] = true
		b.gaps = append(b.gaps, text)
	}
}

// unique returns a name that is not taken, like the given one.
func (b *builder) unique(name string) string {
	if !token.IsIdentifier(name) || name == "_" {
		name = "value"
	}
	for n, try := 2, name; ; n++ {
		if !b.names[try] {
			b.names[try] = true
			return try
		}
		try = name + strconv.Itoa(n)
	}
}

// use imports a package and returns its name in the test.
func (b *builder) use(path, name string) string {
	if have, ok := b.imports[path]; ok {
		return have
	}
	b.imports[path] = name
	for n := 2; b.taken(path, b.imports[path]); n++ {
		b.imports[path] = name + strconv.Itoa(n)
	}
	b.names[b.imports[path]] = true
	return b.imports[path]
}

func (b *builder) taken(path, name string) bool {
	for other, have := range b.imports {
		if other != path && have == name {
			return true
		}
	}
	return b.names[name]
}

// typeText writes a type. ok is false if it cannot be named here.
func (b *builder) typeText(t types.Type) (text string, ok bool) {
	ok = b.nameable(t, 0)
	return types.TypeString(t, func(p *types.Package) string {
		if p == b.m.pkg.Types || !ok {
			return ""
		}
		return b.use(p.Path(), p.Name())
	}), ok
}

// typeList writes types with commas between them.
func (b *builder) typeList(list []types.Type) (text string, ok bool) {
	var out []string
	for _, t := range list {
		x, ok := b.typeText(t)
		if !ok {
			return "", false
		}
		out = append(out, x)
	}
	return strings.Join(out, ", "), true
}

// nameable reports whether a type can be named in the package of the test.
func (b *builder) nameable(t types.Type, depth int) bool {
	if depth > 20 {
		return false
	}
	all := func(list ...types.Type) bool {
		return !slices.ContainsFunc(list, func(t types.Type) bool { return !b.nameable(t, depth+1) })
	}
	switch t := t.(type) {
	case *types.Alias:
		return b.accessible(t.Obj()) || all(types.Unalias(t))
	case *types.Named:
		for a := range t.TypeArgs().Types() {
			if !all(a) {
				return false
			}
		}
		return t.Obj().Pkg() == nil || b.accessible(t.Obj())
	case *types.Pointer:
		return all(t.Elem())
	case *types.Slice:
		return all(t.Elem())
	case *types.Array:
		return all(t.Elem())
	case *types.Chan:
		return all(t.Elem())
	case *types.Map:
		return all(t.Key(), t.Elem())
	case *types.Signature:
		for v := range t.Params().Variables() {
			if !all(v.Type()) {
				return false
			}
		}
		for v := range t.Results().Variables() {
			if !all(v.Type()) {
				return false
			}
		}
	case *types.Struct:
		for f := range t.Fields() {
			if !all(f.Type()) || !f.Exported() && f.Pkg() != b.m.pkg.Types {
				return false
			}
		}
	case *types.Interface:
		for f := range t.Methods() {
			if !f.Exported() && f.Pkg() != b.m.pkg.Types {
				return false
			}
		}
	case *types.TypeParam:
		return false
	}
	return true
}

// accessible reports whether an object of a package's scope can be named in the test.
func (b *builder) accessible(o types.Object) bool {
	p := o.Pkg()
	if p == nil || p == b.m.pkg.Types {
		return p == nil || o.Parent() == p.Scope()
	}
	return o.Exported() && o.Parent() == p.Scope() && b.importable(p)
}

// importable reports whether the package of the test may import another one (Go command documentation, section Internal
// Directories).
func (b *builder) importable(p *types.Package) bool {
	if p.Name() == "main" {
		return false
	}
	path := "/" + p.Path() + "/"
	i := strings.LastIndex(path, "/internal/")
	if i < 0 {
		return !strings.HasPrefix(p.Path(), "vendor/")
	}
	parent := strings.Trim(path[:i], "/")
	own := b.m.pkg.Types.Path()
	return parent != "" && (own == parent || strings.HasPrefix(own, parent+"/"))
}

// scan meets a value and all that it refers to, before anything is written.
func (b *builder) scan(t types.Type, v replay.Value, path string) {
	if b.parts++; b.parts > mostParts {
		b.full = true
		return
	}
	if v.State != event.Known || v.Type == nil || v.Nil || isSpecial(t) || !matches(t, v.Value) {
		return
	}
	switch u := t.Underlying().(type) {
	case *types.Pointer:
		if b.globalAt(v.Address) != "" || b.known(v) {
			return
		}
		o := b.meet(spot{v.Address, v.Type.Elem, false}, v, u.Elem(), path)
		if o.refs == 1 {
			d := v.Deref()
			if d.Type != nil {
				o.size = d.Type.Size
			}
			o.value = d
			b.scan(u.Elem(), d, pathOf(path, d))
		}
	case *types.Map:
		o := b.meet(spot{v.Address, v.Type.ID, true}, v, t, path)
		if o.refs == 1 {
			pairs, _ := v.Memory.Entries(v.Address, v.Type)
			for i := 0; i+1 < len(pairs); i += 2 {
				key := v.With(pairs[i])
				b.scan(u.Key(), key, path+" key")
				b.scan(u.Elem(), v.With(pairs[i+1]), path+"["+key.Text()+"]")
			}
		}
	case *types.Slice:
		e := v.ElemType()
		if v.Length == 0 || e == nil || e.Size == 0 {
			return
		}
		o := b.meet(spot{v.Address, e.ID, false}, v, u.Elem(), path)
		o.isList = true
		from := o.length
		o.length, o.room = max(o.length, v.Length), max(o.room, v.Capacity, v.Length)
		o.size = o.room * e.Size
		if v.Length >= o.value.Length {
			o.value = v
		}
		for i := from; i < v.Length && !b.full; i++ {
			b.scan(u.Elem(), v.Element(i), path+"["+strconv.FormatUint(i, 10)+"]")
		}
	case *types.Array:
		for i := range uint64(max(u.Len(), 0)) {
			b.scan(u.Elem(), v.Element(i), path+"["+strconv.FormatUint(i, 10)+"]")
		}
	case *types.Struct:
		for i := range min(u.NumFields(), len(v.Items)) {
			b.scan(u.Field(i).Type(), v.With(v.Items[i]), path+"."+u.Field(i).Name())
		}
	case *types.Interface:
		inner := v.With(v.Items[0])
		switch dynamic := b.m.typeNamed(inner.Value); {
		case dynamic == nil || !b.nameable(dynamic, 0):
			b.scanStandIn(t, inner, path)
		default:
			b.scan(dynamic, inner, path)
		}
	case *types.Signature:
		if b.call != nil {
			b.scanReturned(calledLike(b.call, v.Value.Text), u, path)
		}
	}
}

func pathOf(path string, d replay.Value) string {
	if d.Form() == event.Struct {
		return path
	}
	return "*" + path
}

func (b *builder) meet(at spot, v replay.Value, gt types.Type, path string) *object {
	o, ok := b.objects[at]
	if !ok {
		o = &object{spot: at, value: v, gt: gt, path: path}
		b.objects[at] = o
		b.order = append(b.order, o)
	}
	o.refs++
	return o
}

// nest finds objects that are parts of others, and merges arrays that overlap.
func (b *builder) nest() {
	var list []*object
	for _, o := range b.order {
		if !o.isMap && o.size > 0 {
			list = append(list, o)
		}
	}
	slices.SortStableFunc(list, func(a, b *object) int {
		return cmp.Or(cmp.Compare(a.address, b.address), cmp.Compare(b.size, a.size))
	})
	for i, o := range list {
		for j := i - 1; j >= 0 && i-j < 64; j-- {
			outer := list[j].root()
			if o.address+o.size <= outer.address+outer.size && outer != o && o.address >= outer.address {
				o.within = outer
				outer.refs += o.refs
				break
			}
			if outer.isList && o.isList && outer.of == o.of && o.address < outer.address+outer.size && outer.value.ElemType() != nil {
				shift := (o.address - outer.address) / outer.value.ElemType().Size
				outer.length, outer.room = max(outer.length, shift+o.length), max(outer.room, shift+o.room)
				outer.size = outer.room * outer.value.ElemType().Size
				o.within = outer
				outer.refs += o.refs
				break
			}
		}
	}
}

func (o *object) root() *object {
	for o.within != nil {
		o = o.within
	}
	return o
}

// isSpecial reports whether values of a type are made by a function, and not from their fields.
func isSpecial(t types.Type) bool {
	n, ok := types.Unalias(t).(*types.Named)
	return ok && n.Obj().Pkg() != nil && n.Obj().Pkg().Path() == "time" && n.Obj().Name() == "Time"
}

// isOpaque reports whether the contents of a type are never recorded: locks, atomics, tests.
func isOpaque(t types.Type) bool {
	n, ok := types.Unalias(t).(*types.Named)
	if !ok || n.Obj().Pkg() == nil {
		return false
	}
	switch n.Obj().Pkg().Path() {
	case "sync", "sync/atomic", "testing":
		_, isStruct := n.Underlying().(*types.Struct)
		return isStruct
	}
	return false
}

// matches reports whether a recorded value has the form of a type of the source.
func matches(t types.Type, v event.Value) bool {
	form := v.Form()
	switch u := t.Underlying().(type) {
	case *types.Basic:
		switch info := u.Info(); {
		case info&types.IsBoolean != 0:
			return form == event.Bool
		case info&types.IsUnsigned != 0:
			return form == event.Uint
		case info&types.IsInteger != 0:
			return form == event.Int
		case info&types.IsFloat != 0:
			return form == event.Float
		case info&types.IsComplex != 0:
			return form == event.Complex
		case info&types.IsString != 0:
			return form == event.Text
		}
		return form == event.Opaque
	case *types.Pointer:
		return form == event.Pointer
	case *types.Map:
		return form == event.Map
	case *types.Slice:
		return form == event.Slice
	case *types.Array:
		return form == event.Array && v.Type.Length == uint64(u.Len())
	case *types.Struct:
		if form != event.Struct {
			return false
		}
		if isOpaque(t) {
			return true
		}
		if u.NumFields() != len(v.Type.Fields) {
			return false
		}
		for i, f := range v.Type.Fields {
			if u.Field(i).Name() != f.Name {
				return false
			}
		}
		return true
	case *types.Interface:
		return form == event.Interface && (v.Nil || len(v.Items) == 1 && v.Items[0].Type != nil)
	case *types.Signature:
		return form == event.Func
	case *types.Chan:
		return form == event.Chan
	}
	return false
}

// zero writes the zero value of a type.
func (b *builder) zero(t types.Type) string {
	switch u := t.Underlying().(type) {
	case *types.Basic:
		switch {
		case u.Info()&types.IsBoolean != 0:
			return "false"
		case u.Info()&types.IsString != 0:
			return `""`
		case u.Info()&types.IsNumeric != 0:
			return "0"
		}
		return "nil"
	case *types.Struct, *types.Array:
		text, _ := b.typeText(t)
		return text + "{}"
	}
	return "nil"
}

// isZero reports whether a value is known and the zero value of its type, so that a field can be left off.
func isZero(t types.Type, v replay.Value) bool {
	if isOpaque(t) {
		return true
	}
	if v.State != event.Known || v.Type == nil {
		return false
	}
	switch v.Form() {
	case event.Bool, event.Uint:
		return v.Uint == 0
	case event.Int:
		return v.Int == 0
	case event.Float:
		return math.Float64bits(v.Float) == 0
	case event.Complex:
		return math.Float64bits(v.Float) == 0 && math.Float64bits(v.Imag) == 0
	case event.Text:
		return v.Value.Text == "" && v.Whole == 0
	case event.Struct:
		u, ok := t.Underlying().(*types.Struct)
		if !ok || u.NumFields() != len(v.Items) {
			return false
		}
		for i := range v.Items {
			if !isZero(u.Field(i).Type(), v.With(v.Items[i])) {
				return false
			}
		}
		return true
	case event.Array:
		u, ok := t.Underlying().(*types.Array)
		if !ok {
			return false
		}
		for i := range uint64(max(u.Len(), 0)) {
			if !isZero(u.Elem(), v.Element(i)) {
				return false
			}
		}
		return true
	}
	return v.Nil
}

// knownGlobal is a package variable that refers to an object. It stands for the object if that is as the initialisation left it.
type knownGlobal struct {
	name    string
	isFresh func() bool
}

// globalAt returns the package variable that stands for the object at an address, empty if there is none.
func (b *builder) globalAt(address uint64) string {
	if g, ok := b.globals[address]; ok && g.isFresh() {
		return g.name
	}
	return ""
}

// place is where an expression is written: path names it for gaps, and lvalue is how it is reached in the test once it is
// built; empty if it cannot be assigned to. isPointer is set if the lvalue is a pointer to it.
type place struct {
	path, lvalue string
	isPointer    bool
	// setter is the beginning of a call that sets the place, where that is shorter than an assignment.
	setter string
}

// address returns the address of the place.
func (p place) address() string {
	if p.isPointer {
		return p.lvalue
	}
	return addressOf(p.lvalue)
}

// addressOf returns the address of an lvalue; of (*p) that is p.
func addressOf(lvalue string) string {
	if inner, ok := strings.CutPrefix(lvalue, "(*fieldOf("); ok {
		if inner, ok = strings.CutSuffix(inner, "))"); ok {
			return "fieldOf(" + inner + ")"
		}
	}
	return "&" + lvalue
}

// assign returns a statement that gives the place a value.
func (p place) assign(value string) string {
	if p.setter != "" {
		return p.setter + value + ")"
	}
	return p.lvalue + " = " + value
}

func (p place) field(name string) place {
	q := place{path: p.path + "." + name}
	if p.lvalue != "" {
		q.lvalue = p.lvalue + "." + name
	}
	return q
}

func (p place) index(i string) place {
	q := place{path: p.path + "[" + i + "]"}
	if p.lvalue != "" {
		q.lvalue = p.lvalue + "[" + i + "]"
	}
	return q
}

// expr writes a value. If alone is set, the expression has the type by itself; else it is written where the type is known.
func (b *builder) expr(t types.Type, v replay.Value, at place, alone bool) string {
	if isOpaque(t) {
		return b.zero(t)
	}
	if v.State == event.MayHaveChanged && v.Last != nil {
		b.gap(at.path, "code that is not recorded may have changed it since; the last known value is used")
		v = v.With(*v.Last)
	}
	if v.State != event.Known || v.Type == nil {
		b.gap(at.path, "%s; the zero value is used", unknown(v))
		return b.typed(t, b.zero(t), alone)
	}
	if !matches(t, v.Value) {
		text, _ := b.typeText(t)
		b.gap(at.path, "is a %s in the recording and a %s in the source", v.TypeName(), text)
		return b.typed(t, b.zero(t), alone)
	}
	if isSpecial(t) {
		return b.time(v, at)
	}
	switch u := t.Underlying().(type) {
	case *types.Basic:
		return b.basic(t, u, v, at, alone)
	case *types.Pointer:
		return b.pointer(t, u, v, at, alone)
	case *types.Map:
		return b.mapped(t, u, v, at, alone)
	case *types.Slice:
		return b.slice(t, u, v, at, alone)
	case *types.Array:
		return b.list(t, u.Elem(), v, at)
	case *types.Struct:
		return b.structure(t, u, v, at, alone)
	case *types.Interface:
		return b.dynamic(t, v, at, alone)
	case *types.Signature:
		return b.function(t, u, v, at, alone)
	}
	if v.Nil {
		return b.typed(t, "nil", alone)
	}
	b.gap(at.path, "a channel cannot be rebuilt; an empty one is used")
	text, ok := b.typeText(t)
	if !ok {
		return "nil"
	}
	return "make(" + text + ", " + strconv.FormatUint(max(v.Capacity, 1), 10) + ")"
}

// unknown says why a value is not known, and what would have kept it.
func unknown(v replay.Value) string {
	switch {
	case v.State == event.Redacted:
		return "it was redacted (record with --redact none)"
	case v.Whole > 0:
		return "only its beginning was recorded"
	case v.Value.Text != "":
		return v.Value.Text
	}
	return "it was not recorded (record with --detail values, and --packages for what other modules change)"
}

// typed converts an expression, if it has to have its type by itself.
func (b *builder) typed(t types.Type, expr string, alone bool) string {
	if !alone {
		return expr
	}
	if basic, ok := t.(*types.Basic); ok {
		plain := map[types.BasicKind]bool{types.Bool: true, types.String: true}
		if plain[basic.Kind()] || basic.Kind() == types.Int && strings.Trim(expr, "-0123456789") == "" || basic.Kind() == types.Float64 && strings.ContainsAny(expr, ".e") && !strings.Contains(expr, "(") {
			return expr
		}
	}
	text, ok := b.typeText(t)
	if !ok || strings.HasSuffix(expr, "{}") && expr != "struct{}{}" && strings.HasPrefix(expr, text) {
		return expr
	}
	if strings.ContainsAny(text, "*<(") {
		text = "(" + text + ")"
	}
	return text + "(" + expr + ")"
}

func (b *builder) basic(t types.Type, u *types.Basic, v replay.Value, at place, alone bool) string {
	switch v.Form() {
	case event.Bool:
		return b.typed(t, strconv.FormatBool(v.Uint != 0), alone)
	case event.Int:
		if isDuration(t) {
			return b.duration(v.Int)
		}
		if constant := b.constant(t, strconv.FormatInt(v.Int, 10)); constant != "" {
			return constant
		}
		if u.Kind() == types.Int32 && alone && types.Unalias(t) == types.Typ[types.Int32] && v.Int >= 0x20 && v.Int < 0x7f {
			return strconv.QuoteRune(rune(v.Int))
		}
		return b.typed(t, strconv.FormatInt(v.Int, 10), alone)
	case event.Uint:
		if u.Kind() == types.Uintptr && v.Uint != 0 {
			b.gap(at.path, "is an address of the recorded process")
		}
		if constant := b.constant(t, strconv.FormatUint(v.Uint, 10)); constant != "" {
			return constant
		}
		return b.typed(t, strconv.FormatUint(v.Uint, 10), alone)
	case event.Float:
		return b.typed(t, b.float(v.Float, int(v.Type.Size)*8), alone)
	case event.Complex:
		bits := int(v.Type.Size) * 4
		return b.typed(t, "complex("+b.float(v.Float, bits)+", "+b.float(v.Imag, bits)+")", alone)
	case event.Text:
		if v.Whole > 0 {
			b.gap(at.path, "only the first %d of %d bytes were recorded", len(v.Value.Text), v.Whole)
		}
		if constant := b.constant(t, strconv.Quote(v.Value.Text)); constant != "" {
			return constant
		}
		return b.typed(t, quote(v.Value.Text), alone)
	}
	b.gap(at.path, "an unsafe pointer cannot be rebuilt")
	return b.typed(t, "nil", alone)
}

// quote writes a text as a person would: raw if it has lines, or many quotation marks.
func quote(s string) string {
	if (strings.Count(s, "\n") > 1 || strings.Count(s, `"`) > 2) && strconv.CanBackquote(strings.ReplaceAll(strings.ReplaceAll(s, "\n", ""), "\t", "")) && !strings.Contains(s, "\r") {
		return "`" + s + "`"
	}
	return strconv.Quote(s)
}

func (b *builder) float(f float64, bits int) string {
	switch {
	case math.IsNaN(f):
		return b.use("math", "math") + ".NaN()"
	case math.IsInf(f, 0):
		return b.use("math", "math") + ".Inf(" + map[bool]string{true: "1", false: "-1"}[f > 0] + ")"
	case f == 0 && math.Signbit(f):
		return b.use("math", "math") + ".Copysign(0, -1)"
	}
	text := calls.Float(f, bits)
	if strings.Trim(text, "-0123456789") == "" {
		text += ".0"
	}
	return text
}

// constant returns the name of the only constant of a named type with a value; empty if there is none.
func (b *builder) constant(t types.Type, exact string) string {
	n, ok := types.Unalias(t).(*types.Named)
	if !ok || n.Obj().Pkg() == nil {
		return ""
	}
	found := ""
	scope := n.Obj().Pkg().Scope()
	for _, name := range scope.Names() {
		c, ok := scope.Lookup(name).(*types.Const)
		if !ok || !types.Identical(c.Type(), t) || c.Val().ExactString() != exact || !b.accessible(c) {
			continue
		}
		if found != "" {
			return "" // which of them is meant is not known
		}
		found = name
		if c.Pkg() != b.m.pkg.Types {
			found = b.use(c.Pkg().Path(), c.Pkg().Name()) + "." + name
		}
	}
	return found
}

func isDuration(t types.Type) bool {
	n, ok := types.Unalias(t).(*types.Named)
	return ok && n.Obj().Pkg() != nil && n.Obj().Pkg().Path() == "time" && n.Obj().Name() == "Duration"
}

func (b *builder) duration(n int64) string {
	p := b.use("time", "time")
	for _, unit := range []struct {
		name string
		of   time.Duration
	}{{"Hour", time.Hour}, {"Minute", time.Minute}, {"Second", time.Second}, {"Millisecond", time.Millisecond}, {"Microsecond", time.Microsecond}} {
		if n != 0 && n%int64(unit.of) == 0 {
			if n == int64(unit.of) {
				return p + "." + unit.name
			}
			return fmt.Sprintf("%d * %s.%s", n/int64(unit.of), p, unit.name)
		}
	}
	return fmt.Sprintf("%s.Duration(%d)", p, n)
}

// time writes a time.Time. Its zone is not recorded: a time with a monotonic clock reading comes from time.Now, which gives local
// times.
func (b *builder) time(v replay.Value, at place) string {
	p := b.use("time", "time")
	t, ok := replay.Instant(v.Value)
	if !ok {
		b.gap(at.path, "%s; the zero time is used", unknown(v))
		return p + ".Time{}"
	}
	hasZone := v.Items[2].State == event.Known && !v.Items[2].Nil
	isNow := v.Items[0].Uint>>63 != 0
	switch {
	case t.IsZero() && !hasZone:
		return p + ".Time{}"
	case hasZone && isNow:
		return fmt.Sprintf("%s.Unix(%d, %d)", p, t.Unix(), t.Nanosecond())
	case hasZone || v.Items[2].State != event.Known:
		b.gap(at.path, "the zone of the time is not recorded; UTC is used")
	}
	return fmt.Sprintf("%s.Date(%d, %s.%s, %d, %d, %d, %d, %d, %s.UTC)", p, t.Year(), p, t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), p)
}
