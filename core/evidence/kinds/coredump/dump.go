// Package coredump opens a core dump of a program with its binaries and implements
// replay.Recording: threads or goroutines, stacks, values and the cause of the crash. A dump has
// one moment, number 0.
package coredump

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"wraithology/core/event"
	"wraithology/core/evidence"
	"wraithology/core/evidence/kinds/coredump/debuginfo"
	"wraithology/core/evidence/kinds/coredump/elfcore"
	"wraithology/core/evidence/kinds/coredump/gotable"
	"wraithology/core/evidence/kinds/coredump/heap"
	"wraithology/core/evidence/kinds/coredump/module"
	"wraithology/core/evidence/kinds/coredump/unwind"
	"wraithology/core/evidence/kinds/coredump/values"
	"wraithology/core/fault"
	"wraithology/core/mapped"
	"wraithology/core/packed"
	"wraithology/core/replay"
	"wraithology/core/source"
)

// kindName is the name of the kind.
const kindName = "core-dump"

// Options are the files that explain a dump.
type Options struct {
	Modules module.Sources
	// Source lists folders with the program's source text. If a folder is a git repository, the
	// text is read at the revision from which a Go program was built.
	Source []string
	// Paths replaces prefixes of the build's paths.
	Paths map[string]string
	// Timelines say where a packed dump is unpacked.
	Timelines evidence.Timelines
}

// Dump is a core dump opened for questions. It is safe for concurrent use.
type Dump struct {
	core    *elfcore.Core
	options Options
	modules []*loaded
	program *loaded // the executable; nil if it is not among the modules
	types   *debuginfo.Types
	memory  *values.Memory
	build   module.Build
	golang  *goRuntime // nil for programs in other languages
	threads []thread
	byID    map[event.ThreadID]int
	info    replay.Info
	failure *failure

	generatedOnce sync.Once
	generated     []madeCode // by address

	brkOnce  sync.Once
	brkRange heap.Range
	heapOnce sync.Once
	heap     *heap.Heap

	mu     sync.Mutex
	stacks map[event.ThreadID][]frame
	recent []event.ThreadID // keys of stacks, oldest first
}

// loaded is a module with its tables, which are read on demand.
type loaded struct {
	*module.Module
	once    sync.Once
	debug   *debuginfo.Debug
	table   *unwind.Table
	golang  *gotable.Table
	trouble string
	sources module.Sources
}

// parts lists the possible paths of a split file.
func (l *loaded) parts(dir, name string) []string {
	base := filepath.Base(name)
	const packed = ".dwp" // a package of such files, beside the binary
	program := filepath.Base(l.Debug.Path) + packed
	list := append([]string{}, l.sources.Offered...)
	for _, folder := range l.sources.Debug {
		list = append(list, filepath.Join(folder, name), filepath.Join(folder, base), filepath.Join(folder, program))
	}
	if l.sources.Alone {
		return list
	}
	list = append(list, l.Debug.Path+packed)
	if !filepath.IsAbs(name) {
		name = filepath.Join(dir, name)
	}
	return append(list, name, filepath.Join(filepath.Dir(l.Debug.Path), base))
}

// thread is a thread or goroutine.
type thread struct {
	replay.Thread
	lwp       int // index among the core's threads, -1 for a goroutine that is not running
	goroutine *goroutine
}

// Is reports whether bytes begin like a core dump.
func Is(head []byte) bool { return elfcore.Is(head) }

// Open opens the core dump in f. The file must not change while the dump is used; it can be closed.
// Errors wrap elfcore.ErrNoCore, fault.Processor, fault.WrongBuild or fault.NotELF, or are those of
// the file system.
func Open(ctx context.Context, f *os.File, o Options) (d *Dump, err error) {
	d = &Dump{options: o, types: debuginfo.NewTypes(), byID: map[event.ThreadID]int{}, stacks: map[event.ThreadID][]frame{}}
	data, err := d.bytes(ctx, f)
	if err != nil {
		return nil, err
	}
	if d.core, err = elfcore.Read(data); err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name(), err)
	}
	list, err := o.Modules.List(d.core)
	if err != nil {
		return nil, err
	}
	for _, m := range list {
		l := &loaded{Module: m, sources: o.Modules}
		d.modules = append(d.modules, l)
		if m.Executable {
			d.program = l
		}
	}
	d.memory = &values.Memory{Core: &d.core.Memory, Types: d.types, Symbol: d.symbol, RuntimeType: d.runtimeType, Named: d.typeNamed, Captured: d.captured, Implementer: d.implementer, Freed: d.isFreed, RuntimeName: d.runtimeName}
	if d.program != nil && d.program.Binary != nil {
		if d.build, _ = d.program.Binary.GoBuild(); d.build.Go != "" {
			d.golang = newGoRuntime(d)
		}
	}
	if err := d.listThreads(ctx); err != nil {
		return nil, err
	}
	d.describe()
	d.failure = d.explain(ctx)
	if d.failure != nil {
		d.info.Failure = &d.failure.Failure
	}
	d.info.Gaps = d.gaps()
	return d, ctx.Err()
}

