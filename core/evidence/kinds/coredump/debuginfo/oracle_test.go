package debuginfo

import (
	"debug/dwarf"
	"debug/elf"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/module"
)

// The program has inlined calls, blocks, static variables of the same name, and the types of many
// headers of the system.
const programC = `
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <math.h>
#include <time.h>
#include <errno.h>
#include <signal.h>
#include <pthread.h>
#include <netdb.h>
#include <poll.h>
#include <pwd.h>
#include <termios.h>
#include <sys/stat.h>
#include <sys/socket.h>
#include <sys/resource.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <elf.h>

enum light { dark, dim = 4, bright, off = -3 };
struct bits { unsigned a : 3; int b : 12; unsigned long long c : 40; char d; enum light e : 4; };
struct berth { char name[12]; double depth[3][2]; struct bits bits; union { int i; float f; } of; struct berth *next; int (*pilot)(struct berth *, int); };
typedef struct { struct berth first; const volatile int tide; _Bool open; } harbour;
struct berth berths[4];
harbour home;
static int count = 3;

static inline __attribute__((always_inline)) int deepest(struct berth *b, int n) {
	int best = 0;
	for (int i = 1; i < n; i++) {
		double here = b[i].depth[0][0];
		if (here > b[best].depth[0][0]) best = i;
	}
	return best;
}

static inline __attribute__((always_inline)) int twice(struct berth *b, int n) {
	return deepest(b, n) * 2 + deepest(b + 1, n - 1);
}

__attribute__((noinline)) int moor(struct berth *b, int n) {
	static int count = 7;
	count += n;
	{
		int inner = twice(b, n);
		if (inner > 3) { int more = inner * n; printf("%d\n", more); }
		count += inner;
	}
	return deepest(b, count);
}

int main(int argc, char **argv) {
	for (int i = 0; i < 4; i++) berths[i].depth[0][0] = argc * sin(i);
	count += argc;
	home.open = count > 2;
	return moor(berths, 4) + twice(berths, 3) + home.tide;
}
`

const programGo = `package main

import (
	"fmt"
	"os"
	"sort"
	"strings"
)

type Berth struct {
	Name  string
	Depth [3]float32
	Next  *Berth
	Taken bool
	Logs  []string
}

type byName []Berth

func (b byName) Len() int           { return len(b) }
func (b byName) Less(i, j int) bool { return b[i].Name < b[j].Name }
func (b byName) Swap(i, j int)      { b[i], b[j] = b[j], b[i] }

func main() {
	list := byName{{Name: "north"}, {Name: "east"}, {Name: strings.ToUpper(os.Args[0])}}
	sort.Sort(list)
	for i, b := range list {
		fmt.Println(i, b.Name, len(b.Logs))
	}
}
`

// built returns the debug information of a program, and the standard library's view of it.
func built(t *testing.T, name, source string, command ...string) (*Debug, *dwarf.Data, *elf.File) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(source), 0o600))
	c := exec.Command(command[0], append(command[1:], "-o", "program", name)...)
	if command[0] == "gcc" || command[0] == "g++" {
		c.Args = append(c.Args, "-lm")
	}
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	f, err := module.Open(filepath.Join(dir, "program"), "")
	require.NoError(t, err)
	d, err := Open(f, nil, nil)
	require.NoError(t, err)
	plain, err := elf.Open(filepath.Join(dir, "program"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = plain.Close() })
	data, err := plain.DWARF()
	require.NoError(t, err)
	return d, data, plain
}

var builds = []struct {
	name, file, source string
	command            []string
}{
	{"C", "berth.c", programC, []string{"gcc", "-O0", "-g"}},
	{"C, optimised", "berth.c", programC, []string{"gcc", "-O2", "-g"}},
	{"C, DWARF 4", "berth.c", programC, []string{"gcc", "-O2", "-gdwarf-4", "-ffunction-sections"}},
	{"C, compressed", "berth.c", programC, []string{"gcc", "-O1", "-g", "-gz=zlib"}},
	{"Go", "main.go", programGo, []string{"go", "build"}},
	{"Go, unoptimised", "main.go", programGo, []string{"go", "build", "-gcflags=all=-N -l"}},
}

// naive is what a plain walk over all entries finds at a program counter.
type naive struct {
	function string
	inlined  []string // innermost first: name, line of the call
}

