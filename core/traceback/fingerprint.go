package traceback

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
)

// Fingerprinted is how many own functions a fingerprint is made of.
const Fingerprinted = 8

// Fingerprint hashes what tells a failure apart. Digits are left out: compilers number
// parts of names.
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
