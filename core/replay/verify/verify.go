// Package verify compares a recording with the snapshots that the recorder took in the program, the
// truth about its variables at returns and sampled lines.
package verify

import (
	"context"
	"fmt"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/replay"
	"wraithology/core/replay/state"
)

// Verifier verifies a timeline. It implements replay.Verifier.
type Verifier struct{ *state.Log }

// Verify implements replay.Verifier.
func (r Verifier) Verify(ctx context.Context, page replay.Page) (replay.Verification, error) {
	list := r.T.Notable(event.Snapshot)
	if list.Len() == 0 {
		return replay.Verification{}, fault.NoSnapshots
	}
	v := verifier{r: r.Log, page: page, reachable: map[uint64]bool{}}
	for i := range list.Len() {
		if i%256 == 0 && ctx.Err() != nil {
			return v.result, fmt.Errorf("verify the recording: %w", ctx.Err())
		}
		if err := v.snapshot(list.At(i)); err != nil {
			return v.result, err
		}
	}
	return v.result, nil
}

type verifier struct {
	r      *state.Log
	page   replay.Page
	result replay.Verification
	at     event.Moment
	memory replay.Memory
	// reachable are the addresses to which the recorded values of the last variable lead. Memory that
	// the recording leads nowhere to is nothing that it claims.
	reachable map[uint64]bool
}

// snapshot compares the values of one Snapshot event.
func (v *verifier) snapshot(at event.Moment) error {
	e := v.r.T.Event(at)
	process := v.r.T.Process(at)
	types := v.r.T.Types(process)
	v.at, v.memory = at, v.r.MemoryAt(process, at, 0)
	switch of := event.SnapshotOf(e.ID); of {
	case event.SnapshotEntries:
		return v.entries(e, types)
	case event.SnapshotSpread:
		elem, items, err := event.DecodeSpread(e.Data, types)
		if err != nil || elem == nil {
			return err
		}
		for i, item := range items {
			address := e.Address + uint64(i)*elem.Size
			if !v.reachable[e.Address] {
				v.result.Unknown++
				continue
			}
			v.compare(fmt.Sprintf("(*%s)(0x%x)", elem.Name, address), v.memory.Load(address, elem), item)
		}
	default:
		values, err := event.DecodeValues(e.Data, e.Args, types)
		if err != nil || values[0].Type == nil {
			return err
		}
		if of == event.SnapshotMemory && !v.reachable[e.Address] {
			v.result.Unknown++
			return nil
		}
		if of == event.SnapshotMemory {
			v.compare(fmt.Sprintf("(*%s)(0x%x)", values[0].Type.Name, e.Address), v.memory.Load(e.Address, values[0].Type), values[0])
			return nil
		}
		c := v.r.T.CallOf(at)
		id := event.VariableID(of - event.SnapshotVariable)
		f := v.r.T.FunctionOf(c)
		if c == event.NoCall || int(id) >= len(f.Variables) {
			return nil
		}
		v.reachable = map[uint64]bool{}
		x := v.r.VariableOf(f.Variables[id], id, f, c, at)
		v.compare(x.Name, x.Value.Value, values[0])
	}
	return nil
}

// entries compares the entries of a map.
func (v *verifier) entries(e event.Event, types event.Types) error {
	actual, err := event.DecodeEntries(e.Data, types)
	if err != nil || actual.Type == nil {
		return err
	}
	pairs, all := v.memory.Entries(e.Address, actual.Type)
	recorded := map[string]event.Value{}
	for i := 0; i+1 < len(pairs); i += 2 {
		recorded[replay.Identity(pairs[i])] = pairs[i+1]
	}
	name := fmt.Sprintf("(%s)(0x%x)", actual.Type.Name, e.Address)
	for i := 0; i+1 < len(actual.Pairs); i += 2 {
		key := replay.Identity(actual.Pairs[i])
		text := name + "[" + v.value(actual.Pairs[i]).Text() + "]"
		x, ok := recorded[key]
		delete(recorded, key)
		switch {
		case ok:
			v.compare(text, x, actual.Pairs[i+1])
		case all:
			v.differ(text, "no entry", v.value(actual.Pairs[i+1]).Text())
		default:
			v.result.Unknown++
		}
	}
	if actual.Whole == 0 {
		for _, x := range recorded {
			if x.State == event.Known {
				v.differ(name, v.value(x).Text(), "no entry")
			}
		}
	}
	return nil
}

