package elfcore

import (
	"bytes"
	"cmp"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/fault"
)

var le = binary.LittleEndian

// note encodes a note (gABI, "Note Section").
func note(name string, kind uint32, body []byte) []byte {
	pad := func(b []byte) []byte {
		for len(b)%4 != 0 {
			b = append(b, 0)
		}
		return b
	}
	b := le.AppendUint32(le.AppendUint32(le.AppendUint32(nil, uint32(len(name)+1)), uint32(len(body))), kind)
	b = pad(append(b, name+"\x00"...))
	return pad(append(b, body...))
}

// status is the note of a thread on x86-64 with registers that count up from first.
func status(id, signal int, first uint64) []byte {
	b := make([]byte, 112)
	le.PutUint16(b[12:], uint16(signal))
	le.PutUint32(b[32:], uint32(id))
	for i := range uint64(27) {
		b = le.AppendUint64(b, first+i)
	}
	return note("CORE", noteStatus, append(b, 0, 0, 0, 0, 0, 0, 0, 0))
}

func filesNote(page uint64, files []File) []byte {
	b := le.AppendUint64(le.AppendUint64(nil, uint64(len(files))), page)
	for _, f := range files {
		b = le.AppendUint64(le.AppendUint64(le.AppendUint64(b, f.Start), f.End), f.Offset/page)
	}
	for _, f := range files {
		b = append(b, f.Path+"\x00"...)
	}
	return note("CORE", noteFiles, b)
}

type part struct {
	kind   elf.ProgType
	flags  elf.ProgFlag
	start  uint64
	memory uint64
	data   []byte
}

// core lays out a core file.
func core(m elf.Machine, parts ...part) []byte {
	b := make([]byte, headerSize+segmentSize*len(parts))
	copy(b, elf.ELFMAG)
	b[elf.EI_CLASS], b[elf.EI_DATA], b[elf.EI_VERSION] = byte(elf.ELFCLASS64), byte(elf.ELFDATA2LSB), 1
	le.PutUint16(b[16:], uint16(elf.ET_CORE))
	le.PutUint16(b[18:], uint16(m))
	le.PutUint64(b[32:], headerSize)
	le.PutUint16(b[54:], segmentSize)
	le.PutUint16(b[56:], uint16(len(parts)))
	for i, p := range parts {
		h := b[headerSize+segmentSize*i:]
		le.PutUint32(h, uint32(p.kind))
		le.PutUint32(h[4:], uint32(p.flags))
		le.PutUint64(h[8:], uint64(len(b)))
		le.PutUint64(h[16:], p.start)
		le.PutUint64(h[32:], uint64(len(p.data)))
		le.PutUint64(h[40:], p.memory)
		b = append(b, p.data...)
	}
	return b
}

// The notes say what the process was, why it ended, its threads and its files.
func TestNotes(t *testing.T) {
	t.Parallel()
	process := make([]byte, 24)
	process = le.AppendUint32(process, 4711)
	process = append(process, make([]byte, 12)...)
	process = append(process, "harbour\x00......../bin/harbour --quay 3 \x00"...)
	process = append(process, make([]byte, 80)...)
	signal := le.AppendUint32(le.AppendUint32(le.AppendUint32(nil, 11), 5), 1)
	signal = append(signal, 0, 0, 0, 0)
	signal = le.AppendUint64(signal, 0xdeadbeef)
	signal = append(signal, make([]byte, 104)...)
	auxiliary := []byte{}
	for _, x := range [][2]uint64{{EntryPoint, 0x401000}, {PageSize, 4096}, {0, 0}} {
		auxiliary = le.AppendUint64(le.AppendUint64(auxiliary, x[0]), x[1])
	}
	vectors := make([]byte, 512)
	for i := range 16 {
		vectors[160+16*i] = byte(i + 1)
	}
	files := []File{{0x7000, 0x9000, 0x2000, "/lib/swell.so"}, {0x1000, 0x3000, 0, "/bin/harbour"}}
	notes := bytes.Join([][]byte{
		status(1, 11, 100), note("CORE", noteProcess, process), note("CORE", noteSignal, signal), note("CORE", noteAuxiliary, auxiliary), filesNote(4096, files),
		note("CORE", noteFloat, vectors), note("OTHER", noteStatus, []byte("of somebody else")), status(2, 0, 1000), note("CORE", 4711, []byte("not read")),
	}, nil)
	c, err := Read(core(elf.EM_X86_64, part{kind: elf.PT_NOTE, data: notes}))
	require.NoError(t, err)
	assert.Empty(t, c.Troubles)
	assert.Same(t, machine.AMD64, c.Arch)
	assert.Equal(t, Process{ID: 4711, Name: "harbour", Args: "/bin/harbour --quay 3"}, c.Process)
	assert.Equal(t, Signal{Number: 11, Errno: 5, Code: 1, Address: 0xdeadbeef, Sender: -559038737, Known: true}, c.Signal)
	assert.EqualValues(t, 0x401000, c.Auxiliary[EntryPoint])
	slices.Reverse(files)
	assert.Equal(t, files, c.Files, "by address")
	require.Len(t, c.Threads, 2)
	for i, want := range []struct {
		id, signal int
		first      uint64
	}{{1, 11, 100}, {2, 0, 1000}} {
		th := c.Threads[i]
		assert.Equal(t, want.id, th.ID)
		assert.Equal(t, want.signal, th.Signal)
		assert.Equal(t, want.first+16, th.Registers.PC())
		assert.Equal(t, want.first+19, th.Registers.SP())
		assert.Equal(t, want.first+21, th.Registers.ThreadBase)
		_, ok := th.Registers.Vector(17)
		assert.Equal(t, i == 0, ok, "the note belongs to the thread before it")
	}
	v, _ := c.Threads[0].Registers.Vector(20)
	assert.EqualValues(t, 4, v[0])
}

