// Package crashtext opens a crash text for replay: the threads, frames and arguments in a
// traceback. A crash text has one moment, number 0.
package crashtext

import (
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/mask"
	"wraithology/core/replay"
	"wraithology/core/source"
	"wraithology/core/traceback"
)

// kindName is the name of the kind.
const kindName = "crash-text"

// Options say what explains a crash text.
type Options struct {
	Binaries []Binary // in which addresses are looked up
	Source   source.Places
	Own      traceback.Own
	Damage   string     // what is wrong with the file itself, or nothing
	Mask     *mask.Mask // what is secret; nil for nothing
}

// Binary is a program, a library, or a file with debug information. An offered one need not be of
// the text's program.
type Binary struct {
	Path    string
	Name    string
	Offered bool
}

// maxText limits a crash text; what is longer is a log.
const maxText = 256 << 20

// Text is a crash text opened for questions. It is safe for concurrent use.
type Text struct {
	crash   *traceback.Crash
	options Options
	info    replay.Info
	// isMasked is set if something in the text is masked.
	isMasked bool
}

// Open reads the crash text in f, size bytes long.
func Open(ctx context.Context, f *os.File, size int64, o Options) (*Text, error) {
	if size > maxText {
		return nil, fmt.Errorf("it is %d bytes long, and a crash text has at most %d: --as structured-log reads it as a log", size, maxText)
	}
	b, err := io.ReadAll(io.LimitReader(f, size))
	if err != nil {
		return nil, fmt.Errorf("read the text: %w", err)
	}
	text, hidden := o.Mask.Text(string(b), nil)
	c, err := traceback.Read(ctx, text)
	if err != nil {
		return nil, err
	}
	t := &Text{crash: c, options: o, isMasked: hidden}
	t.resolve()
	for i := range c.Threads {
		o.Own.Mark(c.Language, c.Threads[i].Frames)
	}
	t.describe()
	return t, nil
}

func (t *Text) describe() {
	c := t.crash
	i := &t.info
	*i = replay.Info{Kind: kindName, Language: c.Language, Moments: 1, Threads: len(c.Threads)}
	if c.Language != "" {
		i.Program = "a " + c.Language + " program"
		if c.Language == "kernel" {
			i.Program = "the kernel"
		}
	}
	if d := t.options.Damage; d != "" {
		i.Gaps = append(i.Gaps, replay.Gap{What: d, Remedy: "fetch the file again"})
	}
	for _, g := range c.Gaps {
		i.Gaps = append(i.Gaps, replay.Gap{What: g.What, Remedy: g.Remedy})
	}
	if t.isMasked {
		i.Gaps = append(i.Gaps, replay.Gap{What: "secrets in the text are masked", Remedy: "wraith case mask CASE shows the rules; whoever has the right sees the text with --unmask"})
	}
	i.Gaps = append(i.Gaps, t.missing()...)
	if len(c.Causes) == 0 {
		i.Gaps = append(i.Gaps, replay.Gap{What: "the text does not contain the error", Remedy: "read the lines before it in the log"})
		return
	}
	f := &replay.Failure{Kind: c.Kind, Thread: 1, Signal: c.Signal, Address: c.Address}
	if f.Kind == "" {
		f.Kind = "error"
	}
	outermost := c.Causes[0]
	switch {
	case outermost.Type == "":
		f.Summary = outermost.Message
	case outermost.Message == "" || strings.HasPrefix(outermost.Message, outermost.Type):
		f.Summary = strings.TrimSpace(outermost.Type + strings.TrimPrefix(outermost.Message, outermost.Type))
	default:
		f.Summary = outermost.Type + ": " + outermost.Message
	}
	for _, x := range c.Causes {
		f.Causes = append(f.Causes, replay.Cause(x))
	}
	if len(c.Threads) > 0 {
		f.Frame = firstOwn(c.Threads[0].Frames)
	} else {
		f.Thread = 0
	}
	i.Failure = f
}

// missing says what the text lacks to be read well.
func (t *Text) missing() (gaps []replay.Gap) {
	if len(t.crash.Threads) == 1 && len(t.crash.Threads[0].Frames) == 0 {
		gaps = append(gaps, replay.Gap{What: "the text has no frames", Remedy: "read the lines around it in the log, or use a core dump or recording of the same failure"})
	}
	unnamed := 0
	for i := range t.crash.Threads {
		for k := range t.crash.Threads[i].Frames {
			if f := &t.crash.Threads[i].Frames[k]; f.Address != 0 && f.Function == "" {
				unnamed++
			}
		}
	}
	if unnamed > 0 {
		gaps = append(gaps, replay.Gap{What: fmt.Sprintf("%s no name, only an address", map[bool]string{true: "1 frame has", false: fmt.Sprintf("%d frames have", unnamed)}[unnamed == 1]), Remedy: "give the binary that ran, with its debug information: --binary FILE, or in a case wraith artifact add"})
	}
	return gaps
}

// firstOwn returns the index of the first own frame, else 0.
func firstOwn(frames []traceback.Frame) int {
	for i := range frames {
		if frames[i].Own {
			return i
		}
	}
	return 0
}

