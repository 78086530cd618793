package coredump

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/machine"
)

// assembled returns the machine code of lines of assembly.
func assembled(t *testing.T, tools, head string, lines []string) []byte {
	if _, err := exec.LookPath(tools + "as"); err != nil {
		t.Skip("there is no assembler for this processor here")
	}
	dir := t.TempDir()
	source, object, code := filepath.Join(dir, "a.s"), filepath.Join(dir, "a.o"), filepath.Join(dir, "a.bin")
	require.NoError(t, os.WriteFile(source, []byte(head+strings.Join(lines, "\n")+"\n"), 0o666))
	compile(t, tools+"as", "-o", object, source)
	compile(t, tools+"objcopy", "-O", "binary", "-j", ".text", object, code)
	b, err := os.ReadFile(code)
	require.NoError(t, err)
	return b
}

// How an instruction accesses memory, for generated operands of instructions of each kind.
func TestAccessesOfAMD64(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 3))
	bases := []string{"rax", "rcx", "rdx", "rbx", "rsp", "rbp", "rsi", "rdi", "r8", "r9", "r10", "r11", "r12", "r13", "r14", "r15"}
	type form struct {
		text   string // with %s for the operand in memory
		size   int
		reads  bool
		writes bool
	}
	forms := []form{
		{"mov eax, dword ptr %s", 4, true, false}, {"mov qword ptr %s, rdx", 8, false, true}, {"mov byte ptr %s, 7", 1, false, true}, {"movzx eax, word ptr %s", 2, true, false},
		{"movsxd rax, dword ptr %s", 4, true, false}, {"cmp dword ptr %s, 9", 4, true, false}, {"test byte ptr %s, 1", 1, true, false}, {"add qword ptr %s, rcx", 8, true, true},
		{"add rcx, qword ptr %s", 8, true, false}, {"inc dword ptr %s", 4, true, true}, {"xchg qword ptr %s, rax", 8, true, true}, {"lock cmpxchg dword ptr %s, ecx", 4, true, true},
		{"movsd xmm1, qword ptr %s", 8, true, false}, {"movsd qword ptr %s, xmm1", 8, false, true}, {"movaps xmmword ptr %s, xmm0", 16, false, true}, {"ucomisd xmm0, qword ptr %s", 8, true, false},
		{"sete byte ptr %s", 1, false, true}, {"and dword ptr %s, 3", 4, true, true}, {"imul rax, qword ptr %s", 8, true, false}, {"mul qword ptr %s", 8, true, false}, {"bt qword ptr %s, 3", 8, true, false},
	}
	type place struct {
		base, index  string
		scale        int
		displacement int64
	}
	var lines []string
	var want []form
	var at []place
	for range 40 {
		for _, f := range forms {
			p := place{base: bases[r.IntN(16)], scale: 1}
			operand := p.base
			if r.IntN(2) == 0 {
				for p.index == "" || p.index == "rsp" { // which cannot be an index
					p.index = bases[r.IntN(16)]
				}
				p.scale = 1 << r.IntN(4)
				operand += fmt.Sprintf(" + %s*%d", p.index, p.scale)
			}
			switch r.IntN(4) {
			case 0:
				p.displacement = int64(r.IntN(256) - 128)
			case 1:
				p.displacement = int64(int32(r.Uint32()))
			}
			lines = append(lines, fmt.Sprintf(f.text, fmt.Sprintf("[%s + %d]", operand, p.displacement)))
			want, at = append(want, f), append(at, p)
		}
	}
	code := assembled(t, "", ".intel_syntax noprefix\n", lines)
	name := machine.AMD64.NameOf
	for i, line := range lines {
		a := accessAMD64(code, 0, nil)
		require.NotZero(t, a.length, line)
		code = code[a.length:]
		assert.Equal(t, want[i].size, a.size, line)
		assert.Equal(t, [2]bool{want[i].reads, want[i].writes}, [2]bool{a.reads, a.writes}, line)
		require.Equal(t, at[i].base, name(a.base), line)
		assert.Equal(t, at[i].displacement, a.offset, line)
		if at[i].index == "" {
			assert.Equal(t, machine.None, a.index, line)
			continue
		}
		require.NotEqual(t, machine.None, a.index, line)
		assert.Equal(t, at[i].index, name(a.index), line)
		assert.EqualValues(t, at[i].scale, a.scale, line)
	}
	assert.Empty(t, code)
}

