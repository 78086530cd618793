// Package change compares a frame with its previous moment.
package change

import (
	"context"

	"wraithology/core/event"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Comparer compares frames of a timeline.
type Comparer struct{ *state.Log }

// Bounds of what is compared.
const (
	maxChangedDepth = 3
	maxChangedWidth = 64
	maxChanges      = 500
)

// Changed implements replay.History.
func (r Comparer) Changed(ctx context.Context, at event.Moment, t event.ThreadID, frame int) (replay.Changes, error) {
	c, err := r.FrameCall(at, t, frame)
	if err != nil {
		return replay.Changes{}, err
	}
	out := replay.Changes{Moment: at, Previous: r.Previous(c, at)}
	now, err := r.Variables(ctx, at, t, frame)
	if err != nil {
		return out, err
	}
	f := r.T.FunctionOf(c)
	for _, v := range now {
		if v.Value.State != event.Known {
			continue
		}
		old := replay.Value{Value: event.Value{State: event.Unassigned}}
		for i := len(f.Variables) - 1; i >= 0; i-- {
			if x := f.Variables[i]; x.Name == v.Name && r.Visible(x, c, at) {
				if r.Visible(x, c, out.Previous) {
					old = r.VariableOf(x, event.VariableID(i), f, c, out.Previous).Value
				}
				break
			}
		}
		compare(&out, v.Name, old, v.Value, 0)
		if err := ctx.Err(); err != nil {
			return out, err
		}
	}
	return out, nil
}

func compare(c *replay.Changes, name string, old, now replay.Value, depth int) {
	if now.State != event.Known || len(c.Changes) >= maxChanges {
		return
	}
	if old.State != event.Known {
		c.Changes = append(c.Changes, replay.Change{Name: name, New: now})
		return
	}
	a, b := old.Settled(), now.Settled()
	same := old.Type == now.Type && replay.Identity(old.Value) == replay.Identity(now.Value)
	composite := b.Form() == event.Struct || b.Form() == event.Array || b.Form() == event.Slice || b.Form() == event.Map
	if !composite || depth >= maxChangedDepth {
		if !same || old.Text() != now.Text() {
			c.Changes = append(c.Changes, replay.Change{Name: name, Old: &old, New: now})
		}
		return
	}
	if a.Type != b.Type || a.Count() != b.Count() {
		c.Changes = append(c.Changes, replay.Change{Name: name, Old: &old, New: now})
		return
	}
	page := replay.Page{Count: maxChangedWidth}
	before, _ := a.Children(page)
	after, _ := b.Children(page)
	known := map[string]replay.Value{}
	for _, x := range before {
		known[x.Name] = x.Value
	}
	dot := ""
	if b.Form() == event.Struct {
		dot = "."
	}
	if len(after) == 0 && !same { // a time, or empty lists at other places
		if old.Text() != now.Text() {
			c.Changes = append(c.Changes, replay.Change{Name: name, Old: &old, New: now})
		}
		return
	}
	for _, x := range after {
		was, ok := known[x.Name]
		if !ok {
			was = replay.Value{Value: event.Value{State: event.Unassigned}}
		}
		compare(c, name+dot+x.Name, was, x.Value, depth+1)
	}
}
