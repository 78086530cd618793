package reproduce

import (
	"fmt"
	"go/format"
	"strconv"
	"strings"
)

// harnessOf writes a test that makes calls and reports what they gave back, one after the other. The report is a line for each leaf
// (package calls), with the number of the call, the path and the text in quotation marks.
func harnessOf(m *module, list []*assembly) (string, error) {
	imports := map[string]string{}
	var body strings.Builder
	for i, a := range list {
		for _, s := range [][2]string{{"fmt", "fmt"}, {"testing", "testing"}, {"reflect", "reflect"}, {"unsafe", "unsafe"}, {"os", "os"}, {"bufio", "bufio"}, {"sort", "sort"}, {"strconv", "strconv"}, {"time", "time"}, {"strings", "strings"}, {"math", "math"}} {
			a.b.use(s[0], s[1])
		}
		for path, name := range a.b.imports {
			if have, ok := imports[path]; ok && have != name {
				return "", fmt.Errorf("write the calls: package %s has two names", path)
			}
			imports[path] = name
		}
		fmt.Fprintf(&body, "func wraithCall%d(t *testing.T, wraithReport func(string, ...any)) {\n", i)
		if a.b.sets {
			body.WriteString(a.setHelper())
		}
		body.WriteString(strings.Join(a.statements(), "\n") + "\n")
		var roots, values []string
		for _, r := range a.roots {
			roots, values = append(roots, strconv.Quote(r.name)), append(values, r.expr)
		}
		argNames := "[]string{" + strings.Join(roots, ", ") + "}"
		argValues := "[]any{" + strings.Join(values, ", ") + "}"
		results := ""
		if len(a.results) > 0 {
			results = strings.Join(a.results, ", ") + " := "
		}
		var resultNames []string
		for i := range a.results {
			resultNames = append(resultNames, strconv.Quote(resultRoot(i)))
		}
		fmt.Fprintf(&body, `defer func() {
	if value := recover(); value != nil {
		wraithLeaves(wraithReport, []string{"panic"}, []any{fmt.Sprint(value)})
		wraithLeaves(wraithReport, %s, %s)
	}
}()
%s%s
wraithLeaves(wraithReport, []string{%s}, []any{%s})
wraithLeaves(wraithReport, %s, %s)
}

`, argNames, argValues, results, a.callText, strings.Join(resultNames, ", "), strings.Join(a.results, ", "), argNames, argValues)
	}
	var lines []string
	for path, name := range imports {
		lines = append(lines, name+" "+strconv.Quote(path))
	}
	var calls []string
	for i := range list {
		calls = append(calls, fmt.Sprintf("wraithCall%d", i))
	}
	text := "package " + m.pkg.Name + "\n\nimport (\n" + strings.Join(lines, "\n") + "\n)\n\n" + fmt.Sprintf(harnessMain, strings.Join(calls, ", ")) + body.String() + harnessLeaves
	formatted, err := format.Source([]byte(text))
	if err != nil {
		return "", fmt.Errorf("write the calls: %w", err)
	}
	return string(formatted), nil
}

// resultRoot is the path of a result in a report.
func resultRoot(i int) string { return "result " + strconv.Itoa(i+1) }

// harnessMain makes the calls. A call has its goroutine, so that one that ends it does not end the others.
const harnessMain = `var _ = math.Pi
var _ = strings.ToUpper
var _ = unsafe.Pointer(nil)

func TestWraithCalls(t *testing.T) {
	out := bufio.NewWriter(os.NewFile(3, "report"))
	defer out.Flush()
	for i, call := range []func(*testing.T, func(string, ...any)){%s} {
		done := make(chan bool)
		go func() {
			defer close(done)
			call(t, func(format string, args ...any) { fmt.Fprintf(out, "%%d "+format+"\n", append([]any{i}, args...)...) })
			fmt.Fprintf(out, "%%d end\n", i)
		}()
		<-done
		out.Flush()
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

func wraithLeaves(report func(string, ...any), roots []string, values []any) {
	w := wraithWalker{seen: map[wraithPlace]string{}, report: report, left: 400000}
	for i, v := range values {
		x := reflect.ValueOf(v)
		if !x.IsValid() {
			w.leaf(roots[i], "nil")
			continue
		}
		at := reflect.New(x.Type()).Elem()
		at.Set(x)
		w.walk(roots[i], at, 0)
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
		w.leaf(path, "("+wraithName(v.Elem().Type())+")")
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
		if v.Elem().Kind() != reflect.Struct {
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
