package reproduce

// harnessCompare makes calls that follow each other with the same objects, and compares what they give back with what is
// expected. Before each call the objects are as they were before the last one, but for those that are described again. The verdict is "same",
// "differs", or "unsure" if only a comparison of everything can tell: objects may be others with the same contents.
const harnessCompare = `
type wraithExpectation struct {
	Results, Globals []*wraithNode
	After            map[int]*wraithObject
	New              []*wraithObject
}

// wraithCopy is what an object was before a call: its bytes, or the entries of a map.
type wraithCopy struct {
	bytes   string
	entries reflect.Value
}

var (
	wraithShared *wraithBuilder // the objects of the calls
	wraithCopies []wraithCopy
)

// bytes is the memory of an object that is not a map.
func (b *wraithBuilder) bytes(i int) string {
	v := b.built[i]
	if b.c.Objects[i].K == "l" {
		return unsafe.String((*byte)(v.UnsafePointer()), uintptr(v.Cap())*v.Type().Elem().Size())
	}
	return wraithBytes(v.Elem())
}

func (b *wraithBuilder) copied(i int) (c wraithCopy) {
	v := b.built[i]
	if b.c.Objects[i].K != "m" {
		c.bytes = strings.Clone(b.bytes(i))
		return c
	}
	c.entries = reflect.MakeMapWithSize(v.Type(), v.Len())
	for e := v.MapRange(); e.Next(); {
		c.entries.SetMapIndex(e.Key(), e.Value())
	}
	return c
}

// isCopied reports whether an object is as it was copied.
func (b *wraithBuilder) isCopied(i int) bool {
	if b.c.Objects[i].K != "m" {
		return b.bytes(i) == wraithCopies[i].bytes
	}
	return wraithShadow{maps: []reflect.Value{b.built[i]}, entries: []reflect.Value{wraithCopies[i].entries}}.same()
}

// remade makes an object as it is described, where it is.
func (b *wraithBuilder) remade(i int) {
	v, o := b.built[i], b.c.Objects[i]
	switch o.K {
	case "v":
		b.build(v.Elem(), o.N[0])
	case "l":
		for k, n := range o.N {
			b.build(v.Index(k), n)
		}
		for k := len(o.N); k < v.Cap(); k++ {
			v.Index(k).SetZero()
		}
	case "m":
		v.Clear()
		b.fill(v, o)
	}
	wraithCopies[i] = b.copied(i)
}

// wraithFollow prepares the objects for a call.
func wraithFollow(c wraithCallData) *wraithBuilder {
	b := wraithShared
	if !c.Follows || b == nil {
		b = &wraithBuilder{c: c, built: make([]reflect.Value, len(c.Objects)), called: make([]int, len(c.Stands))}
		wraithShared, wraithCopies = b, make([]wraithCopy, len(c.Objects))
		return b
	}
	objects := b.c.Objects
	b.c = c
	b.c.Objects = objects
	for i, v := range b.built {
		if v.IsValid() && c.Patch[i] == nil && !b.isCopied(i) {
			b.remade(i)
		}
	}
	for i, o := range c.Patch {
		objects[i] = o
		if b.built[i].IsValid() {
			b.remade(i)
		}
	}
	return b
}

func wraithCompare(c wraithCallData, report func(string, ...any)) {
	x := wraithMatcher{made: map[int]unsafe.Pointer{}}
	verdict := x.compare(c)
	report("%q %q", "verdict", verdict)
	if verdict == "differs" {
		report("%q %q", "where", x.where)
		report("%q %q", "recorded", x.want)
		report("%q %q", "now", x.now)
	}
}

func (x *wraithMatcher) compare(c wraithCallData) (verdict string) {
	b := wraithFollow(c)
	x.b = b
	known := make([]bool, len(b.built))
	for i, v := range b.built {
		known[i] = v.IsValid()
	}
	of := wraithFunction.Type()
	var args, globals []reflect.Value
	for _, g := range c.Globals {
		v := wraithValues[g.Root]
		was := reflect.New(v.Type()).Elem()
		was.Set(v)
		defer v.Set(was)
		b.build(v, g.Value)
		globals = append(globals, v)
	}
	for i := range of.NumIn() {
		v := reflect.New(of.In(i)).Elem()
		b.build(v, c.Args[i])
		args = append(args, v)
	}
	for i, v := range b.built {
		if v.IsValid() && !known[i] {
			wraithCopies[i] = b.copied(i)
		}
	}
	defer func() {
		if value := recover(); value != nil {
			verdict, x.where, x.want, x.now = "differs", "panic", "", strconv.Quote(fmt.Sprint(value))
		}
	}()
	var results []reflect.Value
	if of.IsVariadic() {
		results = wraithFunction.CallSlice(args)
	} else {
		results = wraithFunction.Call(args)
	}
	same := true
	for i, v := range results {
		same = same && x.under("result "+strconv.Itoa(i+1), x.is(v, c.Expect.Results[i]))
	}
	for i, v := range globals {
		same = same && x.under(c.Globals[i].Root, x.is(v, c.Expect.Globals[i]))
	}
	for i, v := range b.built {
		if !same || !v.IsValid() {
			continue
		}
		if o := c.Expect.After[i]; o != nil {
			same = x.under(o.P, x.holds(v, o))
		} else if !b.isCopied(i) {
			same, x.unsure = false, true
		}
	}
	for i := range c.Expect.After {
		if same && !b.built[i].IsValid() {
			same, x.unsure = false, true
		}
	}
	switch {
	case same:
		return "same"
	case x.unsure:
		return "unsure"
	}
	return "differs"
}

// wraithMatcher compares values with their descriptions. made are the objects that the call made, by number; where the first difference is,
// what was expected there, and what is.
type wraithMatcher struct {
	b                *wraithBuilder
	made             map[int]unsafe.Pointer
	unsure           bool
	within           int // objects that are compared by their contents although they are others
	where, want, now string
}

// under puts a step before the path of a difference.
func (x *wraithMatcher) under(step string, same bool) bool {
	if !same {
		x.where = step + x.where
	}
	return same
}

// differ notes a difference.
func (x *wraithMatcher) differ(v reflect.Value, n *wraithNode) bool {
	x.now, x.want = wraithBrief(v), ""
	switch n.K {
	case "v":
		want := reflect.New(v.Type()).Elem()
		x.b.build(want, n)
		x.want = wraithBrief(want)
	case "":
		x.want = wraithBrief(reflect.Zero(v.Type()))
	case "l", "e":
		x.want = "len " + strconv.Itoa(n.L)
	case "i":
		x.want = n.V
	case "p":
		x.want = "&"
	case "t":
		x.want = n.V + " ns"
	default:
		x.want = "set"
	}
	return false
}

// wraithBrief is the text of a value without its parts.
func wraithBrief(v reflect.Value) string {
	if text, ok := wraithScalar(v); ok {
		return text
	}
	if at, ok := wraithTime(v); ok {
		return at
	}
	switch v.Kind() {
	case reflect.Slice, reflect.Map:
		if !v.IsNil() {
			return "len " + strconv.Itoa(v.Len())
		}
	case reflect.Interface:
		if !v.IsNil() {
			return wraithName(v.Elem().Type())
		}
	case reflect.Pointer:
		if !v.IsNil() {
			return "&"
		}
	default:
		return "set"
	}
	return "nil"
}

// doubt is for values that may be the same all the same.
func (x *wraithMatcher) doubt() bool {
	x.unsure = true
	return false
}

// holds compares an object.
func (x *wraithMatcher) holds(v reflect.Value, o *wraithObject) bool {
	switch o.K {
	case "v":
		return x.is(v.Elem(), o.N[0])
	case "l":
		for k, n := range o.N {
			if !x.under("["+strconv.Itoa(k)+"]", x.is(v.Index(k), n)) {
				return false
			}
		}
		return true
	}
	return x.entries(v, o)
}

func (x *wraithMatcher) entries(v reflect.Value, o *wraithObject) bool {
	if v.Len() != len(o.N)/2 {
		x.now, x.want = "len "+strconv.Itoa(v.Len()), "len "+strconv.Itoa(len(o.N)/2)
		return false
	}
	for k := 0; k+1 < len(o.N); k += 2 {
		if !wraithPlain(o.N[k]) {
			return x.doubt()
		}
		key := reflect.New(v.Type().Key()).Elem()
		x.b.build(key, o.N[k])
		e := v.MapIndex(key)
		if !e.IsValid() {
			return x.doubt()
		}
		if text, _ := wraithKey(key); !x.under("["+text+"]", x.is(e, o.N[k+1])) {
			return false
		}
	}
	return true
}

// wraithPlain reports whether a description refers to no object.
func wraithPlain(n *wraithNode) bool {
	for _, x := range n.N {
		if !wraithPlain(x) {
			return false
		}
	}
	return n.K == "" || n.K == "v" || n.K == "s" || n.K == "a" || n.K == "t" || n.K == "i"
}

// object returns an object that the call was given or made.
func (x *wraithMatcher) object(i int) (o *wraithObject, given reflect.Value) {
	if n := len(x.b.built); i >= n {
		return x.b.c.Expect.New[i-n], reflect.Value{}
	}
	return nil, x.b.built[i]
}

func (x *wraithMatcher) is(v reflect.Value, n *wraithNode) bool {
	if n.K == "?" {
		return true
	}
	if !v.CanAddr() {
		at := reflect.New(v.Type()).Elem()
		at.Set(v)
		v = at
	}
	v = wraithOpen(v)
	if p := v.Type().PkgPath(); v.Kind() == reflect.Struct && (p == "sync" || p == "sync/atomic" || p == "testing") {
		return true
	}
	switch n.K {
	case "v":
		return wraithText(v) == n.V || x.differ(v, n)
	case "s":
		for i, y := range n.N {
			if !x.under("."+v.Type().Field(i).Name, x.is(v.Field(i), y)) {
				return false
			}
		}
		return true
	case "a":
		for i, y := range n.N {
			if !x.under("["+strconv.Itoa(i)+"]", x.is(v.Index(i), y)) {
				return false
			}
		}
		return true
	case "t":
		at := v.Interface().(time.Time)
		return fmt.Sprint(at.Unix(), " ", at.Nanosecond()) == n.V || x.differ(v, n)
	case "p":
		if v.IsNil() {
			return x.differ(v, n)
		}
		return x.pointer(v, n)
	case "l":
		if v.IsNil() || v.Len() != n.L {
			return x.differ(v, n)
		}
		o, given := x.object(n.O)
		if o == nil {
			return given.IsValid() && v.UnsafePointer() == unsafe.Add(given.UnsafePointer(), n.I) || x.doubt()
		}
		first := int(n.I / v.Type().Elem().Size())
		for i := range n.L {
			if first+i >= len(o.N) {
				return x.doubt()
			}
			if !x.under("["+strconv.Itoa(i)+"]", x.is(v.Index(i), o.N[first+i])) {
				return false
			}
		}
		return true
	case "e":
		return !v.IsNil() && v.Len() == n.L || x.differ(v, n)
	case "m":
		if v.IsNil() {
			return x.differ(v, n)
		}
		o, given := x.object(n.O)
		if o == nil {
			return given.IsValid() && v.UnsafePointer() == given.UnsafePointer() || x.doubt()
		}
		return x.entries(v, o)
	case "i":
		if v.IsNil() || v.Elem().Type() != wraithTypes[n.V] {
			return x.differ(v, n)
		}
		return x.is(v.Elem(), n.N[0])
	case "g":
		want := reflect.New(v.Type()).Elem()
		x.b.build(want, n)
		return wraithBytes(want) == wraithBytes(v) || x.doubt()
	case "f", "r", "c":
		return !v.IsNil() || x.differ(v, n)
	}
	return v.IsZero() || x.differ(v, n)
}

func (x *wraithMatcher) pointer(v reflect.Value, n *wraithNode) bool {
	o, given := x.object(n.O)
	step := ""
	if v.Elem().Kind() != reflect.Struct || v.Elem().Type() == reflect.TypeFor[time.Time]() {
		step = ".*"
	}
	if o == nil {
		if given.IsValid() && v.UnsafePointer() == unsafe.Add(given.UnsafePointer(), n.I) {
			return true
		}
		if o = x.b.c.Expect.After[n.O]; o == nil {
			o = x.b.c.Objects[n.O]
		}
		if n.I != 0 || o.K != "v" || x.within > 8 {
			return x.doubt()
		}
		x.within++ // another object: it may have other contents
		defer func() { x.within-- }()
		return x.under(step, x.is(v.Elem(), o.N[0])) && x.doubt()
	}
	if n.I != 0 || o.K != "v" {
		return x.doubt()
	}
	if before, ok := x.made[n.O]; ok {
		return before == v.UnsafePointer() || x.doubt()
	}
	x.made[n.O] = v.UnsafePointer()
	return x.under(step, x.is(v.Elem(), o.N[0]))
}

// wraithText writes a value as its description does.
func wraithText(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Bool:
		return strconv.FormatBool(v.Bool())
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return strconv.FormatInt(v.Int(), 10)
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		return strconv.FormatUint(v.Uint(), 10)
	case reflect.Float32, reflect.Float64:
		return strconv.FormatUint(math.Float64bits(v.Float()), 16)
	case reflect.Complex64, reflect.Complex128:
		return fmt.Sprintf("%x %x", math.Float64bits(real(v.Complex())), math.Float64bits(imag(v.Complex())))
	case reflect.String:
		return strconv.Quote(v.String())
	}
	return ""
}
`
