// The program ends in a deadlock: two goroutines move vessels between the same berths in opposite order.
package main

import (
	"fmt"
	"sync"
	"time"
)

type quay struct {
	mu   sync.Mutex
	name string
}

type table struct{ rw sync.RWMutex }

func move(a, b *quay, wg *sync.WaitGroup) {
	defer wg.Done()
	a.mu.Lock()
	time.Sleep(20 * time.Millisecond)
	b.mu.Lock()
	fmt.Println(a.name, b.name)
	b.mu.Unlock()
	a.mu.Unlock()
}

func read(t *table, ch chan int) {
	t.rw.RLock()
	ch <- 1
	t.rw.RUnlock()
}

func main() {
	a, b := &quay{name: "a"}, &quay{name: "b"}
	var wg sync.WaitGroup
	wg.Add(2)
	t := &table{}
	ch := make(chan int)
	go read(t, ch)
	go func() {
		time.Sleep(5 * time.Millisecond)
		t.rw.Lock()
		t.rw.Unlock()
	}()
	go move(a, b, &wg)
	go move(b, a, &wg)
	wg.Wait()
}