// Info implements replay.Recording.
func (t *Text) Info() replay.Info { return t.info }

func (t *Text) thread(at event.Moment, id event.ThreadID) (*traceback.Thread, error) {
	if at != 0 {
		return nil, fmt.Errorf("moment %d is %w: a crash text has one moment, 0", at, fault.OutOfRange)
	}
	if id < 1 || int(id) > len(t.crash.Threads) {
		return nil, fmt.Errorf("thread %d: %w; the text has threads 1 to %d", id, fault.NoThread, len(t.crash.Threads))
	}
	return &t.crash.Threads[id-1], nil
}

// Threads implements replay.Recording.
func (t *Text) Threads(ctx context.Context, at event.Moment) ([]replay.Thread, error) {
	if at != 0 {
		return nil, fmt.Errorf("moment %d is %w: a crash text has one moment, 0", at, fault.OutOfRange)
	}
	out := make([]replay.Thread, 0, len(t.crash.Threads))
	for i := range t.crash.Threads {
		x := &t.crash.Threads[i]
		out = append(out, replay.Thread{ID: event.ThreadID(i + 1), Name: x.Name, Kind: x.Kind, State: x.State, Creator: x.Creator})
	}
	return out, ctx.Err()
}

// Frames implements replay.Recording.
func (t *Text) Frames(_ context.Context, at event.Moment, id event.ThreadID) ([]replay.Frame, error) {
	x, err := t.thread(at, id)
	if err != nil {
		return nil, err
	}
	out := make([]replay.Frame, 0, len(x.Frames))
	for i := range x.Frames {
		f := &x.Frames[i]
		out = append(out, replay.Frame{Index: i, Function: f.Name(), File: f.File, Line: f.Line, Own: f.Own, Inlined: f.Inlined, PC: f.Address, Note: f.Note, Call: event.NoCall})
	}
	if x.Cut && len(out) > 0 {
		last := &out[len(out)-1]
		last.Note = strings.TrimPrefix(last.Note+"; the text leaves frames out", "; ")
	}
	return out, nil
}

// ThreadOf implements replay.Recording.
func (t *Text) ThreadOf(at event.Moment) (event.ThreadID, error) {
	_, err := t.thread(at, 1)
	return 1, err
}

// Source implements replay.Recording.
func (t *Text) Source(file string) (string, error) {
	text, err := t.options.Source.Text(context.Background(), file)
	if err != nil {
		return "", fmt.Errorf("%w: %w: --source FOLDER says where it is", err, fault.NoSource)
	}
	return text, nil
}

var (
	wordType  = &event.Type{ID: 1, Name: "word", Form: event.Opaque, Size: 8}
	groupType = func(n int) *event.Type {
		t := &event.Type{ID: 2, Name: "words", Form: event.Struct}
		for i := range n {
			t.Fields = append(t.Fields, event.Field{Name: strconv.Itoa(i + 1), Type: 1})
		}
		return t
	}
)

// valueOf converts an argument to a value. It is marked if the runtime was not certain of it.
func valueOf(w traceback.Word) event.Value {
	if w.Parts != nil {
		v := event.Value{Type: groupType(len(w.Parts)), State: event.Known}
		for _, p := range w.Parts {
			v.Items = append(v.Items, valueOf(p))
		}
		return v
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(w.Text, "0x"), 16, 64)
	switch {
	case err != nil:
		return event.Value{Type: wordType, State: event.Unrecorded, Text: "the runtime printed no more of it"}
	case w.Stale:
		return event.Value{Type: wordType, State: event.Leftover, Uint: n, Text: fmt.Sprintf("the runtime found 0x%x, and doubts that it was still right", n)}
	}
	return event.Value{Type: wordType, State: event.Known, Uint: n}
}

// Variables implements replay.Recording: the argument words, as printed.
func (t *Text) Variables(_ context.Context, at event.Moment, id event.ThreadID, frame int) ([]replay.Variable, error) {
	x, err := t.thread(at, id)
	if err != nil {
		return nil, err
	}
	switch {
	case len(x.Frames) == 0:
		return nil, fmt.Errorf("thread %d: %w; the text has no frames of it", id, fault.NoFrame)
	case frame < 0 || frame >= len(x.Frames):
		return nil, fmt.Errorf("frame %d of thread %d: %w; its stack has frames 0 to %d", frame, id, fault.NoFrame, len(x.Frames)-1)
	}
	var out []replay.Variable
	for i, w := range x.Frames[frame].Args {
		if w.Text == "..." {
			continue
		}
		v := valueOf(w)
		out = append(out, replay.Variable{Name: "arg" + strconv.Itoa(i+1), Scope: event.Parameter, Type: v.Type.Name, Value: replay.Value{Value: v}, Written: event.NoMoment})
	}
	return out, nil
}

// Variable implements replay.Recording.
func (t *Text) Variable(ctx context.Context, at event.Moment, id event.ThreadID, frame int, name string) (replay.Variable, bool, error) {
	list, err := t.Variables(ctx, at, id, frame)
	for _, v := range list {
		if v.Name == name {
			return v, true, nil
		}
	}
	return replay.Variable{}, false, err
}
