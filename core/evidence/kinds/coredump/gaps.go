package coredump

import (
	"fmt"
	"path/filepath"
	"strings"

	"wraithology/core/replay"
)

// maxGaps limits the gaps about modules.
const maxGaps = 40

// gaps lists what is missing in the dump and its binaries, with remedies.
func (d *Dump) gaps() []replay.Gap {
	var out []replay.Gap
	add := func(what, remedy string) {
		if len(out) < maxGaps {
			out = append(out, replay.Gap{What: what, Remedy: remedy})
		}
	}
	if d.core.Missing > 0 {
		add(fmt.Sprintf("the dump is cut off: %d bytes are missing at its end", d.core.Missing),
			"copy it again, or raise the limit that cut it (ulimit -c unlimited; a service manager has its own); what is there can be read")
	}
	for _, t := range d.core.Troubles {
		add(t, "the dump is damaged there: copy it again; the rest can be read")
	}
	if len(d.core.Files) == 0 && d.program == nil {
		add("the dump does not say which files were mapped", "give the program with --binary, or as an artifact of the case: it is put where it began")
	}
	if d.program == nil && len(d.core.Files) > 0 {
		add("the dump does not say which of its modules is the program", "give the program with --binary")
	}
	used := d.usedModules()
	for _, l := range d.modules {
		d.moduleGaps(l, used[l], add)
	}
	if d.golang != nil && d.golang.trouble != "" {
		add(d.golang.trouble, "build without -ldflags=-w, or give the unstripped binary with --binary")
	}
	if n := d.heapSize(); n > maxAskedHeap && d.hasLibrary() {
		add(fmt.Sprintf("the heap has %d MB, more than %d: its pointers do not say whether they lead to freed memory", n>>20, maxAskedHeap>>20),
			"wraith memory DUMP ADDRESS says of any address which chunk it is in, and whether that is free")
	}
	if d.failure == nil {
		add("the dump does not say that anything failed", "it was made of a process that went on; look through its threads")
	}
	return out
}

// usedModules are the modules on stacks of the failing thread.
func (d *Dump) usedModules() map[*loaded]bool {
	out := map[*loaded]bool{}
	if d.failure == nil {
		return out
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, f := range d.stacks[d.failure.Thread] {
		out[f.steps[f.at].module] = true
	}
	return out
}

func (d *Dump) moduleGaps(l *loaded, used bool, add func(what, remedy string)) {
	name := filepath.Base(l.Path)
	system := strings.HasPrefix(l.Path, "/usr/lib") || strings.HasPrefix(l.Path, "/lib")
	id := l.BuildID
	if id == "" {
		id = "none"
	}
	switch {
	case l.Kernel:
	case l.Binary == nil && l.Wrong != "":
		add(fmt.Sprintf("%s here is of another build: its build ID is %s, that of the dump %s", l.Path, l.Wrong, id),
			"fetch the file from the machine that crashed, or the package of that version, and give it with --binary or as an artifact of the case")
	case l.Binary == nil && (used || l.Executable || !system):
		add(fmt.Sprintf("%s was not found (build ID %s)", l.Path, id), "give it with --binary, the folder that has it with --debug, or the file as an artifact of the case")
	case l.Binary != nil && l.Debug == nil && (l.Executable || used && !system):
		add(fmt.Sprintf("%s has no debug information (build ID %s): no lines, no values", name, id),
			"build with -g, or give its separate debug file: the folder with --debug, or the file as an artifact of the case")
	case l.trouble != "":
		add(fmt.Sprintf("the debug information of %s: %s", name, l.trouble), "build it again, or fetch it again: it is damaged")
	}
	if l.debug != nil {
		if missing := l.debug.Missing(); len(missing) > 0 {
			add(fmt.Sprintf("debug information of %s was split into files that were not found: %s", name, missing[0]), "give the folder that has them with --debug, or the files as artifacts of the case")
		}
	}
	if l.Debug != nil && l.Supplement == nil {
		if s := l.Debug.ELF.Section(".gnu_debugaltlink"); s != nil {
			add(fmt.Sprintf("the debug file of %s shares entries with another file, which was not found", name), "give the folder that has it with --debug")
		}
	}
}
