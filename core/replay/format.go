package replay

import (
	"fmt"
	"strconv"
	"time"
)

// Format is a way to write a whole number.
type Format string

// The formats. Decimal is the default.
const (
	Decimal     Format = "decimal"
	Hex         Format = "hex"
	Binary      Format = "binary"
	Character   Format = "character"
	Bytes       Format = "bytes"       // 4.2 MB
	Nanoseconds Format = "nanoseconds" // as a duration: 3.1s
	UnixTime    Format = "time"        // seconds, milliseconds or nanoseconds since 1970, by size
)

// ParseFormat reads a format; an empty text is Decimal.
func ParseFormat(s string) (Format, error) {
	switch f := Format(s); f {
	case "":
		return Decimal, nil
	case Decimal, Hex, Binary, Character, Bytes, Nanoseconds, UnixTime:
		return f, nil
	}
	return "", fmt.Errorf("invalid format %q: use decimal, hex, binary, character, bytes, nanoseconds or time", s)
}

// Write writes a number in the format.
func (f Format) Write(n int64) string {
	switch f {
	case Hex:
		return "0x" + strconv.FormatUint(uint64(n), 16)
	case Binary:
		return "0b" + strconv.FormatUint(uint64(n), 2)
	case Character:
		if n < 0 || n > 0x10ffff {
			return strconv.FormatInt(n, 10)
		}
		return strconv.QuoteRune(rune(n))
	case Bytes:
		const unit = 1000
		if n > -unit && n < unit {
			return fmt.Sprintf("%d B", n)
		}
		x, i := float64(n)/unit, 0
		for ; (x >= unit || x <= -unit) && i < 5; i++ {
			x /= unit
		}
		return fmt.Sprintf("%.1f %cB", x, "kMGTPE"[i])
	case Nanoseconds:
		return time.Duration(n).String()
	case UnixTime:
		const (
			seconds      = 1 << 36 // up to the year 4147
			milliseconds = 1 << 46
			microseconds = 1 << 56
		)
		switch t := max(n, -n); {
		case t < seconds:
			return time.Unix(n, 0).UTC().Format(time.RFC3339)
		case t < milliseconds:
			return time.UnixMilli(n).UTC().Format(time.RFC3339Nano)
		case t < microseconds:
			return time.UnixMicro(n).UTC().Format(time.RFC3339Nano)
		}
		return time.Unix(0, n).UTC().Format(time.RFC3339Nano)
	}
	return strconv.FormatInt(n, 10)
}
