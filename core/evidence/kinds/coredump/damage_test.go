package coredump

import (
	"bytes"
	"context"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/elfcore"
	"wraithology/core/evidence/kinds/coredump/location"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/evidence/kinds/coredump/unwind"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// lookAround asks everything of a dump, as somebody would who opens it.
func lookAround(d *Dump) {
	ctx := context.Background()
	r := d
	threads, err := r.Threads(ctx, 0)
	if err != nil {
		return
	}
	for _, t := range threads[:min(len(threads), 3)] {
		frames, err := r.Frames(ctx, 0, t.ID)
		if err != nil {
			continue
		}
		for _, f := range frames[:min(len(frames), 4)] {
			list, err := r.Variables(ctx, 0, t.ID, f.Index)
			if err != nil {
				continue
			}
			for _, v := range list {
				v.Value.Text()
				v.Value.Children(replay.Page{Count: 5})
			}
			_, _ = d.Instructions(ctx, 0, t.ID, f.Index, 2, 2)
		}
	}
	_, _ = d.Groups(ctx, 0)
}

// damage changes some bytes, or cuts the end off.
func damage(random *rand.Rand, data []byte) []byte {
	out := bytes.Clone(data)
	for range 1 + random.IntN(20) {
		// Headers, notes and tables are at the beginning and the end.
		at := random.IntN(len(out))
		switch random.IntN(3) {
		case 0:
			at = random.IntN(min(len(out), 4096))
		case 1:
			at = len(out) - 1 - random.IntN(min(len(out), 8192))
		}
		switch random.IntN(3) {
		case 0:
			out[at] = byte(random.Uint32())
		case 1:
			out[at] ^= 1 << random.IntN(8)
		default:
			for i := at; i < min(at+8, len(out)); i++ {
				out[i] = 0xff
			}
		}
	}
	if random.IntN(8) == 0 {
		out = out[:random.IntN(len(out))]
	}
	return out
}

// expected reports whether opening failed in a way that it may.
func expected(err error) bool {
	return errors.Is(err, elfcore.ErrNoCore) || errors.Is(err, fault.Processor) || errors.Is(err, fault.WrongBuild) || errors.Is(err, fault.NotELF)
}

// open opens a value some levels deep.
func open(v replay.Value, depth int) (parts int) {
	v.Text()
	v.Count()
	if depth == 0 {
		return 1
	}
	list, _ := v.Children(replay.Page{Count: 6})
	for _, x := range list {
		parts += open(x.Value, depth-1)
	}
	return parts + 1
}

// Lists, tables and trees whose memory was overwritten with other contents of memory can be opened
// without a fault, and reading ends.
func TestDamagedContainers(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	programs := map[string]string{"quay": filepath.Join(dir, "quay")}
	compile(t, "g++", "-std=c++17", "-g", "-O0", "-static", "-o", programs["quay"], "testdata/native/quay.cc")
	if _, err := exec.LookPath("rustc"); err == nil {
		programs["pier"] = filepath.Join(dir, "pier")
		compile(t, "rustc", "-g", "-C", "target-feature=+crt-static", "--edition", "2021", "-o", programs["pier"], "testdata/native/pier.rs")
	}
	for name, binary := range programs {
		core, _ := crash(t, binary)
		whole, err := os.ReadFile(core)
		require.NoError(t, err)
		f, err := elf.NewFile(bytes.NewReader(whole))
		require.NoError(t, err)
		random := rand.New(rand.NewPCG(11, uint64(len(name))))
		seen := 0
		for range 25 {
			c := bytes.Clone(whole)
			for _, p := range f.Progs {
				if p.Type != elf.PT_LOAD || p.Flags&elf.PF_W == 0 || p.Filesz < 64 || p.Filesz > 4<<20 {
					continue
				}
				for range p.Filesz / 256 {
					at, from := p.Off+8*uint64(random.Int64N(int64(p.Filesz/8))), p.Off+8*uint64(random.Int64N(int64(p.Filesz/8)))
					if random.IntN(4) == 0 {
						word := random.Uint64() >> random.IntN(64)
						for i := range 8 {
							c[at+uint64(i)] = byte(word >> (8 * i))
						}
						continue
					}
					copy(c[at:at+8], whole[from:from+8])
				}
			}
			path := filepath.Join(t.TempDir(), "core")
			require.NoError(t, os.WriteFile(path, c, 0o600))
			d, err := openFile(path, Options{Modules: sourcesOf(binary)})
			if err != nil {
				assert.True(t, expected(err), "%v", err)
				continue
			}
			r := d
			threads, err := r.Threads(context.Background(), 0)
			require.NoError(t, err)
			frames, _ := r.Frames(context.Background(), 0, threads[0].ID)
			for _, frame := range frames[:min(len(frames), 4)] {
				list, _ := r.Variables(context.Background(), 0, threads[0].ID, frame.Index)
				for _, v := range list {
					seen += open(v.Value, 5)
				}
			}
		}
		assert.Greater(t, seen, 2000, name)
	}
}

// A list that breaks off gives its readable elements and the reason for the others.
func TestBrokenList(t *testing.T) {
	t.Parallel()
	program := filepath.Join(t.TempDir(), "quay")
	compile(t, "g++", "-std=c++17", "-g", "-O0", "-static", "-o", program, "testdata/native/quay.cc")
	core, _ := crash(t, program)
	list := func(d *Dump) replay.Value {
		f := frameNamed(t, d, d.failure.Thread, "harbour::Keeper::look")
		vars, err := d.Variables(context.Background(), 0, d.failure.Thread, f.Index)
		require.NoError(t, err)
		for _, v := range vars {
			if v.Name == "store" {
				return v.Value.Field("queue")
			}
		}
		require.Fail(t, "there is no store")
		return replay.Value{}
	}
	whole := list(openDump(t, core, Options{Modules: sourcesOf(program)}))
	require.Equal(t, uint64(2), whole.Count())
	require.Equal(t, `"Curlew Bank 11"`, whole.Element(1).Text())

	b, err := os.ReadFile(core)
	require.NoError(t, err)
	f, err := elf.NewFile(bytes.NewReader(b))
	require.NoError(t, err)
	at := func(address uint64) []byte { // the eight bytes there
		for _, p := range f.Progs {
			if p.Type == elf.PT_LOAD && address-p.Vaddr < p.Filesz {
				return b[p.Off+address-p.Vaddr:][:8]
			}
		}
		require.Fail(t, "it is not in the core", "0x%x", address)
		return nil
	}
	first := binary.LittleEndian.Uint64(at(whole.Address))
	clear(at(first)) // its second element cannot be reached
	path := filepath.Join(t.TempDir(), "core")
	require.NoError(t, os.WriteFile(path, b, 0o600))
	broken := list(openDump(t, path, Options{Modules: sourcesOf(program)}))
	require.Equal(t, uint64(2), broken.Count(), "as it says itself")
	parts, _ := broken.Children(replay.Page{Count: 5})
	require.Len(t, parts, 2)
	for i, want := range []string{`"Halcyon Drift"`, ""} {
		assert.Equal(t, want, broken.Element(uint64(i)).Text())
		assert.Equal(t, want, parts[i].Value.Text())
	}
	assert.Contains(t, broken.Element(1).Why(), "the list ends before this element")
}

// A thousand damaged cores and binaries end in an answer or a clear error, never in a fault, and do
// not continue forever.
func TestDamage(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	binary := filepath.Join(dir, "sluice")
	compile(t, "gcc", "-g", "-O1", "-static", "-pthread", "-o", binary, "testdata/native/sluice.c")
	core, _ := crash(t, binary)
	goBinary := buildGo(t, "testdata/goroutines")
	goCore, _ := crash(t, goBinary)
	for name, x := range map[string][2]string{"native": {core, binary}, "go": {goCore, goBinary}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			whole, err := os.ReadFile(x[0])
			require.NoError(t, err)
			program, err := os.ReadFile(x[1])
			require.NoError(t, err)
			if len(whole) > 4<<20 {
				whole = whole[:4<<20] // most of it is zeros
			}
			random := rand.New(rand.NewPCG(7, uint64(len(name))))
			opened := 0
			for i := range 500 {
				c, b := whole, program
				if i%2 == 0 {
					c = damage(random, whole)
				} else {
					b = damage(random, program)
				}
				corePath, binaryPath := filepath.Join(t.TempDir(), "core"), filepath.Join(t.TempDir(), filepath.Base(x[1]))
				require.NoError(t, os.WriteFile(corePath, c, 0o600))
				require.NoError(t, os.WriteFile(binaryPath, b, 0o600))
				d, err := openFile(corePath, Options{Modules: module.Sources{Offered: []string{binaryPath}, Alone: true}})
				if err != nil {
					assert.True(t, expected(err), "%v", err)
					continue
				}
				lookAround(d)
				opened++
			}
			assert.Greater(t, opened, 100, "most damage leaves something to look at")
		})
	}
}

