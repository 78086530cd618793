package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The documented shapes (docs/answers.md). A leaf is an example of its type.
const (
	variableShape = `{"name":"","scope":"","type":"","value":"","state":"","path":"","count":0,"written":0,"object":"","children":[]}`
	frameShape    = `{"index":0,"function":"","file":"","line":0,"own":true,"inlined":false,"variables":[` + variableShape + `]}`
	threadShape   = `{"id":"","name":"","kind":"","state":"","creator":"","frames":[` + frameShape + `]}`
	peekShape     = `{"evidence":{"kind":"","program":"","buildID":"","revision":"","host":"","command":[""],"moments":0,"threads":0,"started":"","durationNs":0,
		"traits":{"history":true,"lines":true,"memory":false,"traces":false,"messages":true,"clock":true}},
		"failure":{"kind":"","summary":"","moment":0,"thread":"","frame":0},"gaps":[{"what":"","remedy":""}],"threads":[` + threadShape + `],
		"outputs":[{"moment":0,"thread":"","function":"","file":"","line":0,"timeNs":0,"estimated":false,"callNs":0,"text":""}],"condition":` + conditionShape + `,
		"next":[{"question":"","moment":0,"thread":"","frame":0,"argument":"","why":""}]}`
	conditionShape = `{"expression":"","value":"","moment":0,"thread":"","function":"","file":"","line":0,"role":"","times":0,"operands":[{"name":"","value":"","path":"","written":0,"at":0}]}`
	reachedShape   = `{"conditions":[` + conditionShape + `],"note":"","happened":0}`
	sourceShape    = `{"function":"","file":"","line":0,"lines":[{"line":0,"text":"","hits":0,"moment":0,"values":[{"name":"","value":""}]}]}`
	storyShape     = `{"total":0,"lives":0,"unexamined":0,"steps":[{"moment":0,"thread":"","function":"","file":"","line":0,"what":"","name":"","old":null,"new":null,"times":0,"life":0}]}`
	usesShape      = `{"total":0,"unexamined":0,"calls":[{"moment":0,"thread":"","function":"","file":"","line":0,"first":0,"parameter":"","what":[""],"times":0,"asked":false}]}`
	stackShape     = `{"moment":0,"threads":[` + threadShape + `]}`
	valuesShape    = `{"moment":0,"thread":"","frame":0,"variables":[` + variableShape + `],"returned":[{"function":"","moment":0,"values":[""]}]}`
	askShape       = `{"value":"","type":"","state":""}`
	hitsShape      = `{"total":0,"undecided":0,"trouble":"","hits":[{"moment":0,"thread":"","function":"","file":"","line":0,"timeNs":0,"estimated":false,"callNs":0,"source":""}]}`
	shownShape     = `{"total":0,"undecided":0,"trouble":"","hits":[{"moment":0,"thread":"","function":"","file":"","line":0,"timeNs":0,"estimated":false,"callNs":0,"source":"","shown":[{"expression":"","value":"","type":"","error":""}]}]}`
	writesShape    = `{"total":0,"writes":[{"moment":0,"thread":"","function":"","file":"","line":0,"old":null,"new":"","source":""}]}`
	originShape    = `{"name":"","value":"","kind":"","moment":0,"thread":"","function":"","file":"","line":0,"note":"","more":false,
		"asked":{"moment":0,"thread":"","frame":0,"path":""},"from":[]}`
	ledgerShape  = `{"total":0,"columns":[""],"rows":[{"moment":0,"thread":"","function":"","file":"","line":0,"source":"","cells":[{"value":"","changed":false,"error":""}]}]}`
	searchShape  = `{"total":0,"found":[{"moment":0,"thread":"","function":"","file":"","line":0,"name":"","value":"","source":""}]}`
	changedShape = `{"moment":0,"previous":0,"changes":[{"name":"","old":null,"new":""}],"returned":[{"function":"","moment":0,"values":[""]}]}`
	stepShape    = `{"moment":0,"thread":"","function":"","file":"","line":0,"reason":"","timeNs":0,"estimated":false,"stepNs":0,"callNs":0}`
)

// sameShape requires that two values have the same members of the same types.
func sameShape(t *testing.T, path string, want, got any) {
	switch want := want.(type) {
	case map[string]any:
		got, ok := got.(map[string]any)
		require.True(t, ok, "%s is not an object", path)
		for k := range got {
			require.Contains(t, want, k, "%s has an undocumented member", path)
		}
		for k, w := range want {
			require.Contains(t, got, k, "%s lacks a member", path)
			sameShape(t, path+"."+k, w, got[k])
		}
	case []any:
		got, ok := got.([]any)
		require.True(t, ok, "%s is not a list", path)
		for i, g := range got {
			if len(want) > 0 {
				sameShape(t, fmt.Sprintf("%s[%d]", path, i), want[0], g)
			}
		}
	case nil: // a text or null
		if got != nil {
			require.IsType(t, "", got, path)
		}
	default:
		require.IsType(t, want, got, path)
	}
}