// bytes maps the dump. A compressed dump is unpacked into a file first.
func (d *Dump) bytes(ctx context.Context, f *os.File) ([]byte, error) {
	head := make([]byte, 64)
	n, _ := f.ReadAt(head, 0)
	if how := packed.Detect(head[:n]); how != "" {
		plain, _, err := d.options.Timelines.Unpack(ctx, f, how, nil) // the dump itself says that it is cut off
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name(), err)
		}
		defer plain.Close()
		return mapped.File(d, plain)
	}
	return mapped.File(d, f)
}

// load reads a module's tables.
func (l *loaded) load(memory *elfcore.Memory) {
	l.once.Do(func() {
		if l.Debug != nil {
			var err error
			if l.debug, err = debuginfo.Open(l.Debug, l.Supplement, l.parts); err != nil {
				l.trouble = err.Error()
			}
		}
		var sections []unwind.Section
		for _, f := range []*module.File{l.Binary, l.Debug} {
			if f == nil {
				continue
			}
			for _, name := range []string{".eh_frame", ".debug_frame"} {
				if f == l.Debug && f != l.Binary && name == ".eh_frame" {
					continue
				}
				b, err := f.Section(name)
				if err != nil || len(b) == 0 {
					continue
				}
				s := unwind.Section{Data: b, EH: name == ".eh_frame", Address: f.ELF.Section(name).Addr}
				if text := f.ELF.Section(".text"); text != nil {
					s.Text = text.Addr
				}
				sections = append(sections, s)
			}
			if f == l.Debug {
				break
			}
		}
		l.table = unwind.NewTable(sections...)
		if l.Binary != nil {
			l.golang = gotable.Find(l.Binary, l.Bias, func(address, n uint64) ([]byte, bool) { return memory.Read(address+l.Bias, n) })
		}
	})
}

// at returns the module at an address with its tables, or nil.
func (d *Dump) at(address uint64) *loaded {
	for _, l := range d.modules {
		if l.Contains(address) {
			l.load(&d.core.Memory)
			return l
		}
	}
	return nil
}

// symbol returns the name of an address of a module.
func (d *Dump) symbol(address uint64) string {
	l := d.at(address)
	if l == nil {
		if g, ok := d.generatedAt(address); ok {
			return g.name + offset(address-g.start)
		}
		return ""
	}
	if l.golang != nil {
		if f, ok := l.golang.At(address - l.Bias); ok {
			return f.Name + offset(address-l.Bias-f.Entry)
		}
	}
	for _, f := range []*module.File{l.Binary, l.Debug} {
		if f == nil {
			continue
		}
		if s, ok := f.Symbols().At(address - l.Bias); ok {
			return module.Readable(s.Name) + offset(address-l.Bias-s.Address)
		}
	}
	if l.debug != nil {
		if f := l.debug.FunctionAt(address - l.Bias); f != nil {
			return f.Name + offset(address-l.Bias-f.Spans[0].Low)
		}
	}
	return ""
}

func offset(n uint64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" + %d", n)
}

// typeNamed finds a type by name, in the program first.
func (d *Dump) typeNamed(name string) *debuginfo.Type {
	for _, l := range d.programFirst() {
		if l.load(&d.core.Memory); l.debug == nil {
			continue
		}
		if o, ok := l.debug.TypeNamed(name); ok {
			return d.types.Get(d.types.ID(o))
		}
	}
	return nil
}

