package cli

import (
	"fmt"
	"io"
	"strings"

	"wraithology/core/ask"
)

var _ = register(question[ask.ValuesRequest, ask.Values]{use: "values LOCATOR", short: "Show the values of a frame",
	print: func(w io.Writer, _ printing, _ ask.ValuesRequest, v ask.Values) { printValues(w, v) }})

var _ = register(question[ask.PartsRequest, ask.Variable]{use: "parts LOCATOR PATH", short: "Show a page of the parts of a value", args: [2]int{2, 2},
	print: func(w io.Writer, _ printing, q ask.PartsRequest, v ask.Variable) {
		page := v.Children
		v.Children = nil
		printVariable(w, v, "")
		for _, c := range page {
			printVariable(w, c, "    ")
		}
		printMore(w, v.Count, q.From, len(page))
	}})

var stateWords = map[string]string{
	"unassigned": "not assigned yet", "leftover": "uninitialised: holds garbage from earlier use of the memory", "optimised-away": "optimised away",
	"unrecorded": "not recorded", "redacted": "redacted", "may-have-changed": "may have changed", "moved": "moved or dropped",
}

func printValues(w io.Writer, v ask.Values) {
	if len(v.Variables) == 0 {
		fmt.Fprintln(w, "no names are in scope here")
	}
	scope := ""
	for _, x := range v.Variables {
		if x.Scope != scope {
			scope = x.Scope
			fmt.Fprintf(w, "%s\n", scopeWords[scope])
		}
		printVariable(w, x, "  ")
	}
	for _, x := range v.Returned {
		fmt.Fprintf(w, "returned\n  %s  = %s\n", plain(x.Function), plain(strings.Join(x.Values, ", ")))
	}
}

var scopeWords = map[string]string{"parameter": "parameters", "local": "locals", "return": "results", "global": "globals", "register": "registers"}

func printVariable(w io.Writer, v ask.Variable, indent string) {
	value := plain(v.Value)
	if words, ok := stateWords[v.State]; ok {
		value = "<" + words + ">"
		if v.Why != "" {
			value = "<" + words + ": " + plain(v.Why) + ">"
		}
	}
	fmt.Fprintf(w, "%s%s  %s  = %s\n", indent, plain(v.Name), plain(v.Type), value)
	for _, c := range v.Children {
		printVariable(w, c, indent+"    ")
	}
	if n := v.Count - len(v.Children); n > 0 && len(v.Children) > 0 {
		fmt.Fprintf(w, "%s    and %d more\n", indent, n)
	}
}
