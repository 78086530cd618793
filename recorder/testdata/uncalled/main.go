// Command uncalled has the pilots of Gannet Sound do what they were not asked to, and leave undone what they were.
package main

import (
	"errors"
	"fmt"
	"strings"
)

type roster struct {
	names []string
	each  func(string)
}

// visit calls found for the names that begin with a letter, unless the roster is closed.
func (r *roster) visit(letter string, closed bool, found func(string) bool) {
	if closed {
		return
	}
	for _, n := range r.names {
		if strings.HasPrefix(n, letter) && !found(n) {
			return
		}
	}
}

// all hands on.
func (r *roster) all(closed bool, found func(string) bool) { r.visit("", closed, found) }

// forget has lost its statement.
func (r *roster) forget(letter string, found func(string) bool) {}

func collect(r *roster) (lists [3][]string) {
	var closed []string
	r.all(true, func(n string) bool {
		closed = append(closed, n)
		return true
	})
	var lost []string
	r.forget("K", func(n string) bool {
		lost = append(lost, n)
		return true
	})
	var sorted []string
	strings.Map(func(c rune) rune {
		sorted = append(sorted, string(c))
		return c
	}, "")
	return [3][]string{closed, lost, sorted}
}

func isLate(minutes int) bool { return minutes > 10 }

func alarm(minutes int) string { return fmt.Sprint("late by ", minutes) }

func watch(minutes int, quiet bool) string {
	if !quiet && alarm(minutes) != "" {
		return "called"
	}
	return "silent"
}

func berthOf(name string) (berth int, err error) {
	if name == "" {
		err = errors.New("no name")
		return
	}
	if strings.HasPrefix(name, "Kitti") {
		return 4, nil
	}
	return 0, fmt.Errorf("%s has no berth", name)
}

func assign(names []string) (list []int, err error) {
	for _, n := range names {
		b, err := berthOf(n)
		if err != nil {
			return nil, fmt.Errorf("assign: %w", err)
		}
		list = append(list, b)
	}
	return list, nil
}

func tide(heights []int) []int {
	smooth := make([]int, len(heights))
	for i := range heights {
		if heights[i] > 100 {
			smooth[i] = heights[i] / 2
		}
	}
	return smooth
}

// retry comes to its loop three times, twice by goto.
func retry(n int) (tries, skipped int) {
again:
	for i := 0; i < 2; i++ {
		if n == 2 && i == 0 {
			skipped++
			continue again
		}
		tries++
	}
	if n++; n < 3 {
		goto again
	}
	return tries, skipped
}

func main() {
	r := &roster{names: []string{"Kittiwake", "Amber Maid"}}
	lists := collect(r)
	said := watch(12, true)
	list, err := assign([]string{"Kittiwake", "Amber Maid"})
	smooth := tide([]int{40, 120})
	tries, skipped := retry(0)
	if !isLate(tries) {
		panic(fmt.Sprint(lists, said, list, err, smooth, tries, skipped))
	}
}
