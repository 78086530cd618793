package coredump

import (
	"context"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
)

// What is at an address, who holds a pointer, and which thread holds a mutex, as the program
// itself says.
func TestPlacesTellTheTruth(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program := filepath.Join(dir, "places")
	compile(t, "gcc", "-g", "-O0", "-w", "-pthread", "-o", program, "testdata/native/places.c")
	core, printed := crash(t, program)
	d := openDump(t, core, Options{Modules: sourcesOf(program)})
	ctx := context.Background()
	lines := 0
	for line := range strings.Lines(printed) {
		kind, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		number, rest, _ := strings.Cut(rest, " ")
		address, err := strconv.ParseUint(number, 0, 64)
		require.NoError(t, err, line)
		lines++
		switch kind {
		case "at":
			m, err := d.MemoryAt(ctx, address, 64)
			require.NoError(t, err)
			what, _, _ := strings.Cut(m.What, ", offset ")
			assert.Equal(t, rest, what, line)
			if rest == "unmapped memory" {
				assert.Empty(t, m.Bytes)
				assert.Equal(t, fmt.Sprintf("the memory at %s was not kept: unmapped memory", number), m.Why)
			} else {
				assert.Len(t, m.Bytes, 64)
				assert.Len(t, m.Words, 8)
				assert.Empty(t, m.Why)
			}
		case "holders":
			all, total, err := d.Holders(ctx, address, replay.Page{Count: 1000})
			require.NoError(t, err)
			require.Len(t, all, total)
			static := 0
			for _, w := range all {
				assert.Equal(t, address, w.Value)
				static += strings.Count(w.What, "places, kept")
			}
			assert.Equal(t, rest, fmt.Sprint(static), "%+v", all)
			for i := range all { // in any pages
				page, n, err := d.Holders(ctx, address, replay.Page{From: i, Count: 2})
				require.NoError(t, err)
				assert.Equal(t, total, n)
				assert.Equal(t, all[i:min(i+2, total)], page)
			}
		case "waits":
			mutex, owner, _ := strings.Cut(rest, " ")
			threads, err := d.Threads(ctx, 0)
			require.NoError(t, err)
			states := map[string]string{}
			for _, x := range threads {
				states[x.Name] = x.State
			}
			assert.Equal(t, fmt.Sprintf("waiting for the mutex at %s (places, lock), which thread %s holds", mutex, owner), states["thread "+number])
			assert.Equal(t, "in a system call", states["thread "+owner])
			assert.Len(t, states, 3)
		}
	}
	assert.Equal(t, 11, lines)
	againstTheFile(t, d, core)
	instructions(t, d)
}

// againstTheFile compares memory with the segments of the core, read by the standard library, and
// the holders of pointers with those that a search of the segments finds.
func againstTheFile(t *testing.T, d *Dump, core string) {
	f, err := elf.Open(core)
	require.NoError(t, err)
	defer f.Close()
	ctx := context.Background()
	holders := map[uint64]int{}
	compared := 0
	for _, p := range f.Progs {
		if p.Type != elf.PT_LOAD || p.Filesz == 0 {
			continue
		}
		b, err := io.ReadAll(p.Open())
		require.NoError(t, err)
		for i := 0; i+8 <= len(b); i += 8 {
			holders[binary.LittleEndian.Uint64(b[i:])]++
		}
		for _, at := range []uint64{0, p.Filesz / 3, p.Filesz - 1} {
			m, err := d.MemoryAt(ctx, p.Vaddr+at, 100)
			require.NoError(t, err)
			n := min(100, p.Filesz-at)
			require.GreaterOrEqual(t, uint64(len(m.Bytes)), n)
			require.Equal(t, b[at:at+n], m.Bytes[:n])
			require.Len(t, m.Words, len(m.Bytes)/8)
			for i, w := range m.Words {
				require.Equal(t, p.Vaddr+at+8*uint64(i), w.Address)
				require.Equal(t, binary.LittleEndian.Uint64(m.Bytes[8*i:]), w.Value)
				_, mapped := d.core.Memory.At(w.Value)
				require.Equal(t, mapped && w.Value >= 4096, w.What != "", "0x%x: %s", w.Value, w.What)
			}
			compared++
		}
	}
	require.Greater(t, compared, 20)
	large := 0
	for _, p := range f.Progs {
		if p.Type != elf.PT_LOAD || p.Filesz <= maxMemory {
			continue
		}
		large++
		for _, count := range []uint64{maxMemory, maxMemory + 1, 1 << 40} {
			m, err := d.MemoryAt(ctx, p.Vaddr, count)
			require.NoError(t, err)
			assert.Len(t, m.Bytes, maxMemory)
			assert.Len(t, m.Words, maxMemory/8)
			if count > maxMemory {
				assert.Equal(t, "one answer has at most 65536 bytes", m.Why)
			} else {
				assert.Empty(t, m.Why)
			}
		}
	}
	require.NotZero(t, large)
	looked := 0
	for v, n := range holders {
		if v < 4096 || n > 50 {
			continue
		}
		_, total, err := d.Holders(ctx, v, replay.Page{})
		require.NoError(t, err)
		require.Equal(t, n, total, "0x%x", v)
		if looked++; looked == 20 {
			break
		}
	}
	require.Equal(t, 20, looked)
}

