// Command synced holds what goroutines wait for, and ends.
package main

import (
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"
)

type pier struct {
	gates  sync.WaitGroup
	free   sync.Mutex
	held   sync.Mutex
	wanted sync.Mutex
	read   sync.RWMutex
	write  sync.RWMutex
	idle   sync.RWMutex
	once   sync.Once
	never  sync.Once
	tides  atomic.Int64
	depth  atomic.Uint32
	open   atomic.Bool
}

//go:noinline
func fail(p *pier, q *int64) int64 { return *q + p.tides.Load() }

func main() {
	debug.SetTraceback("crash")
	p := &pier{}
	p.gates.Add(3)
	go p.gates.Wait()
	go p.gates.Wait()
	p.held.Lock()
	p.wanted.Lock()
	go p.wanted.Lock()
	p.read.RLock()
	p.read.RLock()
	p.write.Lock()
	p.once.Do(func() {})
	p.tides.Store(-42)
	p.depth.Store(7)
	p.open.Store(true)
	time.Sleep(100 * time.Millisecond)
	fmt.Println(fail(p, nil))
}
