package recorder

import (
	"fmt"
	"go/ast"
	"go/token"
	"go/types"

	"wraithology/core/event"
)

// lineSite is the site of a line. Reading the clock costs more than the rest of an event, so it is
// read only where the order of goroutines can matter: at lines that may wait for other goroutines or
// wake them, and at calls and stores. The times between are estimated (Pack).
type lineSite struct {
	id event.SiteID
	// clocked is set if the line may run code that waits, wakes others, or changes memory without being
	// recorded.
	clocked bool
	// makes is set if the line may make objects without saying so.
	makes bool
}

// reaches returns the statement that records that the line is reached.
func (s lineSite) reaches() string {
	return s.call(s.pick("L", "O", "N"))
}

// again returns the expression that records that the line of a loop is reached again.
func (s lineSite) again() string {
	return s.call(s.pick("Again", "AgainO", "AgainN"))
}

func (s lineSite) pick(clocked, makes, other string) string {
	switch {
	case s.clocked:
		return clocked
	case s.makes:
		return makes
	}
	return other
}

func (s lineSite) call(method string) string {
	return fmt.Sprintf("%s.%s(%d)", frameName, method, s.id)
}

// calm are packages whose functions that change no memory (effectOf) do not wait either.
var calm = map[string]bool{"strconv": true, "errors": true, "math": true, "math/bits": true, "math/cmplx": true, "path": true, "path/filepath": true,
	"unicode": true, "unicode/utf8": true, "unicode/utf16": true, "cmp": true, "strings": true, "bytes": true, "slices": true, "maps": true, "sort": true,
	"fmt": true, "time": true, "html": true, "net/url": true, "encoding/hex": true, "hash/crc32": true}

// waiting are functions of these packages that wait, or whose objects others use.
var waiting = map[string]bool{"time.Sleep": true, "time.After": true, "time.AfterFunc": true, "time.Tick": true, "time.NewTimer": true, "time.NewTicker": true,
	"fmt.Print": true, "fmt.Printf": true, "fmt.Println": true}

// clocked reports whether the parts of a statement may run code that waits for other goroutines,
// wakes them, or changes memory without being recorded.
func (f *function) clocked(nodes ...ast.Node) bool {
	return f.defers || anyPart(nodes, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.GoStmt, *ast.DeferStmt, *ast.SendStmt, *ast.SelectStmt:
			return true
		case *ast.UnaryExpr:
			return x.Op == token.ARROW
		case *ast.RangeStmt:
			switch coreOf(typeOf(f, x.X)).(type) {
			case *types.Chan, *types.Signature, *types.Interface:
				return true
			}
		case *ast.CallExpr:
			return f.waits(x)
		}
		return false
	})
}

// makes reports whether the parts of a statement may make objects without saying so: in code that is
// not recorded, by a conversion, for the arguments of a variadic function, and in literals within
// others.
func (f *function) makes(nodes ...ast.Node) bool {
	return anyPart(nodes, func(n ast.Node) bool {
		switch x := n.(type) {
		case *ast.CompositeLit:
			return x.Type == nil
		case *ast.CallExpr:
			return f.callMakes(x)
		}
		return false
	})
}

// anyPart reports whether something is so of a part of a statement. Blocks and function literals in it
// have lines of their own.
func anyPart(nodes []ast.Node, is func(ast.Node) bool) bool {
	found := false
	for _, n := range nodes {
		if n == nil || found {
			continue
		}
		ast.Inspect(n, func(n ast.Node) bool {
			switch n.(type) {
			case *ast.FuncLit, *ast.BlockStmt:
				return false
			}
			found = found || n != nil && is(n)
			return !found
		})
	}
	return found
}

func (f *function) callMakes(c *ast.CallExpr) bool {
	if f.r.pkg.TypesInfo.Types[c.Fun].IsType() {
		_, list := coreOf(typeOf(f, c)).(*types.Slice)
		return list
	}
	if f.builtinOf(c) != nil {
		return false
	}
	o, _ := f.called(c)
	if o == nil || o.Pkg() == nil {
		return o == nil
	}
	if o.Signature().Variadic() && !c.Ellipsis.IsValid() {
		return true
	}
	if f.r.recorded(o) {
		return false
	}
	results := o.Signature().Results()
	for i := range results.Len() {
		if t := results.At(i).Type(); carries(t, 0) || types.IsInterface(t) {
			return true
		}
	}
	return false
}

// waits is clocked for a call.
func (f *function) waits(c *ast.CallExpr) bool {
	if f.r.pkg.TypesInfo.Types[c.Fun].IsType() {
		return false
	}
	if b := f.builtinOf(c); b != nil {
		return b.Name() == "close"
	}
	o, _ := f.called(c)
	switch {
	case o == nil || isInterfaceMethod(o):
		return true
	case o.Pkg() == nil || f.r.recorded(o):
		return false
	}
	recv := o.Signature().Recv()
	return effectOf(o) != readsOnly || !calm[o.Pkg().Path()] || waiting[o.FullName()] || recv != nil && isPointer(recv.Type())
}

// hasDefer reports whether a function defers calls itself.
func hasDefer(body *ast.BlockStmt) bool {
	found := false
	ast.Inspect(body, func(n ast.Node) bool {
		switch n.(type) {
		case *ast.FuncLit:
			return false
		case *ast.DeferStmt:
			found = true
		}
		return !found
	})
	return found
}
