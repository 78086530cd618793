// Package mask decides which values are secret: by the names of variables, fields, attributes and headers, by types, and by patterns of texts. It knows
// nothing of evidence.
package mask

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"wraithology/core/fault"
)

// What a rule is about.
const (
	OnName      = "name"      // of a variable or parameter
	OnField     = "field"     // of a struct, or the key of a map
	OnAttribute = "attribute" // of a span, or a field of a log
	OnHeader    = "header"    // of HTTP and mail: an attribute, a key, or a line NAME: VALUE in a text
	OnType      = "type"
	OnText      = "text" // a regular expression (RE2); its first group is masked, or all that it matches
)

// Rule masks values. Match of OnText is a regular expression; all others are names in which * stands for any text, in upper or lower case.
type Rule struct {
	On    string `json:"on" enum:"name,field,attribute,header,type,text"`
	Match string `json:"match" minLength:"1" maxLength:"500"`
}

// Rules are those of a case.
type Rules struct {
	// WithoutDefaults leaves out the rules that the product has.
	WithoutDefaults bool   `json:"withoutDefaults,omitempty"`
	List            []Rule `json:"list,omitempty" maxItems:"200"`
	// Except are names that no rule masks, as for Match.
	Except []string `json:"except,omitempty" maxItems:"200"`
}

// String writes the rules for people.
func (r Rules) String() string {
	var parts []string
	if r.WithoutDefaults {
		parts = append(parts, "without the defaults")
	}
	for _, x := range r.List {
		parts = append(parts, x.On+":"+x.Match)
	}
	for _, x := range r.Except {
		parts = append(parts, "except "+x)
	}
	if len(parts) == 0 {
		return "the defaults"
	}
	return strings.Join(parts, ", ")
}

// ParseRule reads a rule as people write it: ON:MATCH; without ON it is about names of variables and of fields, and attributes.
func ParseRule(text string) ([]Rule, error) {
	on, match, ok := strings.Cut(text, ":")
	if !ok {
		return []Rule{{OnName, text}, {OnField, text}, {OnAttribute, text}}, nil
	}
	if match == "" {
		return nil, fault.InvalidMask.New("write ON:MATCH", "invalid rule %q: nothing after the colon", text)
	}
	return []Rule{{on, match}}, nil
}

// Level says how much of a value is masked.
type Level uint8

// The levels. Booleans are never masked: they say nothing of a secret.
const (
	Nothing Level = iota
	Texts         // texts and bytes in it
	All           // numbers too
)

// Masked stands where a part of a text is masked.
const Masked = "[masked]"

// Mask are compiled rules. A nil Mask masks nothing. It is safe for concurrent use.
type Mask struct {
	id       string
	defaults bool
	names    map[string][]*regexp.Regexp // by what they are on
	texts    []textRule
	except   []*regexp.Regexp
	quick    *scanner
}

type textRule struct {
	literals []string // in lower case: one of them is in each text that matches; none if that is not known
	pattern  *regexp.Regexp
	accept   func(string) bool // of what is to be masked; nil for all
}

// Default is the mask of a case without rules of its own.
var Default = must(Rules{})

func must(r Rules) *Mask {
	m, err := New(r)
	if err != nil {
		panic(err)
	}
	return m
}

