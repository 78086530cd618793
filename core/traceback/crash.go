// Package traceback reads what a language's runtime prints when a program crashes: the tracebacks
// of Go, Java, Python, JavaScript on Node.js, Rust and .NET, and native frames with addresses. The
// text can be in a log with a prefix on each line, can be wrapped, and can be cut off.
package traceback

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Frame is a frame of the text. Line and Column are 0 if they are unknown.
type Frame struct {
	Function string
	File     string
	Line     int
	Column   int
	Address  uint64 // 0 for none
	Module   string // the binary, if the frame names one
	BuildID  string // of the binary, if the frame has it
	Offset   uint64 // of the address, from Place on
	Place    Place
	Args     []Word
	Note     string
	Own      bool
	Inlined  bool
	known    bool // Own has been decided
}

// Place is the origin of an offset in a module.
type Place uint8

// Origins of offsets.
const (
	InModule   Place = iota // from the module's address 0, as its own tables count
	InFunction              // from the beginning of the function
	InFile                  // from the beginning of the module's file
	InCode                  // from the beginning of the mapped page of the module's first code
)

// Name is the function, or another description of the frame's place.
func (f *Frame) Name() string {
	switch {
	case f.Function != "":
		return f.Function
	case f.Module != "":
		return fmt.Sprintf("%s+0x%x", path.Base(f.Module), f.Offset)
	}
	return fmt.Sprintf("0x%x", f.Address)
}

// Word is an argument as a runtime prints it: a word of memory, several that belong together in
// braces, or "..." for omitted ones.
type Word struct {
	Text  string
	Stale bool // the runtime does not know whether it is still right
	Parts []Word
}

// Thread is a thread, goroutine or task with its frames, innermost first.
type Thread struct {
	Name    string
	Kind    string
	State   string
	Creator string
	Frames  []Frame
	Cut     bool // the runtime or the text omits frames
	// Waits is what the thread waits for, if the text says so, and Holds the locks that it has, by the same names.
	Waits Waiting  `json:",omitzero"`
	Holds []string `json:",omitzero"`
}

// Waiting is what a thread waits for: a kind and a name. The zero value is nothing.
type Waiting struct{ On, Name string }

// Cause is an error: its type in the language's notation, and its message.
type Cause struct {
	Type    string
	Message string
}

// relation is the relation of an error to the one before it in the text.
type relation uint8

const (
	unrelated  relation = iota
	causeOf             // it caused the one before
	resultOf            // the one before caused it
	suppressed          // it was suppressed by the one before
	member              // it is one of a group
)

// failure is an error in the text, with its frames.
type failure struct {
	Cause
	relation relation
	thread   Thread
	common   int // number of its outer frames that are the same as in the error before
	fatal    bool
	numbered bool // its text begins with a number
	elided   int  // number of frames that were left out at elidedAt, because the cause has them
	elidedAt int
}

// Crash is the contents of a crash text.
type Crash struct {
	Language string
	Threads  []Thread // the failing one first, then its causes, then the others
	Causes   []Cause  // the outermost error first
	Kind     string   // "panic", "exception", "fatal", "signal", "error"
	Signal   string
	Address  string
	Gaps     []Gap // what is missing from the text
	ended    bool  // the text reports the end of a program
}

// Gap is something that a text lacks, or that its reader does not know, and what to do about it.
type Gap struct{ What, Remedy string }

// cutOff is the remedy for a text that is not whole.
const cutOff = "the runtime or the log cut them off: find the whole text where the program wrote it"

// maxFrames limits the frames of one thread, maxThreads the threads, longestLine the part of a line
// that is read, maxPrefixes the prefixes that are removed from it, and longestText a text of
// several lines.
const (
	maxFrames   = 1 << 16
	maxThreads  = 1 << 20
	longestLine = 64 << 10
	maxPrefixes = 12
	longestText = 64 << 10
)

