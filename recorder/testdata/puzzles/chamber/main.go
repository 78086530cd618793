// Program chamber fills and drains locks until their water is near the target.
package main

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"
)

type State int

const (
	Idle State = iota
	Filling
	Full
	Draining
)

func (s State) String() string { return [...]string{"idle", "filling", "full", "draining"}[s] }

type Lock struct {
	Name    string
	State   State
	Level   float64
	Target  float64
	History []string
	rules   []Rule
}

type Rule struct {
	From, To State
	When     func(*Lock) bool
}

var errStuck = errors.New("stuck")

func near(a, b float64) bool {
	d := a - b
	return d < 0.05 && d > -0.05
}

func newLock(name string) *Lock {
	l := &Lock{Name: name}
	l.rules = []Rule{
		{Idle, Filling, func(l *Lock) bool { return l.Target > l.Level }},
		{Filling, Full, func(l *Lock) bool { return near(l.Level, l.Target) }},
		{Full, Draining, func(l *Lock) bool { return l.Target < l.Level && !near(l.Level, l.Target) }},
		{Draining, Idle, func(l *Lock) bool { return l.Level == 0 }},
	}
	return l
}

func (l *Lock) set(s State) {
	l.History = append(l.History, fmt.Sprintf("%s->%s", l.State, s))
	l.State = s
}

func (l *Lock) step(dt time.Duration) {
	rate := 0.3 * dt.Seconds()
	switch l.State {
	case Filling:
		l.Level += rate
	case Draining:
		l.Level -= rate
		if l.Level < 0.01 {
			l.Level = 0.0
		}
	}
	for _, r := range l.rules {
		if r.From == l.State && r.When(l) {
			l.set(r.To)
			return
		}
	}
}

type Command struct {
	Lock   string
	Target float64
	Steps  int
}

func parse(text string) []Command {
	var out []Command
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		var c Command
		if n, err := fmt.Sscanf(line, "%s %f %d", &c.Lock, &c.Target, &c.Steps); n == 3 && err == nil {
			out = append(out, c)
		}
	}
	return out
}

type House struct{ locks map[string]*Lock }

func (h *House) run(c Command) error {
	l := h.locks[c.Lock]
	if l == nil {
		return fmt.Errorf("%s: no such lock", c.Lock)
	}
	l.Target = c.Target
	for i := 0; i < c.Steps; i++ {
		l.step(time.Second)
	}
	if c.Target > 0 && l.State != Full {
		return fmt.Errorf("%s: %w in %s at %.2f", l.Name, errStuck, l.State, l.Level)
	}
	return nil
}

const script = `
north 1.2 8
south 0.9 6
north 0 10
north 1.0 8
south 0 9
`

func main() {
	h := &House{locks: map[string]*Lock{"north": newLock("north"), "south": newLock("south")}}
	failed := 0
	for _, c := range parse(script) {
		if err := h.run(c); err != nil {
			fmt.Println(err)
			failed++
		}
	}
	if failed > 0 {
		os.Exit(failed)
	}
}
