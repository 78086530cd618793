package traceback

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Crashes are made at random and written as each language's runtime writes them. What is read
// must be the crash again, also where a log has put something before each line, and where the
// end of the text is cut off.

type crashMaker struct{ *rand.Rand }

func (m crashMaker) word() string {
	return []string{"assign", "berth", "tide", "reading", "pilot", "x", "Quay3"}[m.IntN(7)]
}

func (m crashMaker) message() string {
	return []string{"no berth", "tide is low: 0.4 m", "quay \"Kelp 3\" is full", "42", "a (b) [c]", "at sea"}[m.IntN(6)]
}

// frames makes frames, innermost first.
func (m crashMaker) frames(function func() string, file func() string, columns bool) (list []Frame) {
	for range 1 + m.IntN(6) {
		f := Frame{Function: function(), File: file(), Line: 1 + m.IntN(2000)}
		if columns {
			f.Column = 1 + m.IntN(80)
		}
		list = append(list, f)
	}
	return list
}

// failing is an error with the frames at which it was made; the list of them is a chain, the
// outermost first.
type failing struct {
	Cause
	frames []Frame
}

// writtenCrash is a crash with its text.
type writtenCrash struct {
	text     string
	language string
	chain    []failing
	threads  []Thread // besides those of the chain
	more     string   // what may continue the message of the last error
}

func (m crashMaker) golang() writtenCrash {
	c := writtenCrash{language: "Go"}
	function := func() string {
		return []string{"main." + m.word(), "gannet/harbour.(*Office)." + m.word(), "main." + m.word() + ".func1", "gannet/tide.Read[...]", "gannet.example/v2/x%2ey." + m.word()}[m.IntN(5)]
	}
	file := func() string { return "/src/" + m.word() + ".go" }
	var text strings.Builder
	fmt.Fprintf(&text, "panic: %s\n", m.message())
	message := strings.TrimSuffix(strings.TrimPrefix(text.String(), "panic: "), "\n")
	text.WriteString("\n")
	for i := range 1 + m.IntN(4) {
		t := Thread{Name: fmt.Sprint("goroutine ", i*7+1), Kind: "goroutine", State: []string{"running", "chan receive", "chan receive, 2 minutes", "select", "IO wait, locked to thread"}[m.IntN(5)], Frames: m.frames(function, file, false)}
		fmt.Fprintf(&text, "%s [%s]:\n", t.Name, t.State)
		for j := range t.Frames {
			f := &t.Frames[j]
			args := []string{"()", "(...)", "(0x1, 0xc000012345)", "({0x1, 0x2}, 0x3?)", "(0x1, ...)"}[m.IntN(5)]

			offset := fmt.Sprintf(" +0x%x", 1+m.IntN(4000))
			if args == "(...)" {
				offset = ""
			}
			fmt.Fprintf(&text, "%s%s\n\t%s:%d%s\n", f.Function, args, f.File, f.Line, offset)
		}
		if m.IntN(2) == 0 && i > 0 {
			t.Creator = "main.main in goroutine 1 at /src/main.go:9"
			text.WriteString("created by main.main in goroutine 1\n\t/src/main.go:9 +0x1d\n")
		}
		text.WriteString("\n")
		if i == 0 {
			c.chain = []failing{{Cause{"panic", message}, t.Frames}}
		} else {
			c.threads = append(c.threads, t)
		}
	}
	c.text = text.String() + "exit status 2\n"
	return c
}