// Parse reads a text. ok is false if there is no crash in it.
func Parse(text string) (c *Crash, ok bool) {
	c, err := Read(context.Background(), text)
	return c, err == nil
}

// ErrNoCrash means that there is no crash in a text.
var ErrNoCrash = errors.New("no known traceback")

// Read reads a text of any length until the context ends. The error is ErrNoCrash, or
// the context's.
func Read(ctx context.Context, text string) (*Crash, error) {
	const betweenLooks = 1 << 10 // lines
	p := &parser{}
	for n := 1; len(text) > 0; n++ {
		var line string
		line, text, _ = strings.Cut(text, "\n")
		p.line(strings.TrimRight(line, "\r"))
		if n%betweenLooks == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	p.end()
	if c, ok := p.crash(); ok {
		return c, nil
	}
	return nil, ErrNoCrash
}

// Is reports whether a text contains a crash: frames, or what a runtime prints at the end of a
// program.
func Is(sample []byte) bool {
	c, ok := Parse(string(sample))
	return ok && (c.ended && c.Language != "" || len(c.Threads) > 0 && len(c.Threads[0].Frames) > 0)
}

// EndsProgram reports whether a line alone may report the end of a program.
func EndsProgram(line string) bool {
	for _, words := range []string{"segfault at ", "traps: ", "terminate called ", "Assertion ", "panicked at ", "Exception in thread "} {
		if strings.Contains(line, words) {
			return true
		}
	}
	return false
}

// Share returns the share of the lines of a text that are part of tracebacks, from 0 to 1.
func Share(sample []byte) float64 {
	p := &parser{}
	understood, all := 0, 0
	for line := range strings.Lines(string(sample)) {
		if line = strings.TrimRight(line, "\r\n"); line == "" {
			continue
		}
		if all++; p.line(line) {
			understood++
		}
	}
	return float64(understood) / float64(max(all, 1))
}

// Outermost returns the outermost error of a text, and whether the text says that it ended the program.
func Outermost(text string) (c Cause, ended bool) {
	if c, ok := Parse(text); ok && len(c.Causes) > 0 {
		return c.Causes[0], c.ended
	}
	return Cause{}, false
}

// Follower reports line by line whether a traceback continues.
type Follower struct{ p parser }

// Begin starts with a text that may be the beginning of a traceback.
func (f *Follower) Begin(text string) {
	f.p = parser{}
	for line := range strings.SplitSeq(text, "\n") {
		f.p.line(line)
	}
}

// GoesOn reports whether a line is part of the current traceback.
func (f *Follower) GoesOn(line string) bool {
	begun := f.p.mode != nil
	understood := f.p.line(line)
	return begun && understood || !begun && understood && begins(line)
}

// begins reports whether a line begins the frames of the error in the line before.
func begins(line string) bool {
	for _, head := range []string{"goroutine ", "Traceback ", "stack backtrace:", "Caused by:", "\tat ", "    at "} {
		if strings.HasPrefix(line, head) {
			return true
		}
	}
	return false
}

// parser reads line by line. mode is the language of the current lines.
type parser struct {
	mode     reader
	failures []failure
	threads  []Thread
	current  *Thread // the thread that gets frames
	held     string  // a line that was not understood alone
	crashed  Crash
	python   pythonState
	golang   goState
	node     nodeState
	rust     rustState
	dotnet   dotnetState
	jvm      jvmDeadlock
	report   reportState
	test     testState
	kernel   kernelState
	perl     *failure // its head, until a call follows
	prefix   string   // the shape of the prefix of the last line
	cut      bool
}

// reader reads a line of one language, and reports whether it belongs to it.
type reader func(p *parser, line string) bool

// readers are all languages. Those whose lines resemble others come later.
var readers []reader

func init() {
	readers = []reader{readReport, readGo, readGoTest, readPython, readRust, readJVM, readNode, readDotNet, readRuby, readPHP, readEnding, readKernel, readNative, readPerl}
}

// line reads a line, and reports whether it was understood: as it is, without the prefix of a log,
// or together with the line before, which a terminal may have wrapped.
func (p *parser) line(line string) (understood bool) {
	line = line[:min(len(line), longestLine)]
	defer func() {
		switch {
		case !understood || strings.TrimSpace(line) == "":
			p.python.keep(line)
		case !p.python.after:
			p.python.more, p.python.since = "", false
		}
	}()
	headed := p.prefix != "" && len(p.prefix) <= len(line) && shape(line[:len(p.prefix)]) == p.prefix
	if headed && strings.TrimSpace(line[len(p.prefix):]) == "" {
		line = ""
		return p.mode != nil
	}
	if headed && p.try(line[len(p.prefix):]) || p.try(line) {
		p.held = ""
		return true
	}
	rest := line
	for range maxPrefixes {
		after, ok := withoutPrefix(rest)
		if !ok {
			break
		}
		rest = after
		if p.try(rest) {
			p.held, p.prefix = "", shape(line[:len(line)-len(rest)])
			return true
		}
	}
	if headed {
		line = line[len(p.prefix):]
	}
	if strings.TrimSpace(line) == "" {
		return p.mode != nil
	}
	if p.held != "" && p.try(p.held+strings.TrimLeft(line, " \t")) {
		p.held = ""
		return true
	}
	if n := len(p.failures); p.golang.panicking && n > 0 && p.failures[n-1].thread.Kind == "" {
		extend(&p.failures[n-1].Message, line) // wrapped by a terminal: lines of the message itself are indented
		return true
	}
	p.held = line
	return false
}

// shape is a text with digits and letters replaced by placeholders.
func shape(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9':
			return '9'
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
			return 'a'
		}
		return r
	}, s)
}

