package recorder

import (
	"go/ast"
	"go/types"
	"slices"
	"strings"

	"wraithology/core/fault"
	"wraithology/recorder/inject"
)

// Redaction lists rules for what must not be recorded, in addition to the usual ones: a word of the
// names of variables, fields and map keys; type:T, a type as the program writes it; text:R, a regular
// expression (RE2) of texts. The rule none leaves out the usual ones.
type Redaction []string

const noDefaults = "none"

func (r Redaction) of(prefix string) (list []string) {
	for _, rule := range r {
		if rest, ok := strings.CutPrefix(rule, prefix); ok && rule != noDefaults && (prefix != "" || !strings.HasPrefix(rule, "type:") && !strings.HasPrefix(rule, "text:")) {
			list = append(list, rest)
		}
	}
	return list
}

func (r Redaction) usual() bool { return !slices.Contains(r, noDefaults) }

// names returns the words of names (inject.DefaultSecrets).
func (r Redaction) names() string {
	var list []string
	if r.usual() {
		list = append(list, inject.DefaultSecrets)
	}
	for _, word := range r.of("") {
		if plain := inject.PlainName(word); plain != "" {
			list = append(list, plain)
		}
	}
	return strings.Join(list, "\n")
}

// texts returns the regular expressions of texts (inject.DefaultSecretTexts).
func (r Redaction) texts() string {
	var list []string
	if r.usual() {
		list = append(list, inject.DefaultSecretTexts)
	}
	return strings.Join(append(list, r.of("text:")...), "\n")
}

func (r Redaction) types() string { return strings.Join(r.of("type:"), "\n") }

func (r Redaction) check() error {
	for _, rule := range r {
		word := strings.TrimPrefix(strings.TrimPrefix(rule, "text:"), "type:")
		if word == "" || strings.Contains(rule, "\n") || !strings.Contains(rule, ":") && inject.PlainName(rule) == "" {
			return fault.InvalidRequest.New("name a word of names, type:T, text:REGEXP, or none to leave out the usual rules", "invalid rule --redact %q", rule)
		}
	}
	if _, err := inject.SecretTexts(r.texts()); err != nil {
		return fault.InvalidRequest.New("write it as RE2 does (package regexp)", "invalid rule --redact: %v", err)
	}
	return nil
}

// arguments returns a command without its secrets.
func (r Redaction) arguments(command []string) []string {
	return inject.RedactArguments(command, r.names(), r.texts())
}

// text returns a text without what must not be recorded.
func (r Redaction) text(text string) string {
	patterns, err := inject.SecretTexts(r.texts())
	if err != nil {
		return "(redacted, because a rule is not valid)"
	}
	for _, p := range patterns {
		text = p.ReplaceAllLiteralString(text, "(redacted)")
	}
	return text
}

// isSecret reports whether the contents of a variable or field must not be recorded for its name.
func (f *function) isSecret(o types.Object) bool {
	return o != nil && inject.IsSecretName(f.r.secrets, o.Name()) && holdsText(o.Type(), 0)
}

// holdsText reports whether values of a type are texts or can contain some (inject.holdsText).
func holdsText(t types.Type, depth int) bool {
	const maxDepth = 8
	switch u := coreOf(t).(type) {
	case *types.Basic:
		return u.Info()&types.IsString != 0
	case *types.Interface:
		return !types.Identical(t, types.Universe.Lookup("error").Type())
	case *types.Map:
		return true
	case *types.Slice:
		return isByte(u.Elem()) || depth < maxDepth && holdsText(u.Elem(), depth+1)
	case *types.Array:
		return isByte(u.Elem()) || depth < maxDepth && holdsText(u.Elem(), depth+1)
	case *types.Pointer:
		return isByte(u.Elem()) || depth < maxDepth && holdsText(u.Elem(), depth+1)
	}
	return false
}

func isByte(t types.Type) bool {
	b, ok := t.Underlying().(*types.Basic)
	return ok && b.Kind() == types.Byte
}

// address returns the expression for the address of a variable, hidden if it must not be recorded.
func (f *function) address(o types.Object, name string) string {
	if f.isSecret(o) {
		return runtimeName + ".Hide(&" + name + ")"
	}
	return "&" + name
}

// storesSecret reports whether an assignment to an expression stores what must not be recorded.
func (f *function) storesSecret(l ast.Expr) bool {
	switch x := ast.Unparen(l).(type) {
	case *ast.SelectorExpr:
		return f.isSecret(f.r.pkg.TypesInfo.Uses[x.Sel])
	case *ast.IndexExpr:
		return f.storesSecret(x.X)
	case *ast.StarExpr:
		return f.storesSecret(x.X)
	case *ast.Ident:
		return f.isSecret(f.r.pkg.TypesInfo.Uses[x])
	}
	return false
}

// place returns the expression for the address of what is assigned to, hidden if it must not be
// recorded.
func (f *function) place(l ast.Expr) string {
	if f.storesSecret(l) {
		return runtimeName + ".Hide(&" + f.r.text(l) + ")"
	}
	return "&" + f.r.text(l)
}
