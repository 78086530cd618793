package coredump

import (
	"context"
	"regexp"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// asserted is the expression in the message of a failed assertion of the C library.
var asserted = regexp.MustCompile("Assertion `(.*)' failed")

// operand is a path in an expression of C or C++, with what follows it.
var operand = regexp.MustCompile(`[A-Za-z_]\w*(?:(?:->|\.)[A-Za-z_]\w*|\[\w+\])*\s*\(?`)

// maxSides limits the values of a failed assertion.
const maxSides = 6

// sides returns the values that a failed assertion compared, as far as the frame that made it has them: "; q->depth is 1".
func (d *Dump) sides(ctx context.Context, message string, t event.ThreadID, frame int) string {
	m := asserted.FindStringSubmatch(message)
	if m == nil {
		return ""
	}
	var out strings.Builder
	seen := map[string]bool{}
	for _, text := range operand.FindAllString(m[1], -1) {
		text = strings.TrimSpace(text)
		if seen[text] || len(seen) == maxSides || strings.HasSuffix(text, "(") {
			continue // the result of a call is not kept
		}
		p, err := replay.ParsePath(strings.ReplaceAll(text, "->", "."))
		if err != nil {
			continue
		}
		v, err := replay.Follow(ctx, d, 0, t, frame, p)
		if err != nil || v.State != event.Known {
			continue
		}
		seen[text] = true
		out.WriteString("; " + text + " is " + v.Text())
	}
	return out.String()
}
