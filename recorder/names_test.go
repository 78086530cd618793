package recorder_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/execlog"
)

// The names that a line reads and writes are those that the program's comments give.
func TestNamesOfLines(t *testing.T) {
	t.Parallel()
	dir, err := filepath.Abs("testdata/names")
	require.NoError(t, err)
	recording := record(t, dir, "go", "run", ".")
	log, err := execlog.OpenFile(recording.log)
	require.NoError(t, err)
	defer log.Close()
	sites := map[int]event.Site{}
	for _, s := range log.Tables.Sites {
		if f := log.Tables.Functions[s.Function]; strings.HasPrefix(f.Name, "main.") && sites[s.Line].Line == 0 {
			sites[s.Line] = s
		}
	}
	source, err := os.ReadFile("testdata/names/main.go")
	require.NoError(t, err)
	comment := regexp.MustCompile(`// (.+); (.+)$`)
	words := func(s string) []string {
		if s == "-" {
			return nil
		}
		return strings.Fields(s)
	}
	checked := 0
	for i, line := range strings.Split(string(source), "\n") {
		m := comment.FindStringSubmatch(line)
		if strings.HasPrefix(line, "//") {
			continue
		}
		if m == nil {
			continue
		}
		s, ok := sites[i+1]
		require.True(t, ok, "line "+strconv.Itoa(i+1)+" is not recorded")
		assert.ElementsMatch(t, words(m[1]), s.Reads, "reads of line %d: %s", i+1, line)
		assert.ElementsMatch(t, words(m[2]), s.Writes, "writes of line %d: %s", i+1, line)
		checked++
	}
	assert.Greater(t, checked, 35)
}
