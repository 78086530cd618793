package module

import (
	"debug/elf"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// binaries are programs and libraries that others built.
func binaries(t *testing.T) (list []string) {
	for _, pattern := range []string{"/bin/bash", "/usr/bin/git", "/lib/x86_64-linux-gnu/libc.so.6", "/lib/x86_64-linux-gnu/libm.so.6", "/usr/lib/x86_64-linux-gnu/libstdc++.so.6"} {
		if _, err := os.Stat(pattern); err == nil {
			list = append(list, pattern)
		}
	}
	self, err := os.Executable()
	require.NoError(t, err)
	return append(list, self)
}

// An address has the symbol that covers it; a symbol without a size extends to the next one.
func TestSymbolsOfPrograms(t *testing.T) {
	t.Parallel()
	for _, path := range binaries(t) {
		f, err := Open(path, "")
		require.NoError(t, err, path)
		plain, err := elf.Open(path)
		require.NoError(t, err)
		defer plain.Close()
		var all []elf.Symbol
		for _, read := range []func() ([]elf.Symbol, error){plain.Symbols, plain.DynamicSymbols} {
			list, _ := read() // a stripped file has none
			for _, s := range list {
				if k := elf.ST_TYPE(s.Info); s.Section != elf.SHN_UNDEF && s.Value != 0 && s.Name != "" && k != elf.STT_TLS && k != elf.STT_FILE && k != elf.STT_SECTION {
					all = append(all, s)
				}
			}
		}
		s := f.Symbols()
		assert.Equal(t, len(all), s.Len(), path)
		if len(all) == 0 {
			continue
		}
		r := rand.New(rand.NewPCG(9, 9))
		for range 300 {
			x := all[r.IntN(len(all))]
			at := x.Value + []uint64{0, x.Size / 2, max(x.Size, 1) - 1, x.Size, x.Size + 1}[r.IntN(5)]
			covered := map[string]bool{}
			crowd := 0
			for _, y := range all {
				if y.Value <= at && at < y.Value+y.Size {
					covered[y.Name] = true
				}
				if y.Value <= at && at-y.Value < 1<<12 {
					crowd++
				}
			}
			got, ok := s.At(at)
			switch {
			case len(covered) > 0 && crowd <= maxSymbolBack:
				assert.True(t, ok && covered[got.Name], "%s: 0x%x: %v, not one of %v", path, at, got, covered)
				assert.True(t, got.Address <= at && at < got.Address+got.Size)
			case len(covered) == 0 && ok:
				assert.Zero(t, got.Size, "%s: 0x%x is behind %v", path, at, got)
			}
			named, ok := s.Named(x.Name)
			assert.True(t, ok)
			assert.Equal(t, x.Name, named.Name)
		}
		_, ok := s.Named("a name that no symbol has")
		assert.False(t, ok)
		_, ok = s.At(0)
		assert.False(t, ok)
	}
}

func TestSymbolsAt(t *testing.T) {
	t.Parallel()
	s := &Symbols{list: []Symbol{{"open", 0x100, 0, true}, {"quay", 0x200, 0x40, true}, {"inner", 0x210, 0x10, false}, {"mark", 0x300, 0, false}, {"last", 0x300, 8, true}}}
	for at, want := range map[uint64]string{
		0xff: "", 0x100: "open", 0x1ff: "open", 0x200: "quay", 0x20f: "quay", 0x210: "inner", 0x21f: "inner", 0x220: "quay", 0x23f: "quay", 0x240: "", 0x2ff: "", 0x300: "last", 0x307: "last", 0x308: "",
	} {
		got, ok := s.At(at)
		assert.Equal(t, want, got.Name, "0x%x", at)
		assert.Equal(t, want != "", ok, "0x%x", at)
	}
}

func TestReadable(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"main": "main", "_ZN6harbor4moorEi": "harbor::moor", "_ZN4core3fmt5write17h0123456789abcdefE": "core::fmt::write", "_Z": "_Z", "_Zed": "_Zed", "_RNvC6gannet4main": "gannet::main", "": ""} {
		assert.Equal(t, want, Readable(name))
	}
}

