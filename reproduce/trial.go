package reproduce

import (
	"context"
	"maps"
	"slices"

	"wraithology/core/fault"
	"wraithology/core/replay"
)

// TrialOptions say how a function is tried.
type TrialOptions struct {
	Source string // root of the module; empty for the recorded one
	First  int    // number of calls; 0 for all
}

// Trial is how the recorded calls of a function behave with the source as it is now. Calls is the number of calls that were tried or could not
// be rebuilt; Total that of the recorded ones.
type Trial struct {
	Total, Calls, Same, Differ, NotRebuilt int
	Differing                              []TrialCall
	// Gaps are why calls were not rebuilt; Notes what the results depend on beside the arguments.
	Gaps, Notes []string
}

// TrialCall is a call that behaves differently. Error is why it could not be compared.
type TrialCall struct {
	Call    replay.MadeCall
	Results []Compared
	Error   string
}

// callsAtOnce is the number of calls that are read, built and made together.
const callsAtOnce = 200

// Try makes recorded calls of a function with the source as it is now, and compares what they give back with the recording. Errors wrap
// fault.NotRemade and fault.BuildFailed.
func Try(ctx context.Context, r replay.Recording, function string, o TrialOptions) (out Trial, err error) {
	reader, err := CallsOf(r)
	if err != nil {
		return out, err
	}
	dir, err := sourceOf(r, o.Source)
	if err != nil {
		return out, err
	}
	out.Differing = []TrialCall{}
	var t *trier
	for from := 0; ; from += callsAtOnce {
		n := callsAtOnce
		if o.First > 0 {
			n = min(n, o.First-from)
		}
		if n <= 0 {
			break
		}
		list, total, err := reader.MadeCalls(ctx, function, replay.Page{From: from, Count: n})
		if err != nil {
			return out, err
		}
		out.Total = total
		if len(list) == 0 {
			break
		}
		if t == nil {
			if t, err = newTrier(ctx, r, reader, dir, list[0], &out); err != nil {
				return out, err
			}
			defer t.close()
		}
		if err := t.try(ctx, list); err != nil {
			return out, err
		}
	}
	if out.Total == 0 {
		return out, fault.NotRemade.New("wraith hits EVIDENCE --enter FUNCTION lists its calls", "%w: %s was not called", fault.NotRemade, function)
	}
	return out, nil
}

// trier tries the calls of one function, piece by piece.
type trier struct {
	m    *module
	out  *Trial
	told map[string]bool
	with map[string]*instance // by the types of the call: those of generic functions differ
}

// instance tries calls with the same types, with one program as long as it knows all that they refer to.
type instance struct {
	h       *harness
	runner  *runner
	rebuilt []replay.MadeCall
	still   []bool // whether the recorded call leaves everything as it was
}

func newTrier(ctx context.Context, r replay.Recording, reader replay.Calls, dir string, first replay.MadeCall, out *Trial) (*trier, error) {
	if first.Outcome != replay.IsUnfinished {
		if err := canBeMade(first); err != nil {
			return nil, err
		}
	}
	m, err := load(ctx, dir, map[string][]byte{}, first, buildFlags(r.Info().Command))
	if err != nil {
		return nil, err
	}
	if _, err := m.declared(first); err != nil {
		return nil, err
	}
	out.Notes = append(out.Notes, m.outsideGaps(r, reader, first)...)
	return &trier{m: m, out: out, told: map[string]bool{}, with: map[string]*instance{}}, nil
}

func (t *trier) close() {
	for _, x := range t.with {
		if x.runner != nil {
			x.runner.close()
		}
	}
}

func (t *trier) try(ctx context.Context, list []replay.MadeCall) error {
	for _, x := range t.with {
		x.h.calls, x.rebuilt, x.still = nil, nil, nil
	}
	for _, call := range list {
		t.out.Calls++
		if call.Outcome == replay.IsUnfinished {
			t.left("the recording ends before the call does")
			continue
		}
		f, err := t.m.declared(call)
		if err != nil {
			t.left(err.Error())
			continue
		}
		h := newHarness(t.m, f)
		key := h.expression()
		if t.with[key] == nil {
			t.with[key] = &instance{h: h}
		}
		x := t.with[key]
		if gaps := x.h.add(call); len(gaps) > 0 {
			t.left(gaps...)
			x.h.calls = x.h.calls[:len(x.h.calls)-1]
			continue
		}
		x.rebuilt, x.still = append(x.rebuilt, call), append(x.still, x.h.last.changesNothing())
	}
	for _, key := range slices.Sorted(maps.Keys(t.with)) {
		if err := t.make(ctx, t.with[key]); err != nil {
			return err
		}
	}
	return nil
}

// make makes the calls of an instance.
func (t *trier) make(ctx context.Context, x *instance) error {
	if len(x.rebuilt) == 0 {
		return nil
	}
	text, err := x.h.text()
	if err != nil {
		return err
	}
	if x.runner == nil || x.runner.text != text {
		if x.runner != nil {
			x.runner.close()
		}
		if x.runner, err = x.h.program(ctx, text, nil); err != nil {
			return err
		}
	}
	got, err := x.runner.run(ctx, x.h.calls, "")
	if err != nil {
		return err
	}
	for i, call := range x.rebuilt {
		t.compare(call, got, i, x.still[i])
	}
	return nil
}

// left counts a call that is not rebuilt.
func (t *trier) left(gaps ...string) {
	t.out.NotRebuilt++
	for _, g := range gaps {
		if !t.told[g] && len(t.out.Gaps) < mostDiffering {
			t.told[g] = true
			t.out.Gaps = append(t.out.Gaps, g)
		}
	}
}

func (t *trier) compare(call replay.MadeCall, got ran, i int, still bool) {
	x := TrialCall{Call: call, Results: []Compared{}}
	switch report := got.reports[i]; {
	case report == nil:
		x.Error = "the call did not end: " + got.last()
	default:
		run := compareRun(call, report, still)
		if run.Same {
			t.out.Same++
			return
		}
		for _, r := range run.Results {
			if r.Recorded != r.Now {
				x.Results = append(x.Results, r)
			}
		}
	}
	t.out.Differ++
	if len(t.out.Differing) < mostDiffering {
		t.out.Differing = append(t.out.Differing, x)
	}
}