// What cannot be read is said plainly.
func TestForeignCores(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		change func([]byte) []byte
		is     error
		says   string
	}{
		"32-bit":            {func(b []byte) []byte { b[4] = 1; return b }, fault.Processor, "32-bit"},
		"big-endian":        {func(b []byte) []byte { b[5] = 2; return b }, fault.Processor, "big-endian"},
		"another processor": {func(b []byte) []byte { b[18] = 243; return b }, fault.Processor, "EM_RISCV"},
		"a program":         {func(b []byte) []byte { b[16] = 2; return b }, elfcore.ErrNoCore, "no ELF core header"},
		"header only":       {func(b []byte) []byte { return b[:64] }, elfcore.ErrNoCore, "segment header 0 of 2"},
		"empty":             {func([]byte) []byte { return nil }, elfcore.ErrNoCore, "no ELF core header"},
	} {
		path := filepath.Join(t.TempDir(), "core")
		require.NoError(t, os.WriteFile(path, x.change(minimalCore()), 0o600))
		_, err := openFile(path, Options{Modules: module.Sources{Alone: true}})
		assert.ErrorIs(t, err, x.is, name)
		assert.ErrorContains(t, err, x.says, name)
	}
	path := filepath.Join(t.TempDir(), "core")
	require.NoError(t, os.WriteFile(path, minimalCore(), 0o600))
	d, err := openFile(path, Options{Modules: module.Sources{Alone: true}})
	require.NoError(t, err)
	assert.Equal(t, "SIGSEGV", d.Info().Failure.Signal)
	assert.NotEmpty(t, d.Info().Gaps)
}

