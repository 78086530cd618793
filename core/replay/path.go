package replay

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"wraithology/core/event"
	"wraithology/core/fault"
)

// Path names a variable, or a field or element of it: quay.Depth, berths[2].Name, table["Inner
// Ness"], *p. It follows references. Names with other characters are quoted, ["http.status-code"].
// A map entry whose key cannot be written is named by its position, berths[#3].
type Path struct {
	Root  string
	Steps []PathStep
}

// PathStep is one step of a path: a field, or an element. The index of an element is a number, a
// text, a path, or a position among the entries of a map. Any means an unknown element.
type PathStep struct {
	Field    string
	Number   *int64
	Text     *string
	Index    *Path
	Position *int
	Any      bool
	Deref    bool
}

func numberStep(i int) PathStep {
	n := int64(i)
	return PathStep{Number: &n}
}

// keyStep is the step to an entry of a map.
func keyStep(key event.Value, position int) PathStep {
	if key.Form() == event.Interface && len(key.Items) == 1 {
		key = key.Items[0]
	}
	switch {
	case key.State != event.Known || key.Nil || key.Whole > 0:
	case key.Form() == event.Text:
		return PathStep{Text: &key.Text}
	case key.Form() == event.Int:
		return PathStep{Number: &key.Int}
	case key.Form() == event.Uint && key.Uint <= math.MaxInt64:
		n := int64(key.Uint)
		return PathStep{Number: &n}
	}
	return PathStep{Position: &position}
}

// With returns the path with another step. A step on a pointer follows the pointer.
func (p Path) With(s PathStep) Path {
	if n := len(p.Steps); n > 0 && p.Steps[n-1].Deref {
		p.Steps = p.Steps[:n-1]
	}
	p.Steps = append(slices.Clip(p.Steps), s)
	return p
}

// Last returns the last step of the path, or its root, as a name.
func (p Path) Last() string {
	if n := len(p.Steps); n > 0 {
		return strings.TrimPrefix(Path{Steps: p.Steps[n-1:]}.String(), ".")
	}
	return p.Root
}

const maxPathSteps = 32

// ParsePath parses a path. Errors wrap fault.InvalidPath.
func ParsePath(text string) (Path, error) {
	p := pathParser{rest: strings.TrimSpace(text)}
	path, err := p.path()
	if err == nil && p.rest != "" {
		err = fmt.Errorf("unexpected %q", p.rest)
	}
	if err != nil {
		return Path{}, fmt.Errorf("%q: %w: %w", text, fault.InvalidPath, err)
	}
	return path, nil
}

// String writes the path as it is read.
func (p Path) String() string {
	var b strings.Builder
	b.WriteString(rootText(p.Root))
	for _, s := range p.Steps {
		switch {
		case s.Field != "" && !isName(s.Field):
			b.WriteString("." + strconv.Quote(s.Field))
		case s.Field != "":
			b.WriteString("." + s.Field)
		case s.Number != nil:
			fmt.Fprintf(&b, "[%d]", *s.Number)
		case s.Text != nil:
			fmt.Fprintf(&b, "[%q]", *s.Text)
		case s.Index != nil:
			b.WriteString("[" + s.Index.String() + "]")
		case s.Position != nil:
			fmt.Fprintf(&b, "[#%d]", *s.Position)
		case s.Any:
			b.WriteString("[]")
		}
	}
	if n := len(p.Steps); n > 0 && p.Steps[n-1].Deref {
		return "*" + b.String()
	}
	return b.String()
}

// rootText writes a variable's name, quoted if necessary.
func rootText(name string) string {
	plain := name == "" || strings.HasPrefix(name, "result ") && strings.Trim(name[len("result "):], "0123456789") == ""
	if !plain {
		plain = true
		for part := range strings.SplitSeq(name, ".") {
			plain = plain && isName(part)
		}
	}
	if plain {
		return name
	}
	return "[" + strconv.Quote(name) + "]"
}