func decode(t *testing.T, text string) (v any) {
	require.NoError(t, json.Unmarshal([]byte(text), &v), text)
	return v
}

func TestShapes(t *testing.T) {
	t.Parallel()
	log, me := failingRun(t), somebody(t, "Ines")
	for _, c := range []struct {
		shape string
		args  []string
	}{
		{peekShape, []string{"peek", log}},
		{stackShape, []string{"stack", log}},
		{stackShape, []string{"stack", "--all", log + "@4711"}},
		{valuesShape, []string{"values", log + "#1.1", "--depth", "2"}},
		{askShape, []string{"ask", log, "clearance < 0.3"}},
		{hitsShape, []string{"hits", log, "--line", "berth.go:63", "--when", "clearance < 0.6"}},
		{stepShape, []string{"step", log + "@4711", "--over"}},
		{stepShape, []string{"run", log, "--line", "notice.go:51", "--back"}},
		{shownShape, []string{"hits", log, "--enter", "underKeel", "--show", "water"}},
		{writesShape, []string{"writes", log, "clearance"}},
		{originShape, []string{"origin", log, "clearance", "--depth", "2"}},
		{ledgerShape, []string{"ledger", log, "--call", "--column", "b.Vessel.Name"}},
		{searchShape, []string{"search", log, "978.25"}},
		{changedShape, []string{"changed", log + "#1.1"}},
		{sourceShape, []string{"source", log}},
		{reachedShape, []string{"reached", log}},
		{reachedShape, []string{"missed", log, "--line", "watch.go:73"}},
		{storyShape, []string{"story", log, "978.25"}},
		{usesShape, []string{"uses", log, "g"}},
	} {
		out := me.fine(t, append(c.args, "--json")...)
		sameShape(t, c.args[0], decode(t, c.shape), decode(t, out))
	}
}

// Three commands find the cause, without hints: peek shows the failure, origin the second
// correction, stack the place that applied it.
func TestThreeCommandsToTheCause(t *testing.T) {
	t.Parallel()
	log, me := failingRun(t), somebody(t, "Ines")
	peek := me.fine(t, "peek", log)
	require.Contains(t, peek, "0.58 m were reckoned")
	text := me.fine(t, "origin", log, "b.ClearanceMetres")
	assert.Equal(t, 2, strings.Count(text, "| p.HeightMetres += correction"), "both corrections are on the first page")
	assert.LessOrEqual(t, strings.Count(text, "\n"), 41)
	text = me.fine(t, "origin", log, "b.ClearanceMetres", "--all")
	assert.Equal(t, 2, strings.Count(text, "| p.HeightMetres += correction"), "both corrections stand in the chain")
	assert.Contains(t, text, `"0419", "Inner Ness"`, "and the notice that the second one came from")
	assert.Contains(t, text, "pressureHectopascal was 978.25, handed on")
	second := regexp.MustCompile(`at (\S+@\d+#\d+)  tides/notice.go:51`).FindStringSubmatch(text)
	require.NotNil(t, second)
	stack := me.fine(t, "stack", second[1])
	assert.Regexp(t, `(?s)\(\*Book\)\.Apply.*main\.run`, stack)
	assert.Equal(t, "\"0419\"  (string)\n", me.fine(t, "ask", second[1], "n.Number"))
}