func (m crashMaker) python() writtenCrash {
	c := writtenCrash{language: "Python"}
	var blocks []string
	for range 1 + m.IntN(3) { // the first one that was raised is first
		f := failing{Cause{[]string{"ValueError", "harbour.TideError", "KeyError", "OSError"}[m.IntN(4)], m.message()}, m.frames(m.word, func() string { return "/src/" + m.word() + ".py" }, false)}
		var text strings.Builder
		text.WriteString("Traceback (most recent call last):\n")
		for i := len(f.frames) - 1; i >= 0; i-- {
			x := f.frames[i]
			fmt.Fprintf(&text, "  File %q, line %d, in %s\n", x.File, x.Line, x.Function)
			if m.IntN(3) > 0 {
				fmt.Fprintf(&text, "    %s(berth, depth=3)\n", m.word())
				if m.IntN(3) == 0 {
					text.WriteString("    ~~~~~~^^^^^\n")
				}
			}
		}
		for range m.IntN(4) { // further lines, and notes
			f.Message += "\n" + []string{"depth", "  Input should be a number", "while reading tide.csv", "", "(see the manual)", "3 berths"}[m.IntN(6)]
		}
		f.Message = strings.TrimRight(f.Message, "\n")
		fmt.Fprintf(&text, "%s: %s\n", f.Type, f.Message)
		blocks = append(blocks, text.String())
		c.chain = append([]failing{f}, c.chain...)
	}
	// No sentence follows the last error: of its message only what is indented is known.
	last := &c.chain[0]
	lines := strings.Split(last.Message, "\n")
	known := 1
	for i := 1; i < len(lines) && (lines[i] == "" || strings.HasPrefix(lines[i], "  ")); i++ {
		if lines[i] != "" {
			known = i + 1
		}
	}
	last.Message = strings.Join(lines[:known], "\n")
	c.more = strings.Trim(strings.Join(lines[known:], "\n"), "\n")
	for i, b := range blocks {
		if i > 0 {
			c.text += "\n" + []string{"The above exception was the direct cause of the following exception:", "During handling of the above exception, another exception occurred:"}[m.IntN(2)] + "\n\n"
		}
		c.text += b
	}
	return c
}

func (m crashMaker) java() writtenCrash {
	c := writtenCrash{language: "Java"}
	class := func() string {
		return []string{"harbour.Office", "gannet.sound.Tide$Reader", "gannet.Berths$$Lambda"}[m.IntN(3)]
	}
	frames := func() []Frame {
		return m.frames(func() string { return class() + "." + []string{"assign", "<init>", "lambda$run$0"}[m.IntN(3)] }, func() string { return m.word() + []string{".java", ".kt", ".scala"}[m.IntN(3)] }, false)
	}
	var text strings.Builder
	outer := frames()
	for i := range 1 + m.IntN(3) {
		f := failing{Cause{[]string{"java.lang.IllegalStateException", "gannet.TideError", "java.io.IOException"}[m.IntN(3)], m.message()}, nil}
		head, common := `Exception in thread "main" `, 0
		own := outer
		if i > 0 {
			head, own = "Caused by: ", frames()
			common = m.IntN(len(outer) + 1) // the outer frames that the error before has too
		}
		fmt.Fprintf(&text, "%s%s: %s\n", head, f.Type, f.Message)
		for _, x := range own {
			fmt.Fprintf(&text, "\tat %s(%s:%d)\n", x.Function, x.File, x.Line)
		}
		if common > 0 {
			fmt.Fprintf(&text, "\t... %d more\n", common)
		}
		f.frames = append(append([]Frame{}, own...), outer[len(outer)-common:]...)
		outer = f.frames
		if i == 0 {
			outer = own
		}
		c.chain = append(c.chain, f)
	}
	c.text = text.String()
	return c
}

