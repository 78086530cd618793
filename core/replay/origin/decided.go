package origin

import (
	"fmt"
	"strings"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Bounds of the conditions in a chain.
const (
	mostConditions = 8 // in a chain
	mostOperands   = 3 // operands of one that are explained
)

func isComputed(o replay.Origin) bool { return o.Kind != replay.FromConstant }

// decided explains why a call gave a variable or field a constant on a line, or returned one: by the innermost condition that
// decided that the line was reached, and, for a name, by the one that turned away from the next line that would have
// given it another value before it was read. note is why there is no such condition.
func (x *explainer) decided(name string, c event.CallID, line, read event.Moment, depth int) (out []replay.Origin, note string) {
	if x.conditions <= 0 || depth <= 0 {
		return nil, ""
	}
	thread := x.r.T.Call(c).Thread
	frame := x.frameOf(c, line)
	if frame < 0 {
		return nil, ""
	}
	if d, err := x.r.Branches.Reached(x.ctx, line, thread, frame, 0); err == nil {
		for _, y := range d.List {
			if y.Role == replay.Branching {
				out = append(out, x.condition(y, "it decided that this line was reached", depth))
				break
			}
		}
	}
	if name == "" {
		return out, ""
	}
	if y, ok := x.r.Branches.Otherwise(x.ctx, c, name, line, read); ok {
		is := fmt.Sprintf("line %d, which also sets it, was not reached", y.Line)
		if y.Why != "" {
			return out, is + ": " + y.Why
		}
		out = append(out, x.condition(y.Decision, is, depth))
	}
	return out, ""
}

// frameOf returns the frame of a call on its thread at a moment, or -1.
func (x *explainer) frameOf(c event.CallID, at event.Moment) int {
	frame := 0
	for inner := x.r.CallAt(x.r.T.Call(c).Thread, at); inner != event.NoCall; inner = x.r.T.Call(inner).Parent {
		if inner == c {
			return frame
		}
		frame++
	}
	return -1
}

// condition is the node of a condition, with the origins of its operands.
func (x *explainer) condition(d replay.Decision, note string, depth int) replay.Origin {
	x.nodes++
	x.conditions--
	value := event.Value{State: event.Known, Type: &truthType}
	if d.Value {
		value.Uint = 1
	}
	o := replay.Origin{Name: d.Expression, Kind: replay.FromCondition, Value: replay.Value{Value: value}, Place: d.Place, Note: note}
	o.Asked = replay.Asked{At: d.Moment, Thread: d.Thread, Path: strings.TrimSpace(d.Expression)}
	call := x.r.T.CallOf(d.Moment)
	for _, y := range d.Operands[:min(len(d.Operands), mostOperands)] {
		p, err := replay.ParsePath(y.Path)
		if err != nil || y.At == event.NoMoment {
			continue
		}
		if l, v, err := x.r.ScopeOf(call, y.At).Locate(p, nil); err == nil {
			o.From = append(o.From, x.explain(y.Path, l, v, y.At, depth-1))
		}
	}
	return o
}

// truthType is the type of conditions.
var truthType = event.Type{Name: "bool", Form: event.Bool, Size: 1}
