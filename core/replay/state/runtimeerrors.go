package state

import (
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// boundsTexts are the messages of an index or slice that is out of range, by the code of the error; %x and
// %y stand for its numbers. boundsNegative are those for a negative %x. (Package runtime, type boundsError.)
var (
	boundsTexts = []string{"index out of range [%x] with length %y", "slice bounds out of range [:%x] with length %y", "slice bounds out of range [:%x] with capacity %y", "slice bounds out of range [%x:%y]",
		"slice bounds out of range [::%x] with length %y", "slice bounds out of range [::%x] with capacity %y", "slice bounds out of range [:%x:%y]", "slice bounds out of range [%x:%y:]",
		"cannot convert slice with length %y to array or pointer to array with length %x"}
	boundsNegative = []string{"index out of range [%x]", "slice bounds out of range [:%x]", "slice bounds out of range [:%x]", "slice bounds out of range [%x:]",
		"slice bounds out of range [::%x]", "slice bounds out of range [::%x]", "slice bounds out of range [:%x:]", "slice bounds out of range [%x::]"}
)

// runtimeError returns the message of an error of the Go runtime; empty for any other.
func runtimeError(v replay.Value) string {
	const prefix = "runtime error: "
	if v.State != event.Known || v.Type == nil {
		return ""
	}
	switch v.Type.Name {
	case "runtime.boundsError":
		x, y, code := v.Field("x"), v.Field("y"), v.Field("code")
		if x.State != event.Known || y.State != event.Known || code.State != event.Known {
			return ""
		}
		texts := boundsTexts
		first := strconv.FormatInt(x.Int, 10)
		switch isSigned := v.Field("signed").Uint != 0; {
		case isSigned && x.Int < 0:
			texts = boundsNegative
		case !isSigned:
			first = strconv.FormatUint(uint64(x.Int), 10)
		}
		if code.Uint >= uint64(len(texts)) {
			return ""
		}
		return prefix + strings.NewReplacer("%x", first, "%y", strconv.FormatInt(y.Int, 10)).Replace(texts[code.Uint])
	case "runtime.errorString", "runtime.plainError":
		if v.Form() == event.Text && v.Whole == 0 {
			if v.Type.Name == "runtime.plainError" {
				return v.Value.Text
			}
			return prefix + v.Value.Text
		}
	case "*runtime.TypeAssertionError": // its types are addresses of the runtime's own
		if method := v.Settled().Field("missingMethod"); method.State == event.Known && method.Value.Text != "" {
			return "interface conversion: missing method " + method.Value.Text
		}
		return "interface conversion: the value has another type"
	case "runtime.errorAddressString":
		if text := v.Field("msg"); text.State == event.Known && text.Value.Text != "" {
			return prefix + text.Value.Text
		}
	}
	return ""
}
