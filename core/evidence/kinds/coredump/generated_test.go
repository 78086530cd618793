package coredump

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/e2e/generated"
)

// A C program that is generated here has variables of random types, prints them and crashes.
// The dump must say the same, or that it does not know.

// cType is a type of the generated program.
type cType struct {
	name   string // by which variables are declared: name and suffix around them
	suffix string
	print  string // the function that prints one, given its address
}

type cWriter struct {
	*rand.Rand
	types   strings.Builder
	statics strings.Builder
	n       int
}

var cBasic = []struct{ name, format, cast string }{
	{"signed char", "%d", "int"}, {"unsigned char", "%u", "unsigned"}, {"short", "%d", "int"}, {"unsigned short", "%u", "unsigned"}, {"int", "%d", "int"}, {"unsigned", "%u", "unsigned"},
	{"long", "%ld", "long"}, {"unsigned long", "%lu", "unsigned long"}, {"long long", "%lld", "long long"}, {"float", "%.9g", "double"}, {"double", "%.17g", "double"}, {"int16_t", "%d", "int"}, {"uint64_t", "%lu", "unsigned long"}, {"size_t", "%zu", "size_t"},
}

// printer writes the function that prints a type and returns its name.
func (w *cWriter) printer(t cType, body string) string {
	name := fmt.Sprint("print", w.n)
	fmt.Fprintf(&w.types, "typedef %s of%s%s;\nstatic void %s(const volatile of%s *v) { %s }\n\n", t.name, name, t.suffix, name, name, body)
	return name
}

func (w *cWriter) cType(depth int) cType {
	w.n++
	choice := w.IntN(12)
	if depth > 2 {
		choice = w.IntN(7)
	}
	switch choice {
	case 0:
		t := cType{name: "_Bool"}
		t.print = w.printer(t, `printf(*v ? "true" : "false");`)
		return t
	case 1:
		t := cType{name: fmt.Sprintf("enum e%d", w.n)}
		fmt.Fprintf(&w.types, "enum e%d { EBB%d = %d, FLOOD%d, SLACK%d = 1000 };\n", w.n, w.n, w.IntN(9)-4, w.n, w.n)
		t.print = w.printer(t, `printf("%d", (int)*v);`)
		return t
	case 7, 8:
		return w.structure(depth)
	case 9:
		of := w.cType(depth + 1)
		n := 1 + w.IntN(4)
		t := cType{name: of.name, suffix: fmt.Sprintf("[%d]%s", n, of.suffix)}
		w.n++
		t.print = w.printer(t, fmt.Sprintf(`printf("["); for (int i = 0; i < %d; i++) { if (i) printf(" "); %s(&(*v)[i]); } printf("]");`, n, of.print))
		return t
	case 10:
		of := w.cType(depth + 1)
		w.n++
		t := cType{name: "of" + of.print + " *"}
		t.print = w.printer(t, fmt.Sprintf(`if (!*v) printf("nil"); else { printf("&"); %s(*v); }`, of.print))
		return t
	}
	b := cBasic[w.IntN(len(cBasic))]
	t := cType{name: b.name}
	t.print = w.printer(t, fmt.Sprintf(`printf("%s", (%s)*v);`, b.format, b.cast))
	return t
}

// structure makes a struct with fields of any type, and with bit fields.
func (w *cWriter) structure(depth int) cType {
	t := cType{name: fmt.Sprintf("struct s%d", w.n)}
	number := w.n
	var fields, body strings.Builder
	body.WriteString(`printf("{"); `)
	for i := range 1 + w.IntN(5) {
		if i > 0 {
			body.WriteString(`printf(" "); `)
		}
		name := string(rune('a' + i))
		fmt.Fprintf(&body, `printf("%s:"); `, name)
		if w.IntN(5) == 0 {
			kind, format := "unsigned", "%u"
			if w.IntN(2) == 0 {
				kind, format = "int", "%d"
			}
			fmt.Fprintf(&fields, "\t%s %s : %d;\n", kind, name, 2+w.IntN(20))
			fmt.Fprintf(&body, `printf("%s", v->%s); `, format, name)
			continue
		}
		f := w.cType(depth + 1)
		fmt.Fprintf(&fields, "\tof%s %s;\n", f.print, name)
		fmt.Fprintf(&body, `%s(&v->%s); `, f.print, name)
	}
	fmt.Fprintf(&w.types, "struct s%d {\n%s}%s;\n", number, fields.String(), []string{"", "", " __attribute__((packed))"}[w.IntN(3)])
	w.n++
	body.WriteString(`printf("}");`)
	t.print = w.printer(t, body.String())
	return t
}

