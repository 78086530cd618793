package coredump

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/coredump/machine"
	"wraithology/core/replay"
)

// candidate is an expression of the program with a bad value.
type candidate struct {
	path  string
	root  replay.Variable
	value replay.Value
	depth int
	named int // number of its names on the line
}

var identifier = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)

// lineNames lists the names on a frame's line; nil without source text.
func (d *Dump) lineNames(f *frame) map[string]bool {
	text, err := d.Source(f.File)
	if err != nil {
		return nil
	}
	lines := strings.Split(text, "\n")
	if f.Line < 1 || f.Line > len(lines) {
		return nil
	}
	names := map[string]bool{}
	for _, n := range identifier.FindAllString(lines[f.Line-1], -1) {
		names[n] = true
	}
	return names
}

const (
	maxSuspectDepth = 2
	maxSuspectParts = 64
)

// holding lists the variables of a frame, global ones on its line, and members reached from them, whose value test accepts.
func (d *Dump) holding(f *frame, test func(replay.Value) bool) []candidate {
	names := d.lineNames(f)
	globals := maps.Clone(names) // those on the line that are not names of the frame's variables
	var out []candidate
	var visit func(c candidate, last string)
	visit = func(c candidate, last string) {
		if names != nil && names[last] {
			c.named++
		}
		if test(c.value) {
			out = append(out, c)
		}
		if c.depth == maxSuspectDepth || c.value.Form() == event.Array || c.value.Form() == event.Slice || c.value.Form() == event.Map {
			return
		}
		parts, _ := c.value.Children(replay.Page{Count: maxSuspectParts})
		for _, p := range parts {
			if strings.HasPrefix(p.Name, "[") || p.Name == "*" {
				continue
			}
			visit(candidate{c.path + "." + p.Name, c.root, p.Value, c.depth + 1, c.named}, p.Name)
		}
	}
	for _, v := range f.variables() {
		x := d.variable(f, v)
		if x.Value.State == event.Known {
			visit(candidate{path: v.Name, root: x, value: x.Value}, v.Name)
		}
		delete(globals, v.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(globals)) {
		if v, ok := d.global(f, name); ok {
			if x := d.variable(f, v); x.Value.State == event.Known {
				visit(candidate{path: name, root: x, value: x.Value}, name)
			}
		}
	}
	return out
}

// best returns the candidate with the most names on the line; among equal ones, the one with the
// shortest path. ok is false if the line names none of several candidates.
func best(list []candidate) (candidate, bool) {
	var out candidate
	ok := false
	for _, c := range list {
		better := !ok
		switch whole, was := c.named == c.depth+1, out.named == out.depth+1; {
		case !ok:
		case whole != was:
			better = whole
		case whole:
			better = c.depth < out.depth
		case c.named != out.named:
			better = c.named > out.named
		default:
			better = c.depth < out.depth
		}
		if better {
			out, ok = c, true
		}
	}
	if ok && out.named == 0 && len(list) > 1 {
		return out, false
	}
	return out, ok
}

func isPointer(v replay.Value, address uint64) bool {
	switch v.Form() {
	case event.Pointer, event.Slice, event.Map, event.Chan, event.Func, event.Text:
		return v.State == event.Known && v.Address == address && (v.Nil == (address == 0)) && (v.Form() != event.Text || address != 0)
	}
	return false
}

// suspect finds the variable with the bad address, and the outermost frame in which it was already
// bad.
func (d *Dump) suspect(ctx context.Context, f *failure, list []frame, on delivery, a access, address uint64) {
	if on.frame >= len(list) {
		return
	}
	at := d.firstOwn(ctx, f.Thread, on.frame)
	frame := &list[at]
	regs := &frame.steps[frame.at].regs
	bad := address
	if frame.at == list[on.frame].at {
		if a.base != machine.None && a.base != regs.Arch.SP && a.base != regs.Arch.PC {
			if v, ok := regs.Get(a.base); ok {
				bad = v
			}
		}
		if a.index != machine.None && d.isMapped(bad) {
			d.suspectIndex(f, frame, regs, a)
			return
		}
	} else if address < firstPage {
		bad = 0
	}
	isBad := func(v replay.Value) bool { return isPointer(v, bad) }
	c, ok := best(d.holding(frame, isBad))
	if !ok && bad == 0 && address != 0 { // not a member beyond a null pointer, but a small number as a pointer
		bad = address
		if c, ok = best(d.holding(frame, isBad)); !ok {
			bad = 0
		}
	}
	for ; !ok && list[at].Inlined && at+1 < len(list) && list[at+1].Own; c, ok = best(d.holding(frame, isBad)) {
		at++ // arguments of inlined calls may have no location of their own
		frame = &list[at]
	}
	if !ok && d.suspectElement(f, frame, address) {
		return
	}
	if !ok && bad >= firstPage {
		// The program may have added an offset before.
		c, ok = best(d.holding(frame, func(v replay.Value) bool {
			return (v.Form() == event.Pointer || v.Form() == event.Text) && v.State == event.Known && v.Address >= firstPage && bad-v.Address < firstPage
		}))
	}
	if !ok {
		return
	}
	f.Suspect = c.path
	bad = c.value.Address
	is := fmt.Sprintf("is 0x%x", bad)
	if bad == 0 {
		is = "is null"
	}
	f.Summary += fmt.Sprintf("; %s %s in %s", c.path, is, frame.Function)
	d.handedOver(f, list, at, c, bad)
}

func (d *Dump) isMapped(address uint64) bool {
	_, ok := d.core.Memory.At(address)
	return ok
}

// suspectIndex returns the variable whose value was an index beyond its array.
func (d *Dump) suspectIndex(f *failure, frame *frame, regs *machine.Registers, a access) {
	index, ok := regs.Get(a.index)
	if !ok {
		return
	}
	c, ok := best(d.holding(frame, func(v replay.Value) bool {
		return v.State == event.Known && (v.Form() == event.Int && uint64(v.Int) == index || v.Form() == event.Uint && v.Uint == index)
	}))
	if ok {
		f.Suspect = c.path
		f.Summary += fmt.Sprintf("; the index %s is %d in %s", c.path, int64(index), frame.Function)
	}
}

// suspectElement finds a list or pointer and a whole number among the variables of a frame that give an address as an
// element of the list, and blames the number, if the list does not have that element.
func (d *Dump) suspectElement(f *failure, frame *frame, address uint64) bool {
	isList := func(v replay.Value) bool {
		elem := v.ElemType()
		return v.State == event.Known && !v.Nil && v.Address != 0 && elem != nil && elem.Size > 0 && (v.Form() == event.Pointer || v.Form() == event.Slice || v.Form() == event.Array)
	}
	for _, list := range d.holding(frame, isList) {
		size := int64(list.value.ElemType().Size)
		offset := int64(address - list.value.Address)
		index := offset / size
		if offset%size < 0 {
			index--
		}
		count := int64(list.value.Count())
		if index == 0 || list.value.Form() != event.Pointer && index > 0 && index < count {
			continue
		}
		c, ok := best(d.holding(frame, func(v replay.Value) bool {
			return v.State == event.Known && (v.Form() == event.Int && v.Int == index || v.Form() == event.Uint && v.Uint == uint64(index))
		}))
		if !ok || c.named == 0 || list.named == 0 {
			continue
		}
		f.Suspect = c.path
		f.Summary += fmt.Sprintf("; the index %s is %d in %s", c.path, index, frame.Function)
		if list.value.Form() != event.Pointer {
			f.Summary += fmt.Sprintf(", and %s has %d elements", list.path, count)
		}
		return true
	}
	return false
}

// suspectDivisor returns the variable that was the divisor.
func (d *Dump) suspectDivisor(ctx context.Context, f *failure, list []frame, on delivery) {
	if on.frame >= len(list) {
		return
	}
	frame := &list[d.firstOwn(ctx, f.Thread, on.frame)]
	c, ok := best(d.holding(frame, func(v replay.Value) bool {
		return v.State == event.Known && (v.Form() == event.Int && v.Int == 0 || v.Form() == event.Uint && v.Uint == 0)
	}))
	if ok && c.named > 0 {
		f.Suspect = c.path
		f.Summary += fmt.Sprintf("; %s is 0 in %s", c.path, frame.Function)
	}
}

// handedOver follows a bad value, or the object that contains it, through the callers.
func (d *Dump) handedOver(f *failure, list []frame, at int, c candidate, bad uint64) {
	carried := c.root.Value
	if c.root.Scope != event.Parameter || !isPointer(carried, carried.Address) {
		return
	}
	name, last, where := c.root.Name, "", -1
	for i := at + 1; i < len(list); i++ {
		up := &list[i]
		if up.function == nil {
			break
		}
		found, ok := best(d.holding(up, func(v replay.Value) bool {
			return isPointer(v, carried.Address) || v.Form() == event.Struct && v.Address == carried.Address && v.Address != 0
		}))
		if !ok || carried.Address == 0 && found.named == 0 {
			break
		}
		last, where = found.path, i
		if found.root.Scope != event.Parameter || found.depth > 0 {
			break
		}
	}
	if where < 0 {
		return
	}
	calls := "one call up"
	if n := where - at; n > 1 {
		calls = fmt.Sprintf("%d calls up", n)
	}
	switch {
	case c.depth > 0:
		f.Summary += fmt.Sprintf("; %s came from %s as %s, %s", name, list[where].Function, last, calls)
	case bad == 0:
		f.Summary += fmt.Sprintf("; it was already null in %s as %s, %s", list[where].Function, last, calls)
	default:
		f.Summary += fmt.Sprintf("; it was already so in %s as %s, %s", list[where].Function, last, calls)
	}
}