// instructions checks the pages of a function's instructions against the whole function.
func instructions(t *testing.T, d *Dump) {
	ctx := context.Background()
	thread := d.failure.Thread
	frames, err := d.Frames(ctx, 0, thread)
	require.NoError(t, err)
	for _, f := range frames {
		if f.Function != "sound" {
			continue
		}
		whole, err := d.Instructions(ctx, 0, thread, f.Index, 1000, 200)
		require.NoError(t, err)
		here := -1
		for i, x := range whole {
			if i > 0 {
				require.Equal(t, whole[i-1].Address+uint64(len(whole[i-1].Bytes)), x.Address)
			}
			kept := d.core.Memory.Known(x.Address, uint64(len(x.Bytes)))
			require.Equal(t, kept, x.Bytes)
			require.NotEmpty(t, x.Text)
			require.Equal(t, x.Address == f.PC, x.Here)
			if x.Here {
				here = i
			}
		}
		require.GreaterOrEqual(t, here, 0)
		assert.Equal(t, "sound", whole[0].Where)
		assert.Equal(t, fmt.Sprintf("sound + %d", f.PC-whole[0].Address), whole[here].Where)
		for _, n := range [][2]int{{0, 0}, {1, 0}, {0, 1}, {3, 2}, {here, 5}, {here + 1, 1}} {
			part, err := d.Instructions(ctx, 0, thread, f.Index, n[0], n[1])
			require.NoError(t, err)
			assert.Equal(t, whole[max(0, here-n[0]):here+n[1]+1], part, "%v", n)
		}
	}
	f, err := d.Instructions(ctx, 0, thread, 0, 0, 0)
	require.NoError(t, err)
	require.Len(t, f, 1)
	require.Len(t, f[0].Operands, 2)
	assert.Contains(t, f[0].Operands[0], " = 0x0")
	assert.Equal(t, "address 0x10: unmapped memory", f[0].Operands[1])
	_, err = d.Instructions(ctx, 0, thread, 1000, 0, 0)
	require.ErrorIs(t, err, fault.NoFrame)
	assert.ErrorContains(t, err, fmt.Sprintf("its stack has frames 0 to %d", len(frames)-1))
	_, err = d.Instructions(ctx, 0, event.ThreadID(12345678), 0, 0, 0)
	require.ErrorIs(t, err, fault.NoThread)
	_, err = d.Instructions(ctx, 1, thread, 0, 0, 0)
	require.ErrorIs(t, err, fault.OutOfRange)
	_, err = d.Instructions(ctx, 0, thread, -1, 0, 0)
	require.ErrorIs(t, err, fault.NoFrame)
}
