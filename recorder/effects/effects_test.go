package effects

import (
	"bytes"
	"context"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"sort"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

const shapes = "testdata/shapes"

// claimed writes a summary as the comments of package shapes do.
func claimed(s Summary) string {
	var parts []string
	for _, e := range s.Args {
		text := ""
		for _, x := range []struct {
			of     Effect
			letter string
		}{{Writes, "w"}, {Keeps, "k"}, {Calls, "c"}, {Hands, "h"}} {
			if e&x.of != 0 {
				text += x.letter
			}
		}
		if text == "" {
			text = "-"
		}
		parts = append(parts, text)
	}
	if s.Elsewhere {
		parts = append(parts, "elsewhere")
	}
	return strings.Join(parts, " ")
}

// includes reports whether a claim includes all that a function does.
func includes(claim, does string) bool {
	c, d := strings.Fields(claim), strings.Fields(does)
	for i, what := range d {
		if what == "elsewhere" {
			if !slices.Contains(c, what) {
				return false
			}
			continue
		}
		for _, letter := range strings.Trim(what, "-") {
			if i >= len(c) || !strings.ContainsRune(c[i], letter) {
				return false
			}
		}
	}
	return true
}

// Each function of package shapes is found to do what its comment says. Of those that put something of one
// argument into another, or copy a struct with references, more is said.
func TestWhatFunctionsDo(t *testing.T) {
	t.Parallel()
	found, err := find(context.Background(), packages.Config{Dir: shapes}, []string{"shapes"})
	require.NoError(t, err)
	file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(shapes, "shapes.go"), nil, parser.ParseComments)
	require.NoError(t, err)
	checked, more := 0, []string{}
	for _, d := range file.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok || !fn.Name.IsExported() {
			continue
		}
		_, does, _ := strings.Cut(strings.TrimSpace(fn.Doc.Text()), " does: ")
		name := "shapes." + fn.Name.Name
		if fn.Recv != nil {
			name = map[string]string{"Changes": "(*shapes.node).Changes", "Says": "(shapes.node).Says"}[fn.Name.Name]
		}
		s, ok := found["shapes"][name]
		require.True(t, ok, name)
		got := claimed(s)
		assert.Truef(t, includes(got, does), "%s is said to do %s, and does %s", name, got, does)
		if got != does {
			more = append(more, fmt.Sprintf("%s is said to do %s, and does %s", name, got, does))
		}
		checked++
	}
	assert.Greater(t, checked, 34)
	assert.LessOrEqual(t, len(more), 7, strings.Join(more, "\n"))
}

// value makes a random value of a type; its slices have spare capacity.
func value(r *rand.Rand, t reflect.Type) reflect.Value {
	v := reflect.New(t).Elem()
	switch t.Kind() {
	case reflect.Int, reflect.Int32, reflect.Int64:
		v.SetInt(r.Int64N(4))
	case reflect.Uint8, reflect.Uint64:
		v.SetUint(uint64('a' + r.IntN(3)))
	case reflect.String:
		v.SetString(strings.Repeat("a bc", r.IntN(3)))
	case reflect.Slice:
		n := 4 + r.IntN(6)
		v = reflect.MakeSlice(t, n, n+r.IntN(12))
		for i := range n {
			v.Index(i).Set(value(r, t.Elem()))
		}
	case reflect.Map:
		v = reflect.MakeMap(t)
		for range 4 {
			v.SetMapIndex(value(r, t.Key()), value(r, t.Elem()))
		}
	}
	return v
}

// image writes all of a value, also beyond the length of slices.
func image(v reflect.Value) string {
	if v.Kind() == reflect.Slice && !v.IsNil() {
		return fmt.Sprintf("%#v", v.Slice(0, v.Cap()).Interface())
	}
	return fmt.Sprintf("%#v", v.Interface())
}

