package gotable

import (
	"debug/gosym"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/module"
)

// own reads the table of this test's own binary, which is not relocated.
func own(t *testing.T) (*module.File, *Table) {
	path, err := os.Executable()
	require.NoError(t, err)
	f, err := module.Open(path, "")
	require.NoError(t, err)
	read := func(address, n uint64) ([]byte, bool) {
		b := fileBytes(f, address)
		if uint64(len(b)) < n {
			return nil, false
		}
		return b[:n], true
	}
	table := Find(f, 0, read)
	require.NotNil(t, table)
	require.NotNil(t, table.inlined)
	return f, table
}

// Names, bounds and lines of all functions, against the standard library's reader.
func TestFunctions(t *testing.T) {
	t.Parallel()
	f, table := own(t)
	data, err := f.Section(".gopclntab")
	require.NoError(t, err)
	defer runtime.KeepAlive(f) // its bytes are mapped as long as it is used
	want, err := gosym.NewTable(nil, gosym.NewLineTable(data, f.ELF.Section(".text").Addr))
	require.NoError(t, err)
	require.Greater(t, len(want.Funcs), 1000)
	require.EqualValues(t, len(want.Funcs), table.count)
	r := rand.New(rand.NewPCG(1, 1))
	for i, fn := range want.Funcs {
		got := table.function(uint64(i))
		require.Equal(t, fn.Name, got.Name)
		require.Equal(t, fn.Entry, got.Entry)
		for _, pc := range []uint64{fn.Entry, fn.End - 1, fn.Entry + uint64(r.Int64N(int64(fn.End-fn.Entry)))} {
			at, ok := table.At(pc)
			require.True(t, ok)
			require.Equal(t, fn.Name, at.Name, "%#x", pc)
			require.Equal(t, pc == fn.Entry, table.Begins(pc), "%#x", pc)
			frames := table.Frames(pc)
			require.NotEmpty(t, frames)
			require.Equal(t, fn.Name, frames[len(frames)-1].Function)
			file, line, _ := want.PCToLine(pc)
			if known, _ := runtime.FuncForPC(uintptr(pc)).FileLine(uintptr(pc)); known == "?" {
				require.Zero(t, frames[0].Line, "%s at %#x", fn.Name, pc) // gosym takes the file of a neighbour
			} else if line > 0 {
				require.Equal(t, fmt.Sprint(file, ":", line), fmt.Sprint(frames[0].File, ":", frames[0].Line), "%s at %#x", fn.Name, pc)
			}
		}
	}
	last := want.Funcs[len(want.Funcs)-1]
	for _, pc := range []uint64{0, table.text - 1, last.End, ^uint64(0)} {
		_, ok := table.At(pc)
		assert.False(t, ok, "%#x", pc)
		assert.Empty(t, table.Frames(pc))
		assert.False(t, table.Begins(pc))
		assert.False(t, table.Ends(pc))
		_, ok = table.FrameSize(pc)
		assert.False(t, ok)
	}
}

func innermost(pcs []uintptr) int { return runtime.Callers(0, pcs) }
func middle(pcs []uintptr) int    { return innermost(pcs) + 0 }
func outer(pcs []uintptr) int     { return middle(pcs) + 0 }

//go:noinline
func notInlined(pcs []uintptr) int { return outer(pcs) }

// Inlined calls are those that the runtime itself sees on its stack.
func TestInlined(t *testing.T) {
	t.Parallel()
	_, table := own(t)
	pcs := make([]uintptr, 50)
	pcs = pcs[:notInlined(pcs)]
	var want []string
	for frames := runtime.CallersFrames(pcs); ; {
		f, more := frames.Next()
		want = append(want, fmt.Sprint(f.Function, " ", f.File, ":", f.Line))
		if !more {
			break
		}
	}
	var got []string
	inlined := 0
	for i := 0; i < len(pcs); {
		frames := table.Frames(uint64(pcs[i]) - 1)
		require.NotEmpty(t, frames)
		for j, f := range frames {
			got = append(got, fmt.Sprint(f.Function, " ", f.File, ":", f.Line))
			assert.Equal(t, j < len(frames)-1, f.Inlined)
			if f.Inlined {
				inlined++
			}
		}
		i += len(frames)
	}
	assert.Equal(t, want, got)
	assert.GreaterOrEqual(t, inlined, 3)
}

// The frame of a function is as large as its return address is above the stack pointer.
func TestFrameSizes(t *testing.T) {
	t.Parallel()
	_, table := own(t)
	sized, nonzero := 0, 0
	for i := range table.count {
		f := table.function(i)
		size, ok := table.FrameSize(f.Entry)
		if !ok {
			continue
		}
		sized++
		require.Zero(t, size, "%s has just been entered", f.Name)
		if size, ok := table.FrameSize((f.Entry + f.End) / 2); ok && size > 0 {
			nonzero++
			require.Less(t, size, uint64(2<<30), f.Name)
		}
	}
	assert.Greater(t, sized, int(table.count)*9/10)
	assert.Greater(t, nonzero, int(table.count)/2)
}

// Stacks end where the runtime begins them.
func TestEnds(t *testing.T) {
	t.Parallel()
	_, table := own(t)
	ends := map[string]bool{}
	for i := range table.count {
		f := table.function(i)
		ends[f.Name] = table.Ends(f.Entry)
	}
	for name, want := range map[string]bool{"runtime.goexit": true, "runtime.mcall": true, "runtime.systemstack": true, "runtime.rt0_go": true, "runtime.main": false, "runtime.sigtramp": false, "os.Getenv": false} {
		got, ok := ends[name]
		require.True(t, ok, name)
		assert.Equal(t, want, got, name)
	}
}

// Damage to any byte of the table ends in an answer, not in a panic or a loop.
func TestDamage(t *testing.T) {
	t.Parallel()
	f, table := own(t)
	data, err := f.Section(".gopclntab")
	require.NoError(t, err)
	defer runtime.KeepAlive(f)
	r := rand.New(rand.NewPCG(2, 2))
	parsed := 0
	for range 300 {
		b := append([]byte{}, data...)
		for range 1 + r.IntN(20_000) {
			b[72+r.IntN(len(b)-72)] = byte(r.Uint32())
		}
		if r.IntN(2) == 0 {
			b[r.IntN(72)] = byte(r.Uint32())
		}
		cut := len(b)
		if r.IntN(3) == 0 {
			cut = r.IntN(len(b))
		}
		x, ok := parse(b[:cut])
		if !ok {
			continue
		}
		parsed++
		x.text, x.inlined = table.text, table.inlined
		for range 50 {
			pc := table.text + r.Uint64N(1<<20)
			x.Frames(pc)
			x.FrameSize(pc)
			x.Ends(pc)
		}
	}
	assert.Greater(t, parsed, 30)
	for name, change := range map[string]func([]byte){
		"another magic":      func(b []byte) { b[0] = 1 },
		"4-byte pointers":    func(b []byte) { b[7] = 4 },
		"no quantum":         func(b []byte) { b[6] = 0 },
		"no functions":       func(b []byte) { clear(b[8:16]) },
		"too many functions": func(b []byte) { b[14] = 1 },
		"names beyond":       func(b []byte) { b[38] = 1 },
	} {
		b := append([]byte{}, data...)
		change(b)
		_, ok := parse(b)
		assert.False(t, ok, name)
	}
	assert.Equal(t, "", textAt([]byte("fog"), 3))
	assert.Equal(t, "og", textAt([]byte("fog"), 1))
	assert.True(t, strings.HasPrefix(textAt(data, 0), "\xf1\xff\xff\xff"))
}
