package coredump

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A C++ program that is generated here has containers of containers, prints them and crashes. The
// dump must say the same.

const cppHead = `#include <array>
#include <cstdio>
#include <cstdlib>
#include <deque>
#include <forward_list>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <tuple>
#include <unordered_map>
#include <unordered_set>
#include <variant>
#include <vector>

static void say(bool v) { printf(v ? "true" : "false"); }
static void say(short v) { printf("%d", v); }
static void say(int v) { printf("%d", v); }
static void say(long v) { printf("%ld", v); }
static void say(unsigned long v) { printf("%lu", v); }
static void say(float v) { printf("%.9g", v); }
static void say(double v) { printf("%.17g", v); }
static void say(const std::string &v) { printf("\"%s\"", v.c_str()); }
static void say(const std::vector<bool> &v);
template <class T> void say(const std::vector<T> &v);
template <class T> void say(const std::list<T> &v);
template <class T> void say(const std::forward_list<T> &v);
template <class T> void say(const std::deque<T> &v);
template <class T, size_t n> void say(const std::array<T, n> &v);
template <class T> void say(const std::set<T> &v);
template <class T> void say(const std::multiset<T> &v);
template <class T> void say(const std::unordered_set<T> &v);
template <class K, class V> void say(const std::map<K, V> &v);
template <class K, class V> void say(const std::multimap<K, V> &v);
template <class K, class V> void say(const std::unordered_map<K, V> &v);
template <class T> void say(const std::optional<T> &v);
template <class T> void say(const std::unique_ptr<T> &v);
template <class T> void say(const std::shared_ptr<T> &v);
template <class A, class B> void say(const std::pair<A, B> &v);
template <class... T> void say(const std::tuple<T...> &v);
template <class... T> void say(const std::variant<T...> &v);
`

const cppTail = `
template <class T> void each(const char *open, const T &v, const char *close) {
  printf("%s", open);
  bool first = true;
  for (const auto &x : v) { if (!first) printf(" "); first = false; say(x); }
  printf("%s", close);
}
template <class T> void entries(const T &v) {
  printf("<");
  bool first = true;
  for (const auto &x : v) { if (!first) printf(" "); first = false; say(x.first); printf("="); say(x.second); }
  printf(">");
}
static void say(const std::vector<bool> &v) { printf("["); for (size_t i = 0; i < v.size(); i++) { if (i) printf(" "); say(bool(v[i])); } printf("]"); }
template <class T> void say(const std::vector<T> &v) { each("[", v, "]"); }
template <class T> void say(const std::list<T> &v) { each("[", v, "]"); }
template <class T> void say(const std::forward_list<T> &v) { each("[", v, "]"); }
template <class T> void say(const std::deque<T> &v) { each("[", v, "]"); }
template <class T, size_t n> void say(const std::array<T, n> &v) { each("[", v, "]"); }
template <class T> void say(const std::set<T> &v) { each("<", v, ">"); }
template <class T> void say(const std::multiset<T> &v) { each("<", v, ">"); }
template <class T> void say(const std::unordered_set<T> &v) { each("<", v, ">"); }
template <class K, class V> void say(const std::map<K, V> &v) { entries(v); }
template <class K, class V> void say(const std::multimap<K, V> &v) { entries(v); }
template <class K, class V> void say(const std::unordered_map<K, V> &v) { entries(v); }
template <class T> void say(const std::optional<T> &v) { if (v) say(*v); else printf("nil"); }
template <class T> void say(const std::unique_ptr<T> &v) { if (v) { printf("&"); say(*v); } else printf("nil"); }
template <class T> void say(const std::shared_ptr<T> &v) { if (v) { printf("&"); say(*v); } else printf("nil"); }
template <class A, class B> void say(const std::pair<A, B> &v) { printf("{first:"); say(v.first); printf(" second:"); say(v.second); printf("}"); }
template <class... T> void say(const std::tuple<T...> &v) { printf("["); bool first = true; std::apply([&](const auto &...x) { ((printf(first ? "" : " "), first = false, say(x)), ...); }, v); printf("]"); }
template <class... T> void say(const std::variant<T...> &v) { std::visit([](const auto &x) { say(x); }, v); }
`

