package question

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestKeywordsAsNames(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"in":                      `named("in")`,
		"in + as":                 `named("in") + named("as")`,
		"1 in list":               "1 in list",
		`"fog" in as`:             `"fog" in named("as")`,
		"in in in":                `named("in") in named("in")`,
		"x.in":                    `x["in"]`,
		"x.as.in > 3":             `x["as"]["in"] > 3`,
		`x == "in as"`:            `x == "in as"`,
		`x == 'it\'s in'`:         `x == 'it\'s in'`,
		"inner.package":           `inner["package"]`,
		"berths[in]":              `berths[named("in")]`,
		"f(x) in [1, 2]":          "f(x) in [1, 2]",
		"a[0] in b":               "a[0] in b",
		"größe in für":            "größe in für",
		"if && !else":             `named("if") && !named("else")`,
		"water - draught < 0.5":   "water - draught < 0.5",
		"x.exists(in, in == 1)":   `x.exists(named("in"), named("in") == 1)`,
		`"unterminated in`:        `"unterminated in`,
		"list.exists(x, x in as)": `list.exists(x, x in named("as"))`,
		"result 1.Depth <= 2":     `named("result 1").Depth <= 2`,
		"result 12 == result 2":   `named("result 12") == named("result 2")`,
		"result  2[0]":            `named("result 2")[0]`,
		"result == 1":             "result == 1",
		"result in result 1":      `result in named("result 1")`,
		"x.result 1":              "x.result 1",
		"result 1x":               "result 1x",
		"result1":                 "result1",
	} {
		assert.Equal(t, want, allowKeywords(text), text)
	}
}
