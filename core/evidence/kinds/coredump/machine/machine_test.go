package machine

import (
	"debug/elf"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The status note of x86-64 has the order of struct user_regs_struct (sys/user.h).
var amd64Status = []string{"r15", "r14", "r13", "r12", "rbp", "rbx", "r11", "r10", "r9", "r8", "rax", "rcx", "rdx", "rsi", "rdi", "orig_rax", "rip", "cs", "eflags", "rsp", "ss", "fs_base", "gs_base"}

func TestStatusOfAMD64(t *testing.T) {
	t.Parallel()
	words := make([]uint64, len(amd64Status))
	for i := range words {
		words[i] = uint64(1000 + i)
	}
	r := AMD64.FromStatus(words)
	seen := 0
	for i, name := range amd64Status {
		n := AMD64.Named(name)
		if n == None {
			continue
		}
		seen++
		v, ok := r.Get(n)
		require.True(t, ok, name)
		assert.Equal(t, words[i], v, name)
	}
	assert.Equal(t, 17, seen)
	assert.EqualValues(t, 1021, r.ThreadBase)
	assert.EqualValues(t, 1016, r.PC())
	assert.EqualValues(t, 1019, r.SP())
	assert.True(t, r.InCall)
	assert.EqualValues(t, 1015, r.Call)
	words[15] = ^uint64(0) // not in a system call
	r = AMD64.FromStatus(words)
	assert.False(t, r.InCall)
	r = AMD64.FromStatus(words[:5]) // a note that was cut
	_, ok := r.Get(AMD64.PC)
	assert.False(t, ok)
	_, ok = r.Get(AMD64.Named("rbp"))
	assert.True(t, ok)
}

func TestStatusOfARM64(t *testing.T) {
	t.Parallel()
	words := make([]uint64, 34)
	for i := range words {
		words[i] = uint64(1000 + i)
	}
	r := ARM64.FromStatus(words)
	for i := range 31 {
		v, ok := r.Get(ARM64.Named(fmt.Sprint("x", i)))
		require.True(t, ok)
		assert.EqualValues(t, 1000+i, v)
	}
	assert.EqualValues(t, 1031, r.SP())
	assert.EqualValues(t, 1032, r.PC())
	assert.False(t, r.InCall)
}

// Each architecture keeps, over a call, what its ABI says, and forgets the rest.
func TestKept(t *testing.T) {
	t.Parallel()
	for a, saved := range map[*Architecture][]string{
		AMD64: {"rbx", "rbp", "r12", "r13", "r14", "r15"},
		ARM64: {"x19", "x20", "x21", "x22", "x23", "x24", "x25", "x26", "x27", "x28", "x29"},
	} {
		r := Registers{Arch: a, ThreadBase: 77}
		for i := range a.Names() {
			r.Set(Register(i), uint64(500+i))
		}
		r.Forget(a.Named(saved[0]))
		kept := r.Kept()
		assert.EqualValues(t, 77, kept.ThreadBase)
		for i, name := range a.Names() {
			v, ok := kept.Get(Register(i))
			want := name != saved[0]
			if want {
				want = false
				for _, s := range saved {
					want = want || s == name
				}
			}
			assert.Equal(t, want, ok, "%s of %s", name, a.Name)
			if ok {
				assert.EqualValues(t, 500+i, v)
			}
		}
	}
}

func TestNames(t *testing.T) {
	t.Parallel()
	for _, a := range []*Architecture{AMD64, ARM64} {
		assert.Same(t, a, Of(a.ELF))
		for i, name := range a.Names() {
			assert.Equal(t, Register(i), a.Named(name))
			assert.Equal(t, name, a.NameOf(Register(i)))
		}
		assert.Equal(t, a.PC, a.Named("PC"))
		assert.Equal(t, a.SP, a.Named("sp"))
		assert.Equal(t, None, a.Named("tide"))
		assert.Equal(t, "vector 3", a.NameOf(a.Vectors+3))
		assert.Equal(t, fmt.Sprintf("vector %d", a.vectors-1), a.NameOf(a.Vectors+Register(a.vectors)-1))
		assert.Equal(t, fmt.Sprintf("register %d", int(a.Vectors)+a.vectors), a.NameOf(a.Vectors+Register(a.vectors)))
		assert.Equal(t, "register -5", a.NameOf(-5))
	}
	assert.Equal(t, "rax", AMD64.NameOf(0))
	assert.Equal(t, Register(16), AMD64.Named("RIP"))
	assert.Equal(t, Register(30), ARM64.Link)
	assert.Nil(t, Of(elf.EM_RISCV))
}

// A register is known after it was set and until it is forgotten; one that does not exist never is.
func TestKnown(t *testing.T) {
	t.Parallel()
	for _, a := range []*Architecture{AMD64, ARM64} {
		r := Registers{Arch: a}
		for i := range a.Names() {
			_, ok := r.Get(Register(i))
			assert.False(t, ok)
			r.Set(Register(i), 5)
			v, ok := r.Get(Register(i))
			assert.True(t, ok)
			assert.EqualValues(t, 5, v)
		}
		for _, n := range []Register{None, Register(len(a.Names())), 4711} {
			r.Set(n, 5)
			_, ok := r.Get(n)
			assert.False(t, ok, "%d", n)
			r.Forget(n)
		}
		r.Forget(a.SP)
		_, ok := r.Get(a.SP)
		assert.False(t, ok)
		_, ok = r.Get(a.PC)
		assert.True(t, ok)

		note := make([]byte, a.vectorsAt+16*a.vectors)
		for i := range note {
			note[i] = byte(i / 16)
		}
		r.AddVectors(note[:len(note)-1]) // the last one is cut
		for i := range a.vectors {
			v, ok := r.Vector(a.Vectors + Register(i))
			assert.Equal(t, i < a.vectors-1, ok, "vector %d of %s", i, a.Name)
			if ok {
				assert.EqualValues(t, a.vectorsAt/16+i, v[15])
			}
		}
		r.Forget(a.Vectors)
		_, ok = r.Vector(a.Vectors)
		assert.False(t, ok)
		_, ok = r.Vector(a.Vectors + 1)
		assert.True(t, ok)
		_, ok = r.Vector(a.Vectors - 1)
		assert.False(t, ok)
		_, ok = r.Vector(a.Vectors + 32)
		assert.False(t, ok)
	}
}
