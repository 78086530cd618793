package reproduce

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"wraithology/core/fault"
	"wraithology/core/replay"
)

// TrialOptions say how a function is tried.
type TrialOptions struct {
	Source string // root of the module; empty for the recorded one
	First  int    // number of calls; 0 for all
	// Time limits the time for the calls after the first program is built; 0 for any. The rest is not tried.
	Time time.Duration
	// comparesWhole lets every call be compared as a whole.
	comparesWhole bool
}

// Trial is how the recorded calls of a function behave with the source as it is now. Calls is the number of calls that were tried or could not
// be rebuilt; Total that of the recorded ones. NotTried are those for which there was no time.
type Trial struct {
	Total, Calls, Same, Differ, NotRebuilt, NotTried int
	Differing                                        []TrialCall
	// Gaps are why calls were not rebuilt; Notes what the results depend on beside the arguments.
	Gaps, Notes []string
}

// TrialCall is a call that behaves differently. Results are what differs: all of it for the first mostDetailed calls, and the first difference for the
// others. Error is why it could not be compared.
type TrialCall struct {
	Call    replay.MadeCall
	Results []Compared
	Error   string
}

// Calls are read, built and made together: up to callsAtOnce, or as many as have partsAtOnce parts.
const (
	callsAtOnce = 200
	partsAtOnce = 400_000
	// mostDetailed limits the differing calls of which all differences are listed: it takes long where a call is given much.
	mostDetailed = 10
)

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
	for from := 0; t == nil || !t.isOver(); from += callsAtOnce {
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
			t.time, t.comparesWhole = o.Time, o.comparesWhole
		}
		if err := t.try(ctx, list); err != nil {
			return out, err
		}
	}
	slices.SortStableFunc(out.Differing, func(a, b TrialCall) int { return cmp.Compare(a.Call.Enter, b.Call.Enter) })
	wanted := out.Total
	if o.First > 0 {
		wanted = min(wanted, o.First)
	}
	out.NotTried = wanted - out.Calls
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
	// time is that for the calls, until when it is over: it begins when the first program is built.
	time  time.Duration
	until time.Time
	parts int // of the calls that are described and not made yet
	// detailed is the number of calls of which all differences were asked for; of further ones the first is said.
	detailed      int
	comparesWhole bool
}

// isOver reports whether there is no time for further calls.
func (t *trier) isOver() bool { return !t.until.IsZero() && time.Now().After(t.until) }

// instance tries calls with the same types, with one program as long as it knows all that they refer to.
type instance struct {
	h      *harness
	runner *runner
	chain  *chain            // of the calls that are described so far; nil if the next one begins one
	quick  []replay.MadeCall // those of the harness, which it compares
	slow   []replay.MadeCall // those that are compared as a whole
}

// forget forgets the calls that are not made.
func (x *instance) forget() { x.h.calls, x.quick, x.slow = nil, nil, nil }

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
	for _, call := range list {
		if t.isOver() {
			for _, x := range t.with {
				t.out.Calls -= len(x.quick) + len(x.slow)
				x.forget()
			}
			return nil
		}
		if t.parts > partsAtOnce {
			if err := t.makeAll(ctx); err != nil {
				return err
			}
		}
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
		t.take(t.with[key], call)
	}
	return t.makeAll(ctx)
}

// take describes a call.
func (t *trier) take(x *instance, call replay.MadeCall) {
	if t.comparesWhole || !canChain(call) {
		x.slow = append(x.slow, call)
		return
	}
	if x.chain != nil {
		before := x.chain.e.parts
		d, ok := x.chain.next(call)
		if ok {
			if len(x.h.calls) == 0 { // the one before is made, maybe by a program that has ended
				d = x.chain.whole(d)
			}
			t.parts += x.chain.e.parts - before
			t.expect(x, call, d)
			return
		}
		x.chain = nil
	}
	e := newEncoder(x.h, call)
	d := e.call()
	if len(e.b.gaps) > 0 {
		t.left(e.b.gaps...)
		return
	}
	t.parts += e.parts
	x.chain = newChain(e)
	t.expect(x, call, d)
}

