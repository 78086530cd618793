// Program sampled handles calls one after the other, each on a goroutine that code of the standard
// library has started, and others on goroutines of its own.
package main

import (
	"fmt"
	"sync"
	"time"
)

type berth struct {
	ships int
	last  *ship
}

type ship struct{ number, length int }

var (
	mu     sync.Mutex
	quay   berth
	behind int
)

func measure(n int) (sum int) {
	for i := 0; i < 50; i++ {
		sum += i % (n + 1)
	}
	return sum
}

func arrive(n int) {
	mu.Lock()
	defer mu.Unlock()
	quay.ships++
	quay.last = &ship{n, measure(n)}
	if quay.ships > 3 {
		panics(n)
	}
	behind = quay.last.number // arrived
}

// panics is left by a panic that it recovers itself.
func panics(n int) {
	defer func() { _ = recover() }()
	var none []int
	_ = none[n]
}

func work(jobs, done chan int) {
	for j := range jobs {
		done <- measure(j)
	}
}

func main() {
	const calls = 600
	for n := range calls {
		ended := make(chan bool)
		time.AfterFunc(0, func() { arrive(n); ended <- true })
		<-ended
	}
	jobs, done := make(chan int), make(chan int)
	go work(jobs, done)
	sum := 0
	for n := range calls {
		jobs <- n
		sum += <-done
	}
	fmt.Println(quay.ships, behind, sum)
}
