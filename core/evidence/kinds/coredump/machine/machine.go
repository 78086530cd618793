// Package machine describes the registers of the supported processors: their DWARF numbers, their
// names, and their layout in notes of a core.
package machine

import (
	"debug/elf"
	"fmt"
	"strings"
)

// Register is a register by its number in DWARF.
type Register int

// None is no register.
const None Register = -1

// Architecture describes a processor. On all of them, addresses have eight bytes and numbers are
// little-endian.
type Architecture struct {
	Name    string
	ELF     elf.Machine
	names   []string // by number
	PC      Register
	SP      Register
	FP      Register
	Link    Register   // register with the return address after a call, or None if calls push it
	Vectors Register   // number of the first vector register
	saved   []Register // preserved by called functions
	// status lists the registers in the order of the status note; None for registers without a
	// number.
	status []Register
	// vectorsAt is the offset of the vector registers in the floating-point note.
	vectorsAt int
	vectors   int
}

func numbers(names ...string) []string { return names }

// AMD64 is x86-64. Numbers are those of the System V ABI's AMD64 supplement,
// figure 3.36.
var AMD64 = &Architecture{
	Name: "x86-64", ELF: elf.EM_X86_64,
	names: numbers("rax", "rdx", "rcx", "rbx", "rsi", "rdi", "rbp", "rsp", "r8", "r9", "r10", "r11", "r12", "r13", "r14", "r15", "rip"),
	PC:    16, SP: 7, FP: 6, Link: None, Vectors: 17,
	saved:     []Register{3, 6, 12, 13, 14, 15},
	status:    []Register{15, 14, 13, 12, 6, 3, 11, 10, 9, 8, 0, 2, 1, 4, 5, systemCall, 16, None, None, 7, None, threadBase},
	vectorsAt: 160, vectors: 16,
}

// ARM64 is AArch64. Numbers are those of DWARF for the Arm 64-bit architecture,
// section 4.1.
var ARM64 = func() *Architecture {
	a := &Architecture{Name: "arm64", ELF: elf.EM_AARCH64, PC: 32, SP: 31, FP: 29, Link: 30, Vectors: 64, vectorsAt: 0, vectors: 32}
	for i := range 31 {
		a.names = append(a.names, fmt.Sprintf("x%d", i))
		a.status = append(a.status, Register(i))
		if i >= 19 && i <= 29 {
			a.saved = append(a.saved, Register(i))
		}
	}
	a.names = append(a.names, "sp", "pc")
	a.status = append(a.status, 31, 32)
	return a
}()

// threadBase marks the base of thread-local storage in a status note.
const threadBase Register = -2

// systemCall marks the number of the current system call in a status note; it is negative for none.
const systemCall Register = -3

// Of returns the architecture of an ELF file, or nil.
func Of(m elf.Machine) *Architecture {
	switch m {
	case elf.EM_X86_64:
		return AMD64
	case elf.EM_AARCH64:
		return ARM64
	}
	return nil
}

// Names lists the general registers, by number.
func (a *Architecture) Names() []string { return a.names }

// Named returns the register with a name, in any letter case, or None. The names pc and sp are
// valid for each architecture.
func (a *Architecture) Named(name string) Register {
	name = strings.ToLower(name)
	switch name {
	case "pc":
		return a.PC
	case "sp":
		return a.SP
	}
	for i, n := range a.names {
		if n == name {
			return Register(i)
		}
	}
	return None
}

// NameOf returns a register's name.
func (a *Architecture) NameOf(r Register) string {
	if r >= 0 && int(r) < len(a.names) {
		return a.names[r]
	}
	if i := r - a.Vectors; i >= 0 && int(i) < a.vectors {
		return fmt.Sprintf("vector %d", i)
	}
	return fmt.Sprintf("register %d", r)
}

const (
	maxGeneral = 33
	maxVectors = 32
)

// Registers are the known registers of a frame.
type Registers struct {
	Arch *Architecture
	// ThreadBase is the base of the thread's local storage; 0 if not known.
	ThreadBase uint64
	// InCall is set if the thread is in a system call, whose number is Call.
	InCall    bool
	Call      uint64
	general   [maxGeneral]uint64
	known     uint64
	vectors   [maxVectors][16]byte
	vectorsOK uint32
}

// Get returns a general register and whether it is known.
func (r *Registers) Get(n Register) (uint64, bool) {
	if n < 0 || int(n) >= len(r.Arch.names) {
		return 0, false
	}
	return r.general[n], r.known>>n&1 != 0
}

// Set sets a general register.
func (r *Registers) Set(n Register, v uint64) {
	if n >= 0 && int(n) < len(r.Arch.names) {
		r.general[n] = v
		r.known |= 1 << n
	}
}

// Forget marks a register as not known.
func (r *Registers) Forget(n Register) {
	if n >= 0 && n < maxGeneral {
		r.known &^= 1 << n
	}
	if i := n - r.Arch.Vectors; i >= 0 && i < maxVectors {
		r.vectorsOK &^= 1 << i
	}
}

// Vector returns the 16 low bytes of a vector register.
func (r *Registers) Vector(n Register) ([16]byte, bool) {
	i := n - r.Arch.Vectors
	if i < 0 || i >= maxVectors {
		return [16]byte{}, false
	}
	return r.vectors[i], r.vectorsOK>>i&1 != 0
}

// PC returns the program counter.
func (r *Registers) PC() uint64 { return r.general[r.Arch.PC] }

// SP returns the stack pointer.
func (r *Registers) SP() uint64 { return r.general[r.Arch.SP] }

// Kept returns the registers that a called function preserves, which are the default for the
// caller's registers.
func (r *Registers) Kept() Registers {
	out := Registers{Arch: r.Arch, ThreadBase: r.ThreadBase}
	for _, n := range r.Arch.saved {
		if v, ok := r.Get(n); ok {
			out.Set(n, v)
		}
	}
	return out
}

// FromStatus reads the general registers of a status note (struct
// user_regs_struct of Linux).
func (a *Architecture) FromStatus(words []uint64) Registers {
	r := Registers{Arch: a}
	for i, n := range a.status {
		switch {
		case i >= len(words):
		case n == threadBase:
			r.ThreadBase = words[i]
		case n == systemCall:
			r.InCall, r.Call = int64(words[i]) >= 0, words[i]
		default:
			r.Set(n, words[i])
		}
	}
	return r
}

// AddVectors reads the vector registers of a floating point note: on x86-64 the
// FXSAVE area, on arm64 struct user_fpsimd_state.
func (r *Registers) AddVectors(note []byte) {
	for i := range r.Arch.vectors {
		at := r.Arch.vectorsAt + 16*i
		if at+16 > len(note) {
			return
		}
		copy(r.vectors[i][:], note[at:])
		r.vectorsOK |= 1 << i
	}
}