// New compiles rules. The error wraps fault.InvalidMask and names the rule.
func New(r Rules) (*Mask, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return nil, fmt.Errorf("write the rules: %w", err)
	}
	sum := sha256.Sum256(append([]byte(version), text...))
	m := &Mask{id: hex.EncodeToString(sum[:8]), defaults: !r.WithoutDefaults, names: map[string][]*regexp.Regexp{}}
	for i, x := range r.List {
		switch x.On {
		case OnName, OnField, OnAttribute, OnType, OnHeader:
			m.names[x.On] = append(m.names[x.On], wild(x.Match))
			if x.On == OnHeader {
				pattern := `(?im)\b` + strings.ReplaceAll(regexp.QuoteMeta(x.Match), `\*`, `[\w-]*`) + `["']?[ \t]*:[ \t]*([^\r\n]+)`
				m.texts = append(m.texts, textRule{pattern: regexp.MustCompile(pattern)})
			}
		case OnText:
			p, err := regexp.Compile(x.Match)
			if err != nil {
				return nil, fault.InvalidMask.New("use a regular expression as RE2 has them", "rule %d: %w", i+1, err)
			}
			if p.MatchString("") {
				return nil, fault.InvalidMask.New("let it match at least one character", "rule %d: %q matches the empty text", i+1, x.Match)
			}
			m.texts = append(m.texts, textRule{pattern: p})
		default:
			return nil, fault.InvalidMask.New("use name, field, attribute, header, type or text", "rule %d: unknown kind %q", i+1, x.On)
		}
	}
	for _, x := range r.Except {
		m.except = append(m.except, wild(x))
	}
	if m.defaults {
		m.texts = append(m.texts, defaultTexts...)
	}
	m.quick = newScanner(m.texts)
	return m, nil
}

// ID identifies the rules: what was masked by others has another one. It is empty for a nil Mask.
func (m *Mask) ID() string {
	if m == nil {
		return ""
	}
	return m.id
}

// wild compiles a name in which * stands for any text.
func wild(name string) *regexp.Regexp {
	return regexp.MustCompile(`(?is)^` + strings.ReplaceAll(regexp.QuoteMeta(name), `\*`, `.*`) + `$`)
}

// Name returns how much is masked of a value with a name: on says what the name is of.
func (m *Mask) Name(on, name string) Level {
	if m == nil || name == "" {
		return Nothing
	}
	for _, x := range m.except {
		if x.MatchString(name) {
			return Nothing
		}
	}
	for _, x := range m.names[on] {
		if x.MatchString(name) {
			return All
		}
	}
	if on == OnField || on == OnAttribute { // a key may be a header: "http.request.header.authorization"
		last := name[strings.LastIndexByte(name, '.')+1:]
		for _, x := range m.names[OnHeader] {
			if x.MatchString(name) || x.MatchString(last) {
				return All
			}
		}
	}
	if !m.defaults {
		return Nothing
	}
	if on == OnType {
		name = name[strings.LastIndexByte(name, '.')+1:]
	}
	return levelOf(words(name))
}

// words splits a name at changes from lower to upper case and at everything that is not a letter or digit, into lower case.
func words(name string) []string {
	var out []string
	var word []rune
	end := func() {
		if len(word) > 0 {
			out = append(out, strings.ToLower(string(word)))
			word = nil
		}
	}
	list := []rune(name)
	for i, r := range list {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			end()
			continue
		case unicode.IsUpper(r) && i > 0 && (unicode.IsLower(list[i-1]) || unicode.IsDigit(list[i-1]) || i+1 < len(list) && unicode.IsLower(list[i+1])):
			end()
		}
		word = append(word, r)
	}
	end()
	return out
}

// Words of names whose values are secret. Those of two words are next to each other.
var (
	secretWords   = []string{"password", "passwords", "passwd", "pwd", "passphrase", "passcode", "secret", "secrets", "credential", "credentials", "authorization", "cookie", "cookies", "apikey", "token", "tokens", "jwt"}
	secretPairs   = []string{"api key", "access key", "private key", "secret key", "signing key", "encryption key", "auth header", "set cookie", "session id", "card number", "account number", "pass phrase", "pass word"}
	secretNumbers = []string{"pin", "cvv", "cvc", "cvv2", "ssn"}
	// harmless are words after a secret one that make something else of it: a length, a kind, a place.
	harmless = []string{"count", "counts", "len", "length", "size", "name", "names", "type", "kind", "index", "position", "pos", "attempts", "attempt", "limit", "min", "max", "policy", "error", "err", "expiry", "expires", "expired", "ttl", "age", "path", "file", "url", "field", "ok", "valid", "set", "required", "changed", "budget", "used", "usage"}
)

