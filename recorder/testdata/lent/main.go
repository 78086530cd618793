// The program passes memory to code that is not recorded, in every way in which a call can be made.
package main

import (
	"bytes"
	"container/list"
	"encoding/csv"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"sort"
	"sync/atomic"
)

type order struct {
	Qty  int
	Name string
	Tags []string
	Lots map[string]int
}

type outOfStock struct{ missing int }

func (o *outOfStock) Error() string { return "out of stock" }

func inHeader(text string) int {
	var o order
	if err := json.Unmarshal([]byte(text), &o); err != nil {
		return -1
	}
	return o.Qty // header
}

func inCondition(text string) (qty int) {
	var o order
	var n int
	if _, err := fmt.Sscan("7", &n); err == nil && json.Unmarshal([]byte(text), &o) == nil {
		qty = o.Qty + n // condition
	}
	return qty
}

func inReturn(text string, o *order) error { return json.Unmarshal([]byte(text), o) }

func deferred(text string, o *order) {
	defer json.Unmarshal([]byte(text), o)
	o.Qty = 1
}

func asArgument() int {
	var missing *outOfStock
	return pick(errors.As(fmt.Errorf("order: %w", &outOfStock{3}), &missing), missing) // argument
}

func pick(ok bool, missing *outOfStock) int {
	if ok {
		return missing.missing // picked
	}
	return 0
}

func sorted(list []int) []int {
	sort.Slice(list, func(i, j int) bool {
		return list[i] < list[j] // callback
	})
	return list // sorted
}

// store is an interface that code that is not recorded implements.
type store interface{ Flush() }

func kept(records [][]string) string {
	var buffer bytes.Buffer
	w := csv.NewWriter(&buffer)
	for _, record := range records {
		w.Write(record)
	}
	store(w).Flush()
	return buffer.String() // flushed
}

func moved() (list []int, n int) {
	list = append(append([]int{1, 2}[:1], 5, 6), 7)
	n = copy(list[1:], list)
	return append(list[:1], list[2:]...), n // moved
}

var boxes = list.New()

// unknown passes a map to code that keeps it, and may have written to it.
func unknown(lots map[string]int) int {
	boxes.PushBack(lots)
	n := lots["fog"] // unknown
	lots["fog"] = n + 1
	return n // known again
}

// decoded deletes at its end what the condition of its loop decodes again.
func decoded() int {
	read := map[string]int{}
	for i := 0; i < 3 && json.Unmarshal([]byte(`{"swell": 49}`), &read) == nil; i++ {
		delete(read, "swell")
	}
	return len(read)
}

var (
	total int64
	level = flag.Int("level", 1, "")
)

func main() {
	lots := map[string]int{"fog": 1}
	var o order
	inHeader(`{"Qty": 3, "Tags": ["a", "b"], "Lots": {"x": 1}}`)
	inCondition(`{"Qty": 4}`)
	_ = inReturn(`{"Qty": 5}`, &o)
	returned := o.Qty
	deferred(`{"Qty": 6}`, &o)
	after := o.Qty
	asArgument()
	sorted([]int{3, 1, 2})
	kept([][]string{{"a", "b"}, {"c"}})
	moved()
	atomic.AddInt64(&total, 8)
	unknown(lots)
	decoded()
	maps.Copy(lots, map[string]int{"swell": 2})
	flag.CommandLine.Parse([]string{"-level", "4"})
	fmt.Println(returned, after, *level, lots, total) // end
}
