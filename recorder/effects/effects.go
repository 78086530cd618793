// Package effects finds out from the source of functions what they do to the memory that their arguments
// refer to. The recorder reads such memory again after a call only as far as that is necessary.
package effects

import (
	"go/types"
	"strings"
)

// Effect is what a function may do to the memory that one of its arguments refers to.
type Effect uint8

const (
	// Writes is set if it may write there until it returns.
	Writes Effect = 1 << iota
	// Keeps is set if it may keep a reference, and write there later.
	Keeps
	// Calls is set if it calls the argument or its methods.
	Calls
	// Hands is set if it passes references to an argument that it calls.
	Hands
	// results is set if what it returns may refer to the memory.
	results
)

const anything = Writes | Keeps

// Summary is what a function does to memory. A sound summary may claim too much, never too little.
type Summary struct {
	Args []Effect `json:"args"` // the receiver first
	// Elsewhere is set if it may write to memory that is referred to by none of its arguments.
	Elsewhere bool `json:"elsewhere,omitempty"`
}

func unknown(args int) Summary {
	s := Summary{Args: make([]Effect, args), Elsewhere: true}
	for i := range s.Args {
		s.Args[i] = anything | results
	}
	return s
}

// harmless are packages whose functions write to nothing but what the runtime or a synchronised object
// keeps for itself, which a recording does not have.
var harmless = map[string]bool{"runtime": true, "sync": true, "internal/bytealg": true, "internal/race": true, "internal/sync": true, "internal/godebug": true, "internal/cpu": true,
	"internal/abi": true, "internal/runtime/sys": true, "internal/runtime/maps": true, "internal/runtime/atomic": true, "internal/synctest": true, "internal/stringslite": true,
	"math": true, "hash/crc32": true, "time": true}

// special returns the summary of a function that is not analysed: it has no body in Go, or is harmless.
func special(o *types.Func, body bool, args int) (s Summary, ok bool) {
	if o == nil || o.Pkg() == nil {
		return unknown(args), !body
	}
	s.Args = make([]Effect, args)
	path := o.Pkg().Path()
	switch {
	case path == "sync" && o.Signature().Recv() != nil:
		switch o.Name() {
		case "Put":
			s.Args[1] = Keeps
		case "Do", "Go":
			s.Args[1] = Calls
		case "Load", "Store", "LoadOrStore", "LoadAndDelete", "Swap", "CompareAndSwap", "CompareAndDelete", "Delete", "Range", "Clear":
			return unknown(args), true
		}
		return s, true
	case path == "sync":
		return s, false // such as OnceFunc
	case path == "sync/atomic":
		for i := range s.Args {
			s.Args[i] = results
			if i > 0 {
				s.Args[i] |= Keeps
			} else if !strings.HasPrefix(o.Name(), "Load") {
				s.Args[i] |= Writes
			}
		}
		return s, true
	case harmless[path] && (!body || path != "time" && path != "hash/crc32"):
		return s, true
	}
	return unknown(args), !body
}