func nameOf(t *testing.T, data *dwarf.Data, e *dwarf.Entry) string {
	for range 4 {
		if name, ok := e.Val(dwarf.AttrName).(string); ok {
			return name
		}
		of, ok := e.Val(dwarf.AttrAbstractOrigin).(dwarf.Offset)
		if !ok {
			of, ok = e.Val(dwarf.AttrSpecification).(dwarf.Offset)
		}
		if !ok {
			return ""
		}
		r := data.Reader()
		r.Seek(of)
		var err error
		e, err = r.Next()
		require.NoError(t, err)
	}
	return ""
}

func covers(data *dwarf.Data, e *dwarf.Entry, pc uint64) bool {
	ranges, _ := data.Ranges(e)
	for _, x := range ranges {
		if x[0] <= pc && pc < x[1] {
			return true
		}
	}
	return false
}

// at finds the functions at each program counter in one walk.
func at(t *testing.T, data *dwarf.Data, counters []uint64) map[uint64]*naive {
	found := map[uint64]*naive{}
	r := data.Reader()
	for {
		e, err := r.Next()
		require.NoError(t, err)
		if e == nil {
			return found
		}
		if e.Tag != dwarf.TagSubprogram && e.Tag != dwarf.TagInlinedSubroutine {
			continue
		}
		ranges, _ := data.Ranges(e)
		if len(ranges) == 0 {
			continue
		}
		for _, pc := range counters {
			if !covers(data, e, pc) {
				continue
			}
			if e.Tag == dwarf.TagSubprogram {
				found[pc] = &naive{function: nameOf(t, data, e)}
			} else if n := found[pc]; n != nil {
				line, _ := e.Val(dwarf.AttrCallLine).(int64)
				n.inlined = append([]string{fmt.Sprint(nameOf(t, data, e), " ", line)}, n.inlined...)
			}
		}
	}
}

// lineOf finds the line at a program counter in one walk over all tables.
func lineOf(t *testing.T, data *dwarf.Data, pc uint64) (file string, number int) {
	r := data.Reader()
	for {
		unit, err := r.Next()
		require.NoError(t, err)
		if unit == nil {
			return "", 0
		}
		r.SkipChildren()
		if unit.Tag != dwarf.TagCompileUnit || !covers(data, unit, pc) {
			continue
		}
		lines, err := data.LineReader(unit)
		require.NoError(t, err)
		if lines == nil {
			continue
		}
		var before, now dwarf.LineEntry
		for first := true; lines.Next(&now) == nil; first = false {
			if !first && !before.EndSequence && before.Address <= pc && pc < now.Address {
				return before.File.Name, before.Line
			}
			if now.Line != 0 || first || before.EndSequence {
				before = now
			} else { // code without a line belongs to the line before it
				before.Address = now.Address
			}
		}
	}
}

func TestFunctionsAndLinesAgainstAPlainWalk(t *testing.T) {
	t.Parallel()
	for _, b := range builds {
		t.Run(b.name, func(t *testing.T) {
			t.Parallel()
			d, data, plain := built(t, b.file, b.source, b.command...)
			text := plain.Section(".text")
			r := rand.New(rand.NewPCG(4, 4))
			var counters []uint64
			symbols, err := plain.Symbols()
			require.NoError(t, err)
			for _, s := range symbols { // all of the program's own code, and samples of the rest
				if elf.ST_TYPE(s.Info) != elf.STT_FUNC || s.Size == 0 {
					continue
				}
				if own := strings.HasPrefix(s.Name, "main.") || s.Name == "main" || s.Name == "moor"; own {
					for pc := s.Value; pc < s.Value+s.Size; pc += 3 {
						counters = append(counters, pc)
					}
					counters = append(counters, s.Value+s.Size-1, s.Value+s.Size)
				}
			}
			for range 60 {
				counters = append(counters, text.Addr+r.Uint64N(text.Size))
			}
			slices.Sort(counters)
			counters = slices.Compact(counters)
			want := at(t, data, counters)
			require.Greater(t, len(want), 40)
			var inlined int
			for i, pc := range counters {
				f := d.FunctionAt(pc)
				if want[pc] == nil {
					assert.Nil(t, f, "0x%x", pc)
					continue
				}
				if !assert.NotNil(t, f, "0x%x in %s", pc, want[pc].function) {
					continue
				}
				assert.Equal(t, want[pc].function, f.Name, "0x%x", pc)
				var chain []string
				for _, s := range f.Scopes(pc) {
					if s.Inlined != "" {
						chain = append(chain, fmt.Sprint(s.Inlined, " ", s.CallLine))
						assert.NotEmpty(t, s.CallFile)
					}
				}
				assert.Equal(t, want[pc].inlined, chain, "0x%x in %s", pc, f.Name)
				inlined += len(chain)
				if i%4 == 0 {
					file, number := lineOf(t, data, pc)
					gotFile, got := d.UnitAt(pc).LineAt(pc)
					assert.Equal(t, number, got, "line of 0x%x in %s", pc, f.Name)
					assert.Equal(t, filepath.Base(file), filepath.Base(gotFile))
				}
			}
			if !strings.Contains(b.name, "nopt") {
				assert.Positive(t, inlined, "the program has inlined functions")
			}
		})
	}
}

