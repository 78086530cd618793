// Package generated writes programs with values of random types, for tests of what a recording
// or a dump says of them. The programs print the truth themselves.
package generated

import (
	"fmt"
	"math/rand/v2"
	"sort"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// A program that is generated here makes values of random types, changes them in random
// ways, and prints each after every change. The recording must say the same at that line.

// goType is a type of the generated program. Fields have the names a, b, c, …
type goType struct {
	name string // as it is written
	form event.Form
	key  *goType
	elem *goType
	size int // of an array
	of   []*goType
}

type writer struct {
	*rand.Rand
	types strings.Builder
	named int
}

var basic = []goType{
	{name: "int", form: event.Int}, {name: "int8", form: event.Int}, {name: "int16", form: event.Int}, {name: "int32", form: event.Int}, {name: "int64", form: event.Int},
	{name: "uint8", form: event.Uint}, {name: "uint16", form: event.Uint}, {name: "uint32", form: event.Uint}, {name: "uint64", form: event.Uint}, {name: "uintptr", form: event.Uint},
	{name: "float32", form: event.Float}, {name: "float64", form: event.Float}, {name: "complex128", form: event.Complex}, {name: "bool", form: event.Bool}, {name: "string", form: event.Text}, {name: "string", form: event.Text},
}

func (w *writer) basicType() *goType { return &basic[w.IntN(len(basic))] }

// goType makes a type.
func (w *writer) goType(depth int) *goType {
	if depth > 2 {
		return w.basicType()
	}
	switch w.IntN(9) {
	case 0, 1:
		t := &goType{form: event.Struct}
		w.named++
		t.name = fmt.Sprint("T", w.named)
		var fields strings.Builder
		for i := range 1 + w.IntN(4) {
			t.of = append(t.of, w.goType(depth+1))
			fmt.Fprintf(&fields, "\t%c %s\n", 'a'+i, t.of[i].name)
		}
		fmt.Fprintf(&w.types, "type %s struct {\n%s}\n\n", t.name, fields.String())
		return t
	case 2:
		t := &goType{form: event.Array, elem: w.goType(depth + 1), size: 1 + w.IntN(4)}
		t.name = fmt.Sprintf("[%d]%s", t.size, t.elem.name)
		return t
	case 3, 4:
		t := &goType{form: event.Slice, elem: w.goType(depth + 1)}
		t.name = "[]" + t.elem.name
		return t
	case 5:
		t := &goType{form: event.Map, key: &basic[[]int{0, 5, 14}[w.IntN(3)]], elem: w.goType(depth + 1)}
		t.name = fmt.Sprintf("map[%s]%s", t.key.name, t.elem.name)
		return t
	case 6:
		t := &goType{form: event.Pointer, elem: w.goType(depth + 1)}
		t.name = "*" + t.elem.name
		return t
	case 7:
		return &goType{name: "any", form: event.Interface}
	}
	return w.basicType()
}

// literal writes an expression of a type.
func (w *writer) literal(t *goType, depth int) string {
	switch t.form {
	case event.Int:
		return fmt.Sprintf("%s(%d)", t.name, []int{0, 1, -1, 23, 24, 100, -128, 127}[w.IntN(8)])
	case event.Uint:
		return fmt.Sprintf("%s(%d)", t.name, []int{0, 1, 23, 24, 200, 255}[w.IntN(6)])
	case event.Float:
		return fmt.Sprintf("%s(%s)", t.name, []string{"0", "0.5", "-2.25", "1e10", "0.1"}[w.IntN(5)])
	case event.Complex:
		return []string{"complex(1, -2)", "complex(0, 0.5)"}[w.IntN(2)]
	case event.Bool:
		return []string{"true", "false"}[w.IntN(2)]
	case event.Text:
		return strconv.Quote([]string{"", "fog", "Kelp Quay 3", "größe", strings.Repeat("swell", 30)}[w.IntN(5)])
	case event.Struct:
		var parts []string
		for i, f := range t.of {
			if w.IntN(4) > 0 { // the others are zero
				parts = append(parts, fmt.Sprintf("%c: %s", 'a'+i, w.literal(f, depth+1)))
			}
		}
		return t.name + "{" + strings.Join(parts, ", ") + "}"
	case event.Array:
		var parts []string
		for range t.size {
			parts = append(parts, w.literal(t.elem, depth+1))
		}
		return t.name + "{" + strings.Join(parts, ", ") + "}"
	case event.Slice:
		if w.IntN(6) == 0 {
			return t.name + "(nil)"
		}
		var parts []string
		for range w.IntN(5) {
			parts = append(parts, w.literal(t.elem, depth+1))
		}
		return t.name + "{" + strings.Join(parts, ", ") + "}"
	case event.Map:
		if w.IntN(6) == 0 {
			return t.name + "(nil)"
		}
		var parts []string
		for _, k := range w.keys(t.key)[:w.IntN(3)] {
			parts = append(parts, k+": "+w.literal(t.elem, depth+1))
		}
		return t.name + "{" + strings.Join(parts, ", ") + "}"
	case event.Pointer:
		if w.IntN(5) == 0 {
			return "(" + t.name + ")(nil)"
		}
		return "ptr[" + t.elem.name + "](" + w.literal(t.elem, depth+1) + ")"
	}
	if w.IntN(5) == 0 {
		return "any(nil)"
	}
	return "any(" + w.literal(w.goType(depth+2), depth+1) + ")"
}

func (w *writer) keys(t *goType) []string {
	if t.form == event.Text {
		return []string{`"fog"`, `"swell"`, `""`}
	}
	return []string{"0", "7", "42"}
}

// change writes a statement that changes what an expression names; ok is false if there is nothing
// to change in it.
func (w *writer) change(name string, t *goType, depth int) string {
	inner := func(name string, t *goType) string {
		if depth > 3 || w.IntN(3) == 0 {
			return name + " = " + w.literal(t, depth+1)
		}
		return w.change(name, t, depth+1)
	}
	if (t.form == event.Int || t.form == event.Uint) && depth == 0 && w.IntN(2) == 0 { // foreign code writes it
		return []string{
			fmt.Sprintf(`if err := json.Unmarshal([]byte("7"), &%s); err != nil { panic(err) }`, name),
			fmt.Sprintf(`if n, _ := fmt.Sscan("5", &%s); n > 5 { panic(n) }`, name),
			fmt.Sprintf(`for i := 0; i < 1 && json.Unmarshal([]byte("3"), &%s) == nil; i++ { %s++ }`, name, name),
			fmt.Sprintf(`_, err := fmt.Sscan("6", &%s); if err != nil { panic(err) }`, name),
			fmt.Sprintf(`switch n, _ := fmt.Sscan("6", &%s); { case n > 5: panic(n); default: _ = n }`, name),
		}[w.IntN(5)]
	}
	switch t.form {
	case event.Int, event.Uint:
		return []string{name + "++", name + " += 3", name + " = " + w.literal(t, depth), name + " ^= 5"}[w.IntN(4)]
	case event.Text:
		return []string{name + ` += "!"`, name + " = " + w.literal(t, depth)}[w.IntN(2)]
	case event.Struct:
		i := w.IntN(len(t.of))
		return inner(fmt.Sprintf("%s.%c", name, 'a'+i), t.of[i])
	case event.Array:
		return inner(fmt.Sprintf("%s[%d]", name, w.IntN(t.size)), t.elem)
	case event.Slice:
		switch w.IntN(6) {
		case 4:
			return fmt.Sprintf("clear(%s)", name)
		case 5:
			from := w.literal(t, depth+1)
			return []string{fmt.Sprintf("copy(%s, %s)", name, from), fmt.Sprintf("if n := copy(%s, %s); n > 5 { %s = nil }", name, from, name),
				fmt.Sprintf("if len(%s) > 1 { copy(%s[1:], %s) }", name, name, name), fmt.Sprintf("if n := len(%s); n > 0 { n -= copy(%s[n-1:], %s) }", name, name, from)}[w.IntN(4)]
		case 0:
			return fmt.Sprintf("%s = append(%s, %s)", name, name, w.literal(t.elem, depth+1))
		case 1:
			return fmt.Sprintf("if len(%s) > 1 { %s = %s[1:] }", name, name, name)
		case 2:
			return fmt.Sprintf("if len(%s) > 0 { %s }", name, inner(name+"[0]", t.elem))
		}
		return fmt.Sprintf("if n := len(%s); n > 1 { %s[0], %s[n-1] = %s[n-1], %s[0] }", name, name, name, name, name)
	case event.Map:
		k := w.keys(t.key)[w.IntN(3)]
		switch w.IntN(3) {
		case 0:
			return fmt.Sprintf("delete(%s, %s)", name, k)
		case 1:
			return fmt.Sprintf("if %s != nil { clear(%s) }", name, name)
		}
		return fmt.Sprintf("if %s != nil { %s[%s] = %s }", name, name, k, w.literal(t.elem, depth+1))
	case event.Pointer:
		return fmt.Sprintf("if %s != nil { %s }", name, inner("(*"+name+")", t.elem))
	}
	return name + " = " + w.literal(t, depth)
}

const programHead = `package main

import (
	"encoding/json"
	"fmt"
	"reflect"
	"runtime"
	"sort"
	"strconv"
	"strings"
)

var _ = json.Valid

func ptr[T any](x T) *T { return &x }

func main() {
%s}

// truth prints a variable with the line that asks for it.
func truth(name string, v any) {
	_, _, line, _ := runtime.Caller(1)
	fmt.Printf("TRUTH\t%%d\t%%s\t%%s\n", line, name, render(reflect.ValueOf(v)))
}

func render(v reflect.Value) string {
	switch v.Kind() {
	case reflect.Invalid:
		return "nil"
	case reflect.Bool:
		return strconv.FormatBool(v.Bool())
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return strconv.FormatInt(v.Int(), 10)
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		return strconv.FormatUint(v.Uint(), 10)
	case reflect.Float32, reflect.Float64:
		return strconv.FormatFloat(v.Float(), 'g', -1, 64)
	case reflect.Complex128:
		return fmt.Sprint(v.Complex())
	case reflect.String:
		return strconv.Quote(v.String())
	case reflect.Pointer:
		if v.IsNil() {
			return "nil"
		}
		return "&" + render(v.Elem())
	case reflect.Interface:
		if v.IsNil() {
			return "nil"
		}
		return render(v.Elem())
	}
	var parts []string
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			parts = append(parts, v.Type().Field(i).Name+":"+render(v.Field(i)))
		}
		return "{" + strings.Join(parts, " ") + "}"
	case reflect.Slice:
		if v.IsNil() {
			return "nil"
		}
		fallthrough
	case reflect.Array:
		for i := range v.Len() {
			parts = append(parts, render(v.Index(i)))
		}
		return "[" + strings.Join(parts, " ") + "]"
	case reflect.Map:
		if v.IsNil() {
			return "nil"
		}
		for it := v.MapRange(); it.Next(); {
			parts = append(parts, render(it.Key())+":"+render(it.Value()))
		}
		sort.Strings(parts)
		return "map[" + strings.Join(parts, " ") + "]"
	}
	return "?"
}

`

// Go returns the text of a program in package main, and how many values it prints. Each line
// "TRUTH\tLINE\tNAME\tVALUE" of its output is a variable where that line is reached. With
// crash, its functions call each other and the last one panics, so that all of them are on the
// stack of the dump.
func Go(seed uint64, crash bool) (text string, truths int) {
	w := &writer{Rand: rand.New(rand.NewPCG(seed, 13))}
	var calls, functions strings.Builder
	const number = 14
	if crash {
		fmt.Fprintf(&calls, "\tf%d()\n", number-1)
		functions.WriteString("func fall() { panic(\"fog\") }\n\n")
	}
	for f := range number {
		if !crash {
			fmt.Fprintf(&calls, "\tf%d()\n", f)
		}
		fmt.Fprintf(&functions, "func f%d() {\n", f)
		types := make([]*goType, 1+w.IntN(3))
		for i := range types {
			if types[i] = w.goType(0); w.IntN(3) == 0 {
				types[i] = &basic[w.IntN(9)]
			}
			fmt.Fprintf(&functions, "\tv%d := %s\n\ttruth(\"v%d\", v%d)\n", i, w.literal(types[i], 0), i, i)
			truths++
		}
		for range 3 + w.IntN(6) {
			i := w.IntN(len(types))
			fmt.Fprintf(&functions, "\t{ %s }\n", w.change(fmt.Sprint("v", i), types[i], 0))
			for j := range types { // the others stay as they are
				fmt.Fprintf(&functions, "\ttruth(\"v%d\", v%d)\n", j, j)
				truths++
			}
		}
		switch {
		case crash && f == 0:
			functions.WriteString("\tfall()\n")
		case crash:
			fmt.Fprintf(&functions, "\tf%d()\n", f-1)
		}
		functions.WriteString("}\n\n")
	}
	return fmt.Sprintf(programHead, calls.String()) + w.types.String() + functions.String(), truths
}

// Render formats a value of a recording as a generated program formats its own.
func Render(v replay.Value) string {
	switch {
	case v.State != event.Known || v.Type == nil && !v.Nil:
		return "unknown(" + string(v.State) + ")"
	case v.Nil:
		return "nil"
	}
	switch v.Form() {
	case event.Bool:
		return strconv.FormatBool(v.Uint != 0)
	case event.Int:
		return strconv.FormatInt(v.Int, 10)
	case event.Uint, event.Opaque:
		return strconv.FormatUint(v.Uint, 10)
	case event.Float:
		return strconv.FormatFloat(v.Float, 'g', -1, 64)
	case event.Complex:
		return fmt.Sprint(complex(v.Float, v.Imag))
	case event.Text:
		return strconv.Quote(v.Value.Text)
	case event.Pointer:
		return "&" + Render(v.Deref())
	case event.Interface:
		return Render(v.With(v.Items[0]))
	}
	var parts []string
	switch v.Form() {
	case event.Struct:
		for i, f := range v.Type.Fields {
			parts = append(parts, f.Name+":"+Render(v.With(v.Items[i])))
		}
		return "{" + strings.Join(parts, " ") + "}"
	case event.Array, event.Slice:
		children, _ := v.Children(replay.Page{Count: 1000})
		for _, c := range children {
			parts = append(parts, Render(c.Value))
		}
		return "[" + strings.Join(parts, " ") + "]"
	case event.Map:
		pairs, all := v.Memory.Entries(v.Address, v.Type)
		for i := 0; i+1 < len(pairs); i += 2 {
			parts = append(parts, Render(v.With(pairs[i]))+":"+Render(v.With(pairs[i+1])))
		}
		if !all {
			parts = append(parts, "…")
		}
		sort.Strings(parts)
		return "map[" + strings.Join(parts, " ") + "]"
	}
	return "?"
}
