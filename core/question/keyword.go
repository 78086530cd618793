package question

import (
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// keywords are the words that the Common Expression Language reserves (its specification, section
// "Syntax"), apart from true, false and null. Programs have variables and fields of these names.
var keywords = []string{"in", "as", "break", "const", "continue", "else", "for", "function", "if", "import", "let", "loop", "package", "namespace", "return", "var", "void", "while"}

// allowKeywords rewrites names that are keywords, so that they can be parsed: in becomes
// named("in"), and x.in becomes x["in"]. The word in stays as it is between two operands, where it
// is the operator. A result without a name is written as values show it: result 1 becomes named("result 1").
func allowKeywords(text string) string {
	if !strings.Contains(text, unnamed) && !slices.ContainsFunc(keywords, func(k string) bool { return strings.Contains(text, k) }) {
		return text
	}
	var out strings.Builder
	before := "" // the last token
	for rest := text; rest != ""; {
		token := nextToken(rest)
		rest = rest[len(token):]
		number := resultNumber(rest)
		switch {
		case strings.TrimSpace(token) == "":
			out.WriteString(token)
			continue
		case token == unnamed && before != "." && number != "":
			rest = strings.TrimLeft(rest, " ")[len(number):]
			out.WriteString("named(" + strconv.Quote(unnamed+" "+number) + ")")
			before = ")"
			continue
		case !slices.Contains(keywords, token) || token == "in" && endsOperand(before) && beginsOperand(rest):
			out.WriteString(token)
		case before == ".":
			selected := strings.TrimRight(out.String(), " .")
			out.Reset()
			out.WriteString(selected + "[" + strconv.Quote(token) + "]")
			before = "]"
			continue
		default:
			out.WriteString("named(" + strconv.Quote(token) + ")")
			before = ")"
			continue
		}
		before = token
	}
	return out.String()
}

// unnamed is the word before the number of a result that has no name of its own.
const unnamed = "result"

// resultNumber returns the whole number that a text begins with, after spaces; empty if there is none.
func resultNumber(text string) string {
	token := strings.TrimLeft(text, " ")
	if token == "" || token == text {
		return ""
	}
	if token = nextToken(token); strings.Trim(token, "0123456789") != "" {
		return ""
	}
	return token
}

// nextToken returns the first token of a text: a name or number, a string, white space, or one
// other character.
func nextToken(text string) string {
	isWord := func(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }
	first := rune(text[0])
	switch {
	case first == '"' || first == '\'':
		for i := 1; i < len(text); i++ {
			if text[i] == '\\' {
				i++
			} else if rune(text[i]) == first {
				return text[:i+1]
			}
		}
		return text
	case isWord(first) || first >= 0x80:
		if i := strings.IndexFunc(text, func(r rune) bool { return !isWord(r) }); i > 0 {
			return text[:i]
		} else if i < 0 {
			return text
		}
	case unicode.IsSpace(first):
		if i := strings.IndexFunc(text, func(r rune) bool { return !unicode.IsSpace(r) }); i > 0 {
			return text[:i]
		}
		return text
	}
	return text[:1]
}

// endsOperand reports whether an operand can end with a token.
func endsOperand(token string) bool {
	if token == "" {
		return false
	}
	last := rune(token[len(token)-1])
	return strings.ContainsRune(`)]}"'_`, last) || unicode.IsLetter(last) || unicode.IsDigit(last) || last >= 0x80
}

// beginsOperand reports whether an operand can begin with a text.
func beginsOperand(text string) bool {
	text = strings.TrimSpace(text)
	if text == "" {
		return false
	}
	first := rune(text[0])
	return strings.ContainsRune(`([{"'_-!.`, first) || unicode.IsLetter(first) || unicode.IsDigit(first) || first >= 0x80
}
