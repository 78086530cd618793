package unwind

import (
	"bufio"
	"bytes"
	"debug/elf"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/machine"
)

var (
	fdeLine    = regexp.MustCompile(`^[0-9a-f]+ [0-9a-f]+ [0-9a-f]+ FDE .*pc=([0-9a-f]+)\.\.([0-9a-f]+)$`)
	inRegister = regexp.MustCompile(`r[0-9]+ \((\w+)\)`) // a rule that names another register
	rowLine    = regexp.MustCompile(`^([0-9a-f]{16}) (.*)$`)
)

// numbers are the register numbers of the psABIs by the names that the ELF tools print.
func numbers(arch *machine.Architecture) map[string]machine.Register {
	out := map[string]machine.Register{}
	if arch == machine.ARM64 {
		for n := range machine.Register(32) {
			out[fmt.Sprint("x", n)], out[fmt.Sprint("v", n)] = n, 64+n
		}
		delete(out, "x31")
		out["sp"], out["ra"] = 31, 30
		return out
	}
	for n, name := range strings.Fields("rax rdx rcx rbx rsi rdi rbp rsp r8 r9 r10 r11 r12 r13 r14 r15") {
		out[name] = machine.Register(n)
	}
	out["ra"] = 16
	return out
}

// printed writes a rule as the ELF tools do.
func printed(r rule, names map[machine.Register]string) string {
	switch r.kind {
	case unspecified, undefined:
		return "u"
	case same:
		return "s"
	case atOffset:
		return fmt.Sprintf("c%+d", r.offset)
	case isOffset:
		return fmt.Sprintf("v%+d", r.offset)
	case register:
		return names[r.register]
	case atAddress:
		return "exp"
	}
	return "vexp"
}

// The rules of every place in the call frame information of other people's programs are those that
// the ELF tools of the system print.
func TestRulesOfPrograms(t *testing.T) {
	t.Parallel()
	for path, arch := range map[string]*machine.Architecture{
		"/bin/bash": machine.AMD64, "/lib/x86_64-linux-gnu/libc.so.6": machine.AMD64, "/usr/bin/git": machine.AMD64, "/usr/lib/x86_64-linux-gnu/libstdc++.so.6": machine.AMD64,
		"/usr/aarch64-linux-gnu/lib/libc.so.6": machine.ARM64,
	} {
		t.Run(path, func(t *testing.T) {
			t.Parallel()
			if _, err := os.Stat(path); err != nil {
				t.Skip("not installed here")
			}
			f, err := elf.Open(path)
			require.NoError(t, err)
			defer f.Close()
			s := f.Section(".eh_frame")
			data, err := s.Data()
			require.NoError(t, err)
			table := NewTable(Section{Data: data, EH: true, Address: s.Addr})
			command := exec.Command("readelf", "--debug-dump=frames-interp", path)
			command.Env = append(os.Environ(), "LC_ALL=C")
			out, err := command.Output() // it may complain of other sections
			require.NotEmpty(t, out, err)

			byName := numbers(arch)
			names := map[machine.Register]string{}
			for name, n := range byName {
				if name != "ra" {
					names[n] = name
				}
			}
			var columns []string
			var end, before uint64
			rows, inFDE := 0, false
			lines := bufio.NewScanner(bytes.NewReader(out))
			for lines.Scan() {
				line := lines.Text()
				if m := fdeLine.FindStringSubmatch(line); m != nil {
					end, err = strconv.ParseUint(m[2], 16, 64)
					require.NoError(t, err)
					from, err := strconv.ParseUint(m[1], 16, 64)
					require.NoError(t, err)
					inFDE, before = true, from
					gotFrom, gotEnd, ok := table.Function(from)
					if assert.True(t, ok, line) {
						assert.Equal(t, []uint64{from, end}, []uint64{gotFrom, gotEnd}, line)
					}
					continue
				}
				if strings.Contains(line, " CIE ") {
					inFDE = false
				}
				if fields := strings.Fields(line); len(fields) > 1 && fields[0] == "LOC" {
					columns = fields[1:]
					continue
				}
				m := rowLine.FindStringSubmatch(line)
				if m == nil || !inFDE {
					continue
				}
				at, err := strconv.ParseUint(m[1], 16, 64)
				require.NoError(t, err)
				rules := strings.Fields(inRegister.ReplaceAllString(m[2], "$1"))
				require.Len(t, rules, len(columns), line)
				for _, pc := range []uint64{at, max(before, at-1)} {
					if pc != at && rows%3 != 0 {
						continue
					}
					e, ok := table.find(pc)
					require.True(t, ok, line)
					got, err := e.rules(pc, arch)
					require.NoError(t, err, line)
					if pc != at { // still as in the row before; seen when that row was compared
						next, err := e.rules(before, arch)
						require.NoError(t, err)
						require.Equal(t, next, got, "0x%x", pc)
						continue
					}
					for i, name := range columns {
						want, text := rules[i], ""
						if name == "CFA" {
							if text = "exp"; got.cfa.kind == register {
								text = fmt.Sprintf("%s%+d", names[got.cfa.register], got.cfa.offset)
							}
						} else {
							text = printed(got.of[byName[name]], names)
						}
						require.Equal(t, want, text, "%s at 0x%x: %s", name, pc, line)
					}
				}
				before = at
				rows++
			}
			require.NoError(t, lines.Err())
			assert.Greater(t, rows, 1000)
			_, _, ok := table.Function(0)
			assert.False(t, ok)
		})
	}
}
