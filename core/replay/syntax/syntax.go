// Package syntax parses the Go source in a log, file by file, and finds functions in it.
package syntax

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"sync"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/timeline"
)

// Sources are the parsed files of a timeline. They are safe for concurrent use.
type Sources struct {
	t     *timeline.Timeline
	files sync.Map // *Source by event.FileID
	uses  sync.Map // []int by event.FunctionID: the last line of each variable
}

// New returns the sources of a timeline. A file is parsed when it is needed.
func New(t *timeline.Timeline) *Sources { return &Sources{t: t} }

// Source is the syntax of a source file.
type Source struct {
	Set   *token.FileSet
	File  *ast.File
	Lines []string
	Path  string
}

// Line returns the line of a position.
func (s *Source) Line(p token.Pos) int { return s.Set.Position(p).Line }

// Of returns the syntax of a file. The error wraps fault.NoSource if the log has no text of it, or no Go source.
func (x *Sources) Of(id event.FileID) (*Source, error) {
	if s, ok := x.files.Load(id); ok {
		return s.(*Source), nil
	}
	f, ok := x.t.Files[id]
	if !ok || f.Text == "" {
		return nil, fmt.Errorf("%s: %w", f.Path, fault.NoSource)
	}
	s := &Source{Set: token.NewFileSet(), Lines: strings.Split(f.Text, "\n"), Path: f.Path}
	var err error
	if s.File, err = parser.ParseFile(s.Set, f.Path, f.Text, parser.SkipObjectResolution); err != nil {
		return nil, fmt.Errorf("%w: %w", fault.NoSource, err)
	}
	x.files.Store(id, s)
	return s, nil
}

// Body is a function in the syntax of its file.
type Body struct {
	*Source
	Node  ast.Node // an ast.FuncDecl or ast.FuncLit
	Block *ast.BlockStmt
}

// Body finds the syntax of a function. The error wraps fault.NoSource if the log does not have it.
func (x *Sources) Body(id event.FunctionID) (*Body, error) {
	f := x.t.Function(id)
	s, err := x.Of(f.File)
	if err != nil {
		return nil, err
	}
	var found *Body
	ast.Inspect(s.File, func(n ast.Node) bool {
		if n == nil || s.Line(n.Pos()) > f.Line || s.Line(n.End()) < f.Line {
			return n == s.File
		}
		switch n := n.(type) {
		case *ast.FuncDecl:
			if s.Line(n.Type.Pos()) == f.Line && n.Body != nil && found == nil {
				found = &Body{s, n, n.Body}
			}
		case *ast.FuncLit:
			if s.Line(n.Pos()) == f.Line && (found == nil || s.Line(n.End()) == f.EndLine) {
				found = &Body{s, n, n.Body}
			}
		}
		return true
	})
	if found == nil {
		return nil, fmt.Errorf("%s at %s:%d: %w", f.Name, s.Path, f.Line, fault.NoSource)
	}
	return found, nil
}
