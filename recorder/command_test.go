package recorder

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// A command of go is parted into flags, packages and the program's own arguments.
func TestGoCommands(t *testing.T) {
	t.Parallel()
	for line, want := range map[string][]string{ // verb, flags, names, args, what loading needs
		"go run .":                               {"run", "", ".", "", ""},
		"go run . -v x":                          {"run", "", ".", "-v x", ""},
		"go run -race -tags fog ./cmd/a b":       {"run", "-race -tags fog", "./cmd/a", "b", "-race -tags fog"},
		"go run -tags=fog main.go tide.go -n 3":  {"run", "-tags=fog", "main.go tide.go", "-n 3", "-tags=fog"},
		"go run":                                 {"run", "", ".", "", ""},
		"go run -exec time .":                    {"run", "-exec time", ".", "", ""},
		"go run --race .":                        {"run", "--race", ".", "", "--race"},
		"go test ./...":                          {"test", "", "./...", "", ""},
		"go test -run TestFog -count 1 ./a ./b":  {"test", "-run TestFog -count 1", "./a ./b", "", ""},
		"go test ./a -v -args -x y":              {"test", "-v", "./a", "-args -x y", ""},
		"go test -mod=mod -v":                    {"test", "-mod=mod -v", ".", "", "-mod=mod"},
		"go build -o out -ldflags -s ./cmd/a":    {"build", "-o out -ldflags -s", "./cmd/a", "", "-ldflags -s"},
		"go build -o out":                        {"build", "-o out", ".", "", ""},
		"go test - ./a":                          {"test", "", "- ./a", "", ""},
		"go build -gcflags=-N -buildmode pie -v": {"build", "-gcflags=-N -buildmode pie -v", ".", "", "-gcflags=-N -buildmode pie"},
	} {
		c, err := parseGoCommand(strings.Fields(line))
		require.NoError(t, err, line)
		join := func(list []string) string { return strings.Join(list, " ") }
		assert.Equal(t, want, []string{c.verb, join(c.flags), join(c.names), join(c.args), join(c.loadFlags())}, line)
	}
	for _, line := range []string{"go", "go vet .", "go run -overlay x .", "go test -C dir ./...", "go build --overlay=x", "go run -C=x"} {
		_, err := parseGoCommand(strings.Fields(line))
		require.ErrorIs(t, err, fault.NotRecordable, line)
	}
}

// Older modules are built as ones of the version that rewritten files need, beside the flags of
// the command.
func TestRaisedLanguage(t *testing.T) {
	t.Parallel()
	module := func(path, version string, main bool) listed {
		return listed{ImportPath: path + "/p", Module: &listedModule{Path: path, Main: main, GoVersion: version}}
	}
	c, err := parseGoCommand([]string{"go", "build", "."})
	require.NoError(t, err)
	list := []listed{module("gannet", "1.24", true), module("old", "1.12", false), {ImportPath: "fmt", Standard: true}}
	assert.Empty(t, c.raised(list, nil), "nothing is older")
	assert.Equal(t, []string{"-gcflags=old/...=-lang=" + rewrittenLanguage}, c.raised(list, []*dependency{{path: "old"}}))
	flags := strings.Join(c.raised([]listed{module("gannet", "1.12", true)}, nil), " ")
	assert.Contains(t, flags, rewrittenLanguage)
	assert.Contains(t, flags, "gannet")
}

// A name of a list is a whole name, or the end of one behind a dot.
func TestNamed(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]bool{"gannet/berth.Assign": true, "gannet/berth.(*Office).Assign": true, "gannet/berth.Reassign": false, "Assign": true, "gannet/tide.Read": false, "office.tide.Read": true, "tide.Read": true, "Read": false} {
		assert.Equal(t, want, named([]string{"Assign", "tide.Read"}, name), name)
	}
	assert.True(t, named(nil, "Assign"), "an empty list names all")
}

// A pattern that matches nothing is an error that names what there is, the likeliest first.
func TestPatternsThatMatchNothing(t *testing.T) {
	names := []string{"gannet/berth.Assign", "gannet/berth.(*Office).Release", "gannet/tide.Read", "gannet/tide.ReadAll", "gannet/main"}
	require.NoError(t, matching("--functions", []string{"Assign", "gannet/tide.Read", "gannet/..."}, names))
	require.NoError(t, matching("--functions", nil, names))
	err := matching("--functions", []string{"Assign", "readal"}, names)
	require.ErrorIs(t, err, fault.InvalidRequest)
	assert.ErrorContains(t, err, `--functions "readal" matches nothing`)
	assert.Equal(t, []string{"gannet/tide.ReadAll", "gannet/tide.Read", "gannet/berth.(*Office).Release", "gannet/berth.Assign", "gannet/main"}, similar("tide.readal", names))
	assert.Equal(t, "gannet/tide.Read", similar("gannet/read/...", names)[0])
	_, remedy := fault.Of(err)
	assert.Contains(t, remedy, "there are gannet/tide.ReadAll, ")
}

func TestTraceParents(t *testing.T) {
	t.Parallel()
	const id = "4bf92f3577b34da6a3ce929d0e0e4736"
	for text, want := range map[string]string{"00-" + id + "-00f067aa0ba902b7-01": id, "cc-" + id + "-00f067aa0ba902b7-01": id, "": "", "fog": "", "00-" + id: "", "00-" + strings.Repeat("0", 32) + "-00f067aa0ba902b7-01": ""} {
		assert.Equal(t, want, traceID(text), text)
	}
}
