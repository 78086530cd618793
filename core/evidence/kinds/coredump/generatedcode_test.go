package coredump

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// jitdumpOf makes a file of the jitdump format: a function that is loaded at another place, moved to an address, and a
// record of a kind that is not read.
func jitdumpOf(at, size uint64, name string) []byte {
	var b bytes.Buffer
	put := func(values ...any) {
		for _, v := range values {
			_ = binary.Write(&b, binary.LittleEndian, v) // a buffer takes everything
		}
	}
	put(uint32(jitdumpMagic), uint32(1), uint32(40), uint32(62), uint32(0), uint32(7), uint64(0), uint64(0))
	code := make([]byte, size)
	put(uint32(codeLoad), uint32(jitdumpHeader+40+len(name)+1+len(code)), uint64(1), uint32(7), uint32(7), uint64(0x1000), uint64(0x1000), size, uint64(1))
	b.WriteString(name + "\x00")
	b.Write(code)
	put(uint32(2), uint32(jitdumpHeader+8), uint64(2), uint64(0))
	put(uint32(codeMove), uint32(jitdumpHeader+48), uint64(3), uint32(7), uint32(7), uint64(0), uint64(0x1000), at, size, uint64(1))
	return b.Bytes()
}

// Code that the program made is labelled as such, and named where a runtime left an address map.
func TestGeneratedCode(t *testing.T) {
	t.Parallel()
	if runtime.GOARCH != "amd64" {
		t.Skip("the program has machine code of AMD64")
	}
	binary := filepath.Join(t.TempDir(), "generated")
	compile(t, "gcc", "-g", "-o", binary, "testdata/native/generated.c")
	core, printed := crash(t, binary)
	var pid int
	var at uint64
	_, err := fmt.Sscanf(strings.TrimSpace(printed), "%d 0x%x", &pid, &at)
	require.NoError(t, err)
	for name, contents := range map[string]string{
		"":                               "",
		fmt.Sprintf("tides-%d.map", pid): fmt.Sprintf("%x 4 before\n%x a tides of %s\nno line\n%x ffffffffffffffff past the end\n", at-64, at, "Kelp Quay", at),
		fmt.Sprintf("jit-%d.dump", pid):  string(jitdumpOf(at, 10, "tides of Kelp Quay")),
	} {
		o := Options{Modules: sourcesOf(binary)}
		want := fmt.Sprintf("0x%x", at+6)
		if name != "" {
			folder := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(contents), 0o600))
			o.Modules.Debug = append(o.Modules.Debug, folder)
			want = "tides of Kelp Quay"
		}
		d := openDump(t, core, o)
		frames, err := d.Frames(context.Background(), 0, d.Info().Failure.Thread)
		require.NoError(t, err)
		require.Greater(t, len(frames), 1)
		assert.Equal(t, want, frames[0].Function, name)
		assert.Contains(t, frames[0].Note, "code without a file")
		assert.Equal(t, "main", frames[1].Function)
		assert.Equal(t, 1, d.Info().Failure.Frame, "the first own frame")
	}
}

// Address maps are untrusted bytes.
func FuzzAddressMaps(f *testing.F) {
	f.Add([]byte("1000 10 tides\n"))
	f.Add(jitdumpOf(0x2000, 10, "tides"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, list := range [][]madeCode{addressMap(bytes.NewReader(b)), jitdump(bytes.NewReader(b))} {
			for _, g := range list {
				assert.Less(t, g.start, g.end)
			}
		}
	})
}