// Names, sizes, offsets and lengths of types are those that the standard library reads.
func TestTypesAgainstTheStandardLibrary(t *testing.T) {
	t.Parallel()
	for _, b := range builds[:4] {
		t.Run(b.name, func(t *testing.T) {
			t.Parallel()
			d, data, _ := built(t, b.file, b.source, append(slices.Clone(b.command), "-fno-eliminate-unused-debug-types")...)
			types := NewTypes()
			r := data.Reader()
			seen := map[Kind]int{}
			for {
				e, err := r.Next()
				require.NoError(t, err)
				if e == nil {
					break
				}
				switch e.Tag {
				case dwarf.TagBaseType, dwarf.TagEnumerationType, dwarf.TagStructType, dwarf.TagUnionType, dwarf.TagArrayType, dwarf.TagPointerType, dwarf.TagTypedef, dwarf.TagConstType, dwarf.TagVolatileType, dwarf.TagSubroutineType:
				default:
					continue
				}
				want, err := data.Type(e.Offset)
				require.NoError(t, err)
				got := types.Get(types.ID(TypeRef{d, e.Offset}))
				require.NotNil(t, got)
				seen[got.Kind]++
				same(t, types, want, got)
			}
			for _, k := range []Kind{Plain, Enum, Record, Array, Pointer, CodePointer, Code} {
				assert.Positive(t, seen[k], "kind %d", k)
			}
		})
	}
}

// unqualified removes typedefs and qualifiers.
func unqualified(x dwarf.Type) dwarf.Type {
	for {
		switch y := x.(type) {
		case *dwarf.TypedefType:
			x = y.Type
		case *dwarf.QualType:
			x = y.Type
		default:
			return x
		}
	}
}

func same(t *testing.T, types *Types, want dwarf.Type, got *Type) {
	t.Helper()
	about := fmt.Sprintf("%s (%s)", want, got.Name)
	if x, ok := want.(*dwarf.TypedefType); ok {
		assert.Equal(t, x.Name, got.Name, about)
	}
	switch x := unqualified(want).(type) {
	case *dwarf.StructType:
		assert.Equal(t, Record, got.Kind, about)
		assert.Equal(t, x.Incomplete, got.Incomplete, about)
		if x.Incomplete || !assert.Len(t, got.Members, len(x.Field), about) {
			return
		}
		assert.EqualValues(t, x.ByteSize, got.Size, about)
		for i, f := range x.Field {
			m := got.Members[i]
			if f.Name != "" {
				assert.Equal(t, f.Name, m.Name, about)
			}
			assert.EqualValues(t, f.BitSize, m.Bits, "%s.%s", about, f.Name)
			if f.BitSize == 0 {
				assert.EqualValues(t, f.ByteOffset, m.Offset, "%s.%s", about, f.Name)
				continue
			}
			lowest := f.DataBitOffset
			if f.ByteSize != 0 || f.BitOffset != 0 { // DWARF 4 counts from the highest bit of the declared type
				lowest = 8*(f.ByteOffset+f.Type.Size()) - f.BitOffset - f.BitSize
			}
			assert.EqualValues(t, lowest, m.Bit, "%s.%s", about, f.Name)
		}
	case *dwarf.EnumType:
		assert.Equal(t, Enum, got.Kind, about)
		assert.EqualValues(t, x.ByteSize, got.Size, about)
		for _, v := range x.Val {
			assert.Contains(t, got.Names, v.Val, about)
		}
	case *dwarf.ArrayType:
		assert.Equal(t, event.Array, got.Form, about)
		of := types.Get(got.Elem)
		require.NotNil(t, of, about)
		if x.Count >= 0 {
			assert.EqualValues(t, x.Count, got.Length, about)
			assert.EqualValues(t, x.Type.Size(), of.Size, about)
		}
	case *dwarf.PtrType:
		assert.EqualValues(t, 8, got.Size, about)
		if _, code := unqualified(x.Type).(*dwarf.FuncType); code {
			assert.Equal(t, CodePointer, got.Kind, about)
			return
		}
		assert.Equal(t, Pointer, got.Kind, about)
		if _, void := x.Type.(*dwarf.VoidType); !void {
			to := types.Get(got.Elem)
			require.NotNil(t, to, about)
			if s, ok := unqualified(x.Type).(*dwarf.StructType); ok && !s.Incomplete {
				assert.EqualValues(t, s.ByteSize, to.Size, about)
			}
			char, _ := unqualified(x.Type).(*dwarf.CharType)
			assert.Equal(t, char != nil, got.Text != nil && char != nil, about)
		}
	case *dwarf.BoolType:
		assert.Equal(t, event.Bool, got.Form, about)
	case *dwarf.FloatType:
		assert.Equal(t, event.Float, got.Form, about)
		assert.EqualValues(t, x.ByteSize, got.Size, about)
	case *dwarf.ComplexType:
		assert.Equal(t, event.Complex, got.Form, about)
	case *dwarf.IntType:
		assert.True(t, got.Signed, about)
		assert.EqualValues(t, x.ByteSize, got.Size, about)
		assert.Equal(t, x.ByteSize <= 8, got.Form == event.Int, about)
	case *dwarf.UintType:
		assert.False(t, got.Signed, about)
		assert.Equal(t, x.ByteSize <= 8, got.Form == event.Uint, about)
	case *dwarf.CharType:
		assert.True(t, got.Signed && got.Character, about)
	case *dwarf.UcharType:
		assert.True(t, !got.Signed && got.Character, about)
	}
}

