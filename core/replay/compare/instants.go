package compare

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Bounds of the values of two instants that are compared.
const (
	maxParts   = 4096 // parts of a variable
	maxPerList = 256  // parts of one list
	partsDepth = 8
	// addressesFrom is the least number that counts as an address: those differ in every run.
	addressesFrom = 1 << 40
)

// addresses in a message differ in every run.
var addresses = regexp.MustCompile(`0x[0-9a-fA-F]{5,}`)

// Instants compares two pieces of evidence of one moment each, such as core dumps or crash texts of a program: the failures, the
// failing stacks, and the variables of frames of the same function.
func Instants(ctx context.Context, left, right replay.Recording, how replay.AlignOptions) (replay.Comparison, error) {
	if left.Info().Kind != right.Info().Kind {
		return replay.Comparison{}, notComparable(left, right)
	}
	x := &instants{ctx: ctx, how: how, sides: [2]replay.Recording{left, right}, met: map[[2]uint64]bool{}, out: replay.Comparison{Of: "frame"}}
	for i, r := range x.sides {
		at := event.Moment(max(r.Info().Moments-1, 0))
		if f := r.Info().Failure; f != nil {
			x.at[i], x.thread[i] = f.Moment, f.Thread
		} else {
			t, err := r.ThreadOf(at)
			if err != nil {
				return x.out, fmt.Errorf("find the thread to compare: %w", err)
			}
			x.at[i], x.thread[i] = at, t
		}
		frames, err := r.Frames(ctx, x.at[i], x.thread[i])
		if err != nil {
			return x.out, fmt.Errorf("read the stack to compare: %w", err)
		}
		x.frames[i] = frames
	}
	x.failures()
	if err := x.stacks(); err != nil {
		return x.out, err
	}
	if len(x.causes) > 0 {
		x.out.First = &x.causes[0]
	}
	x.out.Causes = x.causes[:min(len(x.causes), how.Causes)]
	return x.out, ctx.Err()
}

// instants compares two instants.
type instants struct {
	ctx    context.Context
	how    replay.AlignOptions
	sides  [2]replay.Recording
	at     [2]event.Moment
	thread [2]event.ThreadID
	frames [2][]replay.Frame
	out    replay.Comparison
	causes []replay.Parting
	met    map[[2]uint64]bool // addresses of objects that were compared
}

// place returns where a frame is.
func (x *instants) place(side, frame int) *replay.Place {
	p := &replay.Place{Moment: x.at[side], Thread: x.thread[side]}
	if frame >= 0 && frame < len(x.frames[side]) {
		f := x.frames[side][frame]
		p.Function, p.File, p.Line = f.Function, f.File, f.Line
	}
	return p
}

// add adds a difference between two frames, of which one may be missing: -1.
func (x *instants) add(kind replay.PartingKind, name, left, right string, a, b int, why string) {
	p := replay.Parting{Kind: kind, Name: name, LeftValue: left, RightValue: right, Left: event.NoMoment, Right: event.NoMoment, Why: why}
	if a >= 0 {
		p.Left, p.LeftPlace = x.at[0], x.place(0, a)
	}
	if b >= 0 {
		p.Right, p.RightPlace = x.at[1], x.place(1, b)
	}
	x.causes = append(x.causes, p)
}

// failures compares how both failed.
func (x *instants) failures() {
	texts := [2]string{"no failure", "no failure"}
	kinds := [2]string{}
	for i, r := range x.sides {
		if f := r.Info().Failure; f != nil {
			texts[i], kinds[i] = f.Kind+": "+f.Summary, f.Kind
		}
	}
	switch {
	case kinds[0] != kinds[1]:
		x.add(replay.ByPath, "the failure", texts[0], texts[1], 0, 0, "they failed in different ways")
	case addresses.ReplaceAllString(texts[0], "") != addresses.ReplaceAllString(texts[1], ""):
		x.add(replay.ByValue, "the failure", texts[0], texts[1], 0, 0, "the message differs")
	}
}