// What functions of the standard library are seen to write, they are found to write; those that are said
// to write nothing are seen to write nothing.
func TestFunctionsWriteWhatIsFound(t *testing.T) {
	t.Parallel()
	functions := map[string]any{
		"bytes.ToUpper": bytes.ToUpper, "bytes.TrimSpace": bytes.TrimSpace, "bytes.Split": bytes.Split, "bytes.Join": bytes.Join, "bytes.Repeat": bytes.Repeat,
		"bytes.Replace": bytes.Replace, "bytes.Fields": bytes.Fields, "bytes.Equal": bytes.Equal, "bytes.Clone": bytes.Clone,
		"slices.Reverse": slices.Reverse[[]int], "slices.Sort": slices.Sort[[]int], "slices.Compact": slices.Compact[[]int], "slices.Insert": slices.Insert[[]int], "slices.Delete": slices.Delete[[]int],
		"slices.Contains": slices.Contains[[]int], "slices.Index": slices.Index[[]int], "slices.Equal": slices.Equal[[]int], "slices.Clone": slices.Clone[[]int], "slices.Max": slices.Max[[]int],
		"slices.Grow": slices.Grow[[]int], "slices.Clip": slices.Clip[[]int], "slices.Replace": slices.Replace[[]int], "slices.BinarySearch": slices.BinarySearch[[]int],
		"sort.Ints": sort.Ints, "sort.Strings": sort.Strings, "sort.IntsAreSorted": sort.IntsAreSorted, "sort.SearchInts": sort.SearchInts,
		"strings.Join": strings.Join, "maps.Copy": maps.Copy[map[string]int, map[string]int], "maps.Equal": maps.Equal[map[string]int, map[string]int],
		"unicode/utf8.AppendRune": utf8.AppendRune, "unicode/utf8.EncodeRune": utf8.EncodeRune, "unicode/utf8.Valid": utf8.Valid,
	}
	var paths []string
	for name := range functions {
		if path := name[:strings.LastIndexByte(name, '.')]; !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	table, err := Load(context.Background(), packages.Config{}, t.TempDir(), asPackages(paths), func(int) {})
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 1))
	silent := 0
	for name, fn := range functions {
		s, ok := table.packages[name[:strings.LastIndexByte(name, '.')]][name]
		require.True(t, ok, name)
		of := reflect.TypeOf(fn)
		require.Len(t, s.Args, of.NumIn(), name)
		wrote := make([]bool, of.NumIn())
		for range 200 {
			args := make([]reflect.Value, of.NumIn())
			before := make([]string, len(args))
			for i := range args {
				args[i] = value(r, of.In(i))
				before[i] = image(args[i])
			}
			func() {
				defer func() { _ = recover() }() // an index may be out of range
				if of.IsVariadic() {
					reflect.ValueOf(fn).CallSlice(args)
				} else {
					reflect.ValueOf(fn).Call(args)
				}
			}()
			for i := range args {
				wrote[i] = wrote[i] || image(args[i]) != before[i]
			}
		}
		for i, w := range wrote {
			if w {
				assert.NotZero(t, s.Args[i]&Writes, "%s writes to argument %d", name, i)
			} else if s.Args[i]&Writes == 0 {
				silent++
			}
		}
	}
	assert.Greater(t, silent, 40, "arguments that nothing is written to")
}

func asPackages(paths []string) (list []Package) {
	for _, p := range paths {
		list = append(list, Package{p, "key"})
	}
	return list
}

// What was found is kept, by the version of the source. Damaged files are found again.
func TestFoundEffectsAreKept(t *testing.T) {
	t.Parallel()
	ctx, folder, read := context.Background(), t.TempDir(), 0
	load := func(list ...Package) *Table {
		t.Helper()
		table, err := Load(ctx, packages.Config{Dir: shapes}, folder, list, func(n int) { read += n })
		require.NoError(t, err)
		return table
	}
	first := load(Package{"shapes", "v1"})
	assert.Equal(t, 1, read)
	assert.Equal(t, first.packages, load(Package{"shapes", "v1"}).packages)
	assert.Equal(t, 1, read)
	load(Package{"shapes", "v2"})
	assert.Equal(t, 2, read)
	load(Package{"shapes", ""})
	load(Package{"shapes", ""})
	assert.Equal(t, 4, read, "a package without a version is read each time")
	files, err := filepath.Glob(filepath.Join(folder, "*.json"))
	require.NoError(t, err)
	require.Len(t, files, 2)
	for _, f := range files {
		require.NoError(t, os.WriteFile(f, []byte(`{"shapes.`), 0o600))
	}
	assert.Equal(t, first.packages, load(Package{"shapes", "v1"}).packages)
	assert.Equal(t, 5, read)
}