// The further words of the command line, each as its user would use it.
func TestCheckpointsWritesAndLedgers(t *testing.T) {
	t.Parallel()
	log, me := failingRun(t), somebody(t, "Ines")
	assert.Contains(t, me.fine(t, "hits", log, "--enter", "underKeel", "--first", "1", "--show", "water - draught"), "water - draught = ")
	slow := decode(t, me.fine(t, "hits", log, "--enter", "Assign", "--slowest", "--first", "3", "--json")).(map[string]any)["hits"].([]any)
	require.Len(t, slow, 3)
	for i := range 2 {
		assert.GreaterOrEqual(t, slow[i].(map[string]any)["callNs"], slow[i+1].(map[string]any)["callNs"])
	}
	calls := decode(t, me.fine(t, "hits", log, "--enter", "underKeel", "--json")).(map[string]any)["total"]
	returns := decode(t, me.fine(t, "hits", log, "--return", "berth.underKeel", "--json")).(map[string]any)["total"]
	assert.Equal(t, calls, returns)
	assert.Contains(t, me.fine(t, "hits", log, "--error", "under her keel"), "1 hit of error")
	assert.Contains(t, me.fine(t, "hits", log, "--output", "berthed"), "1 hit of output")
	assert.Contains(t, me.fine(t, "run", log, "--line", "notice.go:51", "--back", "--nth", "5"), "notice.go:51")
	last := me.fine(t, "hits", log, "--line", "notice.go:51", "--nth", "last")
	assert.Contains(t, last, "1 hit of notice.go:51, last")
	where := regexp.MustCompile(`\S+@\d+#\d+`).FindString(last)
	assert.Contains(t, me.fine(t, "writes", where, "p.HeightMetres"), "notice.go:51")
	assert.Contains(t, me.fine(t, "writes", where, "p.HeightMetres", "--last"), "1 write to p.HeightMetres")
	assert.Contains(t, me.fine(t, "hits", where, "--write", "p.Corrections"), "of write p.Corrections")
	sheet := me.fine(t, "ledger", where, "--call", "--column", "correction", "--column", "p.Corrections", "--csv", "--first", "3")
	assert.Contains(t, sheet, "moment,thread,function,file,line,correction,p.Corrections\n")
	assert.Contains(t, me.fine(t, "ledger", where, "--writes", "p.HeightMetres", "--column", "p.HeightMetres", "--markdown"), "| moment | place | p.HeightMetres |")
	assert.Contains(t, me.fine(t, "ledger", where, "--hits", "--enter", "Apply", "--column", "n.Number"), `"0419"`)
	assert.Contains(t, me.fine(t, "search", log, "978.25"), "pressureHectopascal = 978.25")
	assert.Contains(t, me.fine(t, "search", log, "--object", where, "p"), "found at")
	over := decode(t, me.fine(t, "step", where, "--over", "--json")).(map[string]any)
	assert.Regexp(t, `p\.HeightMetres: \S+ -> \S+`, me.fine(t, "changed", fmt.Sprintf("%s@%d", log, int64(over["moment"].(float64)))))
	assert.Contains(t, me.fine(t, "hits", log, "--line", "notice.go:52", "--when", "changed(p.HeightMetres) && old(p.HeightMetres) < p.HeightMetres"), "18 hits")
	assert.Contains(t, me.fine(t, "values", where, "--format", "binary"), "int  = 0b")
	assert.Contains(t, me.fine(t, "step", where, "--head"), "head of the call")
	assert.Contains(t, me.fine(t, "step", where, "--to", "notice.go:52"), "the line asked for")
	assert.Contains(t, me.fine(t, "step", where, "--line", "--any-thread"), "(line)")
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"hits", log, "--enter", "undrKeel"}, "no recorded function has this name"},
		{[]string{"origin", log, "b.ClearanceMeters"}, "name not found"},
		{[]string{"origin", log, "b..x"}, "invalid path"},
		{[]string{"writes", log, "hight"}, "hight: name not found"},
		{[]string{"run", log, "--line", "notice.go:51"}, "no hit after moment"},
		{[]string{"hits", log, "--line", "berth.go:63", "--nth", "often"}, "invalid hit number"},
		{[]string{"hits", log, "--line", "berth.go:63", "--enter", "Assign"}, "exactly one of"},
		{[]string{"ledger", log, "--call"}, "at least one --column"},
		{[]string{"search", log}, "one thing to look for"},
	} {
		r := me.wraith(t, "", c.args...)
		assert.NotZero(t, r.code, "%v", c.args)
		assert.Contains(t, r.err, c.says, "%v", c.args)
	}
}

