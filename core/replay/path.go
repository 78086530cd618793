package replay

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// ErrPath says that the name of a variable, field or element cannot be read.
var ErrPath = errors.New("this names no variable, field or element")

// Path names a variable, or a field or element that it leads to: quay.Depth,
// berths[2].Name, table["Inner Ness"], *p. References on the way are followed.
type Path struct {
	Root  string
	Steps []PathStep
}

// PathStep is one step of a path: a field, or an element whose index is a number,
// a text or itself a path. Any stands for an element that is not known.
type PathStep struct {
	Field  string
	Number *int64
	Text   *string
	Index  *Path
	Any    bool
	Deref  bool
}

const maxPathSteps = 32

// ParsePath reads a path. Its error wraps ErrPath.
func ParsePath(text string) (Path, error) {
	p := pathParser{rest: strings.TrimSpace(text)}
	path, err := p.path()
	if err == nil && p.rest != "" {
		err = fmt.Errorf("what follows from %q is not understood", p.rest)
	}
	if err != nil {
		return Path{}, fmt.Errorf("%q: %w: %w", text, ErrPath, err)
	}
	return path, nil
}

// String writes the path as it is read.
func (p Path) String() string {
	var b strings.Builder
	b.WriteString(p.Root)
	for _, s := range p.Steps {
		switch {
		case s.Field != "":
			b.WriteString("." + s.Field)
		case s.Number != nil:
			fmt.Fprintf(&b, "[%d]", *s.Number)
		case s.Text != nil:
			fmt.Fprintf(&b, "[%q]", *s.Text)
		case s.Index != nil:
			b.WriteString("[" + s.Index.String() + "]")
		case s.Any:
			b.WriteString("[]")
		}
	}
	if n := len(p.Steps); n > 0 && p.Steps[n-1].Deref {
		return "*" + b.String()
	}
	return b.String()
}

type pathParser struct {
	rest  string
	depth int
}

func isLetter(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func (p *pathParser) word() string {
	n := 0
	for n < len(p.rest) && (isLetter(p.rest[n]) || n > 0 && p.rest[n] >= '0' && p.rest[n] <= '9') {
		n++
	}
	w := p.rest[:n]
	p.rest = p.rest[n:]
	return w
}

func (p *pathParser) path() (Path, error) {
	if p.depth++; p.depth > 8 {
		return Path{}, errors.New("it is nested too deeply")
	}
	defer func() { p.depth-- }()
	p.rest = strings.TrimLeft(p.rest, " ")
	var path Path
	stars := 0
	for strings.HasPrefix(p.rest, "*") || strings.HasPrefix(p.rest, "&") {
		if p.rest[0] == '*' {
			stars++
		}
		p.rest = strings.TrimLeft(p.rest[1:], " ")
	}
	switch {
	case strings.HasPrefix(p.rest, "("):
		p.rest = p.rest[1:]
		inner, err := p.path()
		if err != nil {
			return inner, err
		}
		if p.rest = strings.TrimLeft(p.rest, " "); !strings.HasPrefix(p.rest, ")") {
			return inner, errors.New("a closing bracket is missing")
		}
		p.rest = p.rest[1:]
		path = inner
	case strings.HasPrefix(p.rest, "result "): // a result that has no name of its own
		p.rest = p.rest[len("result "):]
		n := 0
		for n < len(p.rest) && p.rest[n] >= '0' && p.rest[n] <= '9' {
			n++
		}
		path.Root = "result " + p.rest[:n]
		p.rest = p.rest[n:]
	default:
		if path.Root = p.word(); path.Root == "" {
			return path, errors.New("a name is wanted")
		}
	}
	for len(path.Steps) < maxPathSteps {
		switch {
		case strings.HasPrefix(p.rest, "."):
			p.rest = p.rest[1:]
			name := p.word()
			if name == "" {
				return path, errors.New("a field's name is wanted after the dot")
			}
			path.Steps = append(path.Steps, PathStep{Field: name})
		case strings.HasPrefix(p.rest, "["):
			p.rest = strings.TrimLeft(p.rest[1:], " ")
			step, err := p.index()
			if err != nil {
				return path, err
			}
			if p.rest = strings.TrimLeft(p.rest, " "); !strings.HasPrefix(p.rest, "]") {
				return path, errors.New("a closing bracket is missing")
			}
			p.rest = p.rest[1:]
			path.Steps = append(path.Steps, step)
		default:
			p.rest = strings.TrimLeft(p.rest, " ")
			for range stars {
				path.Steps = append(path.Steps, PathStep{Deref: true})
			}
			return path, nil
		}
	}
	return path, errors.New("it is too long")
}

func (p *pathParser) index() (PathStep, error) {
	switch {
	case strings.HasPrefix(p.rest, "]"):
		return PathStep{Any: true}, nil
	case strings.HasPrefix(p.rest, `"`) || strings.HasPrefix(p.rest, "`"):
		quoted, err := strconv.QuotedPrefix(p.rest)
		if err != nil {
			return PathStep{}, errors.New("a text has no end")
		}
		p.rest = p.rest[len(quoted):]
		text, err := strconv.Unquote(quoted)
		return PathStep{Text: &text}, err
	}
	n := 0
	for n < len(p.rest) && (p.rest[n] == '-' && n == 0 || p.rest[n] >= '0' && p.rest[n] <= '9') {
		n++
	}
	if n > 0 {
		number, err := strconv.ParseInt(p.rest[:n], 10, 64)
		p.rest = p.rest[n:]
		return PathStep{Number: &number}, err
	}
	inner, err := p.path()
	return PathStep{Index: &inner}, err
}
