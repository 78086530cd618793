//go:build go1.23

package inject

import (
	"reflect"
	"strings"
	"sync"
	"sync/atomic"
	"unsafe"
)

// Forms of types in the format.
const (
	formBool      = 1
	formInt       = 2
	formUint      = 3
	formFloat     = 4
	formComplex   = 5
	formText      = 6
	formStruct    = 7
	formArray     = 8
	formSlice     = 9
	formMap       = 10
	formPointer   = 11
	formInterface = 12
	formFunc      = 13
	formChan      = 14
	formOpaque    = 15
	formHidden    = 16 // used by the recorder only: a struct whose contents are not recorded
)

// plan describes how values of a type are read from memory. A plan is made once for each type and
// never changes. elem is made on first use, so that a type does not pull in all types that it can
// reach.
type plan struct {
	id     uint32
	form   byte
	width  byte // of a number, in bytes
	direct bool // an interface stores such a value in its data word
	follow bool // targets of such pointers are of own code and small enough to record
	refs   bool // reading a value means following addresses
	leads  bool // a value can refer to objects that are recorded too
	deep   bool // a value has text, or other contents behind an address that belong to it
	counts bool // the contents include numbers of entries, which change without a store
	method bool // an interface with methods
	secret bool // the values must not be recorded
	reads  bool // people read the target of such a pointer: it is an error
	size   uintptr
	length int
	fields []plannedField
	of     reflect.Type
	elem   atomic.Pointer[plan]
}

type plannedField struct {
	offset uintptr
	plan   *plan
	secret bool // the field must not be recorded
}

var plans = struct {
	mu     sync.Mutex
	ids    map[reflect.Type]uint32
	byType sync.Map // reflect.Type → *plan
	byWord [4096]atomic.Pointer[wordPlan]
	// byDynamic is byType for the dynamic types of interfaces.
	byDynamic [1024]atomic.Pointer[wordPlan]
}{ids: map[reflect.Type]uint32{}}

// planOfWord returns the plan for the dynamic type of an interface with a type word.
func planOfWord(word uintptr, a any) *plan {
	slot := &plans.byDynamic[(word>>4)%uintptr(len(plans.byDynamic))]
	if w := slot.Load(); w != nil && w.word == word {
		return w.plan
	}
	pl := planOf(reflect.TypeOf(a))
	slot.Store(&wordPlan{word, pl})
	return pl
}

// wordPlan is an entry of the direct-mapped cache in front of byType. Its key is an interface's
// type word.
type wordPlan struct {
	word uintptr
	plan *plan
}

type eface struct {
	word uintptr
	data unsafe.Pointer
}

// planFor returns the plan for the type that p points to.
func planFor[T any](p *T) *plan {
	var a any = (*T)(nil)
	word := (*eface)(unsafe.Pointer(&a)).word
	slot := &plans.byWord[(word>>4)%uintptr(len(plans.byWord))]
	if w := slot.Load(); w != nil && w.word == word {
		return w.plan
	}
	pl := planOf(reflect.TypeFor[T]())
	slot.Store(&wordPlan{word, pl})
	return pl
}

func planOf(t reflect.Type) *plan {
	if pl, ok := plans.byType.Load(t); ok {
		return pl.(*plan)
	}
	plans.mu.Lock()
	defer plans.mu.Unlock()
	return makePlan(t)
}

// element returns the plan of the target of a pointer, slice or map.
func (pl *plan) element() *plan {
	if e := pl.elem.Load(); e != nil {
		return e
	}
	e := planOf(pl.of.Elem())
	pl.elem.Store(e)
	return e
}

func typeID(t reflect.Type) uint32 {
	id, ok := plans.ids[t]
	if !ok {
		id = uint32(len(plans.ids) + 1)
		plans.ids[t] = id
	}
	return id
}