func (m crashMaker) node() writtenCrash {
	c := writtenCrash{language: "JavaScript"}
	f := failing{Cause{[]string{"Error", "TypeError", "TideError"}[m.IntN(3)], m.message()}, m.frames(func() string {
		return []string{"assign", "Office.assign", "new Berth", "Object.<anonymous>"}[m.IntN(4)]
	}, func() string { return "/src/" + m.word() + ".js" }, true)}
	var text strings.Builder
	fmt.Fprintf(&text, "/src/%s.js:%d\n    throw new Error('fog')\n    ^\n\n%s: %s\n", m.word(), f.frames[0].Line, f.Type, f.Message)
	for i := range f.frames {
		x := &f.frames[i]
		if m.IntN(4) == 0 {
			x.Function = "<anonymous>"
			fmt.Fprintf(&text, "    at %s:%d:%d\n", x.File, x.Line, x.Column)
			continue
		}
		fmt.Fprintf(&text, "    at %s (%s:%d:%d)\n", x.Function, x.File, x.Line, x.Column)
	}
	c.chain = []failing{f}
	c.text = text.String() + "\nNode.js v20.20.2\n"
	return c
}

func (m crashMaker) rust() writtenCrash {
	c := writtenCrash{language: "Rust"}
	f := failing{Cause{"panic", m.message()}, m.frames(func() string {
		return []string{"harbour::assign", "core::panicking::panic_fmt", "<harbour::Berth as harbour::Place>::tide", "main"}[m.IntN(4)]
	}, func() string { return "src/" + m.word() + ".rs" }, true)}
	var text strings.Builder
	fmt.Fprintf(&text, "thread 'main' panicked at src/main.rs:7:9:\n%s\nstack backtrace:\n", f.Message)
	for i, x := range f.frames {
		fmt.Fprintf(&text, "%4d: %s\n             at ./%s:%d:%d\n", i, x.Function, x.File, x.Line, x.Column)
	}
	for i := range f.frames {
		f.frames[i].File = "./" + f.frames[i].File
	}
	text.WriteString("note: Some details are omitted, run with `RUST_BACKTRACE=full` for a verbose backtrace.\n")
	c.chain, c.text = []failing{f}, text.String()
	return c
}

func (m crashMaker) dotnet() writtenCrash {
	c := writtenCrash{language: ".NET"}
	for range 1 + m.IntN(3) {
		f := failing{Cause{[]string{"System.InvalidOperationException", "Gannet.Tide.TideException"}[m.IntN(2)], m.message()},
			m.frames(func() string {
				return []string{"Gannet.Office.Assign", "Gannet.Office.<Run>b__0", "Gannet.Berths`1.get_Tide"}[m.IntN(3)]
			}, func() string { return "/src/" + m.word() + ".cs" }, false)}
		c.chain = append(c.chain, f)
	}
	var text strings.Builder
	text.WriteString("Unhandled exception. ")
	for i, f := range c.chain {
		if i > 0 {
			text.WriteString(" ---> ")
		}
		fmt.Fprintf(&text, "%s: %s\n", f.Type, f.Message)
	}
	for i := len(c.chain) - 1; i >= 0; i-- {
		for j := range c.chain[i].frames {
			x := &c.chain[i].frames[j]
			args := []string{"", "Int32 berth, String quay"}[m.IntN(2)]
			if args != "" {
				x.Note = "takes " + args
			}
			fmt.Fprintf(&text, "   at %s(%s) in %s:line %d\n", x.Function, args, x.File, x.Line)
		}
		if i > 0 {
			text.WriteString("   " + dotnetEnd + "\n")
		}
	}
	c.text = text.String()
	return c
}

// makers are all languages that are generated.
var makers = map[string]func(crashMaker) writtenCrash{"Go": crashMaker.golang, "Python": crashMaker.python, "Java": crashMaker.java, "JavaScript": crashMaker.node, "Rust": crashMaker.rust, ".NET": crashMaker.dotnet}

// bare is a frame without what the test does not say of it.
func bare(list []Frame) (out []string) {
	for _, f := range list {
		out = append(out, fmt.Sprintf("%s %s:%d:%d %s", f.Function, f.File, f.Line, f.Column, f.Note))
	}
	return out
}

