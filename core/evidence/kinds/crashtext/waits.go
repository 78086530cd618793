package crashtext

import (
	"context"
	"slices"

	"wraithology/core/event"
	"wraithology/core/replay"
)

// Waits implements replay.WaitGraph by what the text says of locks and states.
func (t *Text) Waits(ctx context.Context, at event.Moment) ([]replay.Wait, error) {
	if _, err := t.Threads(ctx, at); err != nil {
		return nil, err
	}
	holders := map[string][]event.ThreadID{}
	for i := range t.crash.Threads {
		for _, name := range t.crash.Threads[i].Holds {
			if id := event.ThreadID(i + 1); !slices.Contains(holders[name], id) {
				holders[name] = append(holders[name], id)
			}
		}
	}
	var out []replay.Wait
	for i := range t.crash.Threads {
		x := &t.crash.Threads[i]
		if x.Waits.On == "" {
			continue
		}
		w := replay.Wait{Place: replay.Place{Thread: event.ThreadID(i + 1)}, On: x.Waits.On, Name: x.Waits.Name}
		if w.On != replay.WaitCondition { // whoever has the monitor need not be the one that notifies
			for _, h := range holders[x.Waits.Name] {
				if h != w.Thread {
					w.Holders = append(w.Holders, h)
				}
			}
		}
		if len(x.Frames) > 0 {
			f := x.Frames[firstOwn(x.Frames)]
			w.Function, w.File, w.Line = f.Name(), f.File, f.Line
		}
		out = append(out, w)
	}
	return out, ctx.Err()
}
