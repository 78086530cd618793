//go:build go1.23

package inject

import (
	"reflect"
	"regexp"
	"strings"
	"sync"
	"unsafe"
)

// DefaultSecrets are the names of variables, fields and map keys whose texts are not recorded: those
// that contain one of these words, whatever their case and separators, or end in one after a *.
const DefaultSecrets = "password\npasswd\npassphrase\nsecret\napikey\nprivatekey\naccesskey\nsigningkey\nencryptionkey\ncredential\nauthorization\ncookie\n*token"

// DefaultSecretTexts are regular expressions of texts that are not recorded: JSON Web Tokens (RFC 7519),
// bearer tokens (RFC 6750), private keys (RFC 7468), and assignments to secret names.
const DefaultSecretTexts = `eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.
(?i)\bbearer [A-Za-z0-9._~+/-]{8,}
-----BEGIN [A-Z ]*PRIVATE KEY-----
(?i)(password|passwd|passphrase|secret|api_?key|access_?key|token)["']?\s*[:=]\s*["']?[^\s"',;&]{4,}
://[^/\s:@]+:[^/\s:@]+@`

// IsSecretName reports whether a name is one of a list in the form of DefaultSecrets.
func IsSecretName(list, name string) bool {
	if list == "" || name == "" {
		return false
	}
	plain := PlainName(name)
	for _, word := range strings.Split(list, "\n") {
		if ending, ok := strings.CutPrefix(word, "*"); ok && strings.HasSuffix(plain, ending) || !ok && word != "" && strings.Contains(plain, word) {
			return true
		}
	}
	return false
}

// PlainName returns a name in lower case, with letters and digits only.
func PlainName(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case 'A' <= r && r <= 'Z':
			return r - 'A' + 'a'
		case 'a' <= r && r <= 'z', '0' <= r && r <= '9':
			return r
		}
		return -1
	}, name)
}

// SecretTexts compiles a list in the form of DefaultSecretTexts.
func SecretTexts(list string) ([]*regexp.Regexp, error) {
	var out []*regexp.Regexp
	for _, line := range strings.Split(list, "\n") {
		if line == "" {
			continue
		}
		r, err := regexp.Compile(line)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// redacted is what stands in an argument or text instead of a secret.
const redacted = "(redacted)"

// RedactArguments returns a command line without its secrets: the values of flags with secret names,
// and texts that contain secrets.
func RedactArguments(args []string, names, texts string) []string {
	patterns := sync.OnceValue(func() []*regexp.Regexp { // few programs have such an argument
		list, _ := SecretTexts(texts)
		return list
	})
	out := make([]string, len(args))
	next := false
	for i, a := range args {
		name, value, has := strings.Cut(a, "=")
		isSecret := IsSecretName(names, name)
		switch {
		case next && !strings.HasPrefix(a, "-"):
			out[i] = redacted
		case has && isSecret && value != "":
			out[i] = name + "=" + redacted
		case mayBeSecret(texts, a) && anyMatches(patterns(), a):
			out[i] = redacted
		default:
			out[i] = a
		}
		next = isSecret && !has && strings.HasPrefix(a, "-")
	}
	return out
}

func anyMatches(patterns []*regexp.Regexp, text string) bool {
	for _, p := range patterns {
		if p.MatchString(text) {
			return true
		}
	}
	return false
}

// secretPatterns are compiled when they are first needed.
var secretPatterns = sync.OnceValue(func() []*regexp.Regexp {
	list, _ := SecretTexts(secretTexts) // they were compiled when the program was built
	return list
})

// shortestSecret is the minimum length, in bytes, of a text that a default pattern matches.
const shortestSecret = 7

// isSecretText reports whether a text must not be recorded.
func isSecretText(s string) bool {
	return secretTexts != "" && mayBeSecret(secretTexts, s) && anyMatches(secretPatterns(), s)
}

// anchors are beginnings of words, in lower case, of which a text that a default pattern matches
// contains one; the last one is in a URL with a password.
var anchors = [...]string{"passw", "passp", "secret", "key", "token", "bearer", "eyj", "://"}

// mayBeSecret is a quick check whether one of some patterns can match: of the default ones.
func mayBeSecret(texts, s string) bool {
	return texts != DefaultSecretTexts || len(s) >= shortestSecret && hasAnchor(s)
}

// second is the second letter of the anchors, by their first one, in lower case; 0 for other bytes.
var second = func() (table [256]byte) {
	for _, a := range anchors {
		table[a[0]] = a[1]
		if 'a' <= a[0] && a[0] <= 'z' {
			table[a[0]-'a'+'A'] = a[1]
		}
	}
	return table
}()

func hasAnchor(s string) bool {
	for i := 0; i+1 < len(s); i++ {
		next := second[s[i]]
		if next == 0 || s[i+1]|0x20 != next|0x20 {
			continue
		}
		for _, a := range anchors {
			if len(s)-i >= len(a) && foldEqual(s[i:i+len(a)], a) {
				return true
			}
		}
	}
	return false
}

// foldEqual reports whether a text is another one in lower case.
func foldEqual(s, lower string) bool {
	for i := range len(lower) {
		if c := s[i]; c != lower[i] && (c < 'A' || c > 'Z' || c|0x20 != lower[i]) {
			return false
		}
	}
	return true
}

// isSecretType reports whether values of a type must not be recorded.
func isSecretType(t reflect.Type) bool {
	return secretTypes != "" && strings.Contains("\n"+secretTypes+"\n", "\n"+t.String()+"\n")
}

// holdsText reports whether values of a type are texts or can contain some: numbers and truth values
// are not redacted for their names.
func holdsText(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.String, reflect.Map:
		return true
	case reflect.Interface:
		return t != reflect.TypeFor[error]()
	case reflect.Slice, reflect.Array, reflect.Pointer:
		return t.Elem().Kind() == reflect.Uint8 || holdsText(t.Elem())
	}
	return false
}

// Hidden is memory whose contents must not be recorded.
type Hidden[T any] struct{ value T }

// Hide returns the address of a value that must not be recorded.
func Hide[T any](p *T) *Hidden[T] { return (*Hidden[T])(unsafe.Pointer(p)) }

// AtHidden is At for a place whose contents must not be recorded.
func AtHidden[T any](f *Frame, p *T) *T {
	if f != nil {
		At(f, Hide(p))
	}
	return p
}

// hiddenOf returns the type of what a Hidden holds.
func hiddenOf(t reflect.Type) (reflect.Type, bool) {
	if t.Kind() == reflect.Struct && t.NumField() == 1 && t.PkgPath() == ownPath && strings.HasPrefix(t.Name(), "Hidden[") {
		return t.Field(0).Type, true
	}
	return nil, false
}

// ownPath is the import path of this package.
var ownPath = reflect.TypeFor[Frame]().PkgPath()

// appendRedacted appends the item of a value that is not recorded because it is secret.
func appendRedacted(b []byte) []byte {
	return append(appendHead(b, majorTag, tagRedacted), itemNull)
}