// Sections are the same whether packed, unpacked, or read from the cache of earlier runs; a cache
// that was cut off is not believed.
func TestPackedSections(t *testing.T) {
	t.Parallel()
	dir, cache := t.TempDir(), t.TempDir()
	source := filepath.Join(dir, "a.c")
	require.NoError(t, os.WriteFile(source, []byte("int main(void) { return 0; }\n"+strings.Repeat("struct a { int b; };\nint c(struct a *d) { return d->b; }\n", 1)), 0o600))
	plain := filepath.Join(dir, "plain")
	out, err := exec.Command("gcc", "-g", "-o", plain, source).CombinedOutput()
	require.NoError(t, err, "%s", out)
	packed := filepath.Join(dir, "packed")
	out, err = exec.Command("objcopy", "--compress-debug-sections=zlib", plain, packed).CombinedOutput()
	require.NoError(t, err, "%s", out)
	want, err := Open(plain, "")
	require.NoError(t, err)
	check := func(cache string) *File {
		f, err := Open(packed, cache)
		require.NoError(t, err)
		assert.Equal(t, want.BuildID, f.BuildID)
		for _, name := range []string{".debug_info", ".debug_abbrev", ".debug_line", ".debug_str", ".text", ".nothing", ".bss"} {
			b, err := want.Section(name)
			require.NoError(t, err)
			got, err := f.Section(name)
			require.NoError(t, err)
			assert.Equal(t, string(b), string(got), name)
		}
		assert.True(t, f.HasDebug() && f.HasText())
		return f
	}
	check("")
	f := check(cache)
	kept, err := filepath.Glob(filepath.Join(cache, f.BuildID, "*"))
	require.NoError(t, err)
	require.NotEmpty(t, kept)
	check(cache)
	for _, path := range kept {
		require.NoError(t, os.Truncate(path, 3))
	}
	check(cache)
	left, err := filepath.Glob(filepath.Join(cache, f.BuildID, ".partial*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	stripped := filepath.Join(dir, "stripped")
	out, err = exec.Command("strip", "-o", stripped, plain).CombinedOutput()
	require.NoError(t, err, "%s", out)
	f, err = Open(stripped, "")
	require.NoError(t, err)
	assert.True(t, f.HasText() && !f.HasDebug())
	debug := filepath.Join(dir, "debug")
	out, err = exec.Command("objcopy", "--only-keep-debug", plain, debug).CombinedOutput()
	require.NoError(t, err, "%s", out)
	f, err = Open(debug, "")
	require.NoError(t, err)
	assert.True(t, !f.HasText() && f.HasDebug())
	at, ok := f.FirstAddress()
	assert.True(t, ok && at == 0)
}

// The build ID is that of the file's notes, whatever other notes there are.
func TestBuildIDs(t *testing.T) {
	t.Parallel()
	note := func(name string, kind uint32, body string) []byte {
		b := binary.LittleEndian.AppendUint32(nil, uint32(len(name)))
		b = binary.LittleEndian.AppendUint32(b, uint32(len(body)))
		b = binary.LittleEndian.AppendUint32(b, kind)
		for b = append(b, name...); len(b)%4 != 0; {
			b = append(b, 0)
		}
		for b = append(b, body...); len(b)%4 != 0; {
			b = append(b, 0)
		}
		return b
	}
	id := note("GNU\x00", 3, "\x01\x02\xab\xcd\xef")
	other := note("GNU\x00", 1, "0123456789")
	assert.Equal(t, "0102abcdef", buildIDIn(id))
	assert.Equal(t, "0102abcdef", buildIDIn(append(append(other, note("Go\x00\x00", 3, "x")...), id...)))
	assert.Empty(t, buildIDIn(other))
	assert.Empty(t, buildIDIn(note("GNU\x00", 3, "")))
	assert.Empty(t, buildIDIn(note("GNU\x00", 3, strings.Repeat("x", 65))))
	assert.Len(t, buildIDIn(note("GNU\x00", 3, strings.Repeat("x", 64))), 128)
	for n := range id[:len(id)-3] {
		assert.Empty(t, buildIDIn(id[:n]), "cut at %d", n)
	}
	for _, path := range binaries(t) {
		f, err := Open(path, "")
		require.NoError(t, err)
		out, err := exec.Command("readelf", "-n", path).Output()
		require.NoError(t, err)
		if f.BuildID != "" {
			assert.Contains(t, string(out), "Build ID: "+f.BuildID)
		} else {
			assert.NotContains(t, string(out), "Build ID: ")
		}
	}
}

func TestWhatIsNoELFFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	head := make([]byte, 4096)
	f, err := os.Open(self)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.Read(head)
	require.NoError(t, err)
	for name, change := range map[string]func([]byte) []byte{
		"empty":      func([]byte) []byte { return nil },
		"short":      func(b []byte) []byte { return b[:63] },
		"text":       func([]byte) []byte { return []byte(strings.Repeat("fog over the sound\n", 10)) },
		"32-bit":     func(b []byte) []byte { b[4] = 1; return b },
		"big-endian": func(b []byte) []byte { b[5] = 2; return b },
	} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, change(append([]byte{}, head...)), 0o600))
		_, err := Open(path, "")
		assert.ErrorIs(t, err, fault.NotELF, name)
		assert.ErrorContains(t, err, path)
	}
	_, err = Open(dir, "")
	require.ErrorIs(t, err, fault.NotELF)
	_, err = Open(filepath.Join(dir, "gone"), "")
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestGoBuild(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module gannet.example/quay\n\ngo 1.24\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte("package main\n\nfunc main() {}\n"), 0o600))
	for _, c := range [][]string{{"git", "init", "-q"}, {"git", "add", "."}, {"git", "-c", "user.name=Ines", "-c", "user.email=ines@gannet.example", "commit", "-qm", "quay"}, {"go", "build", "-buildvcs=true", "-o", "quay"}} {
		cmd := exec.Command(c[0], c[1:]...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	f, err := Open(filepath.Join(dir, "quay"), "")
	require.NoError(t, err)
	b, ok := f.GoBuild()
	require.True(t, ok)
	cmd := exec.Command("git", "rev-parse", "HEAD")
	cmd.Dir = dir
	revision, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, "gannet.example/quay", b.Main)
	assert.Equal(t, strings.TrimSpace(string(revision)), b.Revision)
	assert.False(t, b.Modified)
	assert.Regexp(t, `^go1\.`, b.Go)
	f, err = Open("/bin/bash", "")
	require.NoError(t, err)
	_, ok = f.GoBuild()
	assert.False(t, ok, "bash is not written in Go")
}
