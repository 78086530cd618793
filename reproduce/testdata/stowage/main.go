// Command stowage changes the same objects in call after call.
package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"time"
)

type crate struct {
	mark   string
	tonnes float64
	under  *crate
	opened time.Time
}

type hold struct {
	name   string
	stacks [][]*crate
	count  map[string]int
	marks  map[string]*crate
	last   *crate
	free   int
	notes  []string
	any    any
	err    error
	cells  [4]int
}

var errFull = errors.New("the hold is full")

var turns int

// load puts a crate on a stack.
func (h *hold) load(stack int, c *crate) (int, error) {
	if h.free == 0 {
		h.err = fmt.Errorf("load %s: %w", c.mark, errFull)
		return 0, h.err
	}
	if n := len(h.stacks[stack]); n > 0 {
		c.under = h.stacks[stack][n-1]
	}
	h.stacks[stack] = append(h.stacks[stack], c)
	h.count[c.mark[:1]]++
	h.marks[c.mark] = c
	h.last = c
	h.free--
	return len(h.stacks[stack]), nil
}

// take takes the upper crate of a stack.
func (h *hold) take(stack int) *crate {
	n := len(h.stacks[stack])
	if n == 0 {
		return nil
	}
	c := h.stacks[stack][n-1]
	h.stacks[stack] = h.stacks[stack][:n-1]
	delete(h.marks, c.mark)
	h.free++
	h.any = c.tonnes
	return c
}

// weigh looks at all and changes a little.
func (h *hold) weigh(factor float64) (total float64, heaviest *crate) {
	for _, s := range h.stacks {
		for _, c := range s {
			total += c.tonnes * factor
			if heaviest == nil || c.tonnes > heaviest.tonnes {
				heaviest = c
			}
		}
	}
	h.cells[len(h.notes)%4]++
	return total, heaviest
}

// note keeps texts, and starts again after some.
func (h *hold) note(text string, at time.Time) []string {
	turns++
	h.notes = append(h.notes, fmt.Sprint(turns, text))
	if len(h.notes) > 6 {
		h.notes = nil
	}
	if h.last != nil && turns%3 == 0 {
		h.last.opened = at.Add(time.Minute)
		h.last.tonnes *= 1.5
	}
	h.any = h.notes
	return h.notes
}

// swap exchanges two crates, or says why not.
func (h *hold) swap(a, b int) string {
	defer func() {
		if v := recover(); v != nil {
			h.any = fmt.Sprint(v)
		}
	}()
	x, y := &h.stacks[a][0], &h.stacks[b][0]
	*x, *y = *y, *x
	return (*x).mark + (*y).mark
}

func main() {
	g := rand.New(rand.NewPCG(3, 7))
	h := &hold{name: "Gannet", stacks: make([][]*crate, 3), count: map[string]int{}, marks: map[string]*crate{}, free: 9}
	at := time.Date(2031, 3, 1, 6, 0, 0, 0, time.UTC)
	for i := range 160 {
		switch g.IntN(6) {
		case 0, 1:
			_, _ = h.load(g.IntN(3), &crate{mark: fmt.Sprint("KO"[i%2:i%2+1], i), tonnes: float64(g.IntN(9)) / 2})
		case 2:
			h.take(g.IntN(3))
		case 3:
			h.weigh(1.5)
		case 4:
			h.note("fog", at.Add(time.Duration(i)*time.Hour))
		case 5:
			h.swap(g.IntN(3), g.IntN(3))
		}
	}
	os.Exit(0)
}
