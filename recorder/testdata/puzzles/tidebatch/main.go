// Program tidebatch splits the readings of a tide gauge into batches and pads them.
package main

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// Reading is the height of the tide at a station.
type Reading struct {
	Station string
	Minute  int
	Metres  float64
}

// Batch is a window of readings.
type Batch struct {
	Name     string
	Readings []Reading
}

type Loader struct {
	all     []Reading
	window  int
	batches []Batch
}

func (l *Loader) read(text string) error {
	for n, line := range strings.Split(strings.TrimSpace(text), "\n") {
		f := strings.Fields(line)
		if len(f) != 3 {
			return fmt.Errorf("line %d: %d fields", n+1, len(f))
		}
		minute, err := strconv.Atoi(f[1])
		if err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
		metres, err := strconv.ParseFloat(f[2], 64)
		if err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
		l.all = append(l.all, Reading{f[0], minute, metres})
	}
	return nil
}

func (l *Loader) split() {
	for from := 0; from < len(l.all); from += l.window {
		to := min(from+l.window, len(l.all))
		l.batches = append(l.batches, Batch{Name: fmt.Sprintf("b%d", from/l.window), Readings: l.all[from:to]})
	}
}

// pad adds a reading at the end of each batch whose last one is not on the full hour.
func (l *Loader) pad() {
	for i := range l.batches {
		b := &l.batches[i]
		last := b.Readings[len(b.Readings)-1]
		if last.Minute%60 != 0 {
			next := last
			next.Minute = (last.Minute/60 + 1) * 60
			next.Metres = extrapolate(b.Readings, next.Minute)
			b.Readings = append(b.Readings, next)
		}
	}
}

func extrapolate(list []Reading, minute int) float64 {
	if len(list) < 2 {
		return list[0].Metres
	}
	a, b := list[len(list)-2], list[len(list)-1]
	slope := (b.Metres - a.Metres) / float64(b.Minute-a.Minute)
	return b.Metres + slope*float64(minute-b.Minute)
}

func mean(list []Reading) float64 {
	sum := 0.0
	for _, r := range list {
		sum += r.Metres
	}
	return sum / float64(len(list))
}

type Report struct {
	Batch string
	Mean  float64
	Low   float64
	High  float64
}

func report(batches []Batch) []Report {
	var out []Report
	for _, b := range batches {
		r := Report{Batch: b.Name, Mean: mean(b.Readings), Low: b.Readings[0].Metres, High: b.Readings[0].Metres}
		for _, x := range b.Readings {
			if x.Metres < r.Low {
				r.Low = x.Metres
			}
			if x.Metres > r.High {
				r.High = x.Metres
			}
		}
		out = append(out, r)
	}
	return out
}

const data = `
Skerry 0 1.10
Skerry 20 1.35
Skerry 40 1.62
Skerry 60 1.90
Skerry 80 2.15
Skerry 100 2.31
Skerry 120 2.40
Skerry 140 2.42
Skerry 160 2.38
Skerry 180 2.25
`

func main() {
	l := &Loader{window: 3}
	if err := l.read(data); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	before := mean(l.all)
	l.split()
	l.pad()
	reports := report(l.batches)
	for _, r := range reports {
		fmt.Printf("%s mean %.2f low %.2f high %.2f\n", r.Batch, r.Mean, r.Low, r.High)
	}
	if after := mean(l.all); after != before {
		fmt.Printf("the mean of all was %.3f and is %.3f\n", before, after)
		os.Exit(4)
	}
	for i, r := range l.all {
		if i > 0 && r.Minute == l.all[i-1].Minute {
			panic(fmt.Sprintf("two readings at minute %d", r.Minute))
		}
	}
	for i := 1; i < len(reports); i++ {
		if reports[i].Low < reports[i-1].Low {
			panic("the tide fell")
		}
	}
}
