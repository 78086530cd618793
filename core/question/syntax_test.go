package question

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/fault"
)

// Syntax errors say what is wrong and where, without the parser's own words.
func TestSyntaxErrors(t *testing.T) {
	t.Parallel()
	for text, says := range map[string]string{
		"a +": "unexpected end", "a &&  ": "unexpected end", "a.": "unexpected end", "f(": "unexpected end", "a ? b": "unexpected end, expected :",
		"(a": "missing ) at column 3", "a[1": "missing ] at column 4", "x.map(y, y": "missing ) at column 11",
		"a b": `unexpected "b" at column 3`, "a)": `unexpected ")" at column 2`, "1 +* 2": `unexpected "*" at column 4`, "@": `unexpected "@" at column 1`, "a ++ b": `unexpected "+" at column 4`, "größe +": `unexpected "ö" at column 3`,
		`"abc`: "missing closing quotation mark for the text at column 1", "'abc": "missing closing quotation mark for the text at column 1", "a = b": "unexpected = at column 3: use == to compare",
		"has(a)": "invalid argument to has() macro at column 5", "x > 10ms": `a duration is written as duration("10ms")`, " ": "it is empty",
	} {
		_, err := Parse(text)
		require.ErrorIs(t, err, fault.InvalidExpression, text)
		assert.Equal(t, "invalid expression: "+says, err.Error(), text)
	}
}
