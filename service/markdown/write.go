package markdown

import (
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Inline returns a text as code within a line.
func Inline(text string) string {
	text = oneLine(text)
	fence := "`"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	if fence == "`" {
		return "`" + text + "`"
	}
	return fence + " " + text + " " + fence
}

// Escape makes text mean itself in Markdown (CommonMark 0.31.2, section 2.4), and leaves it readable: only what would mean something else
// in the middle of a line is escaped, and the beginning of a line where it would begin a block.
func Escape(text string) string {
	text = oneLine(text)
	var b strings.Builder
	if blockStart.MatchString(text) {
		b.WriteByte('\\')
	}
	for i, r := range text {
		if strings.ContainsRune("\\`*[]<|~&", r) || r == '_' && !isInWord(text, i) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return numbered.ReplaceAllString(b.String(), `$1\$2$3`)
}

var (
	blockStart = regexp.MustCompile(`^(#{1,6}( |$)|[-+>=])`)
	numbered   = regexp.MustCompile(`^([0-9]{1,9})([.)])( |$)`)
)

// isInWord reports whether an underscore is between letters or digits, where it does not begin emphasis.
func isInWord(text string, i int) bool {
	before, _ := utf8.DecodeLastRuneInString(text[:i])
	after, _ := utf8.DecodeRuneInString(text[i+1:])
	word := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
	return word(before) && word(after)
}

// Visible replaces what is not text in a text: bytes that are not UTF-8, control characters but for line feeds and tabs, and those that change
// the direction of writing, which could show a text as another one (Unicode Technical Report 36, section 2).
func Visible(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
			return utf8.RuneError
		}
		return r
	}, strings.ToValidUTF8(text, string(utf8.RuneError)))
}

func oneLine(text string) string { return Visible(strings.Join(strings.Fields(text), " ")) }

// Plain returns a Markdown text for readers who see it as it is: without the backslashes that escape characters, but for those in code.
func Plain(text string) string {
	lines := strings.Split(text, "\n")
	fence := ""
	for i, line := range lines {
		switch ticks := line[:len(line)-len(strings.TrimLeft(line, "`"))]; {
		case fence != "" && line == fence:
			fence = ""
		case fence == "" && len(ticks) >= 3:
			fence = ticks
		case fence == "":
			lines[i] = unescape(line)
		}
	}
	return strings.Join(lines, "\n")
}

// unescape removes the backslashes of a line before ASCII punctuation (CommonMark 0.31.2, section 2.4), but for those between backticks.
func unescape(line string) string {
	var b strings.Builder
	code := ""
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '`':
			run := line[i : i+len(line[i:])-len(strings.TrimLeft(line[i:], "`"))]
			switch code {
			case "":
				code = run
			case run:
				code = ""
			}
			b.WriteString(run)
			i += len(run) - 1
			continue
		case c == '\\' && code == "" && i+1 < len(line) && line[i+1] > ' ' && line[i+1] < 0x7f && !isLetterOrDigit(line[i+1]):
			i++
		}
		b.WriteByte(line[i])
	}
	return b.String()
}

func isLetterOrDigit(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}
