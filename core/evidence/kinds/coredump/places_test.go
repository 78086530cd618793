package coredump

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/fault"
)

const fallsC = `
int depth(int *at) { return *at; }
int main(int argc, char **argv) { int *nothing = (int *)(long)(argc - 1); return depth(nothing) + 1; }
`

// The binary and its debug file are found at all usual places, by build ID or by name and checksum;
// files of another build are not used.
func TestWhereDebugFilesAre(t *testing.T) {
	t.Parallel()
	for _, identified := range []bool{true, false} {
		made := t.TempDir()
		source, program := filepath.Join(made, "falls.c"), filepath.Join(made, "falls")
		require.NoError(t, os.WriteFile(source, []byte(fallsC), 0o600))
		flag := map[bool]string{true: "-Wl,--build-id", false: "-Wl,--build-id=none"}[identified]
		compile(t, "gcc", "-O0", "-g", flag, "-o", program, source)
		debug := filepath.Join(made, "falls.debug")
		compile(t, "objcopy", "--only-keep-debug", program, debug)
		compile(t, "strip", program)
		compile(t, "objcopy", "--add-gnu-debuglink="+debug, program)
		other := filepath.Join(made, "other")
		require.NoError(t, os.WriteFile(source, []byte(strings.ReplaceAll(fallsC, "nothing", "none")), 0o600))
		compile(t, "gcc", "-O0", "-g", flag, "-o", other, source)
		compile(t, "objcopy", "--only-keep-debug", other, other+".debug")
		binary, err := module.Open(program, "")
		require.NoError(t, err)
		id := binary.BuildID
		require.Equal(t, identified, id != "")
		core, _ := crash(t, program)
		if !identified {
			id = "none"
		}

		for _, x := range []struct {
			name          string
			binary, debug string // where the files are, relative to the folder with debug files
			source        string // of the debug file
			symbols, line bool   // what is known of the failing frame
		}{
			{"nothing", "", "", debug, false, false},
			{"binary by name", "falls", "", debug, true, false},
			{"binary by path", program, "", debug, true, false},
			{"both by name", "falls", "falls.debug", debug, true, true},
			{"debug file in its folder", program, filepath.Join(filepath.Dir(program), "falls.debug"), debug, true, true},
			{"debug file beside the binary", "bin/../falls", ".debug/falls.debug", debug, true, true},
			{"binary by build ID", ".build-id/" + id[:2] + "/" + id[2:], "", debug, identified, false},
			{"both by build ID", ".build-id/" + id[:2] + "/" + id[2:], ".build-id/" + id[:2] + "/" + id[2:] + ".debug", debug, identified, identified},
			{"debug file by build ID", "falls", id + ".debug", debug, true, identified},
			{"debug file alone", "", ".build-id/" + id[:2] + "/" + id[2:] + ".debug", debug, identified, identified},
			{"debug file by build ID without an ending", "falls", id, debug, true, identified},
			{"debug file of another build", "falls", "falls.debug", other + ".debug", true, false},
			{"debug file of another build under this build ID", "falls", ".build-id/" + id[:2] + "/" + id[2:] + ".debug", other + ".debug", true, false},
		} {
			t.Run(map[bool]string{true: "with ", false: "without "}[identified]+"build ID: "+x.name, func(t *testing.T) {
				dir := t.TempDir()
				put := func(from, to string) {
					if to == "" {
						return
					}
					b, err := os.ReadFile(from)
					require.NoError(t, err)
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, to)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(dir, to), b, 0o600))
				}
				put(program, x.binary)
				put(x.source, x.debug)
				d := openDump(t, core, Options{Modules: module.Sources{Debug: []string{dir}, Alone: true}})
				frames, err := d.Frames(context.Background(), 0, d.Info().Failure.Thread)
				require.NoError(t, err)
				require.NotEmpty(t, frames)
				top := frames[0]
				if x.line {
					assert.Equal(t, "depth", top.Function)
					assert.Equal(t, 2, top.Line)
					assert.Equal(t, "falls.c", filepath.Base(top.File))
					assert.Equal(t, "main", frames[1].Function)
					return
				}
				assert.Zero(t, top.Line, "%+v", top)
				gaps := ""
				for _, g := range d.Info().Gaps {
					gaps += g.What + "\n"
				}
				assert.Contains(t, gaps, "falls", "the gaps name what is missing")
			})
		}

		alone := filepath.Join(t.TempDir(), "falls") // without its debug file beside it
		require.NoError(t, os.Rename(program, alone))

		// Named files must be those of the dump; offered ones are used if they are.
		_, err = openFile(core, Options{Modules: module.Sources{Binaries: []string{other}, Alone: true}})
		require.ErrorIs(t, err, fault.WrongBuild)
		_, err = openFile(core, Options{Modules: module.Sources{Binaries: []string{core}, Alone: true}})
		require.Error(t, err, "a core is no binary of itself")
		for offered, line := range map[string]int{other: 0, debug: 2} {
			d, err := openFile(core, Options{Modules: module.Sources{Binaries: []string{alone}, Offered: []string{offered, filepath.Join(made, "gone")}, Alone: true}})
			require.NoError(t, err)
			frames, err := d.Frames(context.Background(), 0, d.Info().Failure.Thread)
			require.NoError(t, err)
			if line == 0 || identified {
				assert.Equal(t, line, frames[0].Line, offered)
			}
		}
	}
}