const cHead = `#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static unsigned long long state = %d;

// fill gives the bytes of a value that C may give them; pointers are set apart.
static void fill(void *p, size_t n) {
	unsigned char *b = p;
	for (size_t i = 0; i < n; i++) {
		state = state * 6364136223846793005ULL + 1442695040888963407ULL;
		b[i] = (state >> 40) & 0x3f;
	}
}

static void truth(const char *function, const char *name) { printf("\nTRUTH\t%%s\t%%s\t", function, name); }

`

// value writes the expression that a variable of a type begins with.
func (w *cWriter) program() string {
	var functions, prints, fills strings.Builder
	for i := range 6 { // globals
		t := w.cType(0)
		fmt.Fprintf(&w.statics, "%sof%s g%d;\n", []string{"", "static "}[w.IntN(2)], t.print, i)
		fmt.Fprintf(&fills, "\tfill_%s(&g%d);\n", t.print, i)
		fmt.Fprintf(&prints, "\ttruth(\"\", \"g%d\"); %s(&g%d);\n", i, t.print, i)
	}
	for f := range 5 {
		var body, shown strings.Builder
		parameter := w.cType(1)
		for i := range 4 {
			t := w.cType(0)
			fmt.Fprintf(&body, "\tof%s l%d;\n\tfill_%s(&l%d);\n", t.print, i, t.print, i)
			fmt.Fprintf(&shown, "\ttruth(\"f%d\", \"l%d\"); %s(&l%d);\n", f, i, t.print, i)
		}
		next := "fflush(stdout); abort();"
		if f > 0 {
			next = fmt.Sprintf("callf%d();", f-1)
		}
		if strings.Contains(parameter.suffix, "[") { // arrays cannot be passed
			parameter.name = ""
		}
		if parameter.name == "" {
			fmt.Fprintf(&functions, "__attribute__((noinline)) static void f%d(void) {\n%s%s\t%s\n}\nstatic void callf%d(void) { f%d(); }\n\n", f, body.String(), shown.String(), next, f, f)
			continue
		}
		fmt.Fprintf(&functions, "__attribute__((noinline)) static void f%d(of%s p) {\n%s%s\ttruth(\"f%d\", \"p\"); %s(&p);\n\t%s\n}\nstatic void callf%d(void) { of%s p; fill_%s(&p); f%d(p); }\n\n",
			f, parameter.print, body.String(), shown.String(), f, parameter.print, next, f, parameter.print, parameter.print, f)
	}
	return fmt.Sprintf(cHead, w.IntN(1<<30)) + w.types.String() + w.fillers() + w.statics.String() + functions.String() + "int main(void) {\n" + fills.String() + prints.String() + "\tcallf4();\n}\n"
}

// fillers writes, for each type, the function that fills a value: pointers point to something, or
// are null.
func (w *cWriter) fillers() string {
	var out strings.Builder
	for _, l := range strings.Split(w.types.String(), "\n") {
		if !strings.HasPrefix(l, "typedef ") {
			continue
		}
		_, name, _ := strings.Cut(strings.TrimSuffix(l, ";"), " ofprint")
		number := strings.FieldsFunc(name, func(r rune) bool { return r < '0' || r > '9' })[0]
		fmt.Fprintf(&out, "static void fill_print%s(ofprint%s *v);\n", number, number)
	}
	return out.String() + w.bodies()
}

func (w *cWriter) bodies() string {
	var out strings.Builder
	lines := strings.Split(w.types.String(), "\n")
	for i, l := range lines {
		if !strings.HasPrefix(l, "typedef ") {
			continue
		}
		declared := strings.TrimSuffix(strings.TrimPrefix(l, "typedef "), ";")
		of, name, _ := strings.Cut(declared, " ofprint")
		number, suffix, _ := strings.Cut(name, "[")
		fmt.Fprintf(&out, "static void fill_print%s(ofprint%s *v) {\n", number, number)
		printer := lines[i+1]
		switch {
		case suffix != "":
			inner := between(printer, "printf(\" \"); ", "(&(*v)[i])")
			fmt.Fprintf(&out, "\tfor (size_t i = 0; i < sizeof *v / sizeof (*v)[0]; i++) fill_%s(&(*v)[i]);\n", inner)
		case of == "_Bool":
			out.WriteString("\tunsigned char b; fill(&b, 1); *v = b & 1;\n")
		case strings.HasPrefix(of, "enum"):
			out.WriteString("\t*v = 1000;\n")
		case strings.HasSuffix(of, "*"):
			target := strings.TrimSuffix(strings.TrimPrefix(of, "of"), " *")
			fmt.Fprintf(&out, "\tunsigned char b; fill(&b, 1);\n\tif (b & 3) { *v = malloc(sizeof(of%s)); fill_%s(*v); } else *v = 0;\n", target, target)
		case strings.HasPrefix(of, "struct"):
			for _, part := range strings.Split(printer, `printf("`)[1:] {
				field, rest, ok := strings.Cut(part, `:"); `)
				switch {
				case !ok:
				case strings.HasPrefix(rest, "print"):
					f, _, _ := strings.Cut(rest, "(")
					fmt.Fprintf(&out, "\t{ of%s x; fill_%s(&x); memcpy(&v->%s, &x, sizeof x); }\n", f, f, field)
				default:
					fmt.Fprintf(&out, "\t{ unsigned char b; fill(&b, 1); v->%s = b & 1; }\n", field)
				}
			}
		default:
			out.WriteString("\tfill(v, sizeof *v);\n")
		}
		out.WriteString("}\n")
	}
	return out.String()
}

