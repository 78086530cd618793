package compare

import (
	"go/scanner"
	"go/token"
	"slices"
	"strings"

	"wraithology/core/event"
)

// versions are two versions of the source: the lines that only one of them has, and the names that those of them outside of functions
// declare, with the lines.
type versions struct {
	left, right onlyHere
	declared    map[string]string
}

// onlyHere are lines of the files of one version, in order, that the same file of the other version does not have.
type onlyHere map[event.FileID][]int

func newVersions(left, right *side) *versions {
	v := &versions{left.linesWithout(right), right.linesWithout(left), map[string]string{}}
	right.declare(v.right, v.declared)
	left.declare(v.left, v.declared)
	return v
}

// linesWithout lists the lines that the other side's file of the same name does not have, or has less often.
func (s *side) linesWithout(o *side) onlyHere {
	of := map[string]event.FileID{}
	for id, f := range o.T.Files {
		of[f.Path] = id
	}
	out := onlyHere{}
	for id, f := range s.T.Files {
		other, ok := of[f.Path]
		if !ok || f.Text == o.T.Files[other].Text {
			continue
		}
		free := map[string]int{}
		for _, line := range o.sources[other] {
			free[strings.TrimSpace(line)]++
		}
		for i, line := range s.sources[id] {
			if line = strings.TrimSpace(line); free[line] > 0 {
				free[line]--
			} else if strings.ContainsAny(line, letters) && !strings.HasPrefix(line, "//") {
				out[id] = append(out[id], i+1)
			}
		}
	}
	return out
}

const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"

// between returns the first of the lines of a file from one line to another, 0 if there is none.
func (o onlyHere) between(f event.FileID, from, to int) int {
	for _, n := range o[f] {
		if n >= from && n <= to {
			return n
		}
	}
	return 0
}

// changedNear returns a line that only one version has, in the statements between the last common line of a parting and
// what is next on either side: a clause of a switch, a part of a long statement, or the declaration of a constant that this line
// uses.
func (p *pair) changedNear(x parting) (text string, ok bool) {
	if x.leftLine == event.NoMoment || len(p.versions.left)+len(p.versions.right) == 0 {
		return "", false
	}
	for i, s := range []*side{p.left, p.right} {
		line, next := x.leftLine, x.left
		only := p.versions.left
		if i == 1 {
			line, next, only = x.rightLine, x.right, p.versions.right
		}
		from := s.T.Site(line).Line
		f := s.T.FunctionOf(x.calls[i])
		to := s.statementEnd(x.calls[i], from)
		if next != event.NoMoment && s.T.Kind(next) == event.Line && s.T.CallOf(next) == x.calls[i] {
			n := s.T.Site(next).Line
			from, to = min(from, n), max(to, n)
		}
		if n := only.between(f.File, from, to); n > 0 {
			return s.line(f.File, n), true
		}
	}
	if len(different(p.readings(x.leftLine, x.rightLine))) > 0 {
		return "", false
	}
	for _, name := range words(p.left.text(x.leftLine)) {
		if line, ok := p.versions.declared[name]; ok {
			return line, true
		}
	}
	return "", false
}

// statementEnd returns the last line before the next statement of a call's function.
func (s *side) statementEnd(c event.CallID, from int) int {
	to := s.T.FunctionOf(c).EndLine
	id := s.T.Call(c).Function
	for _, n := range s.lines(id) {
		if n > from {
			return min(to, n-1)
		}
	}
	return to
}

// lines lists the lines of a function with statements, in order.
func (s *side) lines(f event.FunctionID) []int {
	if s.linesOf == nil {
		s.linesOf = map[event.FunctionID][]int{}
		for _, x := range s.T.Sites {
			s.linesOf[x.Function] = append(s.linesOf[x.Function], x.Line)
		}
		for _, list := range s.linesOf {
			slices.Sort(list)
		}
	}
	return s.linesOf[f]
}

// declare adds what lines outside of functions declare: the first name of each.
func (s *side) declare(lines onlyHere, declared map[string]string) {
	isInside := map[event.FileID][]bool{}
	for _, f := range s.T.Functions {
		if isInside[f.File] == nil {
			isInside[f.File] = make([]bool, len(s.sources[f.File])+1)
		}
		for n := max(f.Line, 0); n <= min(f.EndLine, len(isInside[f.File])-1); n++ {
			isInside[f.File][n] = true
		}
	}
	for f, list := range lines {
		for _, n := range list {
			if names := words(s.line(f, n)); len(names) > 0 && (isInside[f] == nil || !isInside[f][n]) {
				declared[names[0]] = s.line(f, n)
			}
		}
	}
}

// words lists the identifiers of a line of Go.
func words(line string) (list []string) {
	var scan scanner.Scanner
	files := token.NewFileSet()
	scan.Init(files.AddFile("", files.Base(), len(line)), []byte(line), func(token.Position, string) {}, 0)
	for {
		switch _, t, text := scan.Scan(); t {
		case token.EOF:
			return list
		case token.IDENT:
			list = append(list, text)
		}
	}
}
