package reproduce

import (
	"fmt"
	"go/format"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wraithology/core/replay"
)

// callData is a call as the harness reads it: a line of JSON.
type callData struct {
	Objects []*objectData
	Args    []*node
	Names   []string // of the arguments, empty for those without a recorded value
	Globals []setting
	Stands  [][][]*node // for each stand-in: the results of each of its calls
	Sets    []setting   // suppositions: after everything is built
	Locks   []lockData  // that are taken before the call
	// A call that follows has the objects of the one before, without those that Patch describes again, by their numbers.
	Follows bool
	Patch   map[int]*objectData
	// Expect is what the call is expected to give back, if the harness compares; else it reports what there is.
	Expect *expectation
}

// lockData is a lock within an object.
type lockData struct {
	O        int
	I        uint64 // bytes from the object's beginning
	Read, RW bool   // whether it was taken to read; whether it is a sync.RWMutex
}

// setting is a value for a package variable, or for a path from an argument.
type setting struct {
	Root  string
	Steps []string // fields, and elements as [N]
	Value *node
}

// objectData is an object: K is "v" for what a pointer refers to, "l" for the array of a list, "m" for a map with alternating keys and values.
type objectData struct {
	K string
	T string // key of its type, if its first reference may lead to a part of it
	N []*node
	C uint64 // capacity of a list
	P string `json:",omitempty"` // path, for people
}

// node is a value. K is empty for the zero value.
type node struct {
	K string  `json:",omitempty"`
	V string  `json:",omitempty"` // text, type or name
	N []*node `json:",omitempty"` // parts
	O int     `json:",omitempty"` // object
	I uint64  `json:",omitempty"` // bytes from its beginning
	L uint64  `json:",omitempty"` // length
	C uint64  `json:",omitempty"` // capacity
}

// harness collects the calls of one function for a program that makes them.
type harness struct {
	m       *module
	f       target
	names   map[string]bool
	imports map[string]string
	types   map[string]string // Go expression of each type, by the recorded name
	values  map[string]bool   // package variables that are read or set
	fresh   map[string]bool   // those that the calls expect as the initialisation left them
	funcs   map[string]bool
	// standTypes are the types that stand in for interfaces, by their text; stood the names of the types that are replaced.
	standTypes map[string]*standType
	stood      map[string]bool
	calls      []*callData
	last       *encoder // of the last call
	// counters is the import path of the package that counts conditions; empty if there is none.
	counters string
}

func newHarness(m *module, f target) *harness {
	h := &harness{m: m, f: f, types: map[string]string{}, values: map[string]bool{}, fresh: map[string]bool{}, funcs: map[string]bool{}}
	b := newBuilder(m)
	h.names, h.imports, h.standTypes, h.stood = b.names, b.imports, b.standTypes, b.stood
	for _, p := range []string{"bufio", "encoding/json", "fmt", "math", "os", "reflect", "sort", "strconv", "strings", "sync", "testing", "time", "unsafe"} {
		name := p[strings.LastIndexByte(p, '/')+1:]
		h.imports[p] = "wraithLib" + strings.ToUpper(name[:1]) + name[1:]
	}
	return h
}

// sampled are types that cannot be named, with an expression that has a value of them.
var sampled = map[string][2]string{
	"*errors.errorString":   {"errors", `%[1]s.New("")`},
	"*fmt.wrapError":        {"fmt", `%[1]s.Errorf("%%w", error(nil))`},
	"context.backgroundCtx": {"context", "%[1]s.Background()"},
	"context.todoCtx":       {"context", "%[1]s.TODO()"},
	"*context.valueCtx":     {"context", "%[1]s.WithValue(%[1]s.Background(), 0, 0)"},
}

// add encodes a call. The gaps are what cannot be rebuilt in it.
func (h *harness) add(call replay.MadeCall) (gaps []string) {
	e := newEncoder(h, call)
	h.calls = append(h.calls, e.call())
	h.last = e
	return e.b.gaps
}

