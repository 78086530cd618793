package mask

// manyDigits stands for at least 13 digits in the literals of a rule.
const manyDigits = "\x00digits"

// scanner finds out which rules can match a text at all, in one pass: regular expressions are slow, and most texts are no secret.
type scanner struct {
	always []int // rules that say nothing about their matches
	// byFirst are literals by their first byte, in lower case, with their rules.
	byFirst [256][]literal
	begins  [256]bool // whether a literal begins with a byte, in upper or lower case
	digits  []int
	rules   int
}

type literal struct {
	text string
	rule int
}

func newScanner(rules []textRule) *scanner {
	s := &scanner{rules: len(rules)}
	for i, r := range rules {
		if len(r.literals) == 0 {
			s.always = append(s.always, i)
		}
		for _, l := range r.literals {
			if l == manyDigits {
				s.digits = append(s.digits, i)
				continue
			}
			s.begins[l[0]], s.begins[upper(l[0])] = true, true
			s.byFirst[l[0]] = append(s.byFirst[l[0]], literal{l, i})
		}
	}
	return s
}

func lower(b byte) byte {
	if b >= 'A' && b <= 'Z' {
		return b + 'a' - 'A'
	}
	return b
}

func upper(b byte) byte {
	if b >= 'a' && b <= 'z' {
		return b - 'a' + 'A'
	}
	return b
}

// candidates returns the rules that can match a text, in their order.
func (s *scanner) candidates(text string) []int {
	var found []bool
	mark := func(rule int) {
		if found == nil {
			found = make([]bool, s.rules)
		}
		found[rule] = true
	}
	digits, most := 0, 0 // in a run with single spaces and hyphens
	for i := range len(text) {
		b := text[i]
		switch {
		case b >= '0' && b <= '9':
			digits++
			most = max(most, digits)
		case b != ' ' && b != '-':
			digits = 0
		}
		if !s.begins[b] {
			continue
		}
		for _, l := range s.byFirst[lower(b)] {
			if hasPrefixFold(text[i:], l.text) {
				mark(l.rule)
			}
		}
	}
	const card = 13
	if most >= card {
		for _, rule := range s.digits {
			mark(rule)
		}
	}
	if found == nil {
		return s.always
	}
	for _, rule := range s.always {
		found[rule] = true
	}
	var out []int
	for i, is := range found {
		if is {
			out = append(out, i)
		}
	}
	return out
}

// hasPrefixFold reports whether a text begins with a literal in lower case, in upper or lower case.
func hasPrefixFold(text, literal string) bool {
	if len(text) < len(literal) {
		return false
	}
	for i := range len(literal) {
		if lower(text[i]) != literal[i] {
			return false
		}
	}
	return true
}
