package traceback

import "strings"

// withoutPrefix removes one prefix that a log may have added to a line: a time, a level, a name in
// brackets, the name of a program or stream with a colon or bar.
func withoutPrefix(line string) (rest string, ok bool) {
	s := strings.TrimLeft(line, " ")
	if s == "" {
		return "", false
	}
	word := s
	if i := strings.IndexAny(s, " \t"); i >= 0 {
		word = s[:i]
	}
	after := s[len(word):]
	cut := func(n int) (string, bool) {
		rest := s[n:]
		return strings.TrimPrefix(rest, " "), true // the line stays indented
	}
	switch {
	case strings.HasPrefix(strings.TrimLeft(after, " "), "| "): // NAME |
		return strings.TrimLeft(after, " ")[2:], true
	case word == ">": // quoted
		return strings.TrimPrefix(after, " "), true
	case word == "|":
		return strings.TrimPrefix(after, " "), true
	case s[0] == '<':
		if end := strings.IndexByte(s, '>'); end > 0 && end <= 4 {
			return s[end+1:], true
		}
	case s[0] == '[':
		if end := strings.IndexByte(s, ']'); end > 0 && end < 80 {
			return cut(end + 1)
		}
	case s[0] == '(' && strings.HasSuffix(word, ")"): // (PROGRAM:PID)
		return cut(len(word))
	case isTimeWord(word):
		return cut(len(word))
	case isLevel(strings.Trim(word, ":[]|")):
		return cut(len(word))
	case strings.HasSuffix(word, ":") && strings.HasSuffix(strings.TrimSuffix(word, ":"), "]"): // NAME[PID]:
		return cut(len(word))
	case word == "stdout" || word == "stderr" || word == "F" || word == "P" || word == "-" || word == "---":
		return cut(len(word))
	}
	return "", false
}

// isTimeWord reports whether a word is a date, a time of day, or both.
func isTimeWord(w string) bool {
	digits, marks := 0, 0
	for i := range len(w) {
		switch c := w[i]; {
		case c >= '0' && c <= '9':
			digits++
		case c == ':' || c == '-' || c == '/' || c == '.' || c == ',' || c == 'T' || c == 'Z' || c == '+':
			marks++
		default:
			return false
		}
	}
	return digits >= 4 && marks >= 2
}

func isLevel(w string) bool {
	switch strings.ToUpper(w) {
	case "TRACE", "DEBUG", "INFO", "NOTICE", "WARN", "WARNING", "ERROR", "ERR", "CRITICAL", "FATAL", "SEVERE", "E", "W", "I", "D":
		return true
	}
	return false
}
