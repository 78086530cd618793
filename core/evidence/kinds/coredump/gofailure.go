package coredump

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"golang.org/x/arch/x86/x86asm"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/evidence/kinds/coredump/values"
	"wraithology/core/replay"
)

// explainGo determines why a Go program ended: an unrecovered panic or a fatal error of the
// runtime. It returns false if neither is found.
func (d *Dump) explainGo(ctx context.Context, f *failure) bool {
	g := d.panicking()
	if g != nil {
		d.explainPanic(ctx, f, g)
		return true
	}
	// The runtime's last message is an argument of the function that prints it.
	for _, id := range d.crashStacks() {
		list, err := d.framesOf(ctx, 0, id)
		if err != nil {
			return false
		}
		for i, x := range list {
			if x.Function != "runtime.throw" && x.Function != "runtime.fatal" {
				continue
			}
			f.Kind, f.Summary = "fatal", "the Go runtime ended the program"
			if text, ok := d.lastWords(ctx, id, list, i); ok {
				f.Summary = "fatal error: " + text
			}
			f.Thread, f.Frame = d.reporter(ctx, id, i)
			return true
		}
	}
	return false
}

// lastWords finds the message that the runtime printed: the argument, or the constant that the
// caller passed if the argument was not kept.
func (d *Dump) lastWords(ctx context.Context, id event.ThreadID, list []frame, i int) (string, bool) {
	if v, ok, err := d.Variable(ctx, 0, id, i, "s"); err == nil && ok && v.Value.State == event.Known && v.Value.Value.Text != "" {
		return v.Value.Value.Text, true
	}
	for up := i + 1; up < len(list); up++ {
		if !list[up].Inlined {
			return d.passedText(&list[up].steps[list[up].at])
		}
	}
	return "", false
}

// passedText reads the constant text that a function loaded into the registers of the first
// argument before its current call.
func (d *Dump) passedText(s *step) (string, bool) {
	start, ok := uint64(0), false
	if s.module != nil {
		start, ok = d.functionStart(s)
	}
	if !ok || d.core.Arch != machine.AMD64 {
		return "", false
	}
	var address, length uint64
	for _, x := range d.decode(start, s.pc, 0) {
		if x.Address >= s.pc {
			break
		}
		inst, err := x86asm.Decode(x.Bytes, 64)
		if err != nil {
			continue
		}
		to, isRegister := inst.Args[0].(x86asm.Reg)
		switch from := inst.Args[1].(type) {
		case x86asm.Mem:
			if inst.Op == x86asm.LEA && isRegister && to == x86asm.RAX && from.Base == x86asm.RIP {
				address = x.Address + uint64(inst.Len) + uint64(from.Disp)
			}
		case x86asm.Imm:
			if inst.Op == x86asm.MOV && isRegister && (to == x86asm.EBX || to == x86asm.RBX) {
				length = uint64(from)
			}
		}
	}
	const most = 200
	if address == 0 || length == 0 || length > most {
		return "", false
	}
	b, ok := d.read(address, length)
	return string(b), ok
}

// reporter returns the goroutine of a fatal error and its first own frame: on the thread that reported
// it, or if that ran no own code, on the first goroutine that did.
func (d *Dump) reporter(ctx context.Context, id event.ThreadID, frame int) (event.ThreadID, int) {
	ids := append(d.crashStacks(), id)
	for i := range d.threads {
		if d.threads[i].goroutine != nil && len(ids) < maxLooked {
			ids = append(ids, d.threads[i].ID)
		}
	}
	for _, x := range ids {
		list, err := d.framesOf(ctx, 0, x)
		if err != nil {
			break
		}
		for i := range list {
			if list[i].Own {
				return x, i
			}
		}
	}
	return id, frame
}

// crashStacks lists the stacks on which the crash can be found: that of the goroutine and that of
// its thread.
func (d *Dump) crashStacks() []event.ThreadID {
	var out []event.ThreadID
	for i := range d.threads {
		if d.threads[i].lwp == 0 {
			out = append(out, d.threads[i].ID)
		}
	}
	return out
}