// isName reports whether a text is a single name.
func isName(s string) bool {
	p := pathParser{rest: s}
	return s != "" && utf8.ValidString(s) && p.word() == s
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
		return Path{}, errors.New("nested too deeply")
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
	case strings.HasPrefix(p.rest, `["`):
		p.rest = p.rest[1:]
		name, err := p.quoted()
		if err != nil {
			return path, err
		}
		if !strings.HasPrefix(p.rest, "]") {
			return path, errors.New("a closing bracket is missing")
		}
		path.Root, p.rest = name, p.rest[1:]
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
			return path, errors.New("expected a name")
		}
	}
	for len(path.Steps) < maxPathSteps {
		switch {
		case strings.HasPrefix(p.rest, "."):
			p.rest = p.rest[1:]
			name := p.word()
			if strings.HasPrefix(p.rest, `"`) && name == "" {
				var err error
				if name, err = p.quoted(); err != nil {
					return path, err
				}
			}
			if name == "" {
				return path, errors.New("expected a field name after the dot")
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
		text, err := p.quoted()
		return PathStep{Text: &text}, err
	case strings.HasPrefix(p.rest, "#"):
		p.rest = p.rest[1:]
		n := 0
		for n < len(p.rest) && p.rest[n] >= '0' && p.rest[n] <= '9' {
			n++
		}
		position, err := strconv.Atoi(p.rest[:n])
		if err != nil {
			return PathStep{}, errors.New("expected a position after #")
		}
		p.rest = p.rest[n:]
		return PathStep{Position: &position}, nil
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

// quoted takes a quoted text.
func (p *pathParser) quoted() (string, error) {
	quoted, err := strconv.QuotedPrefix(p.rest)
	if err != nil {
		return "", errors.New("missing closing quotation mark")
	}
	p.rest = p.rest[len(quoted):]
	return strconv.Unquote(quoted)
}

// Follow returns the value that a path leads to in a frame.
func Follow(ctx context.Context, r Recording, at event.Moment, t event.ThreadID, frame int, p Path) (Value, error) {
	v, ok, err := r.Variable(ctx, at, t, frame, p.Root)
	steps := p.Steps
	// Names have dots in them: those of other packages' variables, and attributes.
	for name := p.Root; !ok && err == nil && len(steps) > 0 && steps[0].Field != ""; {
		name += "." + steps[0].Field
		steps = steps[1:]
		v, ok, err = r.Variable(ctx, at, t, frame, name)
	}
	if err != nil {
		return Value{}, err
	}
	if !ok {
		return Value{}, fmt.Errorf("%s: %w in the frame", p.Root, fault.NoName)
	}
	value := v.Value
	for i, s := range steps {
		if s.Index != nil {
			index, err := Follow(ctx, r, at, t, frame, *s.Index)
			if err != nil {
				return Value{}, err
			}
			s = keyStep(index.Value, -1)
		}
		if value, ok = value.step(s); !ok {
			return Value{}, fmt.Errorf("%s: %w: no such part", Path{p.Root, p.Steps[:len(p.Steps)-len(steps)+i+1]}, fault.NoName)
		}
	}
	return value, nil
}

// step takes one step of a path, and reports whether it leads anywhere.
func (v Value) step(s PathStep) (Value, bool) {
	switch {
	case s.Deref:
		d := v.Inside(s)
		if v.Form() == event.Pointer {
			d = v.Deref()
		}
		return d, d.Type != nil
	case s.Field != "":
		f := v.Field(s.Field)
		return f, f.Type != nil
	}
	c := v.Settled()
	if c.Form() == event.Map {
		pairs, _ := c.Memory.Entries(c.Address, c.Type)
		for i := 0; i+1 < len(pairs); i += 2 {
			if s.Position != nil && *s.Position == i/2 || s.Position == nil && keyStep(pairs[i], -1).same(s) {
				return c.With(pairs[i+1]), true
			}
		}
		return Value{}, false
	}
	if s.Number == nil || *s.Number < 0 {
		return Value{}, false
	}
	list, _ := c.Children(Page{From: int(min(*s.Number, math.MaxInt32)), Count: 1})
	if len(list) == 0 {
		return Value{}, false
	}
	return list[0].Value, true
}

func (s PathStep) same(x PathStep) bool {
	return s.Number != nil && x.Number != nil && *s.Number == *x.Number || s.Text != nil && x.Text != nil && *s.Text == *x.Text
}

// ReceiverOf returns the object whose method an expression calls: h of h.Sum32(). It is empty for other
// expressions.
func ReceiverOf(text string) string {
	open := strings.IndexByte(text, '(')
	if open < 0 {
		return ""
	}
	dot := strings.LastIndexByte(text[:open], '.')
	if dot <= 0 {
		return ""
	}
	if _, err := ParsePath(text[:dot]); err != nil {
		return ""
	}
	return text[:dot]
}