// expect adds a call with what it is expected to give back, or without if it has to be compared as a whole.
func (t *trier) expect(x *instance, call replay.MadeCall, d *callData) {
	if d.Expect = x.chain.expect(call, d.Globals); d.Expect == nil {
		x.slow, x.chain = append(x.slow, call), nil
		return
	}
	x.h.calls, x.quick = append(x.h.calls, d), append(x.quick, call)
}

// makeAll makes the calls that are described.
func (t *trier) makeAll(ctx context.Context) error {
	for _, key := range slices.Sorted(maps.Keys(t.with)) {
		x := t.with[key]
		if err := t.makeQuick(ctx, x); err != nil {
			return err
		}
		if err := t.makeSlow(ctx, x); err != nil {
			return err
		}
		x.forget()
	}
	t.parts = 0
	return nil
}

// run makes the described calls of an instance.
func (t *trier) run(ctx context.Context, x *instance) (ran, error) {
	text, err := x.h.text()
	if err != nil {
		return ran{}, err
	}
	if x.runner == nil || x.runner.text != text {
		if x.runner != nil {
			x.runner.close()
		}
		if x.runner, err = x.h.program(ctx, text, nil); err != nil {
			return ran{}, err
		}
	}
	if t.until.IsZero() {
		t.until = time.Now().Add(cmp.Or(t.time, time.Hour*24))
	}
	return x.runner.run(ctx, x.h.calls, "", t.until)
}

// makeQuick makes the calls that the harness compares. Those that it is not sure of, and the first ones that differ, are then compared as a
// whole.
func (t *trier) makeQuick(ctx context.Context, x *instance) error {
	if len(x.quick) == 0 {
		return nil
	}
	got, err := t.run(ctx, x)
	if err != nil {
		return err
	}
	t.out.Calls -= len(x.quick) - got.tried
	for i, call := range x.quick[:got.tried] {
		switch verdict := got.reports[i]["verdict"]; {
		case verdict == "same":
			t.out.Same++
		case verdict == "differs" && t.detailed >= mostDetailed:
			t.differs(TrialCall{Call: call, Results: []Compared{{got.reports[i]["where"], got.reports[i]["recorded"], got.reports[i]["now"]}}})
		default:
			t.detailed++
			x.slow = append(x.slow, call)
		}
	}
	x.h.calls = nil
	return nil
}

// makeSlow makes calls that are compared as a whole.
func (t *trier) makeSlow(ctx context.Context, x *instance) error {
	for len(x.slow) > 0 {
		x.h.calls = nil
		var list []replay.MadeCall
		var still []bool // whether the recorded call leaves everything as it was
		n, parts := 0, 0
		for ; n < len(x.slow) && parts < partsAtOnce; n++ {
			gaps := x.h.add(x.slow[n])
			if len(gaps) > 0 {
				t.left(gaps...)
				x.h.calls = x.h.calls[:len(x.h.calls)-1]
				continue
			}
			list, still = append(list, x.slow[n]), append(still, x.h.last.changesNothing())
			parts += x.h.last.parts
		}
		x.slow = x.slow[n:]
		if len(list) == 0 {
			continue
		}
		got, err := t.run(ctx, x)
		if err != nil {
			return err
		}
		t.out.Calls -= len(list) - got.tried
		for i, call := range list[:got.tried] {
			t.compare(call, got, i, still[i], x.h.stood)
		}
		if got.tried < len(list) { // the time is over
			t.out.Calls -= len(x.slow)
			x.slow = nil
		}
	}
	x.h.calls = nil
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

func (t *trier) compare(call replay.MadeCall, got ran, i int, still bool, stood map[string]bool) {
	x := TrialCall{Call: call, Results: []Compared{}}
	switch report := got.reports[i]; {
	case report == nil:
		x.Error = got.why(i)
	default:
		run := compareRun(call, report, still, stood)
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
	t.differs(x)
}

// differs counts a call that behaves differently.
func (t *trier) differs(x TrialCall) {
	t.out.Differ++
	if len(t.out.Differing) < mostDiffering {
		t.out.Differing = append(t.out.Differing, x)
	}
}