type cppWriter struct {
	*rand.Rand
	structs, sayers strings.Builder
	n               int
}

var cppNumbers = []string{"short", "int", "long", "unsigned long", "float", "double", "bool"}

func (w *cppWriter) number(of string) string {
	switch of {
	case "bool":
		return []string{"true", "false"}[w.IntN(2)]
	case "float", "double":
		return fmt.Sprintf("(%s)%d / 8", of, w.IntN(4000)-2000)
	}
	return fmt.Sprintf("(%s)%d", of, w.IntN(30000))
}

func (w *cppWriter) text() string {
	const letters = "abcdefghijklmnopqrstuvwxyz"
	b := make([]byte, []int{0, 3, 15, 16, 40}[w.IntN(5)])
	for i := range b {
		b[i] = letters[w.IntN(len(letters))]
	}
	return `std::string("` + string(b) + `")`
}

// key is a type that has an order and a hash.
func (w *cppWriter) key() (name string, value func() string) {
	if w.IntN(2) == 0 {
		return "std::string", w.text
	}
	of := []string{"short", "int", "long", "unsigned long", "double"}[w.IntN(5)]
	return of, func() string { return w.number(of) }
}

// kind makes a type, and the function that makes expressions of it.
func (w *cppWriter) kind(depth int) (name string, value func() string) {
	choice := w.IntN(18)
	if depth > 2 {
		choice = w.IntN(4)
	}
	some := func(f func() string) string { return someOf(w.Rand, f) }
	switch choice {
	case 0, 1:
		of := cppNumbers[w.IntN(len(cppNumbers))]
		return of, func() string { return w.number(of) }
	case 2:
		return "std::string", w.text
	case 3, 4:
		return w.structure(depth)
	case 5, 6, 7, 8:
		of, inner := w.kind(depth + 1)
		name := fmt.Sprintf("std::%s<%s>", []string{"vector", "list", "deque", "forward_list"}[choice-5], of)
		return name, func() string { return fmt.Sprintf("%s{%s}", name, some(inner)) }
	case 9:
		of, inner := w.kind(depth + 1)
		name := fmt.Sprintf("std::array<%s, 3>", of)
		return name, func() string { return fmt.Sprintf("%s{{%s, %s, %s}}", name, inner(), inner(), inner()) }
	case 10, 11:
		of, inner := w.key()
		name := fmt.Sprintf("std::%s<%s>", []string{"set", "unordered_set", "multiset"}[w.IntN(3)], of)
		return name, func() string { return fmt.Sprintf("%s{%s}", name, some(inner)) }
	case 12, 13:
		key, keys := w.key()
		of, inner := w.kind(depth + 1)
		name := fmt.Sprintf("std::%s<%s, %s>", []string{"map", "unordered_map", "multimap"}[w.IntN(3)], key, of)
		return name, func() string {
			return fmt.Sprintf("%s{%s}", name, some(func() string { return fmt.Sprintf("{%s, %s}", keys(), inner()) }))
		}
	case 14:
		of, inner := w.kind(depth + 1)
		name := fmt.Sprintf("std::optional<%s>", of)
		return name, func() string {
			if w.IntN(3) == 0 {
				return name + "()"
			}
			return fmt.Sprintf("%s(%s)", name, inner())
		}
	case 15:
		of, inner := w.kind(depth + 1)
		name := fmt.Sprintf("std::shared_ptr<%s>", of)
		return name, func() string {
			if w.IntN(3) == 0 {
				return name + "()"
			}
			return fmt.Sprintf("std::make_shared<%s>(%s)", of, inner())
		}
	case 16:
		a, first := w.kind(depth + 1)
		b, second := w.kind(depth + 1)
		name := fmt.Sprintf("std::%s<%s, %s>", []string{"pair", "tuple"}[w.IntN(2)], a, b)
		return name, func() string { return fmt.Sprintf("%s(%s, %s)", name, first(), second()) }
	}
	of, inner := w.kind(depth + 1)
	name = fmt.Sprintf("std::variant<char *, %s, std::string>", of)
	if of == "std::string" || of == "bool" {
		name = fmt.Sprintf("std::variant<int, %s>", of)
	}
	name = strings.Replace(name, "char *", "std::vector<short>", 1)
	return name, func() string { return fmt.Sprintf("%s(std::in_place_index<1>, %s)", name, inner()) }
}

