package recorder

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"syscall"

	"golang.org/x/sync/errgroup"

	"wraithology/core/event"
	"wraithology/core/execlog"
	"wraithology/core/fault"
)

// PackSummary says what a packed log holds.
type PackSummary struct {
	Processes int
	Blocks    int
	Bytes     int64
}

// Pack merges the live logs of all processes in the folder spool into one log at output and
// compresses each block. end is the end of the command itself. redact are the rules for the crash texts.
func Pack(ctx context.Context, spool, output string, header event.Header, end event.End, redact Redaction) (summary PackSummary, err error) {
	paths, err := filepath.Glob(filepath.Join(spool, "*.wraith"))
	if err != nil {
		return summary, fmt.Errorf("list the recordings: %w", err)
	}
	var logs []*execlog.Log
	crashes := map[*execlog.Log]string{}
	frees := map[*execlog.Log]*freed{}
	defer func() {
		for _, l := range logs {
			l.Close()
			frees[l].close()
		}
	}()
	short := scarce(output, paths)
	for _, p := range paths {
		l, err := execlog.OpenFile(p)
		if err != nil || len(l.Processes) == 0 {
			continue // a process that ended before it wrote anything
		}
		logs = append(logs, l)
		if short {
			frees[l] = freeing(p)
		}
		if text, err := os.ReadFile(p + ".crash"); err == nil {
			crashes[l] = string(text)
		}
	}
	if len(logs) == 0 {
		return summary, fault.Nothing
	}
	sort.Slice(logs, func(i, j int) bool { return logs[i].Processes[0].Started < logs[j].Processes[0].Started })
	first := logs[0].Processes[0]
	header.BuildID, header.Compiler = first.BuildID, first.Compiler
	omitted := map[event.FunctionID]uint64{}
	for _, l := range logs {
		header.Sampled = header.Sampled || l.Header.Sampled || len(l.Omitted) > 0
		for f, n := range l.Omitted {
			omitted[f] += n
		}
	}
	temporary := output + ".partial"
	f, err := os.Create(temporary)
	if err != nil {
		return summary, fmt.Errorf("create the log: %w", err)
	}
	defer func() {
		if err == nil {
			return
		}
		f.Close()
		if errors.Is(err, syscall.ENOSPC) && os.Rename(temporary, output) == nil {
			err = fmt.Errorf("the end of the recording is missing in %s: %w", output, err)
			return
		}
		os.Remove(temporary)
	}()
	buffered := bufio.NewWriterSize(f, 1<<20)
	w, err := execlog.NewWriter(buffered, header, execlog.Zstd)
	if err != nil {
		return summary, err
	}
	if err := packTables(w, logs[0]); err != nil {
		return summary, err
	}
	if header.Sampled {
		if err := w.Gap(leftOut(omitted, logs[0].Functions)); err != nil {
			return summary, err
		}
	}
	var all summariser
	for i, l := range logs {
		process := uint16(i + 1)
		n, err := packProcess(ctx, w, l, process, l.Processes[0].Started-first.Started, &all, frees[l])
		if err != nil {
			return summary, err
		}
		summary.Blocks += n
		e := event.End{Process: process, ExitCode: -1, Crash: redact.text(strings.TrimSpace(crashes[l]))}
		if len(logs) == 1 && header.Program != "go test" {
			e.ExitCode, e.Signal = end.ExitCode, end.Signal
		}
		if err := w.End(e); err != nil {
			return summary, err
		}
	}
	all.end()
	if err := w.Summary(all.summary); err != nil {
		return summary, err
	}
	if err := buffered.Flush(); err != nil {
		return summary, fmt.Errorf("write the log: %w", err)
	}
	if info, err := f.Stat(); err == nil {
		summary.Bytes = info.Size()
	}
	if err := f.Close(); err != nil {
		return summary, fmt.Errorf("write the log: %w", err)
	}
	summary.Processes = len(logs)
	return summary, os.Rename(temporary, output)
}

// leftOut says which calls were left out of a recording.
func leftOut(omitted map[event.FunctionID]uint64, functions map[event.FunctionID]event.Function) event.Gap {
	list := slices.SortedFunc(maps.Keys(omitted), func(a, b event.FunctionID) int {
		return cmp.Or(cmp.Compare(omitted[b], omitted[a]), cmp.Compare(a, b))
	})
	const named = 3
	total := uint64(0)
	var parts []string
	for i, f := range list {
		if total += omitted[f]; i < named {
			parts = append(parts, fmt.Sprintf("%d of %s", omitted[f], functions[f].Name))
		}
	}
	if len(list) > named {
		parts = append(parts, fmt.Sprintf("others of %d functions", len(list)-named))
	}
	what := fmt.Sprintf("%d calls were left out with all that they called", total)
	if len(parts) > 0 {
		what += ": " + strings.Join(parts, ", ")
	}
	return event.Gap{What: what, Remedy: "record with a smaller --sample, with a larger --budget, or without them"}
}

// packTables writes the tables that all processes share.
func packTables(w *execlog.Writer, l *execlog.Log) error {
	for id := event.FileID(0); int(id) < len(l.Files); id++ {
		if err := w.File(l.Files[id]); err != nil {
			return err
		}
	}
	for id := event.FunctionID(0); int(id) < len(l.Functions); id++ {
		if err := w.Function(l.Functions[id]); err != nil {
			return err
		}
	}
	for id := event.SiteID(0); int(id) < len(l.Sites); id++ {
		if err := w.Site(l.Sites[id]); err != nil {
			return err
		}
	}
	return nil
}

func packProcess(ctx context.Context, w *execlog.Writer, l *execlog.Log, process uint16, shift int64, all *summariser, space *freed) (int, error) {
	blocks := 0
	p := l.Processes[0]
	p.ID = process
	if err := w.Process(p); err != nil {
		return 0, err
	}
	for _, g := range l.Gaps {
		if err := w.Gap(g); err != nil {
			return 0, err
		}
	}
	l.EachType(func(_ uint16, t *event.Type) { _ = w.Type(process, *t) }) // errors stick
	l.EachThread(func(t event.Thread) {
		t.Process = process
		t.Started += shift
		_ = w.Thread(t)
	})
	// One goroutine reads the blocks ahead while this one compresses and writes.
	prepared := make(chan timedBlock, 8)
	work, ctx := errgroup.WithContext(ctx)
	work.Go(func() error {
		defer close(prepared)
		r := retimer{see: all.see}
		types := l.Types(0)
		for i, b := range l.Blocks {
			payload, err := l.Payload(b)
			if err != nil {
				return fmt.Errorf("read a recorded block: %w", err)
			}
			next := b.Base // of the thread's next block
			if i+1 < len(l.Blocks) && l.Blocks[i+1].Thread == b.Thread {
				next = l.Blocks[i+1].Base
			}
			all.begin(process, event.ThreadID(b.Thread), types)
			if err := r.split(ctx, event.ThreadID(b.Thread), b.Base, next, payload, prepared); err != nil {
				return err
			}
			space.free(b.Offset, b.Bytes)
		}
		return nil
	})
	work.Go(func() error {
		for b := range prepared {
			if err := w.Events(process, b.thread, b.base+shift, b.events); err != nil {
				return err
			}
			blocks++
		}
		return nil
	})
	return blocks, work.Wait()
}
