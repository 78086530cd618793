package syntax

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
)

// function has variables with a comment on the line of their last use: "end NAME". The others may be used until the end.
const function = `package quay

func moor(tide []int, crew *Crew) {
	berth := crew.Berth // end crew
	if berth.Depth > 3 ||
		berth.Wide { // end berth
		wait()
	}
	for i := range tide {
		sill := tide[i]
		use(sill) // end sill
		wait()
	} // end tide, i
	list := []int{
		1,
	}
	for {
		more := next(list)
		for more {
			wait(more)
		} // end more
		wait()
	} // end list
	pilot, tug := find(), find()
	defer tug.Leave()
	log := func() { print(pilot) }
	log() // end log
	buoy := find()
	fill(&buoy)
	switch light := find(); light {
	case "red":
		wait()
	} // end light
	fog := find() // end fog
	swell := find()
	go swell.Run()
	{
		fog := find()
		use(
			fog,
			1) // end inner fog
	}
	return
}
`

func TestLastUse(t *testing.T) {
	t.Parallel()
	s := &Source{Set: token.NewFileSet(), Lines: strings.Split(function, "\n")}
	var err error
	s.File, err = parser.ParseFile(s.Set, "quay.go", function, parser.SkipObjectResolution)
	require.NoError(t, err)
	f := s.File.Decls[0].(*ast.FuncDecl)
	want := map[string]int{"pilot": Unbounded, "tug": Unbounded, "buoy": Unbounded, "swell": Unbounded}
	for i, text := range s.Lines {
		if _, names, ok := strings.Cut(text, "// end "); ok {
			for _, name := range strings.Split(names, ", ") {
				want[name] = i + 1
			}
		}
	}
	lineOf := func(text string) int {
		for i, line := range s.Lines {
			if strings.Contains(line, text) {
				return i + 1
			}
		}
		t.Fatal(text)
		return 0
	}
	b := &Body{s, f, f.Body}
	for name, declared := range map[string][2]int{
		"tide": {3, 3 + 41}, "crew": {3, 44}, "berth": {lineOf("berth :="), 44}, "i": {lineOf("for i"), lineOf("end tide")}, "sill": {lineOf("sill :="), lineOf("end tide")},
		"list": {lineOf("list :="), 44}, "more": {lineOf("more :="), lineOf("end list")}, "pilot": {lineOf("pilot, tug"), 44}, "tug": {lineOf("pilot, tug"), 44},
		"log": {lineOf("log :="), 44}, "buoy": {lineOf("buoy :="), 44}, "light": {lineOf("switch light"), lineOf("end light")},
		"fog": {lineOf("end fog"), lineOf("end fog")}, "swell": {lineOf("swell :="), 44}, "inner fog": {lineOf("end fog") + 4, lineOf("end inner fog")},
	} {
		v := event.Variable{Name: strings.TrimPrefix(name, "inner "), Line: declared[0], EndLine: declared[1]}
		assert.Equal(t, want[name], b.lastUse(v), name)
	}
	jump := "package quay\n\nfunc moor(a *int) {\n\tb := a\nagain:\n\t_ = b\n\tif wait() {\n\t\tgoto again\n\t}\n}\n"
	s.File, err = parser.ParseFile(s.Set, "jump.go", jump, parser.SkipObjectResolution)
	require.NoError(t, err)
	f = s.File.Decls[0].(*ast.FuncDecl)
	assert.Equal(t, Unbounded, (&Body{s, f, f.Body}).lastUse(event.Variable{Name: "b", Line: 4, EndLine: 10}))
}