// text writes the program's file.
func (h *harness) text() (string, error) {
	entries := func(list []string, value func(string) string) string {
		var out []string
		for _, key := range list {
			out = append(out, strconv.Quote(key)+": "+value(key))
		}
		return "{\n" + strings.Join(append(out, ""), ",\n") + "}"
	}
	counts := "[][2]int{}"
	if h.counters != "" {
		h.imports[h.counters] = countersName
		counts = "&" + countersName + ".All"
	}
	body := "var wraithTypes = map[string]reflect.Type" + entries(slices.Sorted(maps.Keys(h.types)), func(k string) string { return h.types[k] }) + "\n\n" +
		"var wraithValues = map[string]reflect.Value" + entries(slices.Sorted(maps.Keys(h.values)), func(k string) string { return "reflect.ValueOf(&" + k + ").Elem()" }) + "\n\n" +
		"var wraithFresh = []string{" + quotedList(slices.Sorted(maps.Keys(h.fresh))) + "}\n\n" +
		"var wraithFuncs = map[string]reflect.Value" + entries(slices.Sorted(maps.Keys(h.funcs)), func(k string) string { return "reflect.ValueOf(" + k + ")" }) + "\n\n" +
		"var wraithCounts = " + counts + "\n\n" +
		"var wraithFunction = reflect.ValueOf(" + h.expression() + ")\n\n"
	body += standTexts(h.standTypes)
	body = strings.ReplaceAll(body, "reflect.", h.imports["reflect"]+".")
	code := harnessMain + harnessBuild + harnessLeaves + harnessCompare
	used := qualifiers(body)
	var lines []string
	for path, name := range h.imports {
		if strings.HasPrefix(name, "wraithLib") {
			plain := path[strings.LastIndexByte(path, '/')+1:]
			code = qualify(code, plain, name)
		} else if !used[name] {
			continue
		}
		lines = append(lines, name+" "+strconv.Quote(path))
	}
	slices.Sort(lines)
	// The language version of the file, whatever that of the module is (go command documentation, section Build constraints).
	text := "//go:build go1.22\n\npackage " + h.m.pkg.Name + "\n\nimport (\n" + strings.Join(lines, "\n") + "\n)\n\n" + body + code
	formatted, err := format.Source([]byte(text))
	if err != nil {
		return "", fmt.Errorf("write the calls of %s: %w", h.f.Name(), err)
	}
	return string(formatted), nil
}

// qualify replaces a package's name before its members.
func qualify(code, plain, name string) string {
	return regexp.MustCompile(`(^|[^.\w])`+plain+`\.`).ReplaceAllString(code, "${1}"+name+".")
}

func quotedList(list []string) string {
	var out []string
	for _, s := range list {
		out = append(out, strconv.Quote(s))
	}
	return strings.Join(out, ", ")
}

// expression returns the function, or the method as a function of its receiver.
func (h *harness) expression() string {
	b := newBuilder(h.m)
	b.names, b.imports = h.names, h.imports
	recv := h.f.sig.Recv()
	if recv == nil {
		if list, ok := b.typeList(h.f.args); ok && list != "" {
			return h.f.Name() + "[" + list + "]"
		}
		return h.f.Name()
	}
	text, _ := b.typeText(recv.Type())
	return "(" + text + ")." + h.f.Name()
}

// resultPrefix begins the paths of results in a report.
const resultPrefix = "result "

// resultRoot is the path of a result in a report.
func resultRoot(i int) string { return resultPrefix + strconv.Itoa(i+1) }