// Globals are found by name, by file and name, and first in the unit that is looked at; types by
// their names and with the word that C puts before them.
func TestNamesOfAUnit(t *testing.T) {
	t.Parallel()
	d, data, _ := built(t, "berth.c", programC, "gcc", "-O0", "-g")
	for _, name := range []string{"home", "berths", "count", "berth.c:count"} {
		v, ok := d.Global(name, nil)
		require.True(t, ok, name)
		assert.Equal(t, event.Global, v.Scope)
		assert.Equal(t, name[strings.LastIndex(name, ":")+1:], v.Name)
		assert.Equal(t, lineNumber(programC, map[string]string{"home": "harbour home;", "berths": "struct berth berths[4];"}[v.Name], "static int count = 3;"), v.Line, name)
		p, err := v.Place(0)
		require.NoError(t, err)
		assert.NotEmpty(t, p.Expression)
	}
	for _, name := range []string{"quay.c:count", "nothing", ""} {
		_, ok := d.Global(name, nil)
		assert.False(t, ok, name)
	}
	types := NewTypes()
	for name, size := range map[string]int64{"berth": -1, "struct berth": -1, "harbour": -1, "enum light": 4, "int": 4, "char": 1} {
		ref, ok := d.TypeNamed(name)
		require.True(t, ok, name)
		got := types.Get(types.ID(ref))
		if size > 0 {
			assert.EqualValues(t, size, got.Size, name)
		} else {
			of, err := data.Type(ref.Offset)
			require.NoError(t, err)
			assert.EqualValues(t, of.Size(), got.Size, name)
		}
	}
	_, ok := d.TypeNamed("struct harbour")
	assert.False(t, ok, "harbour is a typedef of a struct without a name")

	f := d.FunctionAt(mainOf(t, data))
	require.NotNil(t, f)
	var names []string
	for _, v := range f.Scopes(f.Spans[0].Low)[0].Variables() {
		names = append(names, fmt.Sprint(v.Name, " ", v.Scope))
	}
	assert.Equal(t, []string{fmt.Sprint("argc ", event.Parameter), fmt.Sprint("argv ", event.Parameter)}, names)
}

// lineNumber returns the line of the first text that source contains.
func lineNumber(source string, texts ...string) int {
	for _, x := range texts {
		if at := strings.Index(source, x); x != "" && at >= 0 {
			return strings.Count(source[:at], "\n") + 1
		}
	}
	return 0
}

func mainOf(t *testing.T, data *dwarf.Data) uint64 {
	r := data.Reader()
	for {
		e, err := r.Next()
		require.NoError(t, err)
		require.NotNil(t, e)
		if e.Tag == dwarf.TagSubprogram && e.Val(dwarf.AttrName) == "main" {
			return e.Val(dwarf.AttrLowpc).(uint64)
		}
	}
}