// panicking returns the goroutine whose panic ended the program. Another thread may have ended the
// process after the panicking thread had printed its stacks; then the runtime's stack of the latter
// shows it.
func (d *Dump) panicking() *goroutine {
	var found *goroutine
	for _, g := range d.golang.goroutines {
		if g.lwp < 0 || g.record.Uint("_panic") == 0 {
			continue
		}
		if g.lwp == 0 {
			return g
		}
		for _, s := range d.unwind(context.Background(), d.core.Threads[g.lwp].Registers, true, maxSystemSteps) {
			if name := d.symbol(s.look); strings.HasPrefix(name, "runtime.fatalpanic") || strings.HasPrefix(name, "runtime.dopanic_m") {
				found = g
			}
		}
	}
	return found
}

func (d *Dump) explainPanic(ctx context.Context, f *failure, g *goroutine) {
	f.Kind, f.Thread = "panic", event.ThreadID(g.id)
	p := g.record.To("_panic")
	f.Summary = "panic"
	if v := p.Value("arg"); v.State == event.Known {
		f.Summary = d.panicText(replay.Value{Value: v, Memory: d.memory})
	}
	for older, n := p.To("link"), 0; older.Valid() && n < 8; older, n = older.To("link"), n+1 {
		if v := older.Value("arg"); v.State == event.Known {
			f.Summary += "; while panicking because of: " + d.panicText(replay.Value{Value: v, Memory: d.memory})
		}
	}
	list, err := d.framesOf(ctx, 0, f.Thread)
	if err != nil {
		return
	}
	// The outermost panic is the first one: deferred calls run above it, and may panic again.
	ended := f.Signal
	for i, x := range list {
		switch x.Function {
		case "runtime.gopanic":
			f.Frame, f.Signal, f.Address, f.Instruction = i+1, ended, "", ""
		case "runtime.sigpanic":
			f.Frame = i + 1
			f.Signal = signalName(int(g.record.Uint("sig")))
			if at := g.record.Uint("sigcode1"); f.Signal == "SIGSEGV" || f.Signal == "SIGBUS" {
				f.Address = fmt.Sprintf("0x%x", at)
			}
			if i+1 < len(list) {
				regs := list[i+1].steps[list[i+1].at].regs
				f.Instruction = d.accessAt(&regs).text
			}
		}
	}
	f.Frame = d.firstOwn(ctx, f.Thread, min(f.Frame, max(len(list)-1, 0)))
	if f.Address != "" && f.Frame < len(list) {
		d.suspectNil(f, list, f.Frame)
	}
}

// suspectNil returns the nil pointer that a frame's line uses.
func (d *Dump) suspectNil(f *failure, list []frame, at int) {
	c, ok := best(d.holding(&list[at], func(v replay.Value) bool { return isPointer(v, 0) }))
	if !ok || c.named == 0 {
		return
	}
	f.Suspect = c.path
	f.Summary += fmt.Sprintf("; %s is nil in %s", c.path, list[at].Function)
	d.handedOver(f, list, at, c, 0)
}

// panicText formats a panic value as the runtime does, without calling methods.
func (d *Dump) panicText(v replay.Value) string {
	inner := v
	for inner.Form() == event.Interface && len(inner.Items) == 1 {
		inner = replay.Value{Value: inner.Items[0], Memory: v.Memory}
	}
	if inner.Type == nil {
		return v.Text()
	}
	name := inner.Type.Name
	switch name {
	case "string":
		return inner.Value.Text
	case "runtime.errorString":
		return "runtime error: " + inner.Value.Text
	case "runtime.plainError":
		return inner.Value.Text
	case "runtime.boundsError":
		return "runtime error: " + d.boundsText(inner)
	case "runtime.errorAddressString":
		if m := inner.Field("msg"); m.State == event.Known {
			return "runtime error: " + m.Value.Text
		}
	case "*runtime.TypeAssertionError":
		return d.assertionText(inner)
	}
	if text, ok := d.errorText(inner, 0); ok {
		return fmt.Sprintf("%s (%s)", text, name)
	}
	return fmt.Sprintf("%s (%s)", inner.Text(), name)
}

