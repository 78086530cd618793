package cli

import (
	"fmt"
	"io"
	"strings"
	"unicode"

	"wraithology/core/ask"
	"wraithology/core/replay"
)

var _ = register(question[ask.OriginRequest, ask.Origin]{use: "origin LOCATOR PATH", short: "Show where a value came from: the writes it was computed from, down to the inputs", args: [2]int{2, 2},
	print: func(w io.Writer, o printing, _ ask.OriginRequest, x ask.Origin) {
		printOrigin(w, o, x, 0)
		if n := leftOut(x); n > 0 {
			fmt.Fprintf(w, "%s left out, marked with …; --all shows them\n", counted(n, "value"))
		}
	}})

// leftOut counts the values that a chain does not show.
func leftOut(x ask.Origin) int {
	n := x.Left
	for _, from := range x.From {
		n += leftOut(from)
	}
	return n
}

// printOrigin writes a chain as text, one value on a line, indented below the value that was
// computed from it.
func printOrigin(w io.Writer, o printing, x ask.Origin, depth int) {
	indent := strings.Repeat("  ", depth)
	kind := replay.OriginKind(x.Kind)
	if handsOn(x) {
		fmt.Fprintf(w, "%s%s, handed on at %s@%d#%s%s\n", indent, safe(sentenceStart(x)), o.name, x.Moment, x.Thread, inFile(x.File, x.Line))
		printOrigin(w, o, x.From[0], depth)
		return
	}
	left := ""
	if x.Left > 0 {
		left = " …"
	}
	fmt.Fprintf(w, "%s%s%s\n", indent, safe(sentence(x)), left)
	if kind != replay.FromConstant && kind != replay.FromInput {
		fmt.Fprintf(w, "%s  at %s@%d#%s%s  %s\n", indent, o.name, x.Moment, x.Thread, inFile(x.File, x.Line), safe(x.Function))
		if text := o.source(x.File, x.Line); text != "" && (kind == replay.FromWrite || kind == replay.FromResult || kind == replay.FromCondition) {
			fmt.Fprintf(w, "%s  | %s\n", indent, safe(text))
		}
	}
	if x.More {
		fmt.Fprintf(w, "%s  it goes on from here: wraith origin %s@%d#%s.%d %s\n", indent, o.name, x.Asked.Moment, x.Asked.Thread, x.Asked.Frame, plain(quoteArgument(x.Asked.Path)))
	}
	for _, from := range x.From {
		printOrigin(w, o, from, depth+1)
	}
}

// quoteArgument quotes a text for a shell if necessary.
func quoteArgument(s string) string {
	if strings.ContainsAny(s, " \"[]*()<$") {
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	return s
}

// handsOn reports whether a value was only handed on from its only source.
func handsOn(x ask.Origin) bool {
	switch replay.OriginKind(x.Kind) {
	case replay.FromWrite, replay.FromResult, replay.FromArgument:
		if x.Note != "" || x.More || x.Left > 0 || len(x.From) != 1 {
			return false
		}
		kind := replay.OriginKind(x.From[0].Kind)
		return kind != replay.FromConstant && kind != replay.FromInput && x.From[0].Value == x.Value
	}
	return false
}

// sentenceStart names a value.
func sentenceStart(x ask.Origin) string {
	if x.Value != "" && x.Value != x.Name {
		return x.Name + " was " + x.Value
	}
	return x.Name
}

// sentence describes where a value came from.
func sentence(x ask.Origin) string {
	is := sentenceStart(x)
	note := ""
	if x.Note != "" {
		note = " (" + x.Note + ")"
	}
	switch replay.OriginKind(x.Kind) {
	case replay.FromWrite:
		return is + ", written here" + note
	case replay.FromArgument:
		return is + ", passed as an argument" + note
	case replay.FromResult:
		return is + ", returned here" + note
	case replay.FromConstant:
		return is + ", a constant" + note
	case replay.FromInput:
		return is + ", an input" + note
	case replay.FromCondition:
		return is + note
	case replay.FromRepeat:
		return is + note
	}
	return is + ", of unknown origin" + note
}

// safe replaces control characters in text from evidence, for a terminal.
func safe(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '·'
		}
		return r
	}, s)
}
