package cli_test

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/cli"
)

var update = flag.Bool("update", false, "write what the commands print to the golden files")

// wraith runs a command line in the folder testdata.
func wraith(line string) string {
	var out, errOut bytes.Buffer
	code := cli.Main(context.Background(), words(line), strings.NewReader(""), &out, &errOut)
	text := fmt.Sprintf("$ wraith %s\n%s%s", line, out.String(), errOut.String())
	if code != 0 {
		text += fmt.Sprintf("exit code %d\n", code)
	}
	return text + "\n"
}

// words splits a command line at blanks outside of single quotes.
func words(line string) (list []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			list = append(list, part)
			continue
		}
		list = append(list, strings.Fields(part)...)
	}
	return list
}

// lines are the commands of each golden file, on the evidence of the same name.
var lines = map[string][]string{
	"quays.wraith": {
		"peek E", "peek E --json", "stack E", "stack E@0", "stack --all E@40", "values E", "values E --depth 2", "values E@30 --format hex", "values E#1.1 --json",
		"ask E 'v.draught + 1.0'", "ask E 'quays.all(q, !q.free || q.depth < 5.0)'", "ask E 'v.draugth'", "ask E@81 'clearance > 0.3'", "ask E '1 +'",
		"hits E --line main.go:25", "hits E --line main.go:25 --when 'clearance < 0.0' --show q.name --show clearance", "hits E --line main.go:25 --nth last --json", "hits E --line main.go:24",
		"hits E --enter assign --slowest", "hits E --return assign", "hits E --error", "hits E --output", "hits E --output osprey", "hits E@81 --write q.free",
		"run E@0 --line main.go:27", "run E --line main.go:27 --back", "run E --line main.go:27", "step E@20 --over", "step E@20 --over --back", "step E@20 --out", "step E@20 --into --count 3",
		"step E@20 --head", "step E@20 --to main.go:42", "step E --line --back", "step E@20 --over --json", "step E", "writes E@81 q.free", "writes E@81 clearance", "writes E@81 clearance --last", "writes E nothing",
		"origin E@81 clearance", "origin E@81 q --depth 2", "origin E@81 v.draught", "origin E 'result 2'", "parts E 'result 2'", "parts E quays --first 2", "parts E quays --from 2", "parts E quays[1]", "changed E", "changed E@30",
		"ledger E --call --column clearance --column q.name", "ledger E --hits --enter assign --column v.name --csv", "ledger E@81 --writes q.free --column q.free --markdown", "ledger E --call",
		"search E 4.5", "search E Osprey", "search E --type vessel", "search E fog", "meanwhile E@0 90", "threads E", "messages E", "instructions E", "memory E 0x10", "traces E", "instant E messages.jsonl",
		"source E", "source E --json", "source E@20", "source E#1.1", "reached E", "reached E@81", "reached E@81 --json", "reached E@83#1.1 --callers 0", "missed E --line main.go:29", "missed E --line main.go:29 --json", "missed E@20 --enter assign",
		"missed E --write q.free", "missed E@81 --write v.draught", "missed E --line main.go:1", "missed E --enter fog", "missed E", "origin E@81 clearance --all", "ask E quays --width 1", "ask E 'quays.map(q, q.depth)'",
		"story E 'Osprey Wall'", "story E@81 q", "story E@81 q --json", "story E fog", "uses E@81 q", "uses E@81 q --json", "uses E@81 fog", "uses E q", "races E", "races E --json", "overlap E --enter assign --by v.name", "overlap E --enter fog", "hits E --line main.go:22",
		"stack E@9999", "stack E@1#9", "values E#1.9", "stack E@noon",
	},
	"messages.jsonl": {
		"peek E", "peek E --json", "values E@3", "values E@3 --json", "hits E --output", "hits E --error", "hits E --output gate --when 'metres > 1.0' --show gate", "ask E@3 'old(metres) - metres'",
		"ledger E --hits --output --column gate --column metres", "messages E@2 --before 1 --after 1", "peek E --field thread=order_id", "threads E --field thread=order_id", "step E@1 --over", "step E@2 --into --back",
		"search E Inner", "instant E quays.wraith", "stack E@3", "peek E --field fog=order_id", "hits E --line main.go:1", "meanwhile E@0 4",
	},
	"spans.jsonl": {
		"peek E", "peek E --json", "traces E", "traces E --json", "traces E --when 'status == \"error\"'", "traces E --when 'statsu == 1'", "trace E --id 5b8e", "trace E --id 5b8e --json", "trace E --id fog", "stack E", "values E",
		"hits E --enter assign", "hits E --error", "hits E --enter assign --when 'quay == \"Osprey Wall\"'", "step E@0 --over", "step E@0 --into", "messages E --of trace", "threads E@2", "search E Skerry", "instant E messages.jsonl",
	},
	"crash.txt": {
		"peek E", "peek E --json", "stack E", "stack E --all", "threads E", "values E", "hits E --error", "step E --over", "origin E x", "source E", "reached E", "story E x", "uses E x", "races E", "memory E 0x10", "instant E messages.jsonl", "peek E --own main.watch", "ask E '1 + 1'",
	},
}

// What each command prints and how it ends, on evidence of kinds that can do different
// things. After a wanted change: go test ./cli -update, and read the difference.
func TestGolden(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Chdir("testdata")
	for name, list := range lines {
		var got strings.Builder
		for _, line := range list {
			args := strings.Fields(line)
			for i, w := range args {
				if w == "E" || strings.HasPrefix(w, "E@") || strings.HasPrefix(w, "E#") {
					args[i] = name + w[1:]
				}
			}
			got.WriteString(wraith(strings.Join(args, " ")))
		}
		path := name + ".golden"
		if *update {
			require.NoError(t, os.WriteFile(path, []byte(got.String()), 0o600))
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(want), got.String(), name)
	}
}