// makePlan makes the plans of t and its parts, and records the types. plans.mu is held. It ends,
// because a type cannot contain itself.
func makePlan(t reflect.Type) *plan {
	if pl, ok := plans.byType.Load(t); ok {
		return pl.(*plan)
	}
	if of, ok := hiddenOf(t); ok {
		inner := makePlan(of)
		pl := &plan{id: inner.id, form: formOpaque, size: inner.size, of: inner.of, secret: true}
		plans.byType.Store(t, pl)
		return pl
	}
	pl := &plan{id: typeID(t), size: t.Size(), of: t}
	var elem, key, length uint64
	switch t.Kind() {
	case reflect.Bool:
		pl.form = formBool
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		pl.form, pl.width = formInt, byte(t.Size())
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		pl.form, pl.width = formUint, byte(t.Size())
	case reflect.Float32, reflect.Float64:
		pl.form, pl.width = formFloat, byte(t.Size())
	case reflect.Complex64, reflect.Complex128:
		pl.form, pl.width = formComplex, byte(t.Size()/2)
	case reflect.String:
		pl.form, pl.refs, pl.deep = formText, true, true
	case reflect.Struct:
		pl.form = formStruct
		if p := t.PkgPath(); p == "sync" || p == "sync/atomic" || p == "testing" || p == "time" && t.Name() == "Location" {
			// These change without the recorder's knowledge.
			pl.form = formHidden
			break
		}
		for i := range t.NumField() {
			field := makePlan(t.Field(i).Type)
			if f := t.Field(i); field.secret || holdsText(f.Type) && IsSecretName(secretNames, f.Name) {
				pl.fields = append(pl.fields, plannedField{f.Offset, field, true})
				continue
			}
			pl.fields = append(pl.fields, plannedField{t.Field(i).Offset, field, false})
			pl.refs, pl.leads, pl.deep, pl.counts = pl.refs || field.refs, pl.leads || field.leads, pl.deep || field.deep, pl.counts || field.counts
		}
		pl.direct = len(pl.fields) == 1 && pl.fields[0].plan.direct
	case reflect.Array:
		e := makePlan(t.Elem())
		pl.form, pl.length, pl.refs, pl.leads, pl.deep, pl.counts = formArray, t.Len(), e.refs, e.leads, e.deep, e.counts
		pl.elem.Store(e)
		pl.direct = pl.length == 1 && e.direct
		elem, length = uint64(e.id), uint64(t.Len())
	case reflect.Slice:
		pl.form, pl.refs, elem = formSlice, true, uint64(typeID(t.Elem()))
		pl.follow = ownType(t.Elem())
		pl.leads = pl.follow
	case reflect.Map:
		pl.form, pl.refs, pl.direct, pl.leads, pl.deep, pl.counts = formMap, true, true, true, true, true
		elem, key = uint64(typeID(t.Elem())), uint64(typeID(t.Key()))
	case reflect.Pointer:
		pl.form, pl.direct, elem = formPointer, true, uint64(typeID(t.Elem()))
		pl.reads = t.Implements(reflect.TypeFor[error]())
		pl.follow = ownType(t.Elem())
		pl.leads = pl.follow
	case reflect.Interface:
		pl.form, pl.refs, pl.leads, pl.deep, pl.counts, pl.method = formInterface, true, true, true, true, t.NumMethod() > 0
	case reflect.Func:
		pl.form, pl.refs, pl.direct = formFunc, true, true
	case reflect.Chan:
		pl.form, pl.refs, pl.direct, pl.deep, pl.counts, elem = formChan, true, true, true, true, uint64(typeID(t.Elem()))
	default:
		pl.form, pl.direct = formOpaque, true
	}
	recordPlan(pl, t, elem, key, length)
	if isSecretType(t) {
		pl.secret, pl.form, pl.refs, pl.leads, pl.deep, pl.follow = true, formOpaque, false, false, false, false
	}
	plans.byType.Store(t, pl)
	return pl
}

func recordPlan(pl *plan, t reflect.Type, elem, key, length uint64) {
	name, form := strings.ReplaceAll(t.String(), "[]uint8", "[]byte"), pl.form
	if form == formHidden {
		form = formStruct
	}
	r := appendHead(nil, majorArray, 10)
	r = appendHead(r, majorUint, recordType)
	r = appendHead(r, majorUint, uint64(pl.id))
	r = appendHead(r, majorUint, 0)
	r = appendText(r, name)
	for _, n := range [...]uint64{uint64(form), uint64(pl.size), elem, key, length} {
		r = appendHead(r, majorUint, n)
	}
	r = appendHead(r, majorArray, uint64(len(pl.fields)))
	for i, f := range pl.fields {
		r = appendHead(r, majorArray, 3)
		r = appendText(r, t.Field(i).Name)
		r = appendHead(r, majorUint, uint64(f.plan.id))
		r = appendHead(r, majorUint, uint64(f.offset))
	}
	if pl.form == formStruct && !ownType(t) && synchronised(t, 0) {
		r = appendHead(appendHead(appendHead(r, majorArray, 2), majorUint, recordVolatile), majorUint, uint64(pl.id))
	}
	log.record(r)
}

// synchronised reports whether a struct has locks, atomics or channels, so that other goroutines
// may change it.
func synchronised(t reflect.Type, depth int) bool {
	switch p := t.PkgPath(); {
	case p == "sync" || p == "sync/atomic" || t.Kind() == reflect.Chan:
		return true
	case t.Kind() != reflect.Struct || depth > 3:
		return false
	}
	for i := range t.NumField() {
		if synchronised(t.Field(i).Type, depth+1) {
			return true
		}
	}
	return false
}

// ownType reports whether values of the type are of own code: basic and composed types, and named
// types of own packages. Errors of the standard library count as own, because people look for them.
func ownType(t reflect.Type) bool {
	path := t.PkgPath()
	switch path {
	case "", "main", "errors":
		return true
	case "fmt":
		return strings.HasPrefix(t.Name(), "wrapError")
	}
	return ownPackage(path)
}

func ownPackage(path string) bool { return path == "main" || listed(ownPackages, path) }

// listed reports whether a package, or the one that it tests, is in a list.
func listed(list, path string) bool {
	return strings.Contains(list, "\n"+strings.TrimSuffix(path, "_test")+"\n")
}

// recordedPackage reports whether all functions of a package are recorded.
func recordedPackage(path string) bool {
	return listed(recordedPackages, path) || path == "main" && recordsMain
}

// recordsMain is set if the functions of the main package are recorded. Its path is not among the
// names of functions.
var recordsMain = recordedPackages == ownPackages

// recordedFunction reports whether a function with a name in the notation of Go's runtime is
// recorded.
func recordedFunction(name string) bool {
	last := strings.LastIndexByte(name, '/') + 1
	dot := strings.IndexByte(name[last:], '.')
	if dot < 0 {
		return false
	}
	return recordedPackage(name[:last] + strings.ReplaceAll(name[last:last+dot], "%2e", "."))
}
