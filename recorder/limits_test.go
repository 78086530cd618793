package recorder_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/recorder"
)

// sizes are around the limits of texts, lists and tables: 256 bytes, 1,024 elements, 256 entries, and
// the pieces of 16 elements in which lists are written.
var sizes = []int{0, 1, 15, 16, 17, 100, 255, 256, 257, 1023, 1024, 1025, 1040, 3000}

const limitsProgram = `package main

import "strings"

type node struct {
	n    int
	next *node
}

func made(n int) (text string, bytes []byte, list []int, words []string, table map[int]string, chain *node) {
	text = strings.Repeat("x", n)
	bytes = []byte(text)
	list = make([]int, 0, n+3)
	table = map[int]string{}
	for i := 0; i < n; i++ {
		list = append(list, i*i)
		words = append(words, "w")
		table[i] = "t"
	}
	for i := 0; i < n; i++ {
		chain = &node{i, chain}
	}
	return
}

func look(text string, bytes []byte, list []int, words []string, table map[int]string, chain *node, array [3]complex128, small [2]complex64, n int) {
	println(len(text))
}

func main() {
	for _, n := range []int{%s} {
		text, bytes, list, words, table, chain := made(n)
		look(text, bytes, list, words, table, chain, [3]complex128{1, complex(2, -3), 4i}, [2]complex64{complex(0.5, 1.5), 2}, n)
	}
}
`

// What is within a limit is known; what is beyond is known to be missing, never shown as nothing.
func TestLimitsOfValues(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var list []string
	for _, n := range sizes {
		list = append(list, fmt.Sprint(n))
	}
	program := fmt.Sprintf(limitsProgram, strings.Join(list, ", "))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(program), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module limits\n\ngo 1.24\n"), 0o600))
	before, _, _ := strings.Cut(program, "println(len(text))")
	line := strings.Count(before, "\n") + 1
	for _, length := range []int{0, 64} {
		ran := recordWith(t, recorder.Options{Detail: recorder.Detail{Length: length}}, dir, "go", "run", ".")
		require.Zero(t, ran.ExitCode, ran.err)
		r := open(t, ran.log)
		bytes := length
		if bytes == 0 {
			bytes = 256
		}
		elements := 4 * bytes
		for i, n := range sizes {
			about := fmt.Sprintf("%d, limit %d", n, bytes)
			value := func(name string) replay.Value { return valueAtLine(t, r, line, i, name) }

			text := value("text")
			require.Equal(t, event.Known, text.State, about)
			assert.Equal(t, strings.Repeat("x", min(n, bytes)), text.Value.Text, about)
			if n > bytes {
				assert.EqualValues(t, n, text.Whole, about)
			} else {
				assert.Zero(t, text.Whole, about)
			}

			numbers := value("list")
			assert.EqualValues(t, n, numbers.Length, about)
			assert.EqualValues(t, n+3, numbers.Capacity, about)
			for _, at := range []int{0, 1, 14, 15, 16, 17, 99, elements - 1, elements, n - 1} {
				if at < 0 || at >= n {
					continue
				}
				x := numbers.Element(uint64(at))
				if x.State == event.Known {
					assert.EqualValues(t, at*at, x.Int, "[%d] of %s", at, about)
				} else {
					assert.GreaterOrEqual(t, at, elements, "[%d] of %s is not known", at, about)
				}
			}
			words := value("words")
			assert.EqualValues(t, n, words.Length, about)
			if n > 0 {
				assert.Equal(t, "w", words.Element(0).Value.Text, about)
			}

			table := value("table")
			assert.EqualValues(t, n, table.Count(), about)
			entries, total := table.Children(replay.Page{Count: 5000})
			assert.Len(t, entries, total, about)
			assert.Equal(t, n, total, "all entries were added by own code")
			for _, e := range entries {
				assert.Equal(t, "t", e.Value.Value.Text, about)
			}

			chain := value("chain")
			for want := n - 1; want >= max(0, n-3); want-- { // three references are followed, the others by writes
				x := chain.Deref()
				require.Equal(t, event.Struct, x.Form(), about)
				assert.EqualValues(t, want, x.Field("n").Int, about)
				chain = x.Field("next")
			}
			if n <= 3 {
				assert.True(t, chain.Nil, about)
			}

			array, small := value("array"), value("small")
			assert.Equal(t, []float64{1, 0, 2, -3, 0, 4}, []float64{array.Items[0].Float, array.Items[0].Imag, array.Items[1].Float, array.Items[1].Imag, array.Items[2].Float, array.Items[2].Imag})
			assert.Equal(t, []float64{0.5, 1.5, 2, 0}, []float64{small.Items[0].Float, small.Items[0].Imag, small.Items[1].Float, small.Items[1].Imag})
		}
	}
}