// harnessMain makes the calls of a file, one line each, and reports each with its number. A call has its goroutine, so that one that ends
// it does not end the others. If a call changes a package variable that others expect as it was, the program ends: the
// rest is for another one.
const harnessMain = `
func TestWraithCalls(t *testing.T) {
	out := bufio.NewWriter(os.NewFile(3, "report"))
	defer out.Flush()
	in, err := os.Open("calls.json")
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<30)
	before := wraithState()
	for i := 0; lines.Scan(); i++ {
		var c wraithCallData
		if err := json.Unmarshal(lines.Bytes(), &c); err != nil {
			t.Fatal(err)
		}
		report := func(format string, args ...any) { fmt.Fprintf(out, "%d "+format+"\n", append([]any{i}, args...)...) }
		report("begin")
		out.Flush()
		for n := range wraithCounts { // not of the initialisation
			wraithCounts[n] = [2]int{}
		}
		done := make(chan bool)
		go func() {
			defer close(done)
			if c.Expect != nil {
				wraithCompare(c, report)
			} else {
				wraithMake(c, report)
			}
			for n, c := range wraithCounts {
				report("%q %q", "condition "+strconv.Itoa(n), fmt.Sprint(c[0], " ", c[1]))
			}
			report("end")
		}()
		<-done
		out.Flush()
		if wraithState() != before {
			return
		}
	}
}

// wraithState stands for the package variables that are to be as the initialisation left them.
func wraithState() string {
	var all strings.Builder
	for _, name := range wraithFresh {
		wraithLeaves(func(format string, args ...any) { fmt.Fprintf(&all, format, args...) }, []string{name}, []reflect.Value{wraithValues[name]})
	}
	return all.String()
}

func wraithMake(c wraithCallData, report func(string, ...any)) {
	b := &wraithBuilder{c: c, built: make([]reflect.Value, len(c.Objects)), called: make([]int, len(c.Stands))}
	of := wraithFunction.Type()
	var args, kept []reflect.Value
	var names []string
	roots := map[string]reflect.Value{}
	for _, g := range c.Globals {
		v := wraithValues[g.Root]
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		defer v.Set(was)
		b.build(v, g.Value)
		names, kept = append(names, g.Root), append(kept, v)
		roots[g.Root] = v
	}
	for i := range of.NumIn() {
		v := reflect.New(of.In(i)).Elem()
		b.build(v, c.Args[i])
		args = append(args, v)
		if c.Names[i] != "" {
			names, kept = append(names, c.Names[i]), append(kept, v)
			roots[c.Names[i]] = v
		}
	}
	for _, s := range c.Sets {
		b.build(wraithStep(roots[s.Root], s.Steps), s.Value)
	}
	b.lock()
	shadow := b.shadow(kept)
	changed := func() {
		if shadow.same() {
			return
		}
		before := map[string]string{}
		wraithLeaves(func(_ string, args ...any) { before[args[0].(string)] = args[1].(string) }, names, c.again(of))
		wraithLeaves(func(format string, args ...any) {
			path, text := args[0].(string), args[1].(string)
			if was, ok := before[path]; !ok || was != text {
				report(format, args...)
			}
			delete(before, path)
		}, names, kept)
		for path := range before {
			report("%q %q", path, "")
		}
	}
	defer func() {
		if value := recover(); value != nil {
			wraithLeaves(report, []string{"panic"}, []reflect.Value{reflect.ValueOf(fmt.Sprint(value))})
			changed()
		}
	}()
	var results []reflect.Value
	if of.IsVariadic() {
		results = wraithFunction.CallSlice(args)
	} else {
		results = wraithFunction.Call(args)
	}
	var resultNames []string
	for i := range results {
		resultNames = append(resultNames, "result "+strconv.Itoa(i+1))
	}
	wraithLeaves(report, resultNames, results)
	changed()
}

// again builds what is looked at after a call once more, as it was before.
func (c wraithCallData) again(of reflect.Type) (kept []reflect.Value) {
	b := &wraithBuilder{c: c, built: make([]reflect.Value, len(c.Objects)), called: make([]int, len(c.Stands))}
	roots := map[string]reflect.Value{}
	for _, g := range c.Globals {
		v := reflect.New(wraithValues[g.Root].Type()).Elem()
		b.build(v, g.Value)
		kept = append(kept, v)
		roots[g.Root] = v
	}
	for i := range of.NumIn() {
		v := reflect.New(of.In(i)).Elem()
		b.build(v, c.Args[i])
		if c.Names[i] != "" {
			kept = append(kept, v)
			roots[c.Names[i]] = v
		}
	}
	for _, s := range c.Sets {
		b.build(wraithStep(roots[s.Root], s.Steps), s.Value)
	}
	return kept
}

// wraithShadow has copies of the bytes of objects and of the entries of maps, to see whether they change.
type wraithShadow struct {
	memory, copies []string
	maps, entries  []reflect.Value
}

func wraithBytes(v reflect.Value) string {
	return unsafe.String((*byte)(unsafe.Pointer(v.UnsafeAddr())), v.Type().Size())
}

func (b *wraithBuilder) shadow(kept []reflect.Value) (s wraithShadow) {
	for i, v := range b.built {
		if !v.IsValid() {
			continue
		}
		switch b.c.Objects[i].K {
		case "v":
			kept = append(kept, v.Elem())
		case "l":
			if n := uintptr(v.Cap()) * v.Type().Elem().Size(); n > 0 {
				s.memory = append(s.memory, unsafe.String((*byte)(v.UnsafePointer()), n))
			}
		case "m":
			was := reflect.MakeMapWithSize(v.Type(), v.Len())
			for e := v.MapRange(); e.Next(); {
				was.SetMapIndex(e.Key(), e.Value())
			}
			s.maps, s.entries = append(s.maps, v), append(s.entries, was)
		}
	}
	for _, v := range kept {
		if v.Type().Size() > 0 {
			s.memory = append(s.memory, wraithBytes(v))
		}
	}
	for _, m := range s.memory {
		s.copies = append(s.copies, strings.Clone(m))
	}
	return s
}

func (s wraithShadow) same() bool {
	for i, m := range s.memory {
		if m != s.copies[i] {
			return false
		}
	}
	for i, m := range s.maps {
		if m.Len() != s.entries[i].Len() {
			return false
		}
		a, b := reflect.New(m.Type().Elem()).Elem(), reflect.New(m.Type().Elem()).Elem()
		for e := s.entries[i].MapRange(); e.Next(); {
			x := m.MapIndex(e.Key())
			if !x.IsValid() {
				return false
			}
			a.Set(x)
			b.Set(e.Value())
			if a.Type().Size() > 0 && wraithBytes(a) != wraithBytes(b) {
				return false
			}
		}
	}
	return true
}

// wraithStep follows the steps of a path.
func wraithStep(v reflect.Value, steps []string) reflect.Value {
	for _, s := range steps {
		for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
			v = v.Elem()
		}
		if s == "*" {
			continue
		}
		if s[0] != '[' {
			v = wraithOpen(v.FieldByName(s))
			continue
		}
		n, err := strconv.Atoi(s[1 : len(s)-1])
		if err != nil {
			panic(err)
		}
		v = v.Index(n)
	}
	return v
}

`

