package unwind_test

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/evidence/kinds/coredump/unwind"
)

// Registers of x86-64 by the numbers of its System V ABI, figure 3.36.
const (
	rbx = 3
	rbp = 6
	rsp = 7
	r12 = 12
	ra  = 16
)

const start, length = 0x1000, 0x100

// usual is where a frame is just after the call: CFA = RSP + 8, the return address at CFA - 8.
var usual = []byte{0x0c, rsp, 8, 0x80 | ra, 1}

// frameSection is a .debug_frame with one common entry and one entry: code is aligned by 1,
// data by -8.
func frameSection(common, program []byte) []byte {
	entry := func(id uint32, body []byte) []byte {
		b := binary.LittleEndian.AppendUint32(nil, uint32(4+len(body)))
		return append(binary.LittleEndian.AppendUint32(b, id), body...)
	}
	body := append([]byte{4, 0, 8, 0, 1, 0x78, ra}, common...) // version 4, no augmentation, addresses of 8 bytes
	of := binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, start), length)
	return append(entry(0xffffffff, body), entry(0, append(of, program...))...)
}

// TestInstructions runs each call frame instruction (DWARF 5, section 6.4.2) and checks the caller.
// Memory contains at each address that address plus one.
func TestInstructions(t *testing.T) {
	t.Parallel()
	read := func(address, n uint64) ([]byte, bool) {
		return binary.LittleEndian.AppendUint64(nil, address+1)[:n], address >= 0x7000 && address < 0x9000
	}
	type caller map[machine.Register]uint64
	const gone = 1<<64 - 7
	for name, x := range map[string]struct {
		program []byte
		pc      uint64
		cfa     uint64
		want    caller
	}{
		"nothing":                        {nil, start, 0x8008, caller{rsp: 0x8008, rbp: 0x8100, rbx: 0x33}},
		"offset":                         {[]byte{0x80 | rbx, 2}, start, 0x8008, caller{rbx: 0x7ff9}},
		"offset_extended":                {[]byte{0x05, r12, 3}, start, 0x8008, caller{r12: 0x7ff1}},
		"offset_extended_sf":             {[]byte{0x11, r12, 0x7f}, start, 0x8008, caller{r12: 0x8011}},
		"GNU_negative_offset_extended":   {[]byte{0x2f, r12, 2}, start, 0x8008, caller{r12: 0x8019}},
		"val_offset":                     {[]byte{0x14, rbx, 2}, start, 0x8008, caller{rbx: 0x7ff8}},
		"val_offset_sf":                  {[]byte{0x15, rbx, 0x7e}, start, 0x8008, caller{rbx: 0x8018}},
		"register":                       {[]byte{0x09, rbx, rbp}, start, 0x8008, caller{rbx: 0x8100}},
		"expression":                     {[]byte{0x10, rbx, 2, 0x23, 0x10}, start, 0x8008, caller{rbx: 0x8019}}, // at CFA + 16
		"val_expression":                 {[]byte{0x16, rbx, 2, 0x23, 0x10}, start, 0x8008, caller{rbx: 0x8018}},
		"undefined":                      {[]byte{0x07, rbx}, start, 0x8008, caller{rbx: gone}},
		"same_value":                     {[]byte{0x07, rbx, 0x08, rbx}, start, 0x8008, caller{rbx: 0x33}},
		"def_cfa":                        {[]byte{0x0c, rbp, 16}, start, 0x8110, caller{rsp: 0x8110}},
		"def_cfa_sf":                     {[]byte{0x12, rbp, 0x7e}, start, 0x8110, caller{}},
		"def_cfa_register":               {[]byte{0x0d, rbp}, start, 0x8108, caller{}},
		"def_cfa_offset":                 {[]byte{0x0e, 32}, start, 0x8020, caller{}},
		"def_cfa_offset_sf":              {[]byte{0x13, 0x7c}, start, 0x8020, caller{}},
		"def_cfa_expression":             {[]byte{0x0f, 2, 0x77, 0x18}, start, 0x8018, caller{}},
		"advance_loc, before":            {[]byte{0x41, 0x0e, 16}, start, 0x8008, caller{}},
		"advance_loc, after":             {[]byte{0x41, 0x0e, 16}, start + 1, 0x8010, caller{}},
		"advance_loc1, before":           {[]byte{0x02, 0x20, 0x0e, 16}, start + 0x1f, 0x8008, caller{}},
		"advance_loc1, after":            {[]byte{0x02, 0x20, 0x0e, 16}, start + 0x20, 0x8010, caller{}},
		"advance_loc2":                   {[]byte{0x03, 0x20, 0, 0x0e, 16}, start + 0x20, 0x8010, caller{}},
		"advance_loc4":                   {[]byte{0x04, 0x20, 0, 0, 0, 0x0e, 16}, start + 0x20, 0x8010, caller{}},
		"set_loc":                        {[]byte{0x01, 0x40, 0x10, 0, 0, 0, 0, 0, 0, 0x0e, 16}, start + 0x3f, 0x8008, caller{}},
		"remember_state, restore_state":  {[]byte{0x80 | rbx, 2, 0x0a, 0x0e, 16, 0x07, rbx, 0x41, 0x0b}, start + 1, 0x8008, caller{rbx: 0x7ff9}},
		"restore":                        {[]byte{0x80 | r12, 2, 0xc0 | r12}, start, 0x8008, caller{r12: 0x44}},
		"restore_extended":               {[]byte{0x80 | r12, 2, 0x06, r12}, start, 0x8008, caller{r12: 0x44}},
		"GNU_args_size, nop":             {[]byte{0x2e, 0x80, 1, 0x00, 0x0e, 16}, start, 0x8010, caller{}},
		"memory that was not kept":       {[]byte{0x11, rbx, 0xff, 0xff, 0x7e}, start, 0x8008, caller{rbx: gone}},
		"a register that is never known": {[]byte{0x09, rbx, 50}, start, 0x8008, caller{rbx: gone}},
	} {
		regs := &machine.Registers{Arch: machine.AMD64}
		for r, v := range map[machine.Register]uint64{rsp: 0x8000, rbp: 0x8100, rbx: 0x33, r12: 0x44} {
			regs.Set(r, v)
		}
		table := unwind.NewTable(unwind.Section{Data: frameSection(usual, x.program)})
		f, ok, err := table.Caller(x.pc, 0, regs, read)
		require.NoError(t, err, name)
		require.True(t, ok, name)
		assert.Equal(t, x.cfa, f.CFA, name)
		pc, known := f.Caller.Get(ra)
		assert.True(t, known, name)
		assert.Equal(t, x.cfa-8+1, pc, "%s: the return address lies below the frame", name)
		for r, want := range x.want {
			got, known := f.Caller.Get(r)
			if want == gone {
				assert.False(t, known, "%s: register %d", name, r)
				continue
			}
			assert.True(t, known, "%s: register %d", name, r)
			assert.Equal(t, want, got, "%s: register %d", name, r)
		}
	}
}