func between(s, from, to string) string {
	_, s, _ = strings.Cut(s, from)
	s, _, _ = strings.Cut(s, to)
	return s
}

// rendered writes a value of a dump as the program writes its own; ok is false if some of it is not
// known.
func rendered(v replay.Value) (text string, ok bool) {
	switch {
	case v.State != event.Known || v.Type == nil && !v.Nil:
		return "", false
	case v.Nil:
		return "nil", true
	}
	switch v.Form() {
	case event.Int, event.Uint, event.Opaque:
		if v.Type.Size == 16 { // in a text of its own
			return v.Text(), true
		}
	}
	switch v.Form() {
	case event.Bool:
		return strconv.FormatBool(v.Uint != 0), true
	case event.Int:
		return strconv.FormatInt(v.Int, 10), true
	case event.Uint, event.Opaque:
		return strconv.FormatUint(v.Uint, 10), true
	case event.Float:
		return strconv.FormatFloat(v.Float, 'g', 17, 64), true
	case event.Pointer:
		text, ok = rendered(v.Deref())
		return "&" + text, ok
	case event.Text:
		const pointer = 8
		if v.Type.Size == pointer { // to a number of one byte, which happens to lead to text
			return fmt.Sprint("&", (v.Value.Text + "\x00")[0]), true
		}
		return `"` + v.Value.Text + `"`, true
	case event.Interface: // what may hold a value
		return rendered(v.With(v.Items[0]))
	case event.Map:
		pairs, all := v.Memory.Entries(v.Address, v.Type)
		var parts []string
		for i := 0; i+1 < len(pairs); i += 2 {
			text, ok := rendered(v.With(pairs[i]))
			if of, known := rendered(v.With(pairs[i+1])); v.Type.Elem != 0 {
				text, ok = text+"="+of, ok && known
			}
			all = all && ok
			parts = append(parts, text)
		}
		return "<" + strings.Join(parts, " ") + ">", all && uint64(len(parts)) == v.Length
	}
	children, _ := v.Children(replay.Page{Count: 100})
	var parts []string
	for _, c := range children {
		text, ok := rendered(c.Value)
		if !ok {
			return "", false
		}
		if v.Form() == event.Struct {
			text = c.Name + ":" + text
		}
		parts = append(parts, text)
	}
	if v.Form() == event.Struct {
		return "{" + strings.Join(parts, " ") + "}", true
	}
	return "[" + strings.Join(parts, " ") + "]", true
}

// normal writes all broken numbers of a text alike.
func normal(s string) string {
	var out strings.Builder
	for _, word := range strings.FieldsFunc(spaced(s), func(r rune) bool { return r == ' ' }) {
		if x, err := strconv.ParseFloat(word, 64); err == nil && strings.ContainsAny(word, ".en") {
			word = strconv.FormatFloat(float64(float32(x)), 'g', 6, 64)
		}
		out.WriteString(word + " ")
	}
	return out.String()
}

func spaced(s string) string {
	return strings.NewReplacer("<", " < ", ">", " > ", "=", " = ", "{", " { ", "}", " } ", "[", " [ ", "]", " ] ", ":", " : ", "&", " & ").Replace(s)
}

// someOf makes up to five expressions, with commas between them.
func someOf(random *rand.Rand, f func() string) string {
	list := make([]string, random.IntN(6))
	for i := range list {
		list[i] = f()
	}
	return strings.Join(list, ", ")
}

// compareTruths compares what a program printed of the variables of a function with what its dump says; at least 20 must be known.
func compareTruths(t *testing.T, d *Dump, printed, function string) {
	t.Helper()
	frame := frameNamed(t, d, d.failure.Thread, function)
	known := 0
	for l := range strings.Lines(printed) {
		parts := strings.Split(strings.TrimSpace(l), "\t")
		if parts[0] != "TRUTH" {
			continue
		}
		v, ok, err := d.Variable(context.Background(), 0, d.failure.Thread, frame.Index, parts[1])
		require.NoError(t, err)
		require.True(t, ok, parts[1])
		text, ok := rendered(v.Value)
		if assert.True(t, ok, "%s, a %s, is not known: %s", parts[1], v.Type, v.Value.Text()) {
			known++
			assert.Equal(t, normal(parts[2]), normal(text), "%s, a %s: %s", parts[1], v.Type, v.Value.Text())
		}
	}
	assert.GreaterOrEqual(t, known, 20)
}

