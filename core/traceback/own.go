package traceback

import (
	"path"
	"strings"
)

// Own decides which frames are the team's own: those whose function or file begins with an entry,
// or whose folder is one. If it is empty, all frames are own except those of the language's
// runtime, its libraries and other packages.
type Own []string

// Mark decides for each frame that is not decided yet.
func (own Own) Mark(language string, frames []Frame) {
	for i := range frames {
		f := &frames[i]
		if f.known {
			continue
		}
		f.known = true
		if len(own) == 0 {
			f.Own = !foreign(language, f)
			continue
		}
		for _, o := range own {
			if strings.HasPrefix(f.Function, o) || strings.HasPrefix(f.File, o) || strings.Contains(f.File, "/"+strings.Trim(o, "/")+"/") {
				f.Own = true
			}
		}
	}
}

// foreign reports whether a frame is foreign code, by its folder or module.
func foreign(language string, f *Frame) bool {
	file := strings.ReplaceAll(f.File, `\`, "/")
	has := func(s string, parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(s, p) {
				return true
			}
		}
		return false
	}
	begins := func(s string, parts ...string) bool {
		for _, p := range parts {
			if strings.HasPrefix(s, p) {
				return true
			}
		}
		return false
	}
	switch language {
	case "Go":
		return foreignGo(f, file)
	case "Java":
		return begins(f.Function, "java.", "javax.", "jdk.", "sun.", "com.sun.", "kotlin.", "kotlinx.", "scala.", "clojure.", "groovy.", "jakarta.", "org.springframework.", "org.apache.",
			"org.eclipse.", "org.hibernate.", "org.junit.", "org.slf4j.", "io.netty.", "com.google.", "com.fasterxml.", "reactor.")
	case "Python":
		return has(file, "site-packages/", "dist-packages/", "/lib/python", "/lib64/python", "<frozen ", "<string>")
	case "JavaScript":
		return file == "" || begins(file, "node:", "internal/") || has(file, "/node_modules/")
	case "Rust":
		return has(file, "/rustc/", "/.cargo/registry/", "/library/std/src/", "/library/core/src/") ||
			begins(f.Function, "std::", "core::", "alloc::", "<core::", "<alloc::", "<std::", "rust_begin_unwind", "__rust", "_start", "__libc_start", "main") && file == ""
	case ".NET":
		return begins(f.Function, "System.", "Microsoft.", "Internal.")
	}
	module := path.Base(f.Module)
	return has(file, "/usr/include/", "/sysdeps/", "/csu/") || begins(module, "lib", "ld-", "ld.", "linux-vdso") && has(module, ".so") ||
		begins(f.Function, "__libc_", "_start", "__GI_", "__sanitizer", "__asan")
}

// Foreign reports whether a function of a language, in a file, is foreign code.
func Foreign(language, function, file string) bool {
	return foreign(language, &Frame{Function: function, File: file})
}

// standard are the first path elements of Go's standard packages.
var standard = func() map[string]bool {
	m := map[string]bool{}
	for _, p := range strings.Fields("archive arena bufio bytes cmp compress container context crypto database debug embed encoding errors expvar flag fmt go hash html image index internal io iter log maps math mime net os path plugin reflect regexp runtime slices sort strconv strings structs sync syscall testing text time unicode unique unsafe vendor weak") {
		m[p] = true
	}
	return m
}()

// foreignGo reports whether a frame is in a Go standard package or another module: by the folder of
// modules, or by the version in a trimmed path.
func foreignGo(f *Frame, file string) bool {
	name := f.Function
	if slash := strings.LastIndexByte(name, '/'); slash >= 0 {
		if dot := strings.IndexByte(name[slash:], '.'); dot >= 0 {
			name = name[:slash+dot]
		}
	} else if dot := strings.IndexByte(name, '.'); dot >= 0 {
		name = name[:dot]
	}
	first, _, _ := strings.Cut(name, "/")
	if first == "main" {
		return false
	}
	if strings.Contains(file, "/pkg/mod/") || strings.Contains(file, "/vendor/") || strings.Contains(file, "@v") && !strings.HasPrefix(file, "/") {
		return true
	}
	if f.Function == "panic" || f.Function == "_cgo_wait_runtime_init_done" || strings.HasPrefix(f.Function, "_cgo") {
		return true
	}
	if !standard[first] {
		return false
	}
	// An own module can have such a name; a standard package is in its folder below src, or has a
	// trimmed path.
	dir := path.Dir(file)
	if i := strings.LastIndex(dir, "/src/"); i >= 0 {
		folder, _, _ := strings.Cut(dir[i+len("/src/"):], "/")
		return standard[folder]
	}
	return file == "" || dir == name
}
