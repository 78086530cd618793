// Program ordered lets goroutines change the same memory one after the other, each time ordered by
// something else.
package main

import (
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"time"
)

type berth struct {
	depth int
	ships []string
	next  *berth
}

func (b *berth) change(by int) {
	b.depth += by
	b.ships = append(b.ships, fmt.Sprint("Tern ", by))
	b.next.depth = b.depth
	if b.depth%2 == 0 {
		b.next.ships = b.ships[:1]
	}
}

// turns runs two goroutines that change a berth in turn. pass and wait order them.
func turns(name string, rounds int, wait func(who int), pass func(who int)) int {
	b := &berth{next: &berth{}}
	var done sync.WaitGroup
	for who := range 2 {
		done.Add(1)
		go func() {
			defer done.Done()
			for i := 0; i < rounds; i++ {
				wait(who)
				b.change(who + 1)
				b.depth++
				pass(who)
			}
		}()
	}
	done.Wait()
	sum := b.depth + b.next.depth + len(b.ships)
	fmt.Println(name, sum)
	return sum
}

func main() {
	const rounds = 40
	total := 0

	var tokens [2]chan bool
	for i := range tokens {
		tokens[i] = make(chan bool, 1)
	}
	tokens[0] <- true
	total += turns("channel", rounds, func(who int) { <-tokens[who] }, func(who int) { tokens[1-who] <- true })

	var turn atomic.Int32
	total += turns("atomic", rounds, func(who int) {
		for turn.Load() != int32(who) {
			runtime.Gosched()
		}
	}, func(who int) { turn.Store(int32(1 - who)) })

	var mu sync.Mutex
	total += turns("mutex", rounds, func(int) { mu.Lock() }, func(int) { mu.Unlock() })

	var ready sync.Cond
	ready.L = &mu
	whose := 0
	total += turns("condition", rounds, func(who int) {
		mu.Lock()
		for whose != who {
			ready.Wait()
		}
		mu.Unlock()
	}, func(who int) {
		mu.Lock()
		whose = 1 - who
		mu.Unlock()
		ready.Broadcast()
	})

	var old sync.RWMutex
	total += turns("read and write", rounds, func(int) { old.Lock() }, func(int) { old.Unlock() })

	b := &berth{next: &berth{}}
	for len(tokens[0]) > 0 { // before the timer's own
		<-tokens[0]
	}
	timer := time.AfterFunc(time.Millisecond, func() { b.change(5); tokens[0] <- true })
	<-tokens[0]
	timer.Stop()
	total += b.depth

	var once sync.Once
	var each sync.WaitGroup
	for range 3 {
		each.Add(1)
		go func() {
			defer each.Done()
			once.Do(func() { b.change(7) })
			_ = b.depth
		}()
	}
	each.Wait()
	total += b.depth
	fmt.Println("all", total)
}