// programs returns how many programs of a kind are generated: those of WRAITH_TRUTH, else a number, else one in a short run.
func programs(t *testing.T, usual int) int {
	if text := os.Getenv("WRAITH_TRUTH"); text != "" {
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		return n
	}
	if testing.Short() {
		return 1
	}
	return usual
}

func TestGeneratedProgramsTellTheTruth(t *testing.T) {
	t.Parallel()
	// Not with -O2: there the compiler itself says of some variables that they stay in a register
	// that it uses again.
	flags := []string{"-O0 -g", "-O0 -gdwarf-4", "-O0 -g -gz=zlib", "-O0 -g -fno-pie -no-pie", "-Og -g", "-O0 -g -gsplit-dwarf", "-O0 -g -fdebug-types-section"}
	for seed := range programs(t, len(flags)) {
		for _, flag := range []string{flags[0], flags[seed%len(flags)]} {
			t.Run(fmt.Sprint(seed, flag), func(t *testing.T) {
				t.Parallel()
				w := &cWriter{Rand: rand.New(rand.NewPCG(uint64(seed), 14))}
				dir := t.TempDir()
				source, binary := filepath.Join(dir, "generated.c"), filepath.Join(dir, "generated")
				require.NoError(t, os.WriteFile(source, []byte(w.program()), 0o600))
				compile(t, "gcc", append(strings.Fields(flag), "-o", binary, source)...)
				core, printed := crash(t, binary)
				d := openDump(t, core, Options{Modules: sourcesOf(binary)})
				known, all := 0, 0
				for _, l := range strings.Split(printed, "\n") {
					parts := strings.Split(l, "\t")
					if parts[0] != "TRUTH" {
						continue
					}
					all++
					function := parts[1]
					if function == "" {
						function = "main"
					}
					frame := frameNamed(t, d, d.failure.Thread, function)
					v, ok, err := d.Variable(context.Background(), 0, d.failure.Thread, frame.Index, parts[2])
					require.NoError(t, err)
					if !ok {
						assert.NotContains(t, flag, "-O0", "%s of %s is missing", parts[2], function)
						continue
					}
					text, ok := rendered(v.Value)
					if !ok {
						assert.NotContains(t, flag, "-O0", "%s of %s is not known: %s", parts[2], function, v.Value.Text())
						continue
					}
					known++
					assert.Equal(t, normal(parts[3]), normal(text), "%s of %s, a %s: %s", parts[2], function, v.Type, v.Value.Text())
				}
				assert.GreaterOrEqual(t, all, 26)
				assert.GreaterOrEqual(t, known, 6, "of %d values", all)
			})
		}
	}
}

// What a dump of a Go program says of variables of random types is what it printed before it
// crashed.
func TestGeneratedGoProgramsTellTheTruth(t *testing.T) {
	t.Parallel()
	for seed := range programs(t, 4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			text, truths := generated.Go(uint64(seed), true)
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(text), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module generated\n\ngo 1.24\n"), 0o600))
			binary := buildGo(t, dir, "-gcflags=all=-N -l")
			core, printed := crashOf(t, []string{"GOTRACEBACK=crash"}, binary)
			d := openDump(t, core, Options{Modules: sourcesOf(binary)})
			// The last value that each function printed of a variable is the one in the dump.
			last := map[string]string{}
			functionAt := map[int]string{}
			function := ""
			for i, l := range strings.Split(text, "\n") {
				if name, ok := strings.CutPrefix(l, "func f"); ok {
					function = "main.f" + name[:strings.IndexByte(name, '(')]
				}
				functionAt[i+1] = function
			}
			seen := 0
			for _, l := range strings.Split(printed, "\n") {
				if parts := strings.Split(l, "\t"); parts[0] == "TRUTH" {
					seen++
					line, err := strconv.Atoi(parts[1])
					require.NoError(t, err)
					last[functionAt[line]+" "+parts[2]] = parts[3]
				}
			}
			require.Equal(t, truths, seen)
			assert.Greater(t, len(last), 14)
			for place, want := range last {
				function, name, _ := strings.Cut(place, " ")
				frame := frameNamed(t, d, d.failure.Thread, function)
				v, ok, err := d.Variable(context.Background(), 0, d.failure.Thread, frame.Index, name)
				require.NoError(t, err)
				require.True(t, ok, place)
				if strings.Contains(v.Value.Why(), "which the debug information does not have") {
					continue // the linker left the type out
				}
				assert.Equal(t, want, generated.Render(v.Value), "%s, a %s", place, v.Type)
			}
		})
	}
}