// harnessBuild builds values from their description.
const harnessBuild = `
type wraithCallData struct {
	Objects []*wraithObject
	Args    []*wraithNode
	Names   []string
	Globals []wraithSetting
	Stands  [][][]*wraithNode
	Sets    []wraithSetting
	Locks   []wraithLock
	Follows bool
	Patch   map[int]*wraithObject
	Expect  *wraithExpectation
}

type wraithLock struct {
	O        int
	I        uintptr
	Read, RW bool
}

// lock takes the locks that were held when the call began.
func (b *wraithBuilder) lock() {
	for _, l := range b.c.Locks {
		if !b.built[l.O].IsValid() {
			continue
		}
		at := unsafe.Add(b.built[l.O].UnsafePointer(), l.I)
		switch {
		case l.Read:
			(*sync.RWMutex)(at).RLock()
		case l.RW:
			(*sync.RWMutex)(at).Lock()
		default:
			(*sync.Mutex)(at).Lock()
		}
	}
}

type wraithSetting struct {
	Root  string
	Steps []string
	Value *wraithNode
}

type wraithObject struct {
	K string
	T string
	N []*wraithNode
	C int
	P string
}

type wraithNode struct {
	K string
	V string
	N []*wraithNode
	O int
	I uintptr
	L int
	C int
}

type wraithBuilder struct {
	c      wraithCallData
	built  []reflect.Value
	called []int
}

type wraithHeader struct {
	data     unsafe.Pointer
	len, cap int
}

// wraithOpen makes a field that is not exported settable.
func wraithOpen(v reflect.Value) reflect.Value {
	if v.CanAddr() {
		return reflect.NewAt(v.Type(), unsafe.Pointer(v.UnsafeAddr())).Elem()
	}
	return v
}

// object returns an object: a pointer to it, a list with all elements, or a map.
func (b *wraithBuilder) object(i int, of reflect.Type) reflect.Value {
	if b.built[i].IsValid() {
		return b.built[i]
	}
	o := b.c.Objects[i]
	if t, ok := wraithTypes[o.T]; ok {
		of = t
	}
	switch o.K {
	case "v":
		b.built[i] = reflect.New(of)
		b.build(b.built[i].Elem(), o.N[0])
	case "l":
		b.built[i] = reflect.MakeSlice(reflect.SliceOf(of), o.C, o.C)
		for k, n := range o.N {
			b.build(b.built[i].Index(k), n)
		}
	case "m":
		b.built[i] = reflect.MakeMap(of)
		b.fill(b.built[i], o)
	}
	return b.built[i]
}

// fill adds the entries of a map.
func (b *wraithBuilder) fill(m reflect.Value, o *wraithObject) {
	for k := 0; k+1 < len(o.N); k += 2 {
		key, value := reflect.New(m.Type().Key()).Elem(), reflect.New(m.Type().Elem()).Elem()
		b.build(key, o.N[k])
		b.build(value, o.N[k+1])
		m.SetMapIndex(key, value)
	}
}

// build sets a value that can be addressed.
func (b *wraithBuilder) build(at reflect.Value, n *wraithNode) {
	at = wraithOpen(at)
	switch n.K {
	case "v":
		wraithScan(at, n.V)
	case "s":
		for i, x := range n.N {
			b.build(at.Field(i), x)
		}
	case "a":
		for i, x := range n.N {
			b.build(at.Index(i), x)
		}
	case "l":
		base := b.object(n.O, at.Type().Elem())
		h := (*wraithHeader)(unsafe.Pointer(at.UnsafeAddr()))
		h.data, h.len, h.cap = unsafe.Add(base.UnsafePointer(), n.I), n.L, n.C
	case "e":
		at.Set(reflect.MakeSlice(at.Type(), n.L, n.C))
	case "m":
		at.Set(b.object(n.O, at.Type()))
	case "p":
		base := b.object(n.O, at.Type().Elem())
		at.Set(reflect.NewAt(at.Type().Elem(), unsafe.Add(base.UnsafePointer(), n.I)).Convert(at.Type()))
	case "i":
		x := reflect.New(wraithTypes[n.V]).Elem()
		b.build(x, n.N[0])
		at.Set(x)
	case "t":
		var seconds, nanoseconds int64
		fmt.Sscan(n.V, &seconds, &nanoseconds)
		moment := time.Unix(seconds, nanoseconds)
		if n.L == 0 {
			moment = moment.UTC()
		}
		if seconds == -62135596800 && nanoseconds == 0 {
			moment = time.Time{}
		}
		at.Set(reflect.ValueOf(moment))
	case "g":
		v := wraithValues[n.V]
		if v.Kind() == reflect.Interface && at.Kind() != reflect.Interface {
			v = v.Elem()
		}
		at.Set(v)
	case "f":
		at.Set(wraithFuncs[n.V].Convert(at.Type()))
	case "r":
		of := at.Type()
		at.Set(reflect.MakeFunc(of, func([]reflect.Value) []reflect.Value {
			k := b.called[n.O]
			b.called[n.O]++
			if k >= len(b.c.Stands[n.O]) {
				panic("it was not called as often when it was recorded")
			}
			var out []reflect.Value
			for i, x := range b.c.Stands[n.O][k] {
				v := reflect.New(of.Out(i)).Elem()
				b.build(v, x)
				out = append(out, v)
			}
			return out
		}))
	case "c":
		at.Set(reflect.MakeChan(at.Type(), n.C))
	default:
		at.SetZero()
	}
}

func wraithScan(at reflect.Value, text string) {
	var err error
	switch at.Kind() {
	case reflect.Bool:
		at.SetBool(text == "true")
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		var x int64
		x, err = strconv.ParseInt(text, 10, 64)
		at.SetInt(x)
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		var x uint64
		x, err = strconv.ParseUint(text, 10, 64)
		at.SetUint(x)
	case reflect.Float32, reflect.Float64:
		var bits uint64
		bits, err = strconv.ParseUint(text, 16, 64)
		at.SetFloat(math.Float64frombits(bits))
	case reflect.Complex64, reflect.Complex128:
		var re, im uint64
		_, err = fmt.Sscanf(text, "%x %x", &re, &im)
		at.SetComplex(complex(math.Float64frombits(re), math.Float64frombits(im)))
	case reflect.String:
		var x string
		x, err = strconv.Unquote(text)
		at.SetString(x)
	}
	if err != nil {
		panic(err)
	}
}

`

