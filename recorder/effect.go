package recorder

import (
	"go/types"
	"strings"
)

// effect says what code that is not recorded may do to the memory that its arguments refer to.
type effect int

const (
	mayWrite    effect = iota // it may write, also later
	writesOnly                // it may write until it returns, and keeps no reference to maps
	readsOnly                 // it writes nothing
	writesFirst               // it may write to what its receiver, or else its first argument, refers to
)

// readers are packages whose functions and methods write nothing that their arguments or receivers
// refer to, apart from the exceptions below. fmt and the loggers call methods of what they print;
// those of own code are recorded.
var readers = map[string]bool{"fmt": true, "strconv": true, "errors": true, "math": true, "math/bits": true, "math/cmplx": true, "path": true, "path/filepath": true,
	"log": true, "log/slog": true, "testing": true, "unicode": true, "unicode/utf8": true, "unicode/utf16": true, "regexp": true, "time": true, "context": true, "html": true,
	"crypto/sha256": true, "crypto/sha1": true, "crypto/md5": true, "crypto/sha512": true, "hash/crc32": true, "cmp": true, "go/token": true, "runtime": true, "mime": true,
	"github.com/stretchr/testify/assert": true, "github.com/stretchr/testify/require": true, "os/signal": true, "iter": true, "reflect": true, "html/template": true, "text/template": true}

// knownEffects are the exceptions, by the name of the function without its package's path: those that
// write, in packages of readers, and those that only read, in others.
var knownEffects = map[string]effect{
	"fmt.Sscan": writesOnly, "fmt.Sscanf": writesOnly, "fmt.Sscanln": writesOnly, "fmt.Fscan": writesOnly, "fmt.Fscanf": writesOnly, "fmt.Fscanln": writesOnly,
	"fmt.Scan": writesOnly, "fmt.Scanf": writesOnly, "fmt.Scanln": writesOnly, "fmt.Append": writesOnly, "fmt.Appendf": writesOnly, "fmt.Appendln": writesOnly,
	"fmt.Fprint": writesFirst, "fmt.Fprintf": writesFirst, "fmt.Fprintln": writesFirst, "io.WriteString": writesFirst,
	"strconv.AppendInt": writesOnly, "strconv.AppendUint": writesOnly, "strconv.AppendFloat": writesOnly, "strconv.AppendBool": writesOnly, "strconv.AppendQuote": writesOnly,
	"strconv.AppendQuoteRune": writesOnly, "strconv.AppendQuoteToASCII": writesOnly, "strconv.AppendQuoteRuneToASCII": writesOnly,
	"errors.As": writesOnly, "utf8.EncodeRune": writesOnly, "utf8.AppendRune": writesOnly, "utf16.AppendRune": writesOnly,
	"time.Time.AppendFormat": writesOnly, "(*Time).UnmarshalJSON": writesOnly, "(*Time).UnmarshalText": writesOnly, "(*Time).UnmarshalBinary": writesOnly, "(*Time).GobDecode": writesOnly,
	"(*Regexp).Expand": writesOnly, "(*Regexp).ExpandString": writesOnly, "runtime.Stack": writesOnly, "runtime.Callers": writesOnly, "runtime.ReadMemStats": writesOnly,
	"(*Template).Execute": mayWrite, "(*Template).ExecuteTemplate": mayWrite, "(*Replacer).WriteString": mayWrite,
	"runtime.SetFinalizer": mayWrite, "runtime.AddCleanup": mayWrite,

	"json.Marshal": readsOnly, "json.MarshalIndent": readsOnly, "json.Valid": readsOnly, "json.Unmarshal": writesOnly,
	"xml.Marshal": readsOnly, "xml.MarshalIndent": readsOnly, "xml.Unmarshal": writesOnly,
	"hex.EncodeToString": readsOnly, "hex.DecodeString": readsOnly, "hex.Dump": readsOnly, "(*Encoding).EncodeToString": readsOnly, "(*Encoding).DecodeString": readsOnly,
	"bytes.Equal": readsOnly, "bytes.Compare": readsOnly, "bytes.Contains": readsOnly, "bytes.HasPrefix": readsOnly, "bytes.HasSuffix": readsOnly, "bytes.Index": readsOnly,
	"bytes.IndexByte": readsOnly, "bytes.Split": readsOnly, "bytes.Fields": readsOnly, "bytes.TrimSpace": readsOnly, "bytes.Trim": readsOnly, "bytes.ToUpper": readsOnly,
	"bytes.ToLower": readsOnly, "bytes.Join": readsOnly, "bytes.Count": readsOnly, "bytes.Cut": readsOnly, "bytes.Clone": readsOnly,
	"os.WriteFile": readsOnly, "os.Getenv": readsOnly, "exec.Command": readsOnly, "exec.CommandContext": readsOnly,
	"reflect.Copy": writesOnly, "reflect.Append": writesOnly, "reflect.AppendSlice": writesOnly, "reflect.Swapper": mayWrite, "reflect.NewAt": mayWrite,
	"sort.SearchInts": readsOnly, "sort.SearchStrings": readsOnly, "sort.IntsAreSorted": readsOnly,
	"sort.SliceIsSorted": readsOnly, "sort.StringsAreSorted": readsOnly, "binary.Size": readsOnly, "http.Error": readsOnly, "http.Redirect": readsOnly,
	"maps.Keys": readsOnly, "maps.Values": readsOnly, "maps.All": readsOnly, "maps.Equal": readsOnly, "maps.EqualFunc": readsOnly, "maps.Clone": readsOnly,
	"maps.Copy": writesOnly, "maps.DeleteFunc": writesOnly, "maps.Insert": writesOnly, "maps.Collect": readsOnly,
	"slices.Contains": readsOnly, "slices.ContainsFunc": readsOnly, "slices.Index": readsOnly, "slices.IndexFunc": readsOnly, "slices.Equal": readsOnly, "slices.EqualFunc": readsOnly,
	"slices.Compare": readsOnly, "slices.Max": readsOnly, "slices.Min": readsOnly, "slices.MaxFunc": readsOnly, "slices.MinFunc": readsOnly, "slices.Clone": readsOnly,
	"slices.BinarySearch": readsOnly, "slices.BinarySearchFunc": readsOnly, "slices.IsSorted": readsOnly, "slices.IsSortedFunc": readsOnly, "slices.All": readsOnly,
	"slices.Values": readsOnly, "slices.Backward": readsOnly, "slices.Concat": readsOnly, "slices.Repeat": readsOnly, "slices.Collect": readsOnly, "slices.Sorted": readsOnly,
	"slices.SortedFunc": readsOnly, "slices.Chunk": readsOnly,
}

