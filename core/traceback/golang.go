package traceback

import (
	"strconv"
	"strings"
)

// Go's runtime prints (runtime/panic.go, runtime/traceback.go): the panic or fatal error; then for
// each goroutine a head, "goroutine 7 [chan receive, 2 minutes]:", and for each frame a line with
// the function and its arguments, and an indented one with file, line and offset; last, the creator
// of the goroutine.

type goState struct {
	panicking bool
	creator   bool // the next place is that of the go statement
}

func readGo(p *parser, line string) bool {
	switch line[0] {
	case '\t':
		return goPlace(p, line)
	case 'p':
		if text, ok := strings.CutPrefix(line, "panic: "); ok {
			return goPanic(p, "panic", text, unrelated)
		}
	case 'f':
		if text, ok := strings.CutPrefix(line, "fatal error: "); ok {
			return goPanic(p, "fatal error", text, unrelated)
		}
	case 'h':
		if text, ok := strings.CutPrefix(line, "http: panic serving "); ok { // net/http's server, which continues
			_, text, _ = strings.Cut(text, ": ")
			return goPanic(p, "panic", text, unrelated)
		}
	case 'g':
		if strings.HasPrefix(line, "goroutine ") {
			return goHead(p, line)
		}
	case 'c':
		if text, ok := strings.CutPrefix(line, "created by "); ok && p.current != nil {
			p.current.Creator = text
			p.golang.creator = true
			return true
		}
	case 'r':
		if line == "runtime stack:" {
			p.begin(Thread{Name: "runtime stack", Kind: "goroutine"})
			return true
		}
	case '[':
		return goSignal(p, line)
	case '.':
		if p.inGo() && strings.HasPrefix(line, "...") && strings.Contains(line, "frames elided...") {
			p.current.Cut = true
			return true
		}
	}
	if !p.inGo() {
		return false
	}
	if line == "goroutine running on other thread; stack unavailable" {
		p.current.Cut = true
		return true
	}
	return goFunction(p, line)
}

// inGo reports whether the current lines are a goroutine's frames.
func (p *parser) inGo() bool { return p.current != nil && p.current.Kind == "goroutine" }

func goPanic(p *parser, kind, text string, r relation) bool {
	switch kind {
	case "panic":
		p.language("Go", "panic")
	default:
		p.language("Go", "fatal")
	}
	text = strings.TrimSuffix(strings.TrimSuffix(text, " [recovered, repanicked]"), " [recovered]")
	if p.golang.panicking && r == unrelated && !p.inGo() {
		r = resultOf
	}
	p.fail(failure{Cause: Cause{kind, text}, relation: r, fatal: true})
	p.current = nil // its frames are those of the next goroutine
	p.golang.panicking = true
	return true
}

func goSignal(p *parser, line string) bool {
	text, ok := strings.CutPrefix(line, "[signal ")
	if !ok {
		return false
	}
	text = strings.TrimSuffix(text, "]")
	p.crashed.Signal, _, _ = strings.Cut(text, ":")
	if i := strings.Index(text, " addr="); i >= 0 {
		p.crashed.Address, _, _ = strings.Cut(text[i+len(" addr="):], " ")
	}
	return true
}

// goHead reads "goroutine 7 gp=0x… m=0 mp=0x… [running, locked to thread]:".
func goHead(p *parser, line string) bool {
	rest := line[len("goroutine "):]
	number, rest, ok := strings.Cut(rest, " ")
	open, end := strings.IndexByte(rest, '['), strings.LastIndex(rest, "]:")
	if !ok || strings.Trim(number, "0123456789") != "" || number == "" || open < 0 || end < open {
		return false
	}
	p.language("Go", "fatal")
	t := Thread{Name: "goroutine " + number, Kind: "goroutine", State: rest[open+1 : end]}
	p.golang.creator = false
	if n := len(p.failures); p.golang.panicking && n > 0 && p.failures[n-1].thread.Kind == "" {
		p.failures[n-1].thread = t
		p.current = &p.failures[n-1].thread
		return true
	}
	p.begin(t)
	return true
}

