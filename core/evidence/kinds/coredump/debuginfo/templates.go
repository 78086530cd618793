package debuginfo

import (
	"regexp"
	"strings"
)

// defaulted are the default arguments of templates of C++'s standard library.
var defaulted = map[string]bool{"allocator": true, "char_traits": true, "less": true, "hash": true, "equal_to": true, "default_delete": true}

// containers are the templates of the standard library with default arguments.
var containers = map[string]bool{
	"vector": true, "list": true, "forward_list": true, "deque": true, "map": true, "multimap": true, "set": true, "multiset": true,
	"unordered_map": true, "unordered_multimap": true, "unordered_set": true, "unordered_multiset": true, "priority_queue": true,
	"basic_string": true, "basic_string_view": true, "unique_ptr": true,
}

// adapters are the templates whose second argument is a container by default.
var adapters = map[string]string{"stack": "deque", "queue": "deque", "priority_queue": "vector"}

var strung = map[string]string{"char": "", "wchar_t": "w", "char8_t": "u8", "char16_t": "u16", "char32_t": "u32"}

// maxNameDepth limits the nesting of templates in a name.
const maxNameDepth = 32

// PlainName shortens a C++ name to the form in which people write it: without default arguments of
// standard templates and without version namespaces. A name that is not in the compiler's notation
// is returned as it is.
func PlainName(name string) string {
	if !strings.Contains(name, "<") || strings.Contains(name, "operator") {
		return name
	}
	out, rest, ok := plainName(name, 0)
	if !ok || rest != "" {
		return name
	}
	return out
}

// plainName shortens a name up to the next comma or bracket.
func plainName(s string, depth int) (out, rest string, ok bool) {
	if depth > maxNameDepth {
		return "", s, false
	}
	var b strings.Builder
	parens := 0
	for s != "" {
		at := strings.IndexAny(s, "<>,(){}'\"")
		if at < 0 {
			b.WriteString(s)
			return withoutVersions(b.String()), "", parens == 0
		}
		b.WriteString(s[:at])
		c := s[at]
		switch {
		case c == '<':
			arguments, after, ok := argumentsOf(s[at+1:], depth)
			if !ok {
				return "", s, false
			}
			head := withoutVersions(b.String())
			b.Reset()
			b.WriteString(applied(head, arguments))
			s = after
			continue
		case c == '>' || c == ',':
			if parens == 0 {
				return withoutVersions(b.String()), s[at:], true
			}
		case c == '(':
			parens++
		case c == ')':
			parens--
		default: // names of lambdas and characters have many notations
			return "", s, false
		}
		if parens < 0 {
			return "", s, false
		}
		b.WriteByte(c)
		s = s[at+1:]
	}
	return withoutVersions(b.String()), "", parens == 0
}

// argumentsOf parses a template's arguments after the opening bracket.
func argumentsOf(s string, depth int) (list []string, rest string, ok bool) {
	for {
		one, after, ok := plainName(s, depth+1)
		if !ok || after == "" {
			return nil, s, false
		}
		list = append(list, strings.TrimSpace(one))
		s = strings.TrimLeft(after[1:], " ")
		if after[0] == '>' {
			return list, after[1:], true
		}
	}
}

var versions = strings.NewReplacer("std::__cxx11::", "std::", "std::__1::", "std::")

// withoutVersions removes version namespaces of the library.
func withoutVersions(s string) string { return versions.Replace(s) }

// bare returns the name of a template without its namespaces.
func bare(s string) string {
	s, _, _ = strings.Cut(s, "<")
	if i := strings.LastIndexAny(s, ": &*"); i >= 0 {
		s = s[i+1:]
	}
	return s
}

// applied writes a template with its arguments.
func applied(head string, arguments []string) string {
	name := bare(head)
	if containers[name] {
		for len(arguments) > 1 && defaulted[bare(arguments[len(arguments)-1])] {
			arguments = arguments[:len(arguments)-1]
		}
	}
	if name == "span" && len(arguments) == 2 && strings.HasPrefix(arguments[1], "18446744073709551615") {
		arguments = arguments[:1] // the number of elements is not part of the name
	}
	if held, ok := adapters[name]; ok && len(arguments) == 2 && bare(arguments[1]) == held {
		arguments = arguments[:1]
	}
	if len(arguments) == 1 && (name == "basic_string" || name == "basic_string_view") {
		if of, ok := strung[arguments[0]]; ok {
			return strings.TrimSuffix(head, name) + of + strings.TrimPrefix(name, "basic_")
		}
	}
	return head + "<" + strings.Join(arguments, ", ") + ">"
}

var (
	rustDefaults = strings.NewReplacer(", alloc::alloc::Global", "", ", std::hash::random::RandomState", "")
	rustPaths    = regexp.MustCompile(`\b(?:alloc|core|std)::(?:[a-z_0-9]+::)+([A-Z])`)
)

// plainRust shortens a Rust name: without default arguments of the standard library and without
// paths of types.
func plainRust(name string) string {
	return rustPaths.ReplaceAllString(rustDefaults.Replace(name), "$1")
}
