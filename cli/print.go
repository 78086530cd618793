package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"

	"wraithology/core/ask"
)

// plain replaces control characters in text from evidence, for a terminal.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' {
			return ' '
		}
		if unicode.IsControl(r) {
			return '·'
		}
		return r
	}, s)
}

func counted(n int, what string) string {
	switch {
	case n == 1:
	case what == "person":
		what = "people"
	case strings.HasSuffix(what, "s"):
		what += "es"
	default:
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}

func orNone(s string) string {
	if s == "" {
		return "not known"
	}
	return s
}

// printMore says how many parts of a list follow a page of it, and how to see them.
func printMore(w io.Writer, total, from, shown int) {
	if more := total - from - shown; more > 0 {
		fmt.Fprintf(w, "  %d more: --from %d\n", more, from+shown)
	}
}

// inFile returns what is appended to a text for a place in the source, if there is one.
func inFile(file string, line int) string {
	if file == "" {
		return ""
	}
	return fmt.Sprintf("  %s:%d", plain(file), line)
}

func printFrame(w io.Writer, f ask.Frame, source sourceReader) {
	where := inFile(f.File, f.Line)
	if f.Inlined {
		where += "  (inlined)"
	}
	fmt.Fprintf(w, "  %3d  %s%s\n", f.Index, plain(f.Function), where)
	if f.Note != "" {
		fmt.Fprintf(w, "         %s\n", plain(f.Note))
	}
	if text := source(f.File, f.Line); text != "" {
		fmt.Fprintf(w, "         | %s\n", plain(text))
	}
	switch {
	case f.Folded > 0 && f.Cycle == 1:
		fmt.Fprintf(w, "       … and %d more frames of the same place\n", f.Folded)
	case f.Folded > 0 && f.Cycle > 1:
		fmt.Fprintf(w, "       … and these %d frames %d more times\n", f.Cycle, f.Folded/f.Cycle)
	case f.Folded > 0:
		fmt.Fprintf(w, "       … %d frames are left out\n", f.Folded)
	}
}

// printFolded prints frames and folds runs of foreign ones into one line, unless source text is shown and all
// are foreign. Own frames come with their source line.
func printFolded(w io.Writer, frames []ask.Frame, source sourceReader) {
	fold := source == nil || slices.ContainsFunc(frames, func(f ask.Frame) bool { return f.Own })
	for i := 0; i < len(frames); i++ {
		end, n := i, 0
		for end < len(frames) && !frames[end].Own {
			n += 1 + frames[end].Folded
			end++
		}
		if n > 2 && fold {
			fmt.Fprintf(w, "  %3d  … %d foreign frames, from %s to %s\n", frames[i].Index, n, plain(frames[i].Function), plain(frames[end-1].Function))
			i = end - 1
			continue
		}
		if source == nil {
			source = func(string, int) string { return "" }
		}
		printFrame(w, frames[i], source)
	}
}

// duration formats nanoseconds with a space before the unit: 737 µs.
func duration(ns int64) string {
	text := time.Duration(ns).String()
	i := strings.IndexFunc(text, func(r rune) bool { return unicode.IsLetter(r) })
	if i < 0 || strings.ContainsAny(text[i:], "0123456789") {
		return text // 1m3s
	}
	return text[:i] + " " + text[i:]
}

// shorten cuts a text to a number of letters.
func shorten(s string, most int) string {
	letters := []rune(s)
	if len(letters) <= most {
		return s
	}
	return string(letters[:most-1]) + "…"
}

// printSourceLine writes a line of source text below an entry of a list.
func printSourceLine(w io.Writer, text string) {
	if text != "" {
		fmt.Fprintf(w, "          | %s\n", plain(text))
	}
}