func FuzzCore(f *testing.F) {
	f.Add(minimalCore())
	f.Add([]byte("\x7fELF"))
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), "core")
		require.NoError(t, os.WriteFile(path, data, 0o600))
		d, err := openFile(path, Options{Modules: module.Sources{Alone: true}})
		if err != nil {
			return
		}
		lookAround(d)
	})
}

// minimalCore is a core of one thread with its notes and a page of stack.
func minimalCore() []byte {
	var b bytes.Buffer
	le := func(n uint64, size int) {
		for range size {
			b.WriteByte(byte(n))
			n >>= 8
		}
	}
	b.WriteString("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	le(4, 2)
	le(62, 2)
	le(1, 4)
	le(0, 8)
	le(64, 8)
	le(0, 8)
	le(0, 4)
	le(64, 2)
	le(56, 2)
	le(2, 2)
	le(0, 6)
	const notes, noteSize = 64 + 2*56, 12 + 8 + 336
	for _, s := range [][6]uint64{{4, 0, notes, 0, noteSize, 0}, {1, 6, notes + noteSize, 0x7000, 256, 4096}} {
		le(s[0], 4)
		le(s[1], 4)
		le(s[2], 8)
		le(s[3], 8)
		le(0, 8)
		le(s[4], 8)
		le(s[5], 8)
		le(1, 8)
	}
	le(5, 4)
	le(336, 4)
	le(1, 4)
	b.WriteString("CORE\x00\x00\x00\x00")
	status := make([]byte, 336)
	status[12], status[32] = 11, 77
	status[112+19*8], status[112+19*8+1] = 0x10, 0x70 // rsp
	b.Write(status)
	for i := range 32 {
		le(0x7000+uint64(8*i), 8)
	}
	return b.Bytes()
}

func FuzzELF(f *testing.F) {
	f.Add(minimalCore())
	f.Fuzz(func(_ *testing.T, data []byte) {
		m, err := module.FromMemory("fuzzed", data)
		if err != nil {
			return
		}
		m.Symbols().At(0x1000)
		m.GoBuild()
		d, err := debuginfo.Open(m, nil, nil)
		if err != nil {
			return
		}
		if fn := d.FunctionAt(0x1000); fn != nil {
			fn.Scopes(0x1000)
		}
		d.TypeNamed("int")
	})
}

func FuzzUnwind(f *testing.F) {
	f.Add([]byte{0x14, 0, 0, 0, 0, 0, 0, 0, 1, 'z', 'R', 0, 1, 0x78, 16, 1, 0x1b, 0x0c, 7, 8, 0x90, 1, 0, 0, 0x10, 0, 0, 0, 0x1c, 0, 0, 0, 0, 0x10, 0, 0, 0x20, 0, 0, 0, 0, 0, 0, 0}, true)
	f.Fuzz(func(_ *testing.T, section []byte, eh bool) {
		table := unwind.NewTable(unwind.Section{Data: section, EH: eh, Address: 0x1000})
		regs := machine.Registers{Arch: machine.AMD64}
		for n := range machine.Register(17) {
			regs.Set(n, 0x7000+uint64(n))
		}
		read := func(address, n uint64) ([]byte, bool) { return make([]byte, min(n, 64)), n <= 64 }
		for pc := uint64(0); pc < 0x4000; pc += 0x101 {
			_, _, _ = table.Caller(pc, 0, &regs, read)
		}
	})
}

func FuzzLocation(f *testing.F) {
	f.Add([]byte{0x91, 0x68})
	f.Add([]byte{0x77, 8, 0x06, 0x23, 4, 0x9f})
	f.Add([]byte{0x50, 0x93, 8, 0x51, 0x93, 8})
	f.Fuzz(func(_ *testing.T, expression []byte) {
		regs := machine.Registers{Arch: machine.AMD64}
		regs.Set(7, 0x7000)
		frame := &location.Frame{Registers: &regs, Read: func(_, n uint64) ([]byte, bool) { return make([]byte, min(n, 64)), n <= 64 },
			CFA: func() (uint64, error) { return 0x7010, nil }, FrameBase: func() (uint64, error) { return 0x7020, nil },
			BaseType: func(n uint64) (location.BaseType, error) {
				return location.BaseType{Size: int(n % 12), Signed: n&1 != 0, Float: n&2 != 0}, nil
			}}
		frame.Called = func(uint64) ([]byte, error) { return expression, nil }
		_, _ = location.Where(expression, frame)
		_, _ = location.Number(expression, frame)
	})
}

// What a whole dump knows of a variable, one that was cut off knows too, or says that it was not recorded.
func TestCutOffDumps(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ctx := context.Background()
	binary := filepath.Join(dir, "faults")
	compile(t, "gcc", "-g", "-O1", "-Wno-all", "-o", binary, "testdata/native/faults.c")
	core, _ := crash(t, binary, "member")
	bytes, err := os.ReadFile(core)
	require.NoError(t, err)
	whole := openDump(t, core, Options{Modules: sourcesOf(binary)})
	thread := whole.Info().Failure.Thread
	frames, err := whole.Frames(ctx, 0, thread)
	require.NoError(t, err)
	unrecorded, same := 0, 0
	for percent := 10; percent < 100; percent += 5 {
		path := filepath.Join(dir, fmt.Sprint("cut", percent))
		require.NoError(t, os.WriteFile(path, bytes[:len(bytes)*percent/100], 0o600))
		cut := openDump(t, path, Options{Modules: sourcesOf(binary)})
		list, err := cut.Frames(ctx, 0, thread)
		require.NoError(t, err)
		for i := range min(len(frames), len(list)) {
			if frames[i].Function != list[i].Function || !frames[i].Own {
				break // guessed, from where the stack is missing
			}
			want, err := whole.Variables(ctx, 0, thread, i)
			require.NoError(t, err)
			for _, v := range want {
				got, ok, err := cut.Variable(ctx, 0, thread, i, v.Name)
				require.NoError(t, err)
				if v.Value.State != event.Known || !assert.True(t, ok, v.Name) {
					continue
				}
				switch got.Value.State {
				case event.Known:
					same++
				case event.Unrecorded:
					unrecorded++
				default:
					assert.Fail(t, "another state", "%d %%, frame %d, %s: %s (%s), in the whole dump %s", percent, i, v.Name, got.Value.State, got.Value.Why(), v.Value.Text())
				}
			}
		}
	}
	t.Logf("%d the same, %d not recorded", same, unrecorded)
	assert.Greater(t, same, 20)
	assert.Greater(t, unrecorded, 5)
}