func (p *parser) try(line string) bool {
	if line == "" {
		return false
	}
	if p.mode != nil && p.mode(p, line) {
		return true
	}
	for i := range readers {
		if readers[i](p, line) {
			p.mode = readers[i]
			return true
		}
	}
	return false
}

// begin begins a thread, which gets the following frames.
func (p *parser) begin(t Thread) {
	if len(p.threads) >= maxThreads {
		p.cut = true
		p.current = &Thread{}
		return
	}
	p.threads = append(p.threads, t)
	p.current = &p.threads[len(p.threads)-1]
}

// fail begins an error, whose thread gets the following frames.
func (p *parser) fail(f failure) {
	if len(p.failures) >= maxThreads {
		p.cut = true
		return
	}
	p.failures = append(p.failures, f)
	p.current = &p.failures[len(p.failures)-1].thread
}

// frame adds a frame to the current thread.
func (p *parser) frame(f Frame) {
	if p.current == nil {
		p.begin(Thread{Kind: "thread", Name: "thread"})
	}
	if len(p.current.Frames) >= maxFrames {
		p.current.Cut = true
		return
	}
	p.current.Frames = append(p.current.Frames, f)
}

// extend appends the next line to a text, within bounds.
func extend(text *string, more string) {
	if len(*text) < longestText {
		*text += more
	}
}

// last returns the last frame of the current thread, or nil.
func (p *parser) last() *Frame {
	if p.current == nil || len(p.current.Frames) == 0 {
		return nil
	}
	return &p.current.Frames[len(p.current.Frames)-1]
}

func (p *parser) language(name, kind string) {
	if p.crashed.Language == "" {
		p.crashed.Language, p.crashed.Kind = name, kind
	}
}

func (p *parser) end() {
	p.python.end(p)
}