// harnessLeaves lists the leaves of values as package calls does.
const harnessLeaves = `
type wraithPlace struct {
	at uintptr
	of reflect.Type
}

type wraithWalker struct {
	seen   map[wraithPlace]string
	report func(string, ...any)
	left   int
}

func wraithLeaves(report func(string, ...any), roots []string, values []reflect.Value) {
	w := wraithWalker{seen: map[wraithPlace]string{}, report: report, left: 400000}
	for i, v := range values {
		if !v.CanAddr() {
			at := reflect.New(v.Type()).Elem()
			at.Set(v)
			v = at
		}
		w.walk(roots[i], v, 0)
	}
}

func (w *wraithWalker) leaf(path, text string) {
	if w.left--; w.left > 0 {
		w.report("%q %q", path, text)
	}
}

func (w *wraithWalker) first(path string, at uintptr, of reflect.Type) bool {
	p := wraithPlace{at, of}
	if before, ok := w.seen[p]; ok {
		w.leaf(path, "= "+before)
		return false
	}
	w.seen[p] = path
	return true
}

func wraithName(t reflect.Type) string { return strings.ReplaceAll(t.String(), "[]uint8", "[]byte") }

func (w *wraithWalker) walk(path string, v reflect.Value, depth int) {
	if depth > 60 || w.left <= 0 {
		return
	}
	if v.CanAddr() && !v.CanInterface() {
		v = reflect.NewAt(v.Type(), unsafe.Pointer(v.UnsafeAddr())).Elem()
	}
	if at, ok := wraithTime(v); ok {
		w.leaf(path, at)
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		if p := v.Type().PkgPath(); p == "sync" || p == "sync/atomic" || p == "testing" {
			return
		}
		if !v.CanAddr() {
			at := reflect.New(v.Type()).Elem()
			at.Set(v)
			v = at
		}
		for i := range v.NumField() {
			if name := v.Type().Field(i).Name; name != "_" {
				w.walk(path+"."+name, v.Field(i), depth+1)
			}
		}
	case reflect.Func, reflect.Chan:
		if v.IsNil() {
			w.leaf(path, "nil")
		} else {
			w.leaf(path, "set")
		}
	case reflect.Interface:
		if v.IsNil() {
			w.leaf(path, "nil")
			return
		}
		w.leaf(path+".(type)", wraithName(v.Elem().Type()))
		w.walk(path, v.Elem(), depth+1)
	case reflect.Pointer:
		if v.IsNil() {
			w.leaf(path, "nil")
			return
		}
		if !w.first(path, v.Pointer(), v.Type().Elem()) {
			return
		}
		w.leaf(path, "&")
		if v.Elem().Kind() != reflect.Struct || v.Elem().Type() == reflect.TypeFor[time.Time]() {
			path += ".*"
		}
		w.walk(path, v.Elem(), depth+1)
	case reflect.Slice:
		if v.IsNil() {
			w.leaf(path, "nil")
			return
		}
		w.leaf(path, "len "+strconv.Itoa(v.Len()))
		for i := range v.Len() {
			w.walk(path+"["+strconv.Itoa(i)+"]", v.Index(i), depth+1)
		}
	case reflect.Array:
		for i := range v.Len() {
			w.walk(path+"["+strconv.Itoa(i)+"]", v.Index(i), depth+1)
		}
	case reflect.Map:
		if v.IsNil() {
			w.leaf(path, "nil")
			return
		}
		if !w.first(path, v.Pointer(), v.Type()) {
			return
		}
		w.leaf(path, "len "+strconv.Itoa(v.Len()))
		entries := map[string]reflect.Value{}
		var keys []string
		for i := v.MapRange(); i.Next(); {
			if key, ok := wraithKey(i.Key()); ok {
				keys = append(keys, key)
				entries[key] = i.Value()
			}
		}
		sort.Strings(keys)
		for _, key := range keys {
			w.walk(path+"["+key+"]", entries[key], depth+1)
		}
	default:
		if text, ok := wraithScalar(v); ok {
			w.leaf(path, text)
		}
	}
}

func wraithTime(v reflect.Value) (string, bool) {
	if v.Type() != reflect.TypeFor[time.Time]() || !v.CanInterface() {
		return "", false
	}
	return v.Interface().(time.Time).UTC().Format(time.RFC3339Nano), true
}

func wraithKey(v reflect.Value) (string, bool) {
	if !v.CanInterface() {
		at := reflect.New(v.Type()).Elem()
		if !v.CanAddr() {
			return "", false
		}
		at.Set(reflect.NewAt(v.Type(), unsafe.Pointer(v.UnsafeAddr())).Elem())
		v = at
	}
	if at, ok := wraithTime(v); ok {
		return at, true
	}
	switch v.Kind() {
	case reflect.Interface:
		if v.IsNil() {
			return "nil", true
		}
		inner, ok := wraithKey(v.Elem())
		return "(" + wraithName(v.Elem().Type()) + ") " + inner, ok
	case reflect.Struct, reflect.Array:
		at := reflect.New(v.Type()).Elem()
		at.Set(v)
		n := 0
		if v.Kind() == reflect.Struct {
			n = v.NumField()
		} else {
			n = v.Len()
		}
		var parts []string
		for i := range n {
			var x reflect.Value
			if v.Kind() == reflect.Struct {
				x = at.Field(i)
			} else {
				x = at.Index(i)
			}
			part, ok := wraithKey(x)
			if !ok {
				return "", false
			}
			parts = append(parts, part)
		}
		return "{" + strings.Join(parts, " ") + "}", true
	}
	return wraithScalar(v)
}

func wraithFloat(f float64, bits int) string { return strconv.FormatFloat(f, 'g', -1, bits) }

func wraithScalar(v reflect.Value) (string, bool) {
	switch v.Kind() {
	case reflect.Bool:
		return strconv.FormatBool(v.Bool()), true
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return strconv.FormatInt(v.Int(), 10), true
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		return strconv.FormatUint(v.Uint(), 10), true
	case reflect.Float32, reflect.Float64:
		return wraithFloat(v.Float(), v.Type().Bits()), true
	case reflect.Complex64, reflect.Complex128:
		bits := v.Type().Bits() / 2
		return "(" + wraithFloat(real(v.Complex()), bits) + " " + wraithFloat(imag(v.Complex()), bits) + ")", true
	case reflect.String:
		return strconv.Quote(v.String()), true
	}
	return "", false
}
`
