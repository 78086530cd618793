// Program tugs runs the jobs of a tug in order of time. A cancelled one may run.
package main

import (
	"errors"
	"fmt"
	"os"
	"sort"
	"strings"
)

// Job is work for a tug.
type Job struct {
	ID       string
	Due      int
	Vessel   string
	Bollard  int
	index    int
	done     bool
	canceled bool
}

// Queue is a heap of jobs by due time.
type Queue struct {
	items []*Job
	byID  map[string]*Job
}

func NewQueue() *Queue { return &Queue{byID: map[string]*Job{}} }

func (q *Queue) less(i, j int) bool {
	if q.items[i].Due != q.items[j].Due {
		return q.items[i].Due < q.items[j].Due
	}
	return q.items[i].ID < q.items[j].ID
}

func (q *Queue) swap(i, j int) {
	q.items[i], q.items[j] = q.items[j], q.items[i]
	q.items[i].index = i
}

func (q *Queue) up(i int) {
	for i > 0 {
		parent := (i - 1) / 2
		if !q.less(i, parent) {
			return
		}
		q.swap(i, parent)
		i = parent
	}
}

func (q *Queue) down(i int) {
	for {
		child := 2*i + 1
		if child >= len(q.items) {
			return
		}
		if child+1 < len(q.items) && q.less(child+1, child) {
			child++
		}
		if !q.less(child, i) {
			return
		}
		q.swap(i, child)
		i = child
	}
}

func (q *Queue) Push(j *Job) {
	j.index = len(q.items)
	q.items = append(q.items, j)
	q.byID[j.ID] = j
	q.up(j.index)
}

func (q *Queue) Pop() *Job {
	if len(q.items) == 0 {
		return nil
	}
	top := q.items[0]
	last := len(q.items) - 1
	q.swap(0, last)
	q.items = q.items[:last]
	q.down(0)
	delete(q.byID, top.ID)
	return top
}

var errUnknown = errors.New("unknown job")

func (q *Queue) Cancel(id string) error {
	j := q.byID[id]
	if j == nil {
		return fmt.Errorf("cancel %s: %w", id, errUnknown)
	}
	last := len(q.items) - 1
	i := j.index
	q.swap(i, last)
	q.items = q.items[:last]
	if i < last {
		q.down(i)
		q.up(i)
	}
	delete(q.byID, id)
	j.canceled = true
	return nil
}

type Tug struct {
	Name    string
	Bollard int
	log     []string
}

func (t *Tug) run(j *Job) error {
	if j.Bollard > t.Bollard {
		return fmt.Errorf("%s cannot pull %s", t.Name, j.Vessel)
	}
	j.done = true
	t.log = append(t.log, j.ID)
	return nil
}

func plan(lines string) []*Job {
	var jobs []*Job
	for _, l := range strings.Split(strings.TrimSpace(lines), "\n") {
		var j Job
		if _, err := fmt.Sscanf(l, "%s %d %s %d", &j.ID, &j.Due, &j.Vessel, &j.Bollard); err != nil {
			fmt.Println("skip", l, err)
			continue
		}
		jobs = append(jobs, &j)
	}
	return jobs
}

const jobs = `
T1 90 Amber 20
T2 30 Kelp 25
T3 60 Curlew 20
T4 10 Halcyon 30
T5 45 Tern 20
T6 75 Osprey 40
T7 20 Skerry 15
T8 55 Fulmar 30
`

func main() {
	q := NewQueue()
	all := plan(jobs)
	for _, j := range all {
		q.Push(j)
	}
	tug := &Tug{Name: "Gannet", Bollard: 45}
	for i := 0; i < 2; i++ {
		if err := tug.run(q.Pop()); err != nil {
			fmt.Println(err)
		}
	}
	for _, id := range []string{"T5", "T6"} {
		if err := q.Cancel(id); err != nil {
			fmt.Println(err)
		}
	}
	for j := q.Pop(); j != nil; j = q.Pop() {
		if err := tug.run(j); err != nil {
			fmt.Println(err)
		}
	}
	fmt.Println(tug.log)
	var bad []string
	for _, j := range all {
		if j.canceled == j.done {
			bad = append(bad, j.ID)
		}
	}
	sort.Strings(bad)
	if len(bad) > 0 {
		fmt.Println("inconsistent jobs:", bad)
		os.Exit(2)
	}
}
