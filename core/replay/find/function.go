package find

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
	"wraithology/core/timeline"
)

var (
	_ = register(onFunction("enter", "on the entry of a function", (*timeline.Timeline).Enters))
	_ = register(onFunction("return", "on the return of a function", (*timeline.Timeline).Returns))
)

func onFunction(name, doc string, moments func(*timeline.Timeline, event.FunctionID) timeline.List) Kind {
	return Kind{Name: name, Form: "FUNCTION", Doc: doc,
		places: func(_ context.Context, r Finder, c replay.Checkpoint) (places, error) {
			functions, err := r.functionsNamed(c.About)
			var p places
			for _, f := range functions {
				p.lists = append(p.lists, moments(r.T, f))
			}
			return p, err
		},
		locate: func(_ context.Context, r Finder, c replay.Checkpoint) (replay.Located, error) {
			functions, err := r.functionsNamed(c.About)
			if err != nil {
				return replay.Located{}, err
			}
			return replay.Located{About: r.T.Function(functions[0]).Name}, nil
		},
	}
}

// endsInName reports whether a function's name is a name or ends in it.
func endsInName(full, name string) bool {
	return full == name || strings.HasSuffix(full, "."+name) || strings.HasSuffix(full, "/"+name)
}

// functionsNamed finds the function with a name, or with a name that ends in it. A function can be
// in the tables several times, because tests build it again.
func (r Finder) functionsNamed(name string) ([]event.FunctionID, error) {
	name = strings.TrimSpace(name)
	found := map[string][]event.FunctionID{}
	for id, f := range r.T.Functions {
		if name != "" && (endsInName(f.Name, name) || r.Recorded() && endsInName(state.PlainName(f.Name), state.PlainName(name))) {
			found[f.Name] = append(found[f.Name], id)
		}
	}
	if exact, ok := found[name]; ok {
		return exact, nil
	}
	var names []string
	for n, ids := range found {
		slices.Sort(ids)
		names = append(names, n)
	}
	slices.Sort(names)
	switch {
	case len(names) == 1:
		return found[names[0]], nil
	case len(names) > 1 && !r.Recorded(): // an operation that several services name alike
		var all []event.FunctionID
		for _, n := range names {
			all = append(all, found[n]...)
		}
		return all, nil
	case len(names) > 1:
		return nil, fmt.Errorf("%s: %w: ambiguous: %s", name, fault.NoCode, strings.Join(names[:min(len(names), 12)], ", "))
	}
	for _, f := range r.T.Functions {
		names = append(names, f.Name)
	}
	last := name[strings.LastIndexByte(name, '.')+1:]
	slices.SortFunc(names, func(a, b string) int {
		x, y := state.CommonPrefix(a[strings.LastIndexByte(a, '.')+1:], last), state.CommonPrefix(b[strings.LastIndexByte(b, '.')+1:], last)
		if x != y {
			return y - x
		}
		return strings.Compare(a, b)
	})
	names = slices.Compact(names)
	return nil, fmt.Errorf("%s: %w: no recorded function has this name%s", name, fault.NoCode, alternatives(names, 8))
}