// check compares a crash that was read with what was written.
func (c writtenCrash) check(t *testing.T, got *Crash, label string) {
	t.Helper()
	require.Equal(t, c.language, got.Language, label)
	var causes []Cause
	if c.more != "" {
		first, _, _ := strings.Cut(c.more, "\n")
		require.NotEmpty(t, got.Gaps, label)
		require.Contains(t, got.Gaps[0].What, ": "+first, label)
	}
	for _, f := range c.chain {
		causes = append(causes, f.Cause)
	}
	require.Equal(t, causes, got.Causes, label)
	require.GreaterOrEqual(t, len(got.Threads), len(c.chain), label)
	for i, f := range c.chain {
		require.Equal(t, bare(f.frames), bare(got.Threads[i].Frames), "%s: frames of error %d", label, i)
	}
	rest := got.Threads[len(c.chain):]
	require.Len(t, rest, len(c.threads), label)
	for i, th := range c.threads {
		require.Equal(t, []string{th.Name, th.Kind, th.State, th.Creator}, []string{rest[i].Name, rest[i].Kind, rest[i].State, rest[i].Creator}, label)
		require.Equal(t, bare(th.Frames), bare(rest[i].Frames), label)
	}
}

func TestGeneratedCrashes(t *testing.T) {
	t.Parallel()
	for language, make := range makers {
		for seed := range uint64(300) {
			m := crashMaker{rand.New(rand.NewPCG(seed, 15))}
			c := make(m)
			label := fmt.Sprintf("%s, seed %d:\n%s", language, seed, c.text)
			got, ok := Parse(c.text)
			require.True(t, ok, label)
			c.check(t, got, label)
			require.True(t, Is([]byte(c.text)), label)
			outermost, _ := Outermost(c.text)
			require.Equal(t, c.chain[0].Cause, outermost)
			require.Greater(t, Share([]byte(c.text)), 0.5, label)

			got, ok = Parse(strings.ReplaceAll(c.text, "\n", "\r\n"))
			require.True(t, ok, label)
			c.check(t, got, "with carriage returns, "+label)

			prefix := []string{"2026-03-01T06:00:00Z ", "[ERROR] ", "2026-03-01 06:00:00,123 ERROR ", "harbour-1  | ", "E 12:30:05.123 ", "harbour[4711]: "}[m.IntN(6)]
			logged := "the harbour opens\n" + prefix + strings.ReplaceAll(strings.TrimSuffix(c.text, "\n"), "\n", "\n"+prefix) + "\nthe harbour closes\n"
			got, ok = Parse(logged)
			require.True(t, ok, logged)
			c.check(t, got, "in a log, "+logged)
		}
	}
}

// Of a text that is cut off, what is there is read: each frame is one of the whole text.
func TestCutOffCrashes(t *testing.T) {
	t.Parallel()
	for language, make := range makers {
		for seed := range uint64(200) {
			m := crashMaker{rand.New(rand.NewPCG(seed, 16))}
			c := make(m)
			whole := map[string]bool{}
			for _, f := range c.chain {
				for _, x := range f.frames {
					whole[fmt.Sprint(x.File, ":", x.Line)] = true
				}
			}
			for _, th := range c.threads {
				for _, x := range th.Frames {
					whole[fmt.Sprint(x.File, ":", x.Line)] = true
				}
			}
			whole["src/main.rs:7"] = true // the place of a panic
			lines := strings.SplitAfter(c.text, "\n")
			text := strings.Join(lines[:m.IntN(len(lines))], "")
			got, ok := Parse(text)
			if !ok {
				continue
			}
			for _, th := range got.Threads {
				for _, f := range th.Frames {
					if f.Line > 0 {
						assert.True(t, whole[fmt.Sprint(f.File, ":", f.Line)], "%s, seed %d: %s:%d is not in\n%s", language, seed, f.File, f.Line, text)
					}
				}
			}
			if language == "Go" && strings.Contains(text, "goroutine 1 [") {
				assert.Equal(t, c.chain[0].Message, got.Causes[0].Message)
			}
		}
	}
}
