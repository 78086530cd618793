package cli

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/api"
	"wraithology/core/ask"
)

// filler makes answers of any type: the same for the same seed.
type filler struct {
	*rand.Rand
	texts []string
}

var (
	typedTexts  = []string{"", "Kelp Quay 3", "berth.Assign", "berth/berth.go", "error"}
	fillerTexts = append([]string{"depth < 2.5\tm", "two\nlines", "Nørre Quay", "a text that is so long that it does not fit beside others in one line of a terminal, whatever its width is"}, typedTexts...)
)

func (f filler) fill(v reflect.Value, depth int) {
	if depth > 8 {
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if f.IntN(3) > 0 {
			v.Set(reflect.New(v.Type().Elem()))
			f.fill(v.Elem(), depth+1)
		}
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Date(2031, 3, 30, 8, f.IntN(60), f.IntN(60), f.IntN(1e9), time.UTC)))
			return
		}
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				f.fill(v.Field(i), depth+1)
			}
		}
	case reflect.Slice:
		n := f.IntN(4)
		if depth > 4 {
			n = f.IntN(2)
		}
		v.Set(reflect.MakeSlice(v.Type(), n, n))
		for i := range n {
			f.fill(v.Index(i), depth+1)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
	case reflect.String:
		v.SetString(f.texts[f.IntN(len(f.texts))])
	case reflect.Bool:
		v.SetBool(f.IntN(2) == 0)
	case reflect.Int, reflect.Int64, reflect.Int32:
		v.SetInt([]int64{-1, 0, 1, 2, 7, 85, 4711, 1234567, 98765432100}[f.IntN(9)])
		if v.OverflowInt(98765432100) && v.Kind() == reflect.Int32 {
			v.SetInt(int64(f.IntN(100)))
		}
	case reflect.Uint, reflect.Uint64, reflect.Uint32, reflect.Uint16, reflect.Uint8:
		v.SetUint([]uint64{0, 1, 2, 7, 85}[f.IntN(5)])
	case reflect.Float64:
		v.SetFloat(float64(f.IntN(1000)) / 8)
	}
}

// filled makes a request and an answer, and prints it.
func filled[Q, A any](print func(io.Writer, printing, Q, A)) func(io.Writer, printing, filler) {
	return func(w io.Writer, o printing, f filler) {
		var q Q
		var a A
		filler{f.Rand, typedTexts}.fill(reflect.ValueOf(&q).Elem(), 0)
		f.fill(reflect.ValueOf(&a).Elem(), 0)
		print(w, o, q, a)
	}
}

var printed = map[string]func(io.Writer, printing, filler){
	"changed":      filled(printChanged),
	"hits":         filled(printHits),
	"instant":      filled(printInstant),
	"instructions": filled(printInstructions),
	"ledger":       filled(printLedger),
	"meanwhile":    filled(printMeanwhile),
	"memory":       filled(printMemory),
	"holders":      filled(printHolders),
	"messages":     filled(printMessages),
	"origin":       filled(func(w io.Writer, o printing, _ ask.OriginRequest, x ask.Origin) { printOrigin(w, o, x, 0) }),
	"peek":         filled(printPeek),
	"search":       filled(printSearch),
	"sitting":      filled(func(w io.Writer, _ printing, _ struct{}, s api.Sitting) { printSitting(w, s) }),
	"stack":        filled(printStack),
	"exhibit":      filled(func(w io.Writer, _ printing, _ struct{}, x api.Exhibit) { printExhibit(w, "fog", x) }),
	"comment":      filled(func(w io.Writer, _ printing, _ struct{}, x api.Comment) { printComment(w, x) }),
	"theory":       filled(func(w io.Writer, _ printing, _ struct{}, x api.Theory) { printTheory(w, x) }),
	"breaks":       filled(func(w io.Writer, _ printing, _ struct{}, x []api.EvidenceInfo) { printBreaks(w, x) }),
	"step":         filled(func(w io.Writer, o printing, _ ask.StepRequest, s ask.Step) { printStep(w, o, s) }),
	"threads":      filled(printGroups),
	"trace":        filled(func(w io.Writer, o printing, _ ask.TraceRequest, s ask.Spans) { printSpans(w, o.name, s) }),
	"traces":       filled(printTraces),
	"values":       filled(func(w io.Writer, _ printing, _ ask.ValuesRequest, v ask.Values) { printValues(w, v) }),
	"writes":       filled(printWrites),
}

// What is printed of answers that evidence seldom gives: without texts, with long ones, with
// control characters, with negative numbers and with more than is shown. After a wanted change:
// go test ./cli -update, and read the difference.
func TestPrintedAnswers(t *testing.T) {
	t.Parallel()
	o := printing{name: "E", source: func(file string, line int) string {
		if line%2 == 1 && file != "" {
			return fmt.Sprintf("line %d of %s", line, file)
		}
		return ""
	}}
	update := flag.Lookup("update").Value.String() == "true"
	for name, print := range printed {
		var got bytes.Buffer
		for seed := range uint64(6) {
			fmt.Fprintf(&got, "--- %d\n", seed)
			print(&got, o, filler{rand.New(rand.NewPCG(seed, 8)), fillerTexts})
		}
		path := filepath.Join("testdata", "printed", name+".golden")
		if update {
			require.NoError(t, os.WriteFile(path, got.Bytes(), 0o666))
			continue
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, strings.Split(string(want), "\n"), strings.Split(got.String(), "\n"), name)
		assert.NotContains(t, got.String(), "\nlines", "%s prints text of the evidence as it is", name)
		assert.NotContains(t, got.String(), "\t", "%s prints text of the evidence as it is", name)
	}
}
