package cli

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"wraithology/core/ask"
)

var _ = register(question[ask.SourceRequest, ask.Source]{use: "source LOCATOR", short: "Show the function of a frame: how often each line ran in the call, and the values there",
	long: `Show the source text of the function of the locator's frame, as it was recorded. Before
each line is how often the frame's call reached it; a line that could run and did not has 0.
After a line are the values that it wrote and read when it was last reached.`,
	print: printSource})

// Bounds of the text of a listing, in letters: the source before its values, and the values.
const (
	mostSourceText   = 60
	mostSourceValues = 100
)

func printSource(w io.Writer, o printing, _ ask.SourceRequest, s ask.Source) {
	fmt.Fprintf(w, "%s%s\n", plain(s.Function), inFile(s.File, s.Line))
	width := 0
	texts := make([]string, len(s.Lines))
	for i, x := range s.Lines {
		texts[i] = plain(strings.ReplaceAll(x.Text, "\t", "    "))
		if n := utf8.RuneCountInString(texts[i]); len(x.Values) > 0 && n <= mostSourceText {
			width = max(width, n)
		}
	}
	for i, x := range s.Lines {
		hits := ""
		if x.Hits >= 0 {
			hits = fmt.Sprint(x.Hits)
		}
		mark := " "
		if x.Line == s.Line {
			mark = ">"
		}
		var values []string
		for _, v := range x.Values {
			values = append(values, v.Name+" = "+v.Value)
		}
		text := texts[i]
		if len(values) > 0 {
			text = fmt.Sprintf("%-*s  @%d  %s", width, text, x.Moment, plain(shorten(strings.Join(values, ", "), mostSourceValues)))
		}
		fmt.Fprintf(w, "%8s %s%5d  %s\n", hits, mark, x.Line, text)
	}
	if len(s.Lines) > 0 && s.Lines[0].Hits >= 0 {
		fmt.Fprintln(w, "the first column is how often the call reached the line; @ is the last time, with the values that it wrote and read")
	}
}