// Damaged notes are troubles; what came before them counts.
func TestDamagedNotes(t *testing.T) {
	t.Parallel()
	many := note("CORE", noteFiles, le.AppendUint64(le.AppendUint64(nil, 1<<60), 4096))
	cut := filesNote(4096, []File{{1, 2, 0, "/bin/harbour"}})
	short := note("CORE", noteSignal, []byte{11, 0, 0})
	huge := le.AppendUint32(le.AppendUint32(le.AppendUint32(nil, 5), 1<<31), 1)
	for name, c := range map[string]struct {
		note []byte
		says string
	}{
		"more files than room":  {many, "1152921504606846976 files do not fit"},
		"a file without a name": {note("CORE", noteFiles, cut[20:len(cut)-4]), "a note of type"},
		"a signal cut short":    {short, "ends too early"},
		"a note without end":    {append(huge, "CORE\x00\x00\x00\x00fog"...), "the notes of the core"},
	} {
		got, err := Read(core(elf.EM_X86_64, part{kind: elf.PT_NOTE, data: append(status(7, 6, 1), c.note...)}))
		require.NoError(t, err, name)
		require.Len(t, got.Threads, 1, name)
		assert.Equal(t, 7, got.Threads[0].ID)
		require.Len(t, got.Troubles, 1, name)
		assert.Contains(t, got.Troubles[0], c.says, name)
		assert.Empty(t, got.Files, name)
	}
	got, err := Read(core(elf.EM_X86_64))
	require.NoError(t, err)
	assert.Equal(t, []string{"no thread's registers were kept"}, got.Troubles)
}

func TestWhatIsNoCore(t *testing.T) {
	t.Parallel()
	good := core(elf.EM_X86_64, part{kind: elf.PT_LOAD, start: 0x1000, memory: 16, data: []byte("0123456789abcdef")})
	changed := func(at int, with ...byte) []byte {
		b := bytes.Clone(good)
		copy(b[at:], with)
		return b
	}
	for name, c := range map[string]struct {
		data []byte
		kind error
	}{
		"nothing":                {nil, ErrNoCore},
		"text":                   {[]byte(strings.Repeat("fog ", 50)), ErrNoCore},
		"an executable":          {changed(16, byte(elf.ET_EXEC)), ErrNoCore},
		"32 bits":                {changed(4, byte(elf.ELFCLASS32)), fault.Processor},
		"big-endian":             {changed(5, byte(elf.ELFDATA2MSB)), fault.Processor},
		"another processor":      {changed(18, byte(elf.EM_RISCV)), fault.Processor},
		"its header cut":         {good[:50], ErrNoCore},
		"its segments cut":       {good[:headerSize+10], ErrNoCore},
		"segments of 0 bytes":    {changed(54, 0, 0), ErrNoCore},
		"segments beyond":        {changed(32, 0, 0, 0, 1), ErrNoCore},
		"more than 65534, where": {changed(56, 0xff, 0xff), ErrNoCore},
	} {
		_, err := Read(c.data)
		require.ErrorIs(t, err, c.kind, name)
	}
	assert.True(t, Is(good[:18]))
	assert.False(t, Is(good[:17]))
	// Beyond 65,534 segments their number is in the first section header.
	many := changed(56, 0xff, 0xff)
	le.PutUint64(many[40:], uint64(len(many)))
	section := make([]byte, 64)
	le.PutUint32(section[44:], 1)
	c, err := Read(append(many, section...))
	require.NoError(t, err)
	assert.Len(t, c.Memory.Mappings(), 1)
}

