package question

import (
	"fmt"
	"regexp"
	"strings"

	"cel.dev/cel-go/common"
)

var (
	missingToken = regexp.MustCompile(`^(?:Syntax error: )?missing '(.+)' at `)
	wrongToken   = regexp.MustCompile(`^(?:Syntax error: )?(?:mismatched|extraneous) input '(.+?)' expecting (.+)$`)
	noToken      = regexp.MustCompile(`^(?:Syntax error: )?token recognition error at: '(.+)$`)
	oneExpected  = regexp.MustCompile(`^'([^']+)'$`)
)

// syntaxError describes a syntax error of the CEL parser in words: what is wrong, and at which
// column of the text, from 1.
func syntaxError(text string, e *common.Error) string {
	column := e.Location.Column() + 1
	at := fmt.Sprintf("at column %d", column)
	end := column > len([]rune(strings.TrimRight(text, " \t\n")))
	if m := missingToken.FindStringSubmatch(e.Message); m != nil {
		return fmt.Sprintf("missing %s %s", m[1], at)
	}
	if m := noToken.FindStringSubmatch(e.Message); m != nil {
		switch m[1][0] {
		case '"', '\'':
			return "missing closing quotation mark for the text " + at
		case '=':
			return fmt.Sprintf("unexpected = %s: use == to compare", at)
		}
		return fmt.Sprintf("unexpected %q %s", string([]rune(m[1])[0]), at)
	}
	if m := wrongToken.FindStringSubmatch(e.Message); m != nil {
		what := fmt.Sprintf("unexpected %q %s", m[1], at)
		if m[1] == "<EOF>" {
			what = "unexpected end"
		}
		if one := oneExpected.FindStringSubmatch(m[2]); one != nil {
			what += ", expected " + one[1]
		}
		return what
	}
	if strings.HasPrefix(e.Message, "Syntax error: ") {
		if end {
			return "unexpected end"
		}
		return "unexpected text " + at
	}
	return e.Message + " " + at
}