func (v *verifier) value(x event.Value) replay.Value { return replay.Value{Value: x, Memory: v.memory} }

// maxDepth limits the nesting of values that are compared.
const maxDepth = 64

// compare compares a value of the recording with the truth, part by part.
func (v *verifier) compare(name string, recorded, actual event.Value) {
	v.compareAt(name, recorded, actual, 0)
}

func (v *verifier) compareAt(name string, recorded, actual event.Value, depth int) {
	if actual.State != event.Known || actual.Type == nil && !actual.Nil || depth > maxDepth {
		return // there is nothing to compare with
	}
	switch recorded.State {
	case event.Known:
	case event.Unassigned:
		if !isZero(actual) {
			v.differ(name, "not assigned yet", v.value(actual).Text())
			return
		}
		v.result.Unknown++
		return
	default:
		v.result.Unknown++
		return
	}
	if recorded.Nil || actual.Nil || recorded.Form() != actual.Form() {
		v.leaf(name, recorded, actual, recorded.Nil == actual.Nil && (actual.Nil || recorded.Form() == actual.Form()))
		return
	}
	switch actual.Form() {
	case event.Struct:
		for i := range min(len(recorded.Items), len(actual.Items)) {
			v.compareAt(name+"."+actual.Type.Fields[min(i, len(actual.Type.Fields)-1)].Name, recorded.Items[i], actual.Items[i], depth+1)
		}
	case event.Array:
		for i := range min(len(recorded.Items), len(actual.Items)) {
			v.compareAt(fmt.Sprintf("%s[%d]", name, i), recorded.Items[i], actual.Items[i], depth+1)
		}
	case event.Interface:
		if len(recorded.Items) == 1 && len(actual.Items) == 1 {
			if recorded.Items[0].Type != actual.Items[0].Type {
				v.leaf(name, recorded, actual, false)
				return
			}
			v.compareAt(name, recorded.Items[0], actual.Items[0], depth+1)
		}
	case event.Slice:
		v.reachable[recorded.Address] = true
		v.leaf(name, recorded, actual, recorded.Address == actual.Address && recorded.Length == actual.Length && recorded.Capacity == actual.Capacity)
	case event.Map, event.Chan, event.Pointer:
		v.reachable[recorded.Address] = true
		v.leaf(name, recorded, actual, recorded.Address == actual.Address)
	case event.Float, event.Complex:
		same := func(a, b float64) bool { return a == b || a != a && b != b }
		v.leaf(name, recorded, actual, same(recorded.Float, actual.Float) && same(recorded.Imag, actual.Imag))
	default:
		v.leaf(name, recorded, actual, recorded.Int == actual.Int && recorded.Uint == actual.Uint && recorded.Text == actual.Text)
	}
}

func isZero(x event.Value) bool {
	for _, item := range x.Items {
		if !isZero(item) {
			return false
		}
	}
	return x.Nil || x.Int == 0 && x.Uint == 0 && x.Float == 0 && x.Imag == 0 && x.Text == "" && x.Address == 0 && x.Form() != event.Interface
}

// leaf counts the comparison of a value without parts.
func (v *verifier) leaf(name string, recorded, actual event.Value, same bool) {
	v.result.Compared++
	if !same {
		a, b := v.value(recorded).Text(), v.value(actual).Text()
		if a == b {
			a, b = fmt.Sprintf("%s at 0x%x", a, recorded.Address), fmt.Sprintf("%s at 0x%x", b, actual.Address)
		}
		v.differ(name, a, b)
	}
}

func (v *verifier) differ(name, recorded, actual string) {
	v.result.Total++
	if v.result.Total <= v.page.From || len(v.result.Page) >= v.page.Count {
		return
	}
	place, err := v.r.Place(v.at)
	if err != nil {
		return
	}
	v.result.Page = append(v.result.Page, replay.Deviation{Place: place, Name: name, Recorded: recorded, Actual: actual})
}