// memoryModel is memory as a map of its known bytes.
type memoryModel struct {
	known map[uint64]byte
	parts []part
	files []File
}

// memory makes random mappings, of which the core kept some, with files behind some.
func aMemory(r *rand.Rand) (*Core, memoryModel, error) {
	m := memoryModel{known: map[uint64]byte{}}
	at := uint64(0x1000)
	contents := make([]byte, 5000)
	for i := range contents {
		contents[i] = byte(r.Uint32() | 1)
	}
	for range 1 + r.IntN(8) {
		at += uint64(r.IntN(2) * r.IntN(500)) // some are side by side
		p := part{kind: elf.PT_LOAD, start: at, memory: uint64(1 + r.IntN(900)), flags: elf.ProgFlag(r.IntN(8))}
		if r.IntN(3) > 0 {
			p.data = make([]byte, p.memory)
			for i := range p.data {
				p.data[i] = byte(r.Uint32())
			}
			if r.IntN(4) == 0 {
				p.data = p.data[:r.IntN(len(p.data))]
			}
		}
		for i, b := range p.data {
			m.known[at+uint64(i)] = b
		}
		if r.IntN(2) == 0 {
			f := File{Start: at, End: at + p.memory, Offset: uint64(r.IntN(5200)), Path: fmt.Sprint("/bin/", len(m.files)%2)}
			m.files = append(m.files, f)
			if f.Path == "/bin/0" {
				for i := uint64(len(p.data)); i < p.memory && f.Offset+i < uint64(len(contents)); i++ {
					m.known[at+i] = contents[f.Offset+i]
				}
			}
		}
		at += p.memory
		m.parts = append(m.parts, p)
	}
	shuffled := slices.Clone(m.parts)
	r.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
	c, err := Read(core(elf.EM_AARCH64, append(shuffled, part{kind: elf.PT_NOTE, data: filesNote(1, m.files)}, part{kind: elf.PT_DYNAMIC, start: 1, memory: 99})...))
	if err == nil {
		c.Memory.Put("/bin/0", contents)
	}
	return c, m, err
}

// Memory that was kept, and what files hold of the rest, against a map of bytes.
func TestMemory(t *testing.T) {
	t.Parallel()
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 6))
		c, m, err := aMemory(r)
		require.NoError(t, err)
		require.Zero(t, c.Missing)
		label := fmt.Sprint("seed ", seed)
		require.Len(t, c.Memory.Mappings(), len(m.parts), label)
		for range 60 {
			address, n := uint64(0xf00+r.IntN(6000)), uint64(r.IntN(700))
			var want []byte
			for uint64(len(want)) < n {
				b, ok := m.known[address+uint64(len(want))]
				if !ok {
					break
				}
				want = append(want, b)
			}
			got, ok := c.Memory.Read(address, n)
			require.Equal(t, uint64(len(want)) == n, ok, "%s: %d bytes at %#x", label, n, address)
			if ok {
				require.True(t, bytes.Equal(want, got), label)
			}
			require.True(t, bytes.Equal(want, c.Memory.Known(address, n)), "%s: %d bytes at %#x", label, n, address)
			for _, size := range []int{1, 2, 4, 8} {
				number, ok := c.Memory.Uint(address, size)
				expected := uint64(0)
				whole := true
				for i := size - 1; i >= 0; i-- {
					b, known := m.known[address+uint64(i)]
					whole = whole && known
					expected = expected<<8 | uint64(b)
				}
				require.Equal(t, whole, ok, label)
				if whole {
					require.Equal(t, expected, number, label)
				}
			}
			text, whole, ok := c.Memory.Text(address, n)
			end := bytes.IndexByte(want, 0)
			switch {
			case end >= 0:
				require.Equal(t, string(want[:end]), string(text), label)
				require.True(t, whole && ok, label)
			default:
				require.Equal(t, string(want), string(text), label)
				require.False(t, whole, label)
				require.Equal(t, len(want) > 0 || n == 0, ok, label)
			}
			m.checkMapping(t, c, address)
		}
		var kept []byte
		last := uint64(0)
		c.Memory.Each(func(address uint64, data []byte) bool {
			require.GreaterOrEqual(t, address, last)
			last = address
			kept = append(kept, data...)
			return true
		})
		var all []byte
		for _, p := range m.parts {
			all = append(all, p.data...)
		}
		require.True(t, bytes.Equal(all, kept), label)
	}
}