// TestEndsAndDamage checks the outermost frame, and the errors of unusable information.
func TestEndsAndDamage(t *testing.T) {
	t.Parallel()
	regs := &machine.Registers{Arch: machine.AMD64}
	regs.Set(rsp, 0x8000)
	read := func(address, n uint64) ([]byte, bool) { return make([]byte, n), address == 0x8000 }
	ask := func(common, program []byte) (unwind.Frame, bool, error) {
		return unwind.NewTable(unwind.Section{Data: frameSection(common, program)}).Caller(start, 0, regs, read)
	}
	f, ok, err := ask(usual, []byte{0x07, ra})
	require.NoError(t, err)
	assert.True(t, ok && f.Outermost, "nobody called it")
	for name, program := range map[string][]byte{
		"unknown": {0x3f}, "cut off": {0x0c, rsp}, "restores what it did not remember": {0x0b}, "frame by an unknown register": {0x0d, 50},
		"an expression that is wrong": {0x0f, 1, 0x22}, "the return address is not there": {0x0e, 0x40}, "a block too long": {0x16, rbx, 0x40, 1},
	} {
		_, ok, err := ask(usual, program)
		assert.True(t, ok, name)
		require.Error(t, err, name)
	}
	_, _, err = ask(nil, nil)
	require.ErrorIs(t, err, unwind.ErrMalformed, "it does not say where the frame is")
	_, ok, err = unwind.NewTable(unwind.Section{Data: frameSection(usual, nil)}).Caller(start+length, 0, regs, read)
	assert.False(t, ok)
	require.NoError(t, err)
	from, to, ok := unwind.NewTable(unwind.Section{Data: frameSection(usual, nil)}).Function(start + 5)
	assert.True(t, ok && from == start && to == start+length)
	whole := frameSection(usual, []byte{0x0e, 16})
	for n := range whole { // what is cut off is not believed
		assert.True(t, unwind.NewTable(unwind.Section{Data: whole[:n]}).Empty(), "%d bytes", n)
	}
}

// FuzzFrames reads sections of any bytes: it may err, and must end.
func FuzzFrames(f *testing.F) {
	f.Add(frameSection(usual, []byte{0x80 | rbx, 2, 0x0a, 0x41, 0x0b}), false)
	f.Add([]byte{0x14, 0, 0, 0, 0, 0, 0, 0, 1, 'z', 'R', 0, 1, 0x78, 16, 1, 0x1b, 0x0c, 7, 8, 0x90, 1, 0, 0, 0x10, 0, 0, 0, 0x1c, 0, 0, 0, 0, 0x10, 0, 0, 0, 1, 0, 0, 0, 0x41, 0x0e, 16}, true)
	f.Fuzz(func(t *testing.T, b []byte, eh bool) {
		regs := &machine.Registers{Arch: machine.AMD64}
		regs.Set(rsp, 0x8000)
		table := unwind.NewTable(unwind.Section{Data: b, EH: eh})
		for _, pc := range []uint64{0, start, start + 0x20} {
			_, _, _ = table.Caller(pc, 0, regs, func(_, n uint64) ([]byte, bool) { return make([]byte, n), n <= 8 })
		}
	})
}