// goFunction reads "main.(*Quay).Assign(0xc000…, {0x…, 0x5}, ...)".
func goFunction(p *parser, line string) bool {
	if line[len(line)-1] != ')' {
		return false
	}
	open := argsBegin(line)
	if open <= 0 || strings.ContainsAny(line[:open], " \t") && !strings.Contains(line[:open], "[") || !strings.ContainsRune(line[:open], '.') && line[:open] != "main" && line[:open] != "panic" {
		return false
	}
	args, rest := words(line[open+1:], 0)
	if rest != ")" {
		return false
	}
	p.golang.creator = false
	p.frame(Frame{Function: line[:open], Args: args})
	return true
}

// argsBegin finds the bracket that opens the arguments: the partner of the last closing one.
func argsBegin(line string) int {
	depth := 0
	for i := len(line) - 1; i >= 0; i-- {
		switch line[i] {
		case ')':
			depth++
		case '(':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// maxNesting limits the nesting of braces; Go prints five levels.
const maxNesting = 32

// words reads arguments up to the closing bracket.
func words(s string, level int) (list []Word, rest string) {
	for {
		s = strings.TrimLeft(s, " ")
		switch {
		case s == "" || s[0] == ')' || s[0] == '}':
			return list, s
		case s[0] == ',':
			s = s[1:]
		case s[0] == '{' && level == maxNesting:
			return list, s
		case s[0] == '{':
			parts, after := words(s[1:], level+1)
			if !strings.HasPrefix(after, "}") {
				return list, s
			}
			list = append(list, Word{Parts: parts})
			s = after[1:]
		default:
			end := strings.IndexAny(s, ",)}")
			if end < 0 {
				return list, s
			}
			text := s[:end]
			if strings.Trim(text, "0123456789abcdefx?._") != "" {
				return list, s
			}
			list = append(list, Word{Text: strings.TrimSuffix(text, "?"), Stale: strings.HasSuffix(text, "?")})
			s = s[end:]
		}
	}
}

// goPlace reads "\t/srv/gannet/berth.go:88 +0x1d", and what follows a panic's line.
func goPlace(p *parser, line string) bool {
	text := line[1:]
	if message, ok := strings.CutPrefix(text, "panic: "); ok && p.golang.panicking {
		return goPanic(p, "panic", message, resultOf)
	}
	if !p.inGo() {
		if n := len(p.failures); p.golang.panicking && n > 0 && p.failures[n-1].thread.Kind == "" {
			extend(&p.failures[n-1].Message, "\n"+text) // a message of several lines
			return true
		}
		return false
	}
	place := text
	if i := strings.LastIndex(place, " +0x"); i > 0 {
		place = place[:i]
	}
	if i := strings.Index(place, " fp=0x"); i > 0 {
		place = place[:i]
	}
	file, number, ok := cutLast(place, ":")
	n, err := strconv.Atoi(number)
	if !ok || err != nil || file == "" {
		return false
	}
	if p.golang.creator {
		p.current.Creator += " at " + file + ":" + number
		p.golang.creator = false
		return true
	}
	if f := p.last(); f != nil && f.File == "" {
		f.File, f.Line = file, n
		return true
	}
	return false
}

func cutLast(s, sep string) (before, after string, ok bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(sep):], true
}

// goWaits is what a goroutine's state says that it waits for (package runtime, waitReason). Goroutines of the runtime
// itself wait for work.
func goWaits(t *Thread) Waiting {
	state, _, _ := strings.Cut(t.State, ", ")
	on := map[string]string{
		"chan receive": "channel", "chan send": "channel", "chan receive (nil chan)": "channel", "chan send (nil chan)": "channel", "select": "select", "select (no cases)": "select",
		"sync.Mutex.Lock": "mutex", "sync.RWMutex.Lock": "read-write lock", "sync.RWMutex.RLock": "read-write lock", "sync.WaitGroup.Wait": "wait group", "sync.Cond.Wait": "condition",
		"semacquire": "semaphore", "sleep": "timer", "IO wait": "input", "syscall": "input",
	}[state]
	if on == "" {
		return Waiting{}
	}
	w := Waiting{On: on}
	for _, f := range t.Frames {
		if (strings.HasPrefix(f.Function, "sync.(*")) && len(f.Args) > 0 && !f.Args[0].Stale {
			w.Name = f.Args[0].Text // of the object whose method waits
		} else if w.Name != "" {
			break
		}
	}
	return w
}
