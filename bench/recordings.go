package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	"wraithology/core/event"
	"wraithology/core/evidence/kinds/executionlog"
	"wraithology/core/execlog"
	"wraithology/core/question"
	"wraithology/core/replay"
	"wraithology/core/replay/find"
	"wraithology/core/replay/history"
	"wraithology/core/timeline"
)

// buildChild builds a timeline and prints the time in seconds and the peak of resident memory in
// MB.
func buildChild(path string) error {
	log, err := execlog.OpenFile(path)
	if err != nil {
		return err
	}
	defer log.Close()
	started := time.Now()
	if err := timeline.Build(context.Background(), executionlog.Source(log), path+".timeline", false, nil); err != nil {
		return err
	}
	took := time.Since(started)
	peak, err := residentPeak()
	if err != nil {
		return err
	}
	fmt.Println(took.Seconds(), peak)
	return nil
}

// bareDecode decodes all events of a log and does nothing else.
func bareDecode(path string) (took time.Duration, events int64, err error) {
	log, err := execlog.OpenFile(path)
	if err != nil {
		return 0, 0, err
	}
	defer log.Close()
	started := time.Now()
	for _, b := range log.Blocks {
		payload, err := log.Payload(b)
		if err != nil {
			return 0, 0, err
		}
		for w := event.NewWalk(payload, b.Base); w.Next(); {
			events++
		}
	}
	return time.Since(started), events, nil
}

// folderSize returns the size of the files of a folder, in bytes.
func folderSize(dir string) (size int64, err error) {
	files, err := os.ReadDir(dir)
	if err != nil {
		return 0, err
	}
	for _, f := range files {
		info, err := f.Info()
		if err != nil {
			return 0, err
		}
		size += info.Size()
	}
	return size, nil
}

type opened struct {
	r    history.Replay
	t    *timeline.Timeline
	n    int64
	open time.Duration
	peek time.Duration // the floor of a look-up: reading one block of the log
}

func measureRecordings(ctx context.Context, r *report, dir string, sizes []int64) error {
	var list []opened
	for _, n := range sizes {
		path := logPath(dir, n)
		if err := generate(path, n); err != nil {
			return err
		}
		floor, events, err := bareDecode(path)
		if err != nil {
			return err
		}
		line, err := self("-build", path)
		if err != nil {
			return err
		}
		var seconds float64
		var resident int
		if _, err := fmt.Sscan(line, &seconds, &resident); err != nil {
			return err
		}
		name := fmt.Sprintf("%d million moments: ", n/1_000_000)
		ratio := seconds / floor.Seconds()
		r.add(name+"build", fmt.Sprintf("%.2f s", seconds), fmt.Sprintf("%.2f s, a bare decode", floor.Seconds()), ratio, "4 x the floor", ratio <= 4)
		r.add(name+"memory of the build", fmt.Sprintf("%d MB", resident), "512 MB", float64(resident)/512, "512 MB", resident <= 512)
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		bytes := float64(info.Size()) / float64(events)
		r.add(name+"log size", fmt.Sprintf("%.2f bytes a moment", bytes), "8 bytes", bytes/8, "8 bytes a moment", bytes <= 8)
		indexed, err := folderSize(path + ".timeline")
		if err != nil {
			return err
		}
		larger := float64(indexed) / float64(info.Size())
		r.add(name+"timeline size", fmt.Sprintf("%.2f bytes a moment", float64(indexed)/float64(events)), "the log", larger, "3 x the log", larger <= 3)
		o, err := openFor(path, n)
		if err != nil {
			return err
		}
		list = append(list, o)
	}
	small, large := list[0], list[len(list)-1]
	ratio := large.open.Seconds() / small.open.Seconds()
	r.add("opening the longest", large.open.String(), small.open.String()+", opening the shortest", ratio, "1.5 x the floor", ratio <= 1.5)
	for _, o := range []opened{small, large} {
		if err := askAll(ctx, r, o, o.n == large.n); err != nil {
			return err
		}
	}
	return nil
}

func openFor(path string, n int64) (opened, error) {
	f, err := os.Open(path)
	if err != nil {
		return opened{}, err
	}
	info, err := f.Stat()
	if err != nil {
		return opened{}, err
	}
	var o opened
	var times []time.Duration
	for range 21 {
		started := time.Now()
		t, err := timeline.Open(path+".timeline", f, info.Size())
		if err != nil {
			return o, err
		}
		r := history.Open(t)
		times = append(times, time.Since(started))
		o = opened{r: r, t: t, n: n}
	}
	slices.Sort(times)
	o.open = times[len(times)/2]
	log, err := execlog.OpenFile(path)
	if err != nil {
		return o, err
	}
	defer log.Close()
	times = nil
	random := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		b := log.Blocks[random.IntN(len(log.Blocks))]
		started := time.Now()
		if _, err := log.Payload(b); err != nil {
			return o, err
		}
		times = append(times, time.Since(started))
	}
	o.peek = p99(times)
	return o, nil
}

func p99(times []time.Duration) time.Duration {
	slices.Sort(times)
	return times[len(times)*99/100]
}

const asked = 3000