// Instructions whose access is not in an operand, divisors of all widths, and what always traps.
func TestInstructionsOfAMD64(t *testing.T) {
	t.Parallel()
	type want struct {
		base, divisor, index string
		reads, writes        bool
		trap, call           bool
		offset               int64
	}
	lines := []string{"push rbx", "call [rbx + 8]", "call rax", "jmp [rcx + 16]", "stosq", "rep movsb", "pop qword ptr [rdi]",
		"div ecx", "idiv r9", "div sil", "div bx", "idiv r10d", "div r11w", "idiv qword ptr [r12]", "div cl", "ud2", "int3", "hlt", "ret", "nop", "mov rax, [rip + 64]", "xor eax, eax", "idiv edi", "div r8b", "div ah", "div spl", "idiv r15b"}
	wants := []want{{base: "rsp", writes: true, offset: -8}, {base: "rbx", reads: true, call: true, offset: 8}, {base: "rsp", writes: true, call: true, offset: -8}, {base: "rcx", reads: true, call: true, offset: 16}, {base: "rdi", writes: true}, {base: "rdi", writes: true}, {base: "rdi", writes: true},
		{divisor: "rcx"}, {divisor: "r9"}, {divisor: "rsi"}, {divisor: "rbx"}, {divisor: "r10"}, {divisor: "r11"}, {base: "r12", reads: true}, {divisor: "rcx"}, {trap: true}, {trap: true}, {trap: true}, {}, {}, {base: "rip", reads: true, offset: 64}, {}, {divisor: "rdi"}, {divisor: "r8"}, {divisor: "rax"}, {divisor: "rsp"}, {divisor: "r15"}}
	code := assembled(t, "", ".intel_syntax noprefix\n", lines)
	name := func(r machine.Register) string {
		if r == machine.None {
			return ""
		}
		if r == machine.AMD64.PC {
			return "rip"
		}
		return machine.AMD64.NameOf(r)
	}
	for i, line := range lines {
		a := accessAMD64(code, 0, nil)
		require.NotZero(t, a.length, line)
		code = code[a.length:]
		assert.Equal(t, wants[i], want{name(a.base), name(a.divisor), name(a.index), a.reads, a.writes, a.trap, a.call, a.offset}, line)
	}
}

// The accesses of arm64 instructions, for generated operands.
func TestAccessesOfARM64(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(5, 5))
	type want struct {
		base, index   machine.Register
		scale         uint64
		offset        int64
		reads, writes bool
		trap, call    bool
	}
	var lines []string
	var wants []want
	add := func(w want, format string, args ...any) {
		lines, wants = append(lines, fmt.Sprintf(format, args...)), append(wants, w)
	}
	for range 60 {
		b, x := r.IntN(31), r.IntN(31)
		base := machine.Register(b)
		offset := int64(8 * r.IntN(100))
		add(want{base: base, index: machine.None, offset: offset, reads: true}, "ldr x1, [x%d, #%d]", b, offset)
		add(want{base: base, index: machine.None, offset: offset, writes: true}, "str x2, [x%d, #%d]", b, offset)
		near := int64(r.IntN(256) - 256)
		add(want{base: base, index: machine.None, offset: near, reads: true}, "ldurb w1, [x%d, #%d]", b, near)
		add(want{base: base, index: machine.Register(x), scale: 8, reads: true}, "ldr x1, [x%d, x%d, lsl #3]", b, x)
		add(want{base: base, index: machine.Register(x), scale: 4, writes: true}, "str w1, [x%d, w%d, sxtw #2]", b, x)
		add(want{base: base, index: machine.None, offset: -16, reads: true}, "ldp x1, x2, [x%d, #-16]", b)
		add(want{base: machine.None, index: machine.None, call: true}, "blr x%d", b)
	}
	add(want{base: machine.ARM64.SP, index: machine.None, offset: 32, writes: true}, "str x2, [sp, #32]")
	add(want{base: machine.None, index: machine.None, trap: true}, "brk #1")
	add(want{base: machine.None, index: machine.None, call: true}, "br x3")
	add(want{base: machine.None, index: machine.None}, "add x1, x2, x3")
	code := assembled(t, "aarch64-linux-gnu-", "", lines)
	for i, line := range lines {
		a := accessARM64(code[4*i:])
		got := want{a.base, a.index, a.scale, a.offset, a.reads, a.writes, a.trap, a.call}
		if a.index == machine.None {
			got.scale = 0
		}
		assert.Equal(t, wants[i], got, line)
	}
}