// An engineer's way from the log to the cause, in local commands.
func TestFromTheLogToTheFailure(t *testing.T) {
	t.Parallel()
	log, me := failingRun(t), somebody(t, "Ines")
	peek := me.fine(t, "peek", log)
	assert.Contains(t, peek, "failure    error: Halcyon Drift at Kelp Quay 3 had 0.26 m under her keel")
	assert.Contains(t, peek, "ended with code 3")
	assert.Contains(t, peek, "watch/watch.go:77")
	assert.Contains(t, peek, "missing    nothing")

	stack := me.fine(t, "stack", log)
	order := regexp.MustCompile(`(?s)\(\*Gauges\)\.Check.*main\.run.*main\.main`)
	assert.Regexp(t, order, stack)

	values := me.fine(t, "values", log, "--depth", "2")
	assert.Regexp(t, `clearance  float64  = 0\.26`, values)
	assert.Contains(t, values, `Name  string  = "Kelp Quay 3"`)
	assert.Contains(t, me.fine(t, "values", log+"#1.1"), `"2304 vessels berthed, 96 turned away"`)

	// She passed Assign's check at four quays; the last time it let her pass.
	hits := decode(t, me.fine(t, "hits", log, "--line", "berth.go:63", "--when", `vessel.Name == "Halcyon Drift" && vessel.DraughtMetres == 4.24`, "--json")).(map[string]any)
	require.EqualValues(t, 4, hits["total"])
	last := hits["hits"].([]any)[3].(map[string]any)
	at := fmt.Sprintf("%s@%d", log, int64(last["moment"].(float64)))
	assert.Equal(t, "true  (bool)\n", me.fine(t, "ask", at, "clearance > h.margin && quay.Name == 'Kelp Quay 3'"))
	assert.Regexp(t, `^0\.58`, me.fine(t, "ask", at, "water - draught"))

	// Over goes past the branch that was not taken; back again is where we were.
	over := decode(t, me.fine(t, "step", at, "--over", "--json")).(map[string]any)
	assert.EqualValues(t, 66, over["line"])
	back := decode(t, me.fine(t, "step", fmt.Sprintf("%s@%d", log, int64(over["moment"].(float64))), "--over", "--back", "--json")).(map[string]any)
	assert.Equal(t, last["moment"], back["moment"])
	out := decode(t, me.fine(t, "step", at, "--out", "--json")).(map[string]any)
	assert.Equal(t, "main.run", out["function"])
	assert.Equal(t, "returned to the caller", out["reason"])
	into := me.fine(t, "step", log+"@400000", "--into", "--count", "5")
	assert.Contains(t, into, log+"@")
}

func TestBadInput(t *testing.T) {
	t.Parallel()
	log, me := failingRun(t), somebody(t, "Ines")
	dir := t.TempDir()
	whole, err := os.ReadFile(log)
	require.NoError(t, err)
	write := func(name string, b []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		return path
	}
	flipped := append([]byte(nil), whole...)
	flipped[len(flipped)/2] ^= 0x40
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"peek", filepath.Join(dir, "none.wraith")}, 3, "no such file"},
		{[]string{"peek", dir}, 3, "is a folder"},
		{[]string{"peek", write("empty", nil)}, 3, "the file is empty"},
		{[]string{"peek", write("letter", []byte("Dear harbour master, the fog is back."))}, 3, "unknown kind of evidence"},
		{[]string{"stack", log + "@999999999"}, 1, "moments 0 to"},
		{[]string{"stack", log + "@10#99"}, 1, "no such thread"},
		{[]string{"values", log + "@10#1.99"}, 1, "no such frame"},
		{[]string{"stack", log + "@noon"}, 2, "invalid locator"},
		{[]string{"ask", log, "clearanc < 1.0"}, 1, "did you mean clearance?"},
		{[]string{"ask", log, "clearance <"}, 2, "invalid expression"},
		{[]string{"ask", log, "clearance < 0.1"}, 1, ""},
		{[]string{"hits", log, "--line", "berth.go:65"}, 1, "the nearest that do are berth.go:64 and berth.go:66"},
		{[]string{"hits", log, "--line", "quay.go:1"}, 1, "no recorded file has this name"},
		{[]string{"hits", log, "--line", "berth.go"}, 2, "expected FILE:LINE"},
		{[]string{"hits", log, "--line", "berth.go:63", "--when", "vessel.Nme == 'x'"}, 1, "no field Nme"},
		{[]string{"hits", log, "--line", "berth.go:63", "--when", "clearance > 99.0"}, 1, ""},
		{[]string{"step", log}, 2, "one of --into, --over, --out, --line, --to and --head"},
		{[]string{"step", log + "@0", "--into", "--back"}, 1, ""},
		{[]string{"peek"}, 2, "use: wraith peek EVIDENCE"},
		{[]string{"record", "--", "go", "run", "."}, 2, "no output was named"},
		{[]string{"case"}, 1, "not signed in"},
		{[]string{"stow", log}, 2, "unknown command"},
	} {
		r := me.wraith(t, "", c.args...)
		assert.Equal(t, c.code, r.code, "%v: %s%s", c.args, r.out, r.err)
		assert.Contains(t, r.err, c.says, "%v", c.args)
		if r.err != "" {
			assert.Len(t, strings.Split(strings.TrimSpace(r.err), "\n"), 2, "%v: one line what, one line what to do: %s", c.args, r.err)
		}
	}
	cut := me.fine(t, "peek", write("cut", whole[:len(whole)/2]))
	assert.Contains(t, cut, "the log was cut off within a block")
	assert.Contains(t, cut, "does not say how process")
	assert.Contains(t, cut, "failure    none in what is here")
	assert.Contains(t, me.fine(t, "peek", write("flipped", flipped)), "checksum is wrong")
}
