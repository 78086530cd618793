package debuginfo

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPlainNames(t *testing.T) {
	t.Parallel()
	for full, want := range map[string]string{
		"Quay":                              "Quay",
		"vector<int, std::allocator<int> >": "vector<int>",
		"std::map<std::__cxx11::basic_string<char, std::char_traits<char>, std::allocator<char> >, std::vector<int, std::allocator<int> >, std::less<std::__cxx11::basic_string<char, std::char_traits<char>, std::allocator<char> > >, std::allocator<std::pair<std::__cxx11::basic_string<char, std::char_traits<char>, std::allocator<char> > const, std::vector<int, std::allocator<int> > > > >": "std::map<std::string, std::vector<int>>",
		"set<int, std::greater<int>, std::allocator<int> >": "set<int, std::greater<int>>",
		"vector<int, harbour::pool<int> >":                  "vector<int, harbour::pool<int>>",
		"unordered_map<int, berth, std::hash<int>, std::equal_to<int>, std::allocator<std::pair<int const, berth> > >": "unordered_map<int, berth>",
		"unique_ptr<harbour::Vessel, std::default_delete<harbour::Vessel> >":                                           "unique_ptr<harbour::Vessel>",
		"basic_string<wchar_t, std::char_traits<wchar_t>, std::allocator<wchar_t> >":                                   "wstring",
		"basic_string_view<char, std::char_traits<char> >":                                                             "string_view",
		"stack<int, std::deque<int, std::allocator<int> > >":                                                           "stack<int>",
		"priority_queue<int, std::vector<int, std::allocator<int> >, std::less<int> >":                                 "priority_queue<int>",
		"function<void(std::vector<int, std::allocator<int> > const&)>":                                                "function<void(std::vector<int> const&)>",
		"Span<short int>":                          "Span<short int>",
		"harbour::pool<int, std::allocator<int> >": "harbour::pool<int, std::allocator<int>>", // with unknown defaults
		"array<short int, 3>":                      "array<short int, 3>",
		// What is not as it should be stays.
		"vector<int": "vector<int", "a>b": "a>b", "f<')'>": "f<')'>", "g<int>)": "g<int>)", "bool operator< <int>": "bool operator< <int>", "x<main()::{lambda(int)#1}>": "x<main()::{lambda(int)#1}>",
		strings.Repeat("a<", 100) + strings.Repeat(">", 100): strings.Repeat("a<", 100) + strings.Repeat(">", 100),
	} {
		assert.Equal(t, want, PlainName(full))
	}
}

// FuzzPlainName ends on any name, and gives what it shortened back as it is.
func FuzzPlainName(f *testing.F) {
	f.Add("vector<std::pair<int, char>, std::allocator<std::pair<int, char> > >")
	f.Add("f<void (*)(int), a>::g<b>")
	f.Fuzz(func(t *testing.T, name string) {
		once := PlainName(name)
		if again := PlainName(once); again != once && PlainName(again) != again {
			t.Fatalf("%q, %q, %q", name, once, again)
		}
	})
}