// crash returns what was read.
func (p *parser) crash() (*Crash, bool) {
	c := &p.crashed
	chain, rest := p.chain()
	for i, f := range chain {
		t := f.thread
		if f.relation == suppressed {
			if t.Kind, t.State = "error", "suppressed "+strings.Trim(f.Type+": "+f.Message, ": "); len(t.Frames) > 0 {
				c.Threads = append(c.Threads, t)
			}
			continue
		}
		c.Causes = append(c.Causes, f.Cause)
		c.ended = c.ended || f.fatal
		alone := i == 0 && len(p.threads) == 0
		if len(t.Frames) == 0 && !alone {
			continue
		}
		if i > 0 {
			t.Kind, t.State = "cause", strings.Trim(f.Type+": "+f.Message, ": ")
		}
		c.Threads = append(c.Threads, t)
	}
	for _, f := range rest {
		t := f.thread
		t.Kind, t.State = "error", strings.Trim(f.Type+": "+f.Message, ": ")
		c.Threads = append(c.Threads, t)
	}
	c.Threads = append(c.Threads, p.threads...)
	p.jvm.report(c)
	if more := p.python.remark(); more != "" {
		c.Gaps = append(c.Gaps, Gap{more, "decide from the text: a runtime prints the lines of a message and its notes without a mark"})
	}
	for i := range c.Threads {
		if t := &c.Threads[i]; t.Kind == "goroutine" && t.Waits.On == "" {
			t.Waits = goWaits(t)
		}
	}
	for i := range c.Threads {
		if c.Threads[i].Cut {
			c.Gaps = append(c.Gaps, Gap{"frames were left out of the stack of " + c.Threads[i].Name, cutOff})
		}
	}
	if p.cut {
		c.Gaps = append(c.Gaps, Gap{fmt.Sprintf("the text has more threads than the %d that are read", maxThreads), "remove the threads of no interest from the text"})
	}
	return c, len(c.Threads) > 0 || len(c.Causes) > 0
}

// chain lists the errors that belong to the first one, outermost first, and the others.
func (p *parser) chain() (chain, rest []failure) {
	first := 0
	for i, f := range p.failures { // an error that ended the program counts more than one that was only reported
		if f.fatal {
			first = i
			break
		}
	}
	for first > 0 && p.failures[first].relation != unrelated {
		first--
	}
	end := first + 1
	for end < len(p.failures) && p.failures[end].relation != unrelated {
		end++
	}
	if len(p.failures) == 0 {
		return nil, nil
	}
	group := append([]failure(nil), p.failures[first:end]...)
	for i := range group {
		group[i].addCommon(group[:i])
		if i > 0 {
			group[i-1].fillElided(group[i])
		}
	}
	for stop := len(group); stop > 0; { // errors that caused it are before it
		begin := stop - 1
		for begin > 0 && group[begin].relation != resultOf {
			begin--
		}
		chain = append(chain, group[begin:stop]...)
		stop = begin
	}
	return chain, append(append([]failure(nil), p.failures[:first]...), p.failures[end:]...)
}

// fillElided puts in the frames that a text leaves out because the cause has them too: those after the frame before them.
func (f *failure) fillElided(cause failure) {
	if f.elided == 0 || f.elidedAt == 0 || f.elidedAt > len(f.thread.Frames) {
		return
	}
	last := f.thread.Frames[f.elidedAt-1]
	for k, x := range cause.thread.Frames {
		if x.Function == last.Function && x.File == last.File && x.Line == last.Line && k+1+f.elided <= len(cause.thread.Frames) {
			f.thread.Frames = slices.Insert(f.thread.Frames, f.elidedAt, cause.thread.Frames[k+1:k+1+f.elided]...)
			return
		}
	}
	f.thread.Cut = true
}

// addCommon adds the outer frames that a text does not repeat.
func (f *failure) addCommon(before []failure) {
	if f.common == 0 || len(before) == 0 {
		return
	}
	of := len(before) - 1
	for of > 0 && f.relation != suppressed && before[of].relation == suppressed {
		of-- // what it shares, it shares with the error that it caused
	}
	outer := before[of].thread.Frames
	f.thread.Frames = append(f.thread.Frames, outer[max(len(outer)-f.common, 0):]...)
}
