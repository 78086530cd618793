// The program of the corpus of logs: each version's recorder has recorded it.
package main

import (
	"errors"
	"fmt"
	"os"
)

type vessel struct {
	Name    string
	Draught float64
	Calls   []int
	Next    *vessel
}

var berthed = map[string]int{}

func berth(v *vessel, water float64) (int, error) {
	if v.Draught > water {
		return 0, errors.New(v.Name + " draws too much")
	}
	v.Calls = append(v.Calls, len(berthed))
	berthed[v.Name]++
	return berthed[v.Name], nil
}

func main() {
	first := &vessel{Name: "Halcyon Drift", Draught: 4.5}
	second := &vessel{Name: "Curlew", Draught: 2, Next: first}
	done := make(chan int)
	go func() { done <- 7 }()
	for _, v := range []*vessel{first, second, second} {
		n, err := berth(v, 3)
		fmt.Println(v.Name, n, err)
	}
	fmt.Println(<-done)
	func() {
		defer func() { recover() }()
		var none *vessel
		none.Draught = 1
	}()
	delete(berthed, "Curlew")
	os.Exit(4)
}