func (d *Dump) programFirst() []*loaded {
	var list []*loaded
	if d.program != nil {
		list = append(list, d.program)
	}
	for _, l := range d.modules {
		if l != d.program && l.Debug != nil {
			list = append(list, l)
		}
	}
	return list
}

// runtimeType finds the type whose Go runtime descriptor is at an address. The debug information
// has the address, or its distance from the first descriptor.
func (d *Dump) runtimeType(address uint64) *debuginfo.Type {
	if d.program == nil {
		return nil
	}
	d.program.load(&d.core.Memory)
	if d.program.debug == nil {
		return nil
	}
	tries := []uint64{address - d.program.Bias}
	if d.golang != nil && d.golang.types != 0 {
		tries = append(tries, address-d.golang.types)
	}
	for _, at := range tries {
		if o, ok := d.program.debug.RuntimeType(at); ok {
			return d.types.Get(d.types.ID(o))
		}
	}
	return nil
}

// runtimeName returns the name that Go's runtime has of the type whose descriptor is at an address; empty if it cannot be read.
func (d *Dump) runtimeName(address uint64) string {
	if d.golang == nil {
		return ""
	}
	name, _ := d.golang.typeText(address)
	return name
}

// implementer finds the Rust type of a dispatch table.
func (d *Dump) implementer(table uint64) *debuginfo.Type {
	l := d.at(table)
	if l == nil {
		return nil
	}
	if l.load(&d.core.Memory); l.debug == nil {
		return nil
	}
	if o, ok := l.debug.Implementer(table - l.Bias); ok {
		return d.types.Get(d.types.ID(o))
	}
	return nil
}

// captured lists the captured variables of a closure.
func (d *Dump) captured(code uint64) []debuginfo.Captured {
	l := d.at(code)
	if l == nil || l.debug == nil || l.golang == nil || !l.golang.Begins(code-l.Bias) {
		return nil
	}
	f := l.debug.FunctionAt(code - l.Bias)
	if f == nil {
		return nil
	}
	return f.Captured()
}

// describe sets the description of the dump.
func (d *Dump) describe() {
	p := d.core.Process
	d.info = replay.Info{Kind: kindName, Program: p.Name, Moments: 1, Threads: len(d.threads), Revision: d.build.Revision, Language: "native"}
	if d.golang != nil {
		d.info.Language = "go"
	}
	if p.Args != "" {
		d.info.Command = strings.Fields(p.Args)
	}
	if d.program != nil {
		d.info.BuildID = d.program.BuildID
		d.info.Program = filepath.Base(d.program.Path)
	}
}

// Info implements replay.Recording.
func (d *Dump) Info() replay.Info { return d.info }

// ThreadOf implements replay.Recording.
func (d *Dump) ThreadOf(at event.Moment) (event.ThreadID, error) {
	if err := check(at); err != nil {
		return 0, err
	}
	if d.failure != nil {
		return d.failure.Thread, nil
	}
	if len(d.threads) == 0 {
		return 0, fmt.Errorf("%w: the dump has no threads", fault.NoThread)
	}
	return d.threads[0].ID, nil
}

func check(at event.Moment) error {
	if at != 0 {
		return fmt.Errorf("moment %d: %w: a core dump has one moment, 0", at, fault.OutOfRange)
	}
	return nil
}

// Threads implements replay.Recording.
func (d *Dump) Threads(_ context.Context, at event.Moment) ([]replay.Thread, error) {
	if err := check(at); err != nil {
		return nil, err
	}
	out := make([]replay.Thread, len(d.threads))
	for i := range d.threads {
		out[i] = d.threads[i].Thread
	}
	return out, nil
}

func (d *Dump) thread(at event.Moment, t event.ThreadID) (*thread, error) {
	if err := check(at); err != nil {
		return nil, err
	}
	i, ok := d.byID[t]
	if !ok {
		return nil, fmt.Errorf("thread %d: %w", t, fault.NoThread)
	}
	return &d.threads[i], nil
}

// Source implements replay.Recording.
func (d *Dump) Source(file string) (string, error) {
	p := source.Places{Folders: d.options.Source, Revision: d.build.Revision, Paths: d.options.Paths, Own: !d.options.Modules.Alone}
	text, err := p.Text(context.Background(), file)
	if err != nil {
		return "", fmt.Errorf("%s: %w; give the folder, archive or repository that has it", file, fault.NoSource)
	}
	return text, nil
}
