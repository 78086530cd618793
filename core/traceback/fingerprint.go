package traceback

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
)

// fingerprinted is how many own frames a fingerprint is made of.
const fingerprinted = 8

// Fingerprint is the same for failures of the same kind at the same place: a hash of
// the outermost error's type and of the innermost own functions. Lines, values and
// the parts of names that compilers number are left out.
func (c *Crash) Fingerprint() string {
	var parts []string
	if len(c.Causes) > 0 {
		parts = append(parts, c.Causes[0].Type)
	}
	if len(c.Threads) > 0 {
		for i := range c.Threads[0].Frames {
			if f := &c.Threads[0].Frames[i]; f.Own && f.Function != "" && len(parts) <= fingerprinted {
				parts = append(parts, f.Function)
			}
		}
	}
	return Fingerprint(parts...)
}

// Fingerprint hashes what tells a failure apart.
func Fingerprint(parts ...string) string {
	sum := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(sum, "%s\n", strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' {
				return -1
			}
			return r
		}, p))
	}
	return hex.EncodeToString(sum.Sum(nil)[:8])
}