// errorText reads the message of an error with a message field, such as those of the packages
// errors and fmt.
func (d *Dump) errorText(v replay.Value, depth int) (string, bool) {
	if v.Form() == event.Text {
		return v.Value.Text, true
	}
	for _, name := range []string{"s", "msg", "Msg", "message", "Message", "text"} {
		if m := v.Field(name); m.State == event.Known && m.Form() == event.Text {
			return m.Value.Text, true
		}
	}
	if m := v.Field("Err"); m.State == event.Known && m.Form() == event.Interface && len(m.Items) == 1 && depth < 4 {
		return d.errorText(replay.Value{Value: m.Items[0], Memory: v.Memory}, depth+1)
	}
	return "", false
}

// boundsText formats an index or slice error with the runtime's texts, which are others for numbers
// below 0.
func (d *Dump) boundsText(v replay.Value) string {
	x, y, code := v.Field("x"), v.Field("y"), v.Field("code")
	texts, number := "runtime.boundsErrorFmts", fmt.Sprint(uint64(x.Int))
	if v.Field("signed").Uint != 0 {
		number = fmt.Sprint(x.Int)
		if x.Int < 0 {
			texts = "runtime.boundsNegErrorFmts"
		}
	}
	text := ""
	if at, ok := d.golang.address(texts); ok && code.State == event.Known {
		text, _ = d.golang.text(at+16*code.Uint, 256)
	}
	if text == "" || x.State != event.Known || y.State != event.Known {
		return "out of range"
	}
	return strings.NewReplacer("%x", number, "%y", fmt.Sprint(y.Int)).Replace(text)
}

// assertionText formats a failed type assertion as the runtime does.
func (d *Dump) assertionText(v replay.Value) string {
	name := func(field string) string {
		f := v.Field(field)
		switch {
		case f.State != event.Known:
			return "?"
		case f.Nil:
			return ""
		}
		if text, ok := d.golang.typeText(f.Address); ok {
			return text
		}
		if t := d.runtimeType(f.Address); t != nil {
			return t.Name
		}
		return "?"
	}
	of, have, want := cmp.Or(name("_interface"), "interface"), cmp.Or(name("concrete"), "nil"), name("asserted")
	const head = "interface conversion: "
	if m := v.Field("missingMethod"); have != "nil" && m.State == event.Known && m.Value.Text != "" {
		return head + have + " is not " + want + ": missing method " + m.Value.Text
	}
	text := head + of + " is " + have + ", not " + want
	if have == want {
		text += " (types of the same name)"
	}
	return text
}

// typeText returns the runtime's text of the type whose descriptor is at an address (internal/abi:
// Type.Str, Name).
func (r *goRuntime) typeText(address uint64) (string, bool) {
	of := r.d.memory.Named("internal/abi.Type")
	if of == nil || r.types == 0 {
		return "", false
	}
	record := values.RecordAt(r.d.memory, of, address)
	str := record.Value("Str")
	if str.State != event.Known {
		return "", false
	}
	at := r.types + uint64(str.Int) + 1 // after the flags
	head, ok := r.d.core.Memory.Read(at, 2)
	if !ok {
		return "", false
	}
	length, size := uint64(head[0]), uint64(1)
	if head[0] >= 0x80 { // a length takes at most two bytes: names are limited by the linker
		length, size = uint64(head[0]&0x7f)|uint64(head[1])<<7, 2
	}
	text, ok := r.d.core.Memory.Read(at+size, length)
	if !ok || length == 0 {
		return "", false
	}
	const extraStar = 1 << 1
	if record.Uint("TFlag")&extraStar != 0 {
		text = text[1:]
	}
	return string(text), true
}
