package structuredlog

import (
	"slices"
	"strconv"
	"strings"
)

// severity is what a level means.
type severity uint8

const (
	noLevel severity = iota
	lesser
	failing
)

// levelWords are the words that libraries use for levels, in lower case.
var levelWords = func() map[string]severity {
	words := map[string]severity{}
	for _, w := range strings.Fields("trace debug info notice warn warning information informational verbose finest finer fine config success note system log statement detail hint context query audit" +
		" trc dbg inf wrn dbug debu warni verb vrb") {
		words[w] = lesser
	}
	for _, w := range strings.Fields("error err fatal critical crit alert emerg emergency panic severe dpanic eror erro ftl pnc fata pani") {
		words[w] = failing
	}
	return words
}()

// levelLetters are the one-letter levels that some libraries write.
var levelLetters = map[string]string{"T": "TRACE", "D": "DEBUG", "V": "VERBOSE", "I": "INFO", "N": "NOTICE", "W": "WARNING", "E": "ERROR", "C": "CRITICAL", "F": "FATAL"}

// severityOf returns what a level's name means: also ERROR+4, which lies between two levels.
func severityOf(word string) severity {
	if s, ok := levelWords[strings.ToLower(word)]; ok {
		return s
	}
	if i := strings.IndexAny(word, "+-"); i > 0 {
		if _, err := strconv.Atoi(word[i:]); err == nil {
			return levelWords[strings.ToLower(word[:i])]
		}
	}
	return noLevel
}

// errorLevel reports whether a level is that of an error. The scale of a number follows from the field's
// name and the number.
func errorLevel(f *field) bool {
	n, numeric := f.number, f.kind == intField
	if f.kind == textField {
		if s := severityOf(strings.TrimSpace(f.text)); s != noLevel {
			return s == failing
		}
		if name, ok := levelLetters[f.text]; ok {
			return severityOf(name) == failing
		}
		var err error
		n, err = strconv.ParseInt(f.text, 10, 32)
		numeric = err == nil
	}
	if !numeric {
		return false
	}
	const (
		mostSyslog, errorSyslog     = 7, 3     // RFC 5424, section 6.2.1: lower is worse
		errorOTel                   = 17       // OpenTelemetry, severity numbers
		errorPython                 = 40       // by tens, from 10 to 50
		mostTens, errorTens         = 60, 50   // by tens, from 10 to 60
		mostHundreds, errorHundreds = 600, 400 // by hundreds, RFC 5424 reversed
		errorThousands              = 40_000   // by ten thousands
	)
	switch plainName(f.name) {
	case "severitynumber":
		return n >= errorOTel
	case "levelno", "recordlevelno":
		return n >= errorPython
	}
	switch {
	case n < 0:
		return false
	case n <= mostSyslog:
		return n <= errorSyslog
	case n <= mostTens:
		return n >= errorTens
	case n <= mostHundreds:
		return n >= errorHundreds
	}
	return n >= errorThousands
}

// levelAt returns the size of the level that begins a text, or 0. In a bracket every spelling counts. Elsewhere a
// word that is also ordinary English must be in capitals, or something must set it apart.
func levelAt(s string, bracketed bool) int {
	end := 0
	for end < len(s) && isLetter(s[end]) {
		end++
	}
	const longest = len("informational")
	if end == 0 || end > longest {
		return 0
	}
	word := s[:end]
	if end+1 < len(s) && (s[end] == '+' || s[end] == '-') && isDigit(s[end+1]) {
		for end++; end < len(s) && isDigit(s[end]); {
			end++
		}
	}
	if severityOf(word) == noLevel || end < len(s) && (isLetter(s[end]) || isDigit(s[end]) || strings.IndexByte("_./@=", s[end]) >= 0) {
		return 0
	}
	upper := word == strings.ToUpper(word)
	switch apart := end < len(s) && strings.IndexByte("\t|]", s[end]) >= 0; {
	case bracketed, upper, apart:
		return end
	case word != strings.ToLower(word):
		return 0
	case end < len(s) && s[end] == ':' && word != "panic" && word != "fatal", slices.Contains([]string{"trace", "debug", "info", "warn", "warning"}, word) && end < len(s) && s[end] == ' ':
		return end
	}
	return 0
}