// codecs are the effects of methods of the packages below encoding.
var codecs = map[string]effect{"(*Decoder).Decode": writesOnly, "(*Encoder).Encode": writesFirst}

// unchanging are the packages of readers whose objects do not change, or whose changes nobody looks at.
var unchanging = map[string]bool{"regexp": true, "testing": true, "log": true, "log/slog": true, "context": true, "time": true,
	"github.com/stretchr/testify/assert": true, "github.com/stretchr/testify/require": true}

// textReaders are the packages whose functions only read, but not their methods.
var textReaders = map[string]bool{"strings": true, "net/url": true}

// mapTypes are the types of maps whose methods write to the map until they return.
var mapTypes = map[string]bool{"net/http.Header": true, "net/url.Values": true, "net/textproto.MIMEHeader": true}

// effectOf returns the effect of a function, nil for one that is not known.
func effectOf(o *types.Func) effect {
	switch {
	case o == nil:
		return mayWrite
	case o.Pkg() == nil:
		return readsOnly // the message of an error
	}
	path := o.Pkg().Path()
	if path == "sync" || path == "sync/atomic" && o.Signature().Recv() != nil || path == "unsafe" {
		return readsOnly // what these hold is not recorded
	}
	recv := o.Signature().Recv()
	name := o.Pkg().Name() + "." + o.Name()
	if recv != nil {
		name = types.TypeString(recv.Type(), func(*types.Package) string { return "" })
		if mapTypes[types.TypeString(recv.Type(), nil)] {
			switch o.Name() {
			case "Get", "Values", "Encode", "Has", "Clone":
				return readsOnly
			}
			return writesOnly
		}
		if pointer, ok := strings.CutPrefix(name, "*"); ok {
			name = "(*" + pointer + ")." + o.Name()
		} else {
			name += "." + o.Name()
		}
	}
	if path == "reflect" && recv != nil && name == "Value."+o.Name() {
		for _, verb := range []string{"Set", "Clear", "Grow", "Call", "Send"} {
			if strings.HasPrefix(o.Name(), verb) {
				return writesOnly
			}
		}
	}
	if e, ok := knownEffects[name]; ok {
		return e
	}
	if e, ok := codecs[name]; ok && strings.HasPrefix(path, "encoding/") {
		return e
	}
	switch {
	case readers[path] && (recv == nil || !isPointer(recv.Type()) || unchanging[path]), textReaders[path] && recv == nil:
		return readsOnly
	case readers[path]:
		return writesFirst
	}
	if recv != nil && (o.Name() == "Write" || o.Name() == "WriteString") && !takesMore(o) {
		return writesFirst // "Write must not modify the slice data" (package io, Writer)
	}
	return mayWrite
}

// takesMore reports whether a method takes more than the bytes to write.
func takesMore(o *types.Func) bool { return o.Signature().Params().Len() != 1 }
