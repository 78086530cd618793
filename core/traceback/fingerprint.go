package traceback

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
)

// Fingerprinted is the number of own functions in a fingerprint.
const Fingerprinted = 8

// Fingerprint hashes what identifies a failure. Digits are omitted: compilers number parts of
// names.
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