// structure makes a class: plain, packed, or with a larger alignment than its members have.
func (w *cppWriter) structure(depth int) (name string, value func() string) {
	w.n++
	name = fmt.Sprint("Berth", w.n)
	how := w.IntN(4)
	var fields, body strings.Builder
	var values []func() string
	for i := range 1 + w.IntN(4) {
		of, inner := w.kind(depth + 1)
		if how == 0 { // members of a packed class cannot be classes
			of = cppNumbers[w.IntN(len(cppNumbers))]
			inner = func() string { return w.number(of) }
		}
		field := string(rune('a' + i))
		fmt.Fprintf(&fields, "  %s %s;\n", of, field)
		if i > 0 {
			body.WriteString(`printf(" "); `)
		}
		reference := "const auto &"
		if how == 0 { // which cannot refer to a member of a packed class
			reference = "auto "
		}
		fmt.Fprintf(&body, `printf("%s:"); { %sx = v.%s; say(x); } `, field, reference, field)
		values = append(values, inner)
	}
	attribute := []string{"__attribute__((packed)) ", "alignas(32) ", "", ""}[how]
	fmt.Fprintf(&w.structs, "struct %s%s {\n%s};\nvoid say(const %s &v);\n", attribute, name, fields.String(), name)
	fmt.Fprintf(&w.sayers, "void say(const %s &v) { printf(\"{\"); %sprintf(\"}\"); }\n", name, body.String())
	return name, func() string {
		list := make([]string, len(values))
		for i, f := range values {
			list[i] = f()
		}
		return name + "{" + strings.Join(list, ", ") + "}"
	}
}

func (w *cppWriter) program() string {
	var globals, prints strings.Builder
	for i := range 24 {
		name, value := w.kind(0)
		fmt.Fprintf(&globals, "%s g%d = %s;\n", name, i, value())
		fmt.Fprintf(&prints, "  printf(\"\\nTRUTH\\tg%d\\t\"); say(g%d);\n", i, i)
	}
	return cppHead + w.structs.String() + cppTail + w.sayers.String() + globals.String() + "int main() {\n" + prints.String() + "  fflush(stdout);\n  abort();\n}\n"
}

func TestGeneratedContainersTellTheTruth(t *testing.T) {
	t.Parallel()
	flags := []string{"-O0 -g", "-O2 -g -gdwarf-4", "-O0 -g -std=c++20", "-O1 -g -static", "-O0 -g -fdebug-types-section", "-O0 -g " + libcpp, "-O2 -g " + libcpp}
	for seed := range programs(t, len(flags)) {
		t.Run(fmt.Sprint(seed, flags[seed%len(flags)]), func(t *testing.T) {
			t.Parallel()
			w := &cppWriter{Rand: rand.New(rand.NewPCG(uint64(seed), 21))}
			dir := t.TempDir()
			source, binary := filepath.Join(dir, "generated.cc"), filepath.Join(dir, "generated")
			require.NoError(t, os.WriteFile(source, []byte(w.program()), 0o600))
			compile(t, "g++", append(append(strings.Fields("-std=c++17 -w "+flags[seed%len(flags)]), "-o", binary, source), librariesOf(flags[seed%len(flags)])...)...)
			core, printed := crash(t, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			compareTruths(t, d, printed, "main")
		})
	}
}
