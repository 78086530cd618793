package traceback

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Other output at the end of a native program: by the kernel (an unhandled fault, with the address
// of the instruction and its module), by the C++ library (std::terminate), by the C library
// (assert, and checks of the heap and the stack).
var (
	kernelFault = regexp.MustCompile(`(\S+)\[(\d+)\]: segfault at ([0-9a-f]+) ip ([0-9a-f]+) sp [0-9a-f]+ error ([0-9a-f]+)(.*)$`)
	kernelTrap  = regexp.MustCompile(`traps: (\S+)\[(\d+)\] (general protection fault|trap [a-z ]+?),? ip:([0-9a-f]+) sp:[0-9a-f]+ error:[0-9a-f]+(.*)$`)
	kernelIn    = regexp.MustCompile(`^ in ([^\[\]]+)\[(?:([0-9a-f]+),)?([0-9a-f]+)\+[0-9a-f]+\]`)
	kernelCode  = regexp.MustCompile(`(?:^| )Code: (?:(?:[0-9a-f]{2}|<[0-9a-f]{2}>) ?)+$`)
	terminate   = regexp.MustCompile(`^terminate called (?:after throwing an instance of '(.+)'|(without an active exception|recursively))$`)
	whatItSays  = regexp.MustCompile(`^  what\(\):  (.*)$`)
	assertion   = regexp.MustCompile("^(?:.+?: )?([^:\\s]+):(\\d+): (?:(.+): )?(Assertion [`'].+' failed)\\.?$")
	libraryStop = regexp.MustCompile(`^(?:\*\*\* )?((?:double free or corruption|corrupted (?:double-linked list|size vs\. prev_size)|stack smashing detected|buffer overflow detected|(?:free|malloc|realloc|calloc|munmap_chunk|malloc_consolidate)\(\): [a-z]).*?)(?: \*\*\*)?(?:: terminated)?$`)
	stopped     = regexp.MustCompile(`(?:^|\s)(Aborted|Segmentation fault)(?: \(core dumped\))?(?:\s|$)`)
)

// signalOf names the signal that a shell tells of in words.
var signalOf = map[string]string{"Aborted": "SIGABRT", "Segmentation fault": "SIGSEGV"}

// readEnding reads what says that and why a native program ended.
func readEnding(p *parser, line string) bool {
	switch {
	case kernelSays(p, line):
		return true
	case terminate.MatchString(line):
		m := terminate.FindStringSubmatch(line)
		c := Cause{m[1], ""}
		if m[1] == "" {
			c = Cause{"terminate", m[2]}
		}
		p.ends("exception", "SIGABRT", c)
		return true
	case libraryStop.MatchString(line):
		p.ends("signal", "SIGABRT", Cause{"abort", libraryStop.FindStringSubmatch(line)[1]})
		return true
	}
	if m := assertion.FindStringSubmatch(line); m != nil {
		p.ends("signal", "SIGABRT", Cause{"assertion", m[4]})
		n, _ := strconv.Atoi(m[2]) // digits
		p.frame(Frame{Function: bareFunction(m[3]), File: m[1], Line: n})
		return true
	}
	if p.crashed.Language != "native" || len(p.failures) == 0 {
		return false
	}
	f := &p.failures[len(p.failures)-1]
	if m := whatItSays.FindStringSubmatch(line); m != nil && f.Message == "" {
		f.Message = m[1]
		return true
	}
	if m := stopped.FindStringSubmatch(line); len(line) < 1<<10 && m != nil {
		if p.crashed.Signal == "" {
			p.crashed.Signal = signalOf[m[1]]
		}
		return true
	}
	return false
}

// ends begins an error that ended a native program.
func (p *parser) ends(kind, signal string, c Cause) {
	p.language("native", kind)
	if p.crashed.Signal == "" {
		p.crashed.Signal = signal
	}
	p.fail(failure{Cause: c, fatal: true, thread: Thread{Name: "thread", Kind: "thread"}})
}

// bareFunction takes the result's type and the parameters off a C++ function's signature.
func bareFunction(signature string) string {
	name, _, _ := strings.Cut(signature, "(")
	return name[strings.LastIndexAny(name, " *&")+1:]
}

// kernelSays reads a fault as the kernel's log tells of it. A later kernel gives the place in the module's file; an
// earlier one only where the module's code is mapped.
func kernelSays(p *parser, line string) bool {
	const longest = 1 << 10
	if len(line) > longest {
		return false
	}
	var program, pid, ip, rest, signal, address, message string
	if m := kernelFault.FindStringSubmatch(line); m != nil {
		code, _ := strconv.ParseUint(m[5], 16, 32) // digits
		program, pid, address, ip, rest, signal = m[1], m[2], "0x"+m[3], m[4], m[6], "SIGSEGV"
		message = accessOf(code) + " at " + address
		p.crashed.Address = address
	} else if m := kernelTrap.FindStringSubmatch(line); m != nil {
		program, pid, message, ip, rest = m[1], m[2], strings.TrimPrefix(m[3], "trap "), m[4], m[5]
		switch signal = "SIGSEGV"; message {
		case "divide error":
			signal = "SIGFPE"
		case "invalid opcode":
			signal = "SIGILL"
		case "int3":
			signal = "SIGTRAP"
		}
	} else {
		return p.crashed.Language == "native" && kernelCode.MatchString(line)
	}
	p.ends("signal", signal, Cause{signal, program + ": " + message})
	p.current.Name = fmt.Sprintf("%s %s", program, pid)
	f := Frame{Note: "the kernel tells of the innermost frame only"}
	f.Address, _ = strconv.ParseUint(ip, 16, 64) // digits, as those below
	if m := kernelIn.FindStringSubmatch(rest); m != nil {
		f.Module = m[1]
		if f.Place = InFile; m[2] == "" {
			base, _ := strconv.ParseUint(m[3], 16, 64)
			f.Place, f.Offset = InCode, f.Address-base
		} else {
			f.Offset, _ = strconv.ParseUint(m[2], 16, 64)
		}
	}
	p.frame(f)
	return true
}

// accessOf says what a page fault's error code of x86 tells (Intel SDM, volume 3, section 4.7).
func accessOf(code uint64) string {
	const present, write, fetch = 1, 2, 16
	what, why := "read", "where nothing is mapped"
	switch {
	case code&fetch != 0:
		what = "jump"
	case code&write != 0:
		what = "write"
	}
	if code&present != 0 {
		why = "where that is not allowed"
	}
	return what + " " + why + ","
}
