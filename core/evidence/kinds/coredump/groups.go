package coredump

import (
	"cmp"
	"context"
	"encoding/binary"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/replay"
)

// Groups implements replay.Grouper: threads with the same stack and state; the failing thread's
// group first, then the largest.
func (d *Dump) Groups(ctx context.Context, at event.Moment) ([]replay.Group, error) {
	if err := check(at); err != nil {
		return nil, err
	}
	byKey := map[string]*replay.Group{}
	var list []*replay.Group
	var key []byte
	for i := range d.threads {
		if i%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		t := &d.threads[i]
		state := t.State
		if t.goroutine != nil { // the wait target differs
			state, _, _ = strings.Cut(state, ", ")
		}
		key = append(append(key[:0], t.Kind...), state...)
		for _, pc := range d.counters(ctx, t) {
			key = binary.LittleEndian.AppendUint64(key, pc)
		}
		g, ok := byKey[string(key)]
		if !ok {
			g = &replay.Group{Kind: t.Kind, State: state}
			byKey[string(key)] = g
			list = append(list, g)
		}
		g.Threads = append(g.Threads, t.ID)
	}
	failing := event.ThreadID(0)
	if d.failure != nil {
		failing = d.failure.Thread
	}
	slices.SortStableFunc(list, func(a, b *replay.Group) int {
		if x, y := slices.Contains(a.Threads, failing), slices.Contains(b.Threads, failing); x != y {
			return map[bool]int{true: -1, false: 1}[x]
		}
		return cmp.Compare(len(b.Threads), len(a.Threads))
	})
	out := make([]replay.Group, len(list))
	for i, g := range list {
		out[i] = *g
	}
	return out, nil
}

// counters lists the program counters of a stack. For goroutines that do not run, Go's function
// table is enough and faster.
func (d *Dump) counters(ctx context.Context, t *thread) []uint64 {
	if t.goroutine != nil && t.lwp < 0 && d.program.golang != nil && d.core.Arch == machine.AMD64 {
		if list, ok := d.goCounters(t.goroutine); ok {
			return list
		}
	}
	regs, exact, ok := d.registersOf(t)
	if !ok {
		return nil
	}
	var list []uint64
	for _, s := range d.unwind(ctx, regs, exact, maxSteps) {
		list = append(list, s.pc)
	}
	return list
}

func (d *Dump) goCounters(g *goroutine) ([]uint64, bool) {
	s := g.record.In("sched")
	pc, sp := s.Uint("pc"), s.Uint("sp")
	l := d.program
	l.load(&d.core.Memory)
	look := pc
	if !l.golang.Begins(pc - l.Bias) {
		look--
	}
	var list []uint64
	for len(list) < maxSteps {
		list = append(list, pc)
		if l.golang.Ends(look - l.Bias) {
			return list, true
		}
		size, ok := l.golang.FrameSize(look - l.Bias)
		if !ok {
			return nil, false
		}
		if pc, ok = d.core.Memory.Pointer(sp + size); !ok {
			return nil, false
		}
		sp += size + 8
		look = pc - 1
	}
	return list, true
}
