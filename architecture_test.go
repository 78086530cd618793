package wraithology_test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Imports point one way: cmd → cli, service → client → api → core. core reaches no
// HTTP, SQL, Cobra or anything above it, also not by way of another package; the
// injected runtime reaches the standard library only.
func TestImportsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-json=ImportPath,Imports,Deps,Standard", "./...").Output()
	require.NoError(t, err)
	type listed struct {
		ImportPath    string
		Imports, Deps []string
		Standard      bool
	}
	const module = "wraithology/"
	below := map[string][]string{ // what the packages of a folder may import of our own
		"core":      {"core"},
		"api":       {"core"},
		"client":    {"client", "api", "core"},
		"recorder":  {"recorder", "core"},
		"sandbox":   {"core"},
		"reproduce": {"core", "sandbox"},
		"editor":    {"client", "core"},
		"service":   {"service", "api", "core", "console"},
		"cli":       {"cli", "api", "client", "core", "recorder", "reproduce", "editor"},
		"console":   {"console"},
		"cmd":       {"cli", "core", "sandbox", "service"},
		"demo":      {"api", "client", "core", "service"},
		"bench":     {"api", "client", "core", "e2e", "editor", "recorder", "service"},
		"e2e":       {"api", "cli", "client", "core", "e2e", "service"},
		"scripts":   {},
	}
	forbidden := []string{"net/http", "database/sql", "github.com/spf13/", "gorm.io/", "github.com/jackc/", "github.com/go-chi/", "github.com/danielgtaylor/"}
	// CEL's own dependencies bring in protobuf's parts; none of them is one of the above.
	seen := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p listed
		require.NoError(t, d.Decode(&p))
		folder, _, _ := strings.Cut(strings.TrimPrefix(p.ImportPath, module), "/")
		if p.Standard || !strings.HasPrefix(p.ImportPath, module) {
			continue
		}
		seen++
		allowed, known := below[folder]
		require.True(t, known, "the folder %s has no place in the order of imports", folder)
		for _, i := range p.Imports {
			if rest, ours := strings.CutPrefix(i, module); ours {
				to, _, _ := strings.Cut(rest, "/")
				assert.Contains(t, allowed, to, "%s imports %s", p.ImportPath, i)
			} else if p.ImportPath == module+"recorder/inject" {
				assert.NotContains(t, i, ".", "%s imports %s, which is not of the standard library", p.ImportPath, i)
			}
		}
		if folder != "core" {
			continue
		}
		for _, dep := range p.Deps {
			for _, f := range forbidden {
				assert.False(t, dep == strings.TrimSuffix(f, "/") || strings.HasSuffix(f, "/") && strings.HasPrefix(dep, f), "%s reaches %s", p.ImportPath, dep)
			}
		}
	}
	assert.Greater(t, seen, 20)
}