// askAll times common questions at random places.
func askAll(ctx context.Context, r *report, o opened, large bool) error {
	random := rand.New(rand.NewPCG(3, uint64(o.n)))
	name := fmt.Sprintf("%d million moments: ", o.n/1_000_000)
	anywhere := func() (event.Moment, event.ThreadID) {
		for {
			m := event.Moment(random.Int64N(int64(o.t.Len())))
			if o.t.Kind(m) == event.Line {
				return m, o.t.Thread(m)
			}
		}
	}
	floor := o.peek.String() + ", reading one block"
	timed := func(what string, target time.Duration, ask func(m event.Moment, t event.ThreadID) error) error {
		var places []event.Moment
		for range asked {
			m, _ := anywhere()
			places = append(places, m)
		}
		// The first look-up at a place verifies the blocks that it reads.
		for _, look := range []string{", p99", ", again, p99"} {
			var times []time.Duration
			for _, m := range places {
				t := o.t.Thread(m)
				started := time.Now()
				if err := ask(m, t); err != nil {
					return fmt.Errorf("%s at moment %d: %w", what, m, err)
				}
				times = append(times, time.Since(started))
			}
			worst := p99(times)
			r.add(name+what+look, worst.String(), floor, worst.Seconds()/o.peek.Seconds(), target.String(), worst <= target)
		}
		return nil
	}
	err := timed("seek, stack and a frame's values", 2*time.Millisecond, func(m event.Moment, t event.ThreadID) error {
		if _, err := o.r.Frames(ctx, m, t); err != nil {
			return err
		}
		list, err := o.r.Variables(ctx, m, t, 0)
		for _, v := range list {
			_ = v.Value.Text() // formatting is part of the work
		}
		return err
	})
	if err != nil {
		return err
	}
	ways := []replay.Step{{Way: replay.Into}, {Way: replay.Over}, {Way: replay.Out}, {Way: replay.Head}, {Way: replay.Into, Back: true}, {Way: replay.Over, Back: true}, {Way: replay.Out, Back: true}}
	if err := timed("a step, either way", time.Millisecond, func(m event.Moment, t event.ThreadID) error {
		_, _, err := o.r.Step(ctx, m, t, ways[random.IntN(len(ways))])
		return err
	}); err != nil {
		return err
	}
	paths := []string{"total", "i", "vessel.Number", "name", "vessel.Draught"}
	if err := timed("last write of a variable or field", time.Millisecond, func(m event.Moment, t event.ThreadID) error {
		_, _, err := o.r.LastWrite(ctx, paths[random.IntN(len(paths))], m, t, 0)
		return err
	}); err != nil {
		return err
	}
	if large {
		return askHits(ctx, r, o, name)
	}
	return nil
}

// askHits times the hits of a line that is reached about a million times.
func askHits(ctx context.Context, r *report, o opened, name string) error {
	best, line := 0, 0
	for f := range functions {
		n := o.t.SiteMoments(event.SiteID(f * lines)).Len()
		if abs(n-1_000_000) < abs(best-1_000_000) {
			best, line = n, f*100+2
		}
	}
	c := replay.Checkpoint{Kind: "line", About: find.LineText("harbour.go", line)}
	started := time.Now()
	hits, err := o.r.Hits(ctx, c, replay.Page{Count: 20})
	if err != nil {
		return err
	}
	took := time.Since(started)
	started = time.Now()
	moments := 0
	for i := range o.t.SiteMoments(event.SiteID((line - 2) / 100 * lines)).Len() {
		moments += int(o.t.SiteMoments(event.SiteID((line-2)/100*lines)).At(i)) & 1
	}
	floor := time.Since(started)
	millions := fmt.Sprintf("%.2f million hits", float64(hits.Total)/1e6)
	r.add(name+"total of "+millions, took.String(), floor.String()+", reading the list", took.Seconds()/floor.Seconds(), "50ms", took <= 50*time.Millisecond && moments > 0)
	q, err := question.Parse("total > 200 && i < 3")
	if err != nil {
		return err
	}
	c.When = q
	perMillion, held := map[string]time.Duration{}, 0
	looks := []string{"a condition, a million hits", "a condition, a million hits, again"}
	for _, look := range looks {
		started = time.Now()
		list, err := o.r.Hits(ctx, c, replay.Page{Count: 20})
		if err != nil {
			return err
		}
		perMillion[look], held = time.Duration(float64(time.Since(started))/float64(hits.Total)*1e6), list.Total
	}
	started = time.Now()
	for i := range 1_000_000 {
		m := o.t.SiteMoments(event.SiteID((line - 2) / 100 * lines)).At(i % hits.Total)
		if e := o.t.Event(m); e.Kind != event.Line {
			return fmt.Errorf("no line at moment %d", m)
		}
	}
	floor = time.Since(started)
	for _, look := range looks {
		took := perMillion[look]
		r.add(name+look, fmt.Sprintf("%s (%d hold)", took.Round(time.Millisecond), held), floor.Round(time.Millisecond).String()+", decoding the hits", took.Seconds()/floor.Seconds(), "1s", took <= time.Second)
	}
	return nil
}

func ctx() context.Context { return context.Background() }

func abs(n int) int { return max(n, -n) }
