package effects

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"go/types"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/tools/go/packages"
)

// version is part of the key of what is cached. A change of the analysis changes it.
const version = 1

// Table has the summaries of the functions of some packages.
type Table struct {
	packages map[string]map[string]Summary // by path and by the name of the function
}

// Of returns the summary of a function; ok is false if it has none.
func (t *Table) Of(o *types.Func) (s Summary, ok bool) {
	if t == nil || o.Pkg() == nil {
		return Summary{}, false
	}
	s, ok = t.packages[o.Pkg().Path()][Name(o)]
	return s, ok
}

// Package is a package whose functions are called. Key identifies its source and that of all that it
// imports; without one its summaries are not kept.
type Package struct{ Path, Key string }

// Load returns the summaries of packages. What is not in the folder of the cache yet is found from the
// source, which takes seconds; starting is called before. Without a folder nothing is kept.
func Load(ctx context.Context, config packages.Config, folder string, list []Package, starting func(packages int)) (*Table, error) {
	t := &Table{packages: map[string]map[string]Summary{}}
	var missing []string
	for _, p := range list {
		var have map[string]Summary
		if b, err := os.ReadFile(file(folder, p)); folder == "" || p.Key == "" || err != nil || json.Unmarshal(b, &have) != nil {
			missing = append(missing, p.Path)
			continue
		}
		t.packages[p.Path] = have
	}
	if len(missing) == 0 {
		return t, nil
	}
	starting(len(missing))
	found, err := find(ctx, config, missing)
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		of, ok := found[p.Path]
		if !ok || !slices.Contains(missing, p.Path) {
			continue
		}
		t.packages[p.Path] = of
		if folder == "" || p.Key == "" {
			continue
		}
		if err := keep(file(folder, p), of); err != nil {
			return nil, fmt.Errorf("keep what is known of package %s: %w", p.Path, err)
		}
	}
	return t, nil
}

func file(folder string, p Package) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\n%s\n%s", version, p.Path, p.Key))
	return filepath.Join(folder, fmt.Sprintf("%x.json", sum[:16]))
}

// keep writes a file that is complete or absent.
func keep(path string, of map[string]Summary) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(of)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), "new")
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}