func levelOf(words []string) Level {
	if len(words) == 0 || slices.Contains(harmless, words[len(words)-1]) && len(words) > 1 && words[len(words)-2]+" "+words[len(words)-1] != "session id" {
		return Nothing
	}
	for i, w := range words {
		if slices.Contains(secretNumbers, w) {
			return All
		}
		if slices.Contains(secretWords, w) || i > 0 && slices.Contains(secretPairs, words[i-1]+" "+w) {
			return Texts
		}
	}
	return Nothing
}

// version changes when the same rules mask in another way.
const version = "1"

// defaultTexts are the patterns of secrets in texts.
var defaultTexts = []textRule{
	{literals: []string{"pass", "pwd", "secret", "token", "key"}, pattern: regexp.MustCompile(`(?i)(?:passw(?:or)?d|(?:\b|_)(?:pass(?:phrase|code)?|pwd|secret|(?:api|access|secret|private|signing|encryption)[_ -]?key|token|jwt))["']?\s*(?:=>|[:=])\s*("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|[^\s,;&"'})\]]+)`)},
	{literals: []string{"authorization", "cookie", "x-api-key"}, pattern: regexp.MustCompile(`(?im)\b(?:proxy-)?(?:authorization|(?:set-)?cookie|x-api-key)["']?\s*[:=]\s*([^\r\n]+)`)},
	{literals: []string{"bearer", "basic"}, pattern: regexp.MustCompile(`(?i)\b(?:bearer|basic)\s+([a-z0-9._~+/=-]{8,})`)},
	{literals: []string{"eyj"}, pattern: regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{5,}\.[A-Za-z0-9_-]{5,}(?:\.[A-Za-z0-9_-]*)?`)},                           // RFC 7519
	{literals: []string{"private key"}, pattern: regexp.MustCompile(`-----BEGIN [A-Z ]*PRIVATE KEY-----[\s\S]*?(?:-----END [A-Z ]*PRIVATE KEY-----|$)`)}, // RFC 7468
	{literals: []string{"://"}, pattern: regexp.MustCompile(`://[^/\s:@]*:([^/\s@]+)@`)},                                                                 // RFC 3986, section 3.2.1
	{literals: []string{manyDigits}, pattern: regexp.MustCompile(`\b(?:\d[ -]?){12,18}\d\b`), accept: isCard},
}

// isCard reports whether the digits of a text are a card's number, by its checksum (ISO/IEC 7812-1, annex B), and begin as one.
func isCard(s string) bool {
	sum, n := 0, 0
	first := byte(0)
	for i := len(s) - 1; i >= 0; i-- {
		if s[i] < '0' || s[i] > '9' {
			continue
		}
		d := int(s[i] - '0')
		if n%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
		n++
		first = s[i]
	}
	return n >= 13 && n <= 19 && sum%10 == 0 && first >= '2' && first <= '6'
}

// Text masks what patterns find in a text, and reports whether it has changed. found, if it is not nil, gets each secret.
func (m *Mask) Text(s string, found func(string)) (string, bool) {
	if m == nil || len(s) < shortest {
		return s, false
	}
	changed := false
	for _, i := range m.quick.candidates(s) {
		x := m.texts[i]
		var out strings.Builder
		last := 0
		for _, at := range x.pattern.FindAllStringSubmatchIndex(s, -1) {
			from, to := at[0], at[1]
			if len(at) > 3 && at[2] >= 0 {
				from, to = at[2], at[3]
			}
			if to-from > 1 && (s[from] == '"' || s[from] == '\'') && s[to-1] == s[from] { // the quotes stay
				from, to = from+1, to-1
			}
			if from < last || from == to || x.accept != nil && !x.accept(s[from:to]) || strings.HasPrefix(s[from:], Masked) {
				continue
			}
			if found != nil {
				found(s[from:to])
			}
			out.WriteString(s[last:from])
			out.WriteString(Masked)
			last = to
		}
		if last > 0 {
			out.WriteString(s[last:])
			s, changed = out.String(), true
		}
	}
	return s, changed
}

// shortest is the length of the shortest text in which a pattern is looked for.
const shortest = 4
