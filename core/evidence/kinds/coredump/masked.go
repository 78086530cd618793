package coredump

import (
	"context"
	"fmt"
	"sync"
	"time"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/mask"
	"wraithology/core/replay"
)

// masked is a dump whose secret values are masked: by the names of variables and fields, by types, and by patterns of texts. Memory as bytes is not shown,
// because nobody knows which of them are secret.
type masked struct {
	*Dump
	mu     sync.Mutex // of hider
	hider  *event.Hider
	memory maskedMemory
	gather sync.Once
}

func newMasked(d *Dump, m *mask.Mask) *masked {
	out := &masked{Dump: d}
	out.hider = event.NewHider(m, mask.NewSecrets(), d.memory.Type)
	out.hider.References = true
	out.memory = maskedMemory{out}
	return out
}

// Limits of gathering: the secrets of a dump with very many threads are not all found before the first answer.
const (
	gatheredThreads = 500
	gatheredFrames  = 50 // of a thread
	gatheredFor     = 3 * time.Second
)

// secrets goes through the variables of the stacks, so that what is secret by name in one of them is secret in all, whatever its name there.
func (d *masked) secrets(ctx context.Context) {
	d.gather.Do(func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), gatheredFor)
		defer cancel()
		for i := range d.threads[:min(len(d.threads), gatheredThreads)] {
			id := d.threads[i].ID
			frames, err := d.Dump.Frames(ctx, 0, id)
			if err != nil {
				continue // the question about it says why
			}
			for n := range frames[:min(len(frames), gatheredFrames)] {
				list, err := d.Dump.Variables(ctx, 0, id, n)
				if err != nil {
					continue
				}
				for _, v := range list {
					d.look(d.variable(v).Value)
				}
				if ctx.Err() != nil {
					return
				}
			}
		}
	})
}

// look masks what a value leads to, a little way.
func (d *masked) look(v replay.Value) {
	if v.Form() == event.Pointer {
		v = v.Deref()
	}
	_, _ = v.Children(replay.Page{Count: 10})
}

func (d *masked) value(v event.Value, level mask.Level) event.Value {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.hider.Value(v, level)
}

func (d *masked) text(s string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.hider.Text(s)
}

func (d *masked) variable(v replay.Variable) replay.Variable {
	d.mu.Lock()
	level := d.hider.Name(mask.OnName, v.Name)
	d.mu.Unlock()
	v.Value.Value = d.value(v.Value.Value, level)
	if v.Value.Memory != nil {
		v.Value.Memory = d.memory
	}
	return v
}

// Info implements replay.Recording.
func (d *masked) Info() replay.Info {
	d.secrets(context.Background())
	out := d.Dump.Info()
	d.mu.Lock()
	out.Command = d.hider.Arguments(out.Command)
	d.mu.Unlock()
	if out.Failure != nil {
		f := *out.Failure
		f.Summary, f.Suspect = d.text(f.Summary), d.text(f.Suspect)
		causes := make([]replay.Cause, len(f.Causes))
		for i, c := range f.Causes {
			causes[i] = replay.Cause{Type: c.Type, Message: d.text(c.Message)}
		}
		f.Causes = causes
		out.Failure = &f
	}
	out.Gaps = append(append([]replay.Gap{}, out.Gaps...), replay.Gap{What: "secret values are masked, and memory as bytes is not shown", Remedy: "wraith case mask CASE shows the rules; whoever has the right sees it with --unmask"})
	return out
}

// Variables implements replay.Recording.
func (d *masked) Variables(ctx context.Context, at event.Moment, t event.ThreadID, frame int) ([]replay.Variable, error) {
	d.secrets(ctx)
	list, err := d.Dump.Variables(ctx, at, t, frame)
	out := make([]replay.Variable, len(list))
	for i, v := range list {
		out[i] = d.variable(v)
	}
	return out, err
}

// Variable implements replay.Recording.
func (d *masked) Variable(ctx context.Context, at event.Moment, t event.ThreadID, frame int, name string) (replay.Variable, bool, error) {
	d.secrets(ctx)
	v, ok, err := d.Dump.Variable(ctx, at, t, frame, name)
	return d.variable(v), ok, err
}

// MemoryAt implements replay.Machine.
func (d *masked) MemoryAt(context.Context, uint64, uint64) (replay.Stretch, error) {
	return replay.Stretch{}, fmt.Errorf("memory: %w", fault.Masked)
}

// Holders implements replay.Machine, for addresses of the program: others could be a guess at a secret.
func (d *masked) Holders(ctx context.Context, pointer uint64, page replay.Page) ([]replay.Word, int, error) {
	if pointer < firstPage || !d.isMapped(pointer) {
		return nil, 0, fmt.Errorf("0x%x is not mapped: %w", pointer, fault.Masked)
	}
	return d.Dump.Holders(ctx, pointer, page)
}

// Types implements replay.Machine.
func (d *masked) Types() replay.TypeNames { return d.memory }

// Instructions implements replay.Machine.
func (d *masked) Instructions(ctx context.Context, at event.Moment, t event.ThreadID, frame, before, after int) ([]replay.Instruction, error) {
	d.secrets(ctx)
	list, err := d.Dump.Instructions(ctx, at, t, frame, before, after)
	for i := range list {
		for k, x := range list[i].Operands {
			list[i].Operands[k] = d.text(x)
		}
	}
	return list, err
}

// maskedMemory is the memory of a masked dump. It is not divisible: a field that is loaded alone has no name.
type maskedMemory struct{ d *masked }

// Load implements replay.Memory.
func (m maskedMemory) Load(address uint64, t *event.Type) event.Value {
	return m.d.value(m.d.Dump.memory.Load(address, t), mask.Nothing)
}

// Entries implements replay.Memory.
func (m maskedMemory) Entries(address uint64, t *event.Type) (pairs []event.Value, all bool) {
	pairs, all = m.d.Dump.memory.Entries(address, t)
	v := m.d.value(event.Value{Type: t, State: event.Known, Pairs: pairs}, mask.Nothing)
	return v.Pairs, all
}

// Type implements replay.Memory.
func (m maskedMemory) Type(id event.TypeID) *event.Type { return m.d.Dump.memory.Type(id) }

// Items implements replay.Sequences.
func (m maskedMemory) Items(address uint64, t *event.Type, from, to uint64) ([]event.Value, bool) {
	list, ok := m.d.Dump.memory.Items(address, t, from, to)
	out := make([]event.Value, len(list))
	for i, v := range list {
		out[i] = m.d.value(v, mask.Nothing)
	}
	return out, ok
}

// TypeNamed implements replay.TypeNames: as another type, secret bytes would be numbers.
func (m maskedMemory) TypeNamed(string) (*event.Type, error) {
	return nil, fmt.Errorf("cast: %w", fault.Masked)
}
