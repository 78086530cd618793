// Package kinds lists the kinds of evidence. To add a kind, add a package beside this one and a
// line here.
package kinds

import (
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds/coredump"
	"wraithology/core/evidence/kinds/crashtext"
	"wraithology/core/evidence/kinds/eventtrace"
	"wraithology/core/evidence/kinds/executionlog"
	"wraithology/core/evidence/kinds/runtimetrace"
	"wraithology/core/evidence/kinds/structuredlog"
)

// All are the kinds of evidence.
var All = evidence.Registry{
	executionlog.Kind,
	coredump.Kind,
	eventtrace.Kind,
	structuredlog.Kind,
	crashtext.Kind,
	runtimetrace.Kind,
}

// Explained lists the names of the kinds that artifacts explain.
func Explained() []string {
	var names []string
	for _, k := range All {
		if k.Explained {
			names = append(names, k.Name)
		}
	}
	return names
}
