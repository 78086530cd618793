package recorder

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/mod/modfile"
	"golang.org/x/tools/go/packages"

	"wraithology/core/fault"
)

// allPackages is the pattern for everything that is not of the standard library.
const allPackages = "all"

// packagesFlag is the name of the flag that chooses packages.
const packagesFlag = "--packages"

// overlayFile is a file that the build sees instead of the one at the path.
type overlayFile struct {
	path string
	text []byte
}

// dependency is a module, other than the main one, of which packages are recorded.
type dependency struct {
	path, version string // as the build knows it, before any replacement
	dir           string // where its files are
	packages      []string
	// copied is the folder of the module's copy, which is built instead of the module: the go command
	// refuses overlays of files in its module cache. It is empty for vendored modules and those in
	// folders, whose files can have an overlay.
	copied string
}

// shown returns how a file of the module is named in a recording.
func (d *dependency) shown(rel string) string {
	name := d.path
	if d.version != "" {
		name += "@" + d.version
	}
	return name + "/" + filepath.ToSlash(rel)
}

// recordable lists the packages of a build that can be recorded.
func recordable(list []listed) (paths []string) {
	for _, p := range list {
		if path, _, _ := strings.Cut(p.ImportPath, " "); !p.Standard && !strings.HasSuffix(path, ".test") {
			paths = append(paths, strings.TrimSuffix(path, "_test"))
		}
	}
	return paths
}

// loadOthers loads the packages of other modules, without their tests.
func (c *goCommand) loadOthers(config *packages.Config, list []*dependency) ([]*packages.Package, error) {
	var paths []string
	for _, d := range list {
		paths = append(paths, d.packages...)
	}
	without := *config
	without.Tests = false
	loaded, err := packages.Load(&without, paths...)
	if err != nil {
		return nil, fmt.Errorf("load the packages of other modules: %w", err)
	}
	return loaded, nil
}

// copies copies the modules that are in the module cache, and returns the file with which they are
// built.
func (c *goCommand) copies(ctx context.Context, list []*dependency, dir string) (overlayFile, error) {
	env, err := goEnvironment(ctx, "GOMODCACHE", "GOMOD", "GOWORK")
	if err != nil {
		return overlayFile{}, err
	}
	if err := copyModules(ctx, list, env[0], dir); err != nil {
		return overlayFile{}, err
	}
	modFile := env[1]
	for _, value := range c.values("-modfile") {
		modFile = value
	}
	path, text, err := replaced(list, modFile, env[2])
	return overlayFile{path, text}, err
}

// goEnvironment returns settings of the go command.
func goEnvironment(ctx context.Context, names ...string) ([]string, error) {
	out, err := exec.CommandContext(ctx, "go", append([]string{"env"}, names...)...).Output()
	if err != nil {
		return nil, fmt.Errorf("ask the go command for its settings: %w", err)
	}
	values := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	if len(values) != len(names) {
		return nil, fmt.Errorf("%w: go env says %q", fault.NotRecordable, out)
	}
	return values, nil
}

// dependencies returns the modules, other than the main ones, whose packages the patterns name.
func dependencies(list []listed, patterns []string) []*dependency {
	var out []*dependency
	if len(patterns) == 0 {
		return nil
	}
	for _, p := range list {
		path, _, _ := strings.Cut(p.ImportPath, " ")
		if p.Standard || p.Module == nil || p.Module.Main || p.Dir == "" || strings.HasSuffix(path, ".test") || !chosen(patterns, path) {
			continue
		}
		i := slices.IndexFunc(out, func(d *dependency) bool { return d.path == p.Module.Path })
		if i < 0 {
			i = len(out)
			out = append(out, &dependency{path: p.Module.Path, version: p.Module.Version, dir: p.moduleDir()})
		}
		if !slices.Contains(out[i].packages, path) {
			out[i].packages = append(out[i].packages, path)
		}
	}
	return out
}

// moduleDir returns the folder of a package's module. The go command does not say it of vendored ones.
func (p listed) moduleDir() string {
	if p.Module.Dir != "" {
		return p.Module.Dir
	}
	path, _, _ := strings.Cut(p.ImportPath, " ")
	return strings.TrimSuffix(p.Dir, strings.TrimPrefix(path, p.Module.Path))
}

// copyModules copies the modules that are in the module cache into dir.
func copyModules(ctx context.Context, list []*dependency, cache, dir string) error {
	for i, d := range list {
		if rel, err := filepath.Rel(cache, d.dir); err != nil || strings.HasPrefix(rel, "..") {
			continue
		}
		to := filepath.Join(dir, "modules", fmt.Sprint(i))
		if err := copyTree(ctx, d.dir, to); err != nil {
			return fmt.Errorf("copy the module %s: %w", d.path, err)
		}
		if _, err := os.Stat(filepath.Join(to, "go.mod")); os.IsNotExist(err) { // older than modules
			if err := os.WriteFile(filepath.Join(to, "go.mod"), []byte("module "+d.path+"\n"), 0o600); err != nil {
				return fmt.Errorf("copy the module %s: %w", d.path, err)
			}
		}
		d.copied = to
	}
	return nil
}

func copyTree(ctx context.Context, from, to string) error {
	return filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		switch {
		case e.IsDir():
			return os.MkdirAll(filepath.Join(to, rel), 0o700)
		case !e.Type().IsRegular():
			return nil
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(to, rel), b, 0o600)
	})
}

// replaced returns the overlay of the file that says where modules are, go.mod or go.work, which
// replaces those that were copied. The path is empty if none was.
func replaced(list []*dependency, modFile, workFile string) (path string, text []byte, err error) {
	if !slices.ContainsFunc(list, func(d *dependency) bool { return d.copied != "" }) {
		return "", nil, nil
	}
	path = modFile
	if workFile != "" && workFile != "off" {
		path = workFile
	}
	before, err := os.ReadFile(path)
	if err != nil {
		return "", nil, fmt.Errorf("read where the modules are: %w", err)
	}
	var replace func(oldPath, oldVersion, newPath, newVersion string) error
	var format func() ([]byte, error)
	if path == modFile {
		f, err := modfile.Parse(path, before, nil)
		if err != nil {
			return "", nil, fmt.Errorf("read where the modules are: %w", err)
		}
		replace, format = f.AddReplace, f.Format
	} else {
		f, err := modfile.ParseWork(path, before, nil)
		if err != nil {
			return "", nil, fmt.Errorf("read where the modules are: %w", err)
		}
		replace, format = f.AddReplace, func() ([]byte, error) { return modfile.Format(f.Syntax), nil }
	}
	for _, d := range list {
		if d.copied == "" {
			continue
		}
		if err := replace(d.path, d.version, d.copied, ""); err != nil {
			return "", nil, fmt.Errorf("replace the module %s: %w", d.path, err)
		}
	}
	text, err = format()
	if err != nil {
		return "", nil, fmt.Errorf("replace modules: %w", err)
	}
	return path, bytes.TrimSpace(text), nil
}