func (m memoryModel) checkMapping(t *testing.T, c *Core, address uint64) {
	i := slices.IndexFunc(m.parts, func(p part) bool { return address >= p.start && address < p.start+p.memory })
	got, ok := c.Memory.At(address)
	require.Equal(t, i >= 0, ok)
	if ok {
		p := m.parts[i]
		require.Equal(t, []any{p.start, p.start + p.memory, p.flags&elf.PF_R != 0, p.flags&elf.PF_W != 0, p.flags&elf.PF_X != 0}, []any{got.Start, got.End, got.Readable, got.Writable, got.Executable})
	}
	f := slices.IndexFunc(m.files, func(f File) bool { return address >= f.Start && address < f.End })
	file, ok := c.FileAt(address)
	require.Equal(t, f >= 0, ok)
	if ok {
		require.Equal(t, m.files[f], file)
		require.Equal(t, file.Path, got.Path)
		require.Equal(t, file.Offset, got.Offset)
	} else {
		require.Empty(t, got.Path)
	}
	after, _ := slices.BinarySearchFunc(m.parts, address, func(p part, a uint64) int { return cmp.Compare(p.start, a) })
	next, ok := c.Memory.Next(address)
	require.Equal(t, after < len(m.parts), ok)
	if ok {
		require.Equal(t, m.parts[after].start, next.Start)
	}
	before, ok := c.Memory.Before(address)
	earlier := slices.DeleteFunc(slices.Clone(m.parts), func(p part) bool { return p.start+p.memory > address })
	require.Equal(t, len(earlier) > 0, ok)
	if ok {
		require.Equal(t, earlier[len(earlier)-1].start, before.Start)
	}
}

// A core that was cut off says how much is missing; what is missing is not read from files.
func TestCutOff(t *testing.T) {
	t.Parallel()
	whole := core(elf.EM_X86_64, part{kind: elf.PT_NOTE, data: filesNote(1, []File{{0x1000, 0x1064, 0, "/bin/harbour"}})}, part{kind: elf.PT_LOAD, start: 0x1000, memory: 100, data: bytes.Repeat([]byte{7}, 100)})
	for _, lost := range []int{0, 1, 60, 100} {
		c, err := Read(whole[:len(whole)-lost])
		require.NoError(t, err)
		assert.EqualValues(t, lost, c.Missing)
		c.Memory.Put("/bin/harbour", bytes.Repeat([]byte{9}, 100))
		got := c.Memory.Known(0x1000, 100)
		assert.True(t, bytes.Equal(bytes.Repeat([]byte{7}, 100-lost), got), "%d bytes are lost", lost)
		_, ok := c.Memory.Read(0x1000, 100)
		assert.Equal(t, lost == 0, ok)
	}
}

// A mapping that the core does not name is named by the program's own headers; named ones stay.
func TestName(t *testing.T) {
	t.Parallel()
	c, err := Read(core(elf.EM_X86_64, part{kind: elf.PT_NOTE, data: filesNote(1, []File{{0x2000, 0x2010, 5, "/lib/swell.so"}})},
		part{kind: elf.PT_LOAD, start: 0x1000, memory: 0x10}, part{kind: elf.PT_LOAD, start: 0x1800, memory: 0x10}, part{kind: elf.PT_LOAD, start: 0x2000, memory: 0x10}, part{kind: elf.PT_LOAD, start: 0x3000, memory: 0x10}))
	require.NoError(t, err)
	c.Memory.Name(0x1000, 0x3000, "/bin/harbour", 0x40)
	for address, want := range map[uint64]string{0x1000: "/bin/harbour+40", 0x1808: "/bin/harbour+840", 0x2000: "/lib/swell.so+5", 0x3000: "+0"} {
		m, ok := c.Memory.At(address)
		require.True(t, ok)
		assert.Equal(t, want, fmt.Sprintf("%s+%x", m.Path, m.Offset), "%#x", address)
	}
}
