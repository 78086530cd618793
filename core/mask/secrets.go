package mask

import (
	"strings"
)

// Limits of the secrets that are looked for in other texts. A shorter one is masked only where it is a whole text.
const (
	shortestWhole = 4
	shortestPart  = 6
	mostSecrets   = 200_000
	mostBytes     = 64 << 20
	longestSecret = 1 << 16
)

// Secrets are texts that were found under a name that is masked. The same text is a secret under every other name, and in other texts.
type Secrets struct {
	whole map[string]bool
	parts map[[shortestPart]byte][]string
	first [1 << 16]bool // of the first two bytes of parts, so that most places of a text need no look-up
	bytes int
	// Full is set if there were more of them than are kept.
	Full bool
}

// NewSecrets returns none.
func NewSecrets() *Secrets {
	return &Secrets{whole: map[string]bool{}, parts: map[[shortestPart]byte][]string{}}
}

// ordinary are texts that stand for no secret, where a secret may be expected.
var ordinary = map[string]bool{"null": true, "none": true, "true": true, "false": true, "undefined": true, "unknown": true, "redacted": true, Masked: true, "[redacted]": true, "password": true, "secret": true, "token": true, "bearer": true, "basic": true}

// Add adds a text.
func (s *Secrets) Add(text string) {
	if len(text) < shortestWhole || s.whole[text] || ordinary[strings.ToLower(text)] || strings.Trim(text, text[:1]) == "" {
		return
	}
	if len(s.whole) >= mostSecrets || s.bytes+len(text) > mostBytes || len(text) > longestSecret {
		s.Full = true
		return
	}
	s.whole[text] = true
	s.bytes += len(text)
	if len(text) >= shortestPart {
		key := [shortestPart]byte([]byte(text[:shortestPart]))
		s.parts[key] = append(s.parts[key], text)
		s.first[uint16(text[0])<<8|uint16(text[1])] = true
	}
}

// Len is the number of secrets.
func (s *Secrets) Len() int { return len(s.whole) }

// Is reports whether a text is a secret.
func (s *Secrets) Is(text string) bool { return len(s.whole) > 0 && s.whole[text] }

// Within masks the secrets in a text, the longest one at each place, and reports whether there was one.
func (s *Secrets) Within(text string) (string, bool) {
	if len(s.parts) == 0 || len(text) < shortestPart {
		return text, false
	}
	var out strings.Builder
	last := 0
	for i := 0; i+shortestPart <= len(text); i++ {
		if !s.first[uint16(text[i])<<8|uint16(text[i+1])] {
			continue
		}
		longest := ""
		for _, x := range s.parts[[shortestPart]byte([]byte(text[i:i+shortestPart]))] {
			if len(x) > len(longest) && strings.HasPrefix(text[i:], x) {
				longest = x
			}
		}
		if longest != "" {
			out.WriteString(text[last:i])
			out.WriteString(Masked)
			last = i + len(longest)
			i = last - 1
		}
	}
	if last == 0 {
		return text, false
	}
	out.WriteString(text[last:])
	return out.String(), true
}