// stacks compares the failing stacks, and the variables of frames of the same function.
func (x *instants) stacks() error {
	items := func(frames []replay.Frame) (out []item) {
		for _, f := range frames {
			out = append(out, item{path: uint32(textDigest(f.Function))})
		}
		return out
	}
	match := align(items(x.frames[0]), items(x.frames[1]))
	next := 0
	var pairs [][2]int
	from := 0
	apart := func(i, j int) {
		if i == from && j == next {
			return
		}
		first := func(from, to int) int { return map[bool]int{true: from, false: -1}[from < to] }
		x.add(replay.ByPath, "frames of the failing stack", functions(x.frames[0][from:i]), functions(x.frames[1][next:j]), first(from, i), first(next, j), "the calls differ")
		x.out.OnlyLeft, x.out.OnlyRight = x.out.OnlyLeft+i-from, x.out.OnlyRight+j-next
	}
	for i, j := range match {
		if j < 0 {
			continue
		}
		apart(i, j)
		from, next = i+1, j+1
		pairs = append(pairs, [2]int{i, j})
		x.out.Aligned++
	}
	apart(len(x.frames[0]), len(x.frames[1]))
	for _, p := range pairs {
		if a, b := x.frames[0][p[0]], x.frames[1][p[1]]; a.Line != b.Line && a.Line > 0 && b.Line > 0 {
			x.add(replay.ByPath, a.Function, fmt.Sprintf("line %d", a.Line), fmt.Sprintf("line %d", b.Line), p[0], p[1], "the frame is at another line")
		}
	}
	seen := map[string]bool{}
	hasOwn := slices.ContainsFunc(x.frames[0], func(f replay.Frame) bool { return f.Own })
	for _, p := range pairs {
		if hasOwn && !x.frames[0][p[0]].Own {
			continue
		}
		if err := x.variables(p[0], p[1], seen); err != nil {
			return err
		}
	}
	return nil
}

func functions(frames []replay.Frame) string {
	if len(frames) == 0 {
		return "none"
	}
	var names []string
	for _, f := range frames {
		names = append(names, f.Function)
	}
	return strings.Join(names, ", ")
}

// variables compares the variables of two frames. Package variables are compared once.
func (x *instants) variables(a, b int, seen map[string]bool) error {
	if x.ctx.Err() != nil {
		return x.ctx.Err()
	}
	var lists [2][]replay.Variable
	for i, frame := range []int{a, b} {
		list, err := x.sides[i].Variables(x.ctx, x.at[i], x.thread[i], frame)
		if err != nil {
			return fmt.Errorf("read the variables to compare: %w", err)
		}
		lists[i] = list
	}
	right := map[string]replay.Variable{}
	for _, v := range lists[1] {
		if _, ok := right[v.Name]; !ok {
			right[v.Name] = v
		}
	}
	for _, v := range lists[0] {
		w, ok := right[v.Name]
		delete(right, v.Name)
		if !ok || v.Scope == event.Register || v.Scope == event.Global && seen[v.Name] || x.how.Ignores(v.Name) {
			continue
		}
		if v.Scope == event.Global {
			seen[v.Name] = true
		}
		c := &parts{instants: x, a: a, b: b}
		c.compare(v.Name, v.Value, w.Value, 0)
	}
	return nil
}

// parts compares the parts of a variable.
type parts struct {
	*instants
	a, b int // frames
	n    int
}

// compare notes the known parts of two values that differ. What is not known on one side is not compared.
func (x *parts) compare(path string, v, w replay.Value, depth int) {
	if x.n++; x.n > maxParts || depth > partsDepth {
		x.out.Unexamined = true
		return
	}
	v, w = inside(v), inside(w)
	if v.State != event.Known || w.State != event.Known || v.Type == nil || w.Type == nil {
		return
	}
	differ := func() { x.add(replay.ByValue, path, v.Text(), w.Text(), x.a, x.b, "the value differs") }
	if v.Nil != w.Nil || v.Form() != w.Form() {
		differ()
		return
	}
	switch v.Form() {
	case event.Int, event.Uint, event.Float, event.Complex, event.Bool, event.Text:
		if isAddress := v.Uint >= addressesFrom && w.Uint >= addressesFrom; v.Text() != w.Text() && !isAddress {
			differ()
		}
		return
	case event.Pointer, event.Slice, event.Map:
		if v.Nil {
			return
		}
		at := [2]uint64{v.Address, w.Address}
		if v.Form() == event.Pointer && x.met[at] {
			return
		}
		x.met[at] = true
		if v.Form() != event.Pointer && v.Count() != w.Count() {
			x.add(replay.ByValue, "size("+path+")", fmt.Sprint(v.Count()), fmt.Sprint(w.Count()), x.a, x.b, "the value differs")
		}
	}
	list, n := v.Children(replay.Page{Count: maxPerList})
	other, m := w.Children(replay.Page{Count: maxPerList})
	if n > len(list) || m > len(other) {
		x.out.Unexamined = true
	}
	byName := map[string]replay.Value{}
	for _, c := range other {
		byName[c.Name] = c.Value
	}
	for _, c := range list {
		if y, ok := byName[c.Name]; ok && !x.how.Ignores(c.Name) {
			x.compare(join(path, c.Name), c.Value, y, depth+1)
		}
	}
}

// inside returns what an interface holds, or the value itself.
func inside(v replay.Value) replay.Value {
	if v.Form() == event.Interface && len(v.Items) == 1 {
		return v.With(v.Items[0])
	}
	return v
}

// join adds the name of a part to a path.
func join(path, part string) string {
	switch {
	case strings.HasPrefix(part, "["):
		return path + part
	case part == "*":
		return "*" + path
	}
	return path + "." + cmp.Or(part, "_")
}
